// A number that could mean two ("1,250" alone) is shown as it will be read, before it is saved; any other needs no word.
(() => {
  const EITHER = /^\D*?([1-9]\d{0,2})([.,])(\d{3})\D*$/;
  const hints = new WeakMap();
  const clear = (field) => { hints.get(field)?.remove(); hints.delete(field); };
  const say = (field, words) => {
    if (!hints.has(field)) {
      const made = Object.assign(document.createElement("span"), { className: "read-as small" });
      made.role = "status";
      field.parentElement.append(made);
      hints.set(field, made);
    }
    hints.get(field).textContent = words;
  };
  document.addEventListener("input", ({ target }) => {
    if (!target.matches?.("input[inputmode=decimal], input.money-in")) return;
    const found = EITHER.exec(target.value), { decimal } = document.body.dataset;
    if (!found) { clear(target); return; }
    const [, whole, sign, rest] = found;
    say(target, `read as ${sign === decimal ? `${whole}${decimal}${rest}` : `${whole}\u00a0${rest}`}`);
  });
  document.addEventListener("focusout", ({ target }) => clear(target));
})();
