// What cannot be undone is asked about first.
document.addEventListener("submit", (event) => {
  const asked = event.submitter?.dataset.sure;
  if (!asked || confirm(asked)) return;
  event.preventDefault();
  event.stopImmediatePropagation();
}, true);

// Who leaves a page with something typed and not saved is asked first. Notes and cells that save themselves are not lost.
(() => {
  const FORMS = "main form[method=post]:not([data-sent], [data-saves-itself], [data-in-place]:not([data-in-place=button]))";
  const TYPED = "textarea, input:not([type=hidden], [type=checkbox], [type=radio], [type=file], [type=password])";
  const isTyped = (field) => field.name && field.matches(TYPED) && (field.value !== field.defaultValue || field.ariaInvalid === "true") && !field.closest("dialog:not([open])");

  document.addEventListener("submit", ({ target, defaultPrevented }) => { if (!defaultPrevented) target.dataset.sent = ""; });
  // Cancel is a link of the form itself.
  document.addEventListener("click", ({ target }) => { const form = target.closest("form a.button")?.closest("form"); if (form) form.dataset.sent = ""; });
  document.addEventListener("input", ({ target }) => { if (target.form) delete target.form.dataset.sent; });
  window.addEventListener("beforeunload", (event) => {
    if ([...document.querySelectorAll(FORMS)].some((form) => [...form.elements].some(isTyped))) event.preventDefault();
  });
})();
