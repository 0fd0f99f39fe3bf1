// Fields of the same kind in the rows of a table: arrows go up and down among them, and a column pasted from a spreadsheet
// fills them from the one in use on. Sheets have keys of their own.
(() => {
  const FIELD = "tbody input:not([type=hidden], [type=date], [type=checkbox], [type=radio], [type=time])";
  const kind = (field) => field.name.split(":")[0].replace(/-\d+$/, "");
  const same = (field) => (field.matches?.(FIELD) && !field.closest("[data-sheet]")
    ? [...field.closest("tbody").querySelectorAll("input")].filter((other) => !other.disabled && other.type !== "hidden" && kind(other) === kind(field)) : []);

  document.addEventListener("keydown", (event) => {
    const step = { ArrowUp: -1, ArrowDown: 1 }[event.key], fields = step ? same(event.target) : [];
    if (fields.length < 2 || event.altKey || event.ctrlKey || event.shiftKey) return;
    const next = fields[fields.indexOf(event.target) + step];
    event.preventDefault();
    event.stopPropagation();
    next?.focus();
    next?.select();
  }, true);

  document.addEventListener("paste", (event) => {
    const lines = (event.clipboardData?.getData("text/plain") || "").replace(/\r\n?/g, "\n").replace(/\n$/, "").split("\n");
    const fields = lines.length > 1 ? same(event.target) : [];
    if (fields.length < 2) return;
    event.preventDefault();
    const from = fields.indexOf(event.target);
    fields.slice(from, from + lines.length).forEach((field, place) => {
      field.value = lines[place].split("\t")[0].trim();
      field.dispatchEvent(new Event("input", { bubbles: true }));
      const form = field.closest("form[data-in-place]");
      if (form) window.saveInPlace(form, field);
    });
  });
})();
