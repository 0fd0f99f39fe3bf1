// Who goes on by keyboard to the same page, or to a part of it made anew, finds the focus where it was.
(() => {
  const KEPT = "focus";
  const FIELDS = "input:not([type=hidden]), select, textarea";
  const PLACES = `:is(main, .scope) :is(${FIELDS}, a[href], button, summary, [aria-current])`;
  const PAUSE = 800;
  // A twisty or a head points another way when it was followed, and what is chosen is no link any more: its words stay.
  // A field is known by its name, which is never taken for words.
  const wordsOf = (node) => (node.matches(FIELDS) ? `=${node.name}` : (node.ariaLabel ?? node.textContent).replace(/[^\p{L}\p{N}]+/gu, " ").trim());
  // A box that scrolls is a group only while something is cut off, so it is none to count by.
  const BOXES = ":is(main, .scope) :is(nav, th, details, [role=group]:not([tabindex]), .tool-row)";
  const all = (inside, selector = PLACES) => [...inside.querySelectorAll(selector)];
  const named = (words) => all(document).filter((node) => wordsOf(node) === words);

  function remember(node) {
    const words = wordsOf(node), box = node.closest(BOXES);
    const inBox = box ? [all(document, BOXES).indexOf(box), all(box).indexOf(node)] : [];
    sessionStorage.setItem(KEPT, JSON.stringify([location.pathname, words, named(words).indexOf(node), ...inBox]));
  }

  // The same words, else what stands in its place: the other way to sort, the page before the last one.
  function restore() {
    const [path, words, index, box, place] = JSON.parse(sessionStorage.getItem(KEPT) ?? "[]");
    // Whoever went on in the meantime keeps that place.
    if (document.activeElement !== document.body) return;
    sessionStorage.removeItem(KEPT);
    if (path !== location.pathname) return;
    const beside = all(all(document, BOXES)[box] ?? document.createElement("nav"));
    const found = named(words)[index] ?? beside[place] ?? beside.at(-1);
    const node = found?.closest("details:not([open])")?.querySelector("summary") ?? found;
    if (!node) return;
    if (node.tabIndex < 0) node.tabIndex = -1;
    node.focus();
  }

  document.addEventListener("click", ({ detail, target }) => {
    const node = target.closest(":is(main, .scope) :is(a[href], button:not([type=button]))");
    if (detail || !node || (node.href && node.pathname !== location.pathname)) return;
    // Enter in a field presses the button of its form.
    const field = document.activeElement;
    remember(node.form && field.form === node.form ? field : node);
  }, true);
  document.addEventListener("pointerdown", () => sessionStorage.removeItem(KEPT), true);
  document.addEventListener("ajax:merged", restore);
  // A form that was refused leads to the first field that is wrong.
  document.addEventListener("DOMContentLoaded", () => {
    const wrong = document.querySelector(`main :is(${FIELDS})[aria-invalid=true]`);
    if (!wrong || document.activeElement !== document.body) { restore(); return; }
    sessionStorage.removeItem(KEPT);
    wrong.focus();
  });
  // Back to a page of which a part was made anew loads it again, as the library does for every other step but the first.
  document.addEventListener("ajax:before", () => { if (!history.state) history.replaceState({ __ajax: true }, ""); });

  // A page that the browser kept as it was is loaded again: its figures may be old, and its forms were sent.
  window.addEventListener("pageshow", ({ persisted }) => { if (persisted) location.reload(); });

  // A choice by mouse is sent at once. Arrows and letters go through the choices: it is sent after a pause, with Enter or when left.
  document.addEventListener("alpine:init", () => Alpine.data("submitOnChange", () => ({
    byKeys: false,
    waiting: null,
    init() {
      const form = this.$root;
      form.addEventListener("pointerdown", () => { this.byKeys = false; });
      form.addEventListener("keydown", (event) => {
        this.byKeys = true;
        if (!this.waiting) return;
        if (event.key !== "Enter") { this.wait(event.target); return; }
        event.preventDefault();
        this.now(event.target);
      });
      form.addEventListener("focusout", ({ relatedTarget }) => { if (this.waiting) this.now(relatedTarget); });
    },
    send({ target }) {
      if (this.byKeys && target.tagName === "SELECT") this.wait(target);
      else this.$root.requestSubmit();
    },
    wait(field) {
      clearTimeout(this.waiting);
      this.waiting = setTimeout(() => this.now(field), PAUSE);
    },
    now(field) {
      clearTimeout(this.waiting);
      this.waiting = null;
      if (field) remember(field);
      this.$root.requestSubmit();
    },
  })));
})();
