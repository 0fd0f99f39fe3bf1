// Fields of the same kind in the rows of a table: arrows go up and down among them, and a column pasted from a spreadsheet
// fills them from the one in use on. Sheets, and fields with a list of names, have keys of their own.
(() => {
  const FIELD = "tbody input:not([type=hidden], [type=checkbox], [type=radio], [type=time], [list])";
  const kind = (field) => field.name.split(":")[0].replace(/-\d+$/, "");
  const same = (field) => (field.matches?.(FIELD) && !field.closest("[data-sheet]")
    ? [...field.closest("tbody").querySelectorAll("input")].filter((other) => !other.disabled && other.type !== "hidden" && kind(other) === kind(field)) : []);

  // A day as a date field takes it: ISO, or in numbers in the order of the workspace; null for anything else.
  const day = (text) => {
    const [, one, two, year] = text.match(/^(\d{1,2})[./-](\d{1,2})[./-](\d{4})$/) || [];
    const [month, date] = document.body.dataset.days === "mdy" ? [one, two] : [two, one];
    const iso = one ? `${year}-${month.padStart(2, "0")}-${date.padStart(2, "0")}` : text;
    return /^\d{4}-\d{2}-\d{2}$/.test(iso) && !Number.isNaN(Date.parse(iso)) ? iso : null;
  };

  document.addEventListener("keydown", (event) => {
    // In a date arrows change its day, month or year.
    const step = event.target.type !== "date" && { ArrowUp: -1, ArrowDown: 1 }[event.key], fields = step ? same(event.target) : [];
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
      const text = lines[place].split("\t")[0].trim(), value = field.type === "date" ? day(text) : text;
      if (value === null) { window.sayBeside(field, `“${text}” is not a date such as 2027-03-15.`); return; }
      field.value = value;
      field.dispatchEvent(new Event("input", { bubbles: true }));
      const form = field.closest("form[data-in-place]");
      if (form) window.saveInPlace(form, field);
    });
  });
})();
