// A long choice is narrowed by typing: before a select or a set of ticks with many entries stands a field, which leaves those
// that hold all typed words; what is ticked stays in sight. Enter takes the first.
(() => {
  const MANY = 40;
  const entries = (of) => of.tagName === "SELECT" ? [...of.options].filter((one) => one.value) : [...of.querySelectorAll("label")];
  const isTicked = (entry) => entry.querySelector?.("input")?.checked;
  const left = (of) => entries(of).filter((entry) => !entry.hidden);

  function narrow(field, of) {
    const words = field.value.toLowerCase().split(/\s+/).filter(Boolean);
    for (const entry of entries(of)) {
      const text = entry.textContent.toLowerCase();
      entry.hidden = !isTicked(entry) && !words.every((word) => text.includes(word));
    }
  }

  function take(event, of) {
    const first = left(of).find((entry) => !isTicked(entry));
    if (event.key !== "Enter" || !first) return;
    event.preventDefault();
    if (of.tagName === "SELECT") {
      of.value = first.value;
      of.dispatchEvent(new Event("change", { bubbles: true }));
      of.focus();
    } else {
      first.querySelector("input").click();
      event.target.value = "";
      narrow(event.target, of);
    }
  }

  function all() {
    for (const of of document.querySelectorAll("select:not(.field-in, [data-narrowed]), fieldset.choices:not([data-narrowed])")) {
      if (entries(of).length <= MANY) continue;
      of.dataset.narrowed = "yes";
      const field = document.createElement("input");
      const named = of.labels?.[0]?.textContent.trim() || of.ariaLabel || of.querySelector("legend").textContent;
      Object.assign(field, { type: "search", className: "boxed narrow-field", placeholder: "type to find", autocomplete: "off" });
      field.ariaLabel = `Find in ${named}`;
      field.addEventListener("input", () => narrow(field, of));
      field.addEventListener("change", (event) => event.stopPropagation());
      field.addEventListener("keydown", (event) => take(event, of));
      of.before(field);
    }
  }
  ["ajax:merged", "DOMContentLoaded"].forEach((name) => document.addEventListener(name, all));
})();
