// A field for a name asks for suggestions while it is typed in, so that no page carries all of them; so does the field of
// a picker of the filter line, whose finds stand as links in place of its own.
(() => {
  const PAUSE = 150;
  const list = Object.assign(document.createElement("datalist"), { id: "suggested-names" });
  let waiting;

  async function suggest(field) {
    const { value } = field;
    const answer = await fetch(`${field.dataset.asks}?q=${encodeURIComponent(value)}`);
    if (answer.ok && value === field.value) list.innerHTML = await answer.text();
  }

  document.addEventListener("focusin", ({ target }) => {
    if (!target.dataset.asks) return;
    document.body.append(list);
    target.setAttribute("list", list.id);
    list.innerHTML = "";
    suggest(target);
  });
  document.addEventListener("input", ({ target }) => {
    const find = target.dataset.asks ? suggest : target.dataset.picks && pick;
    if (!find) return;
    clearTimeout(waiting);
    waiting = setTimeout(find, PAUSE, target);
  });
  // Another name is typed over the one that stands there, but for a part that is marked. No click comes where a list came
  // while the button was down.
  document.addEventListener("mousedown", ({ target }) => {
    if (!target.dataset?.asks || target === document.activeElement) return;
    addEventListener("mouseup", () => target.selectionStart === target.selectionEnd && target.select(), { once: true });
  });

  // A new workspace begins in the time zone of its first person.
  for (const field of document.querySelectorAll("[data-own-zone]")) field.value = Intl.DateTimeFormat().resolvedOptions().timeZone;

  const links = (picker) => [...picker.querySelectorAll("[data-picked]:not([hidden]) a, .picker-list:not([hidden]) a")];

  async function pick(field) {
    const picker = field.closest(".picker"), text = field.value.trim();
    const [found, list] = [picker.querySelector("[data-picked]"), picker.querySelector(".picker-list")];
    if (text) {
      const query = new URLSearchParams(location.search);
      query.set("q", text);
      const answer = await fetch(`${field.dataset.picks}?${query}`);
      if (!answer.ok || text !== field.value.trim()) return;
      found.innerHTML = await answer.text();
    }
    found.hidden = !text;
    list.hidden = Boolean(text);
  }

  // Arrows go from the field to its links and back, Enter opens the first.
  document.addEventListener("keydown", (event) => {
    const picker = event.target.closest?.(".scope .picker"), field = picker?.querySelector("[data-picks]");
    if (!field) return;
    const step = { ArrowDown: 1, ArrowUp: -1 }[event.key], all = links(picker);
    if (step) (all[all.indexOf(event.target) + step] || field).focus();
    else if (event.key === "Enter" && event.target === field && field.value.trim()) all[0]?.click();
    else return;
    event.preventDefault();
  });
  document.addEventListener("toggle", ({ target }) => {
    const field = target.open && target.querySelector?.("[data-picks]");
    if (!field) return;
    field.hidden = false;
    // A finger that opens the list does not want a keyboard over it.
    if (matchMedia("(hover: hover)").matches) field.focus();
  }, true);
})();

// Buttons that open and close a dialog, where the browser does not do it by itself.
if (!("command" in HTMLButtonElement.prototype)) {
  document.addEventListener("click", ({ target }) => {
    const button = target.closest?.("button[commandfor]"), dialog = button && document.getElementById(button.getAttribute("commandfor"));
    if (dialog) dialog[button.getAttribute("command") === "close" ? "close" : "showModal"]();
  });
}
