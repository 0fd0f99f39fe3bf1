// A form that was refused stands filled in as it was sent, with the reason above it, or where it says.
(() => {
  const stored = document.getElementById("refusal"), reason = document.getElementById("refused");
  if (!stored) return;
  const { path, fields } = JSON.parse(stored.textContent);
  const values = (name) => fields.filter(([other]) => other === name).map(([, value]) => value);
  const address = (form) => { const { pathname, search } = new URL(form.action); return pathname + search; };
  // Of several forms with one address it is that which holds all fields that were sent, and whose own marks were.
  const isIt = (form) => address(form) === path && fields.every(([name]) => form.elements[name]) && [...form.querySelectorAll("input[type=hidden]")]
    .every((field) => ["csrfmiddlewaretoken", "expected", "next", "revision"].includes(field.name) || values(field.name).includes(field.value));
  const form = [...document.querySelectorAll("form[method=post]")].find(isIt);
  if (!form) return;
  [...form.elements].forEach((field) => {
    if (!field.name || field.type === "hidden" || field.type === "file" || field.tagName === "BUTTON") return;
    const sent = values(field.name);
    if (field.type === "checkbox" || field.type === "radio") field.checked = sent.includes(field.value);
    else if (sent.length) [field.value] = sent;
  });
  for (let around = form.closest("details"); around; around = around.parentElement.closest("details")) around.open = true;
  form.querySelectorAll("details").forEach((inner) => { if (inner.querySelector("[name]")) inner.open = true; });
  const place = form.querySelector("[data-refused-here]") || form;
  place.prepend(reason);
  reason.scrollIntoView({ block: "center" });
  place.querySelector("input:not([type=hidden]), select, textarea")?.focus({ preventScroll: true });
})();
