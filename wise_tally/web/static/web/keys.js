// Keyboard: places, periods, working, and arrows inside tables (a table is one tab stop).
document.addEventListener("alpine:init", () => {
  Alpine.data("ticks", () => ({
    ticked: 0,
    init() {
      this.count();
      // On a phone the rows need the room first, but for what was refused.
      const tools = this.$root.querySelector(".bulk-tools");
      if (tools) tools.open = window.innerWidth > 900 || Boolean(tools.querySelector("#refused"));
    },
    boxes() { return [...this.$root.querySelectorAll("tbody [type=checkbox]")]; },
    all({ target }) { this.boxes().forEach((box) => { box.checked = target.checked; }); },
    count() { this.ticked = this.boxes().filter((box) => box.checked).length; },
    get selected() { return `Edit ${this.ticked} selected`; },
  }));
  Alpine.data("reloading", () => ({
    init() { setTimeout(() => location.reload(), 1500); },
  }));
  Alpine.data("holds", () => ({
    shown: false,
    toggle() { this.shown = !this.shown; this.$root.classList.toggle("show-holds", this.shown); },
  }));
});

(() => {
  const MENUS = ".scope details[open], .pick[open], .pick-one[open]";
  const typing = (element) => element.closest("input, select, textarea, dialog[open]") !== null;
  const keysOff = () => localStorage.getItem("single-keys") === "off";
  const follow = (selector) => { const link = document.querySelector(selector); if (link) link.click(); return Boolean(link); };
  const dialog = () => document.getElementById("keys");

  const actions = {
    "[": () => follow("[data-period-before]"),
    "]": () => follow("[data-period-after]"),
    "s": () => { const picker = document.querySelector(".scope summary"); if (picker) picker.focus(); return Boolean(picker); },
    "/": () => { const field = document.querySelector("[data-walk-from]"); if (field) { field.focus(); return true; } return follow("[data-find-page]"); },
    "?": () => { dialog().showModal(); return true; },
    "p": () => { const pin = document.querySelector("[data-pin]"); if (pin) pin.click(); return Boolean(pin); },
    "w": () => { const figure = document.activeElement; if (!figure.matches(".open-figure")) return false; figure.click(); return true; },
  };

  document.addEventListener("keydown", (event) => {
    if (event.key === "Escape") {
      const open = document.querySelector(MENUS);
      if (open) { open.open = false; open.querySelector("summary").focus(); return; }
      const close = document.querySelector("[data-close-working]");
      if (close) { close.click(); return; }
    }
    if (walkResults(event)) { event.preventDefault(); return; }
    if (event.ctrlKey || event.metaKey || event.altKey || typing(event.target)) return;
    if (walk(event)) { event.preventDefault(); return; }
    if (keysOff()) return;
    if (/^[1-6]$/.test(event.key)) { if (follow(`[data-place="${event.key}"]`)) event.preventDefault(); return; }
    const action = actions[event.key];
    if (action && action()) event.preventDefault();
  });

  // Roving tabindex: only one figure of a grid takes Tab, arrows move inside it.
  const cells = (grid) => [...grid.querySelectorAll("thead tr, tbody tr")].map((row) => [...row.querySelectorAll("a, input:not([type=hidden]):not(.hold), select, button")].filter((cell) => !cell.closest("form[data-in-place]") || cell.matches("a"))).filter((row) => row.length);
  const stop = (all, one) => all.forEach((cell) => { cell.tabIndex = cell === one ? 0 : -1; });
  const rove = () => document.querySelectorAll("table[data-grid]").forEach((grid) => {
    // The heads, which sort, are reached from the rows below them.
    const all = cells(grid).flat(), first = all.find((cell) => cell.closest("tbody")) || all[0];
    stop(all, first);
  });
  // What scrolls sideways on a narrow screen can be reached and scrolled by keyboard.
  const scrollable = () => document.querySelectorAll(".wrap, .two section, .tiles section").forEach((box, place) => {
    if (box.scrollWidth <= box.clientWidth) return;
    box.tabIndex = 0;
    box.role = "group";
    const name = box.querySelector("h2, caption");
    box.ariaLabel = `Scrollable table: ${name ? name.textContent.trim() : `table ${place + 1}`}`;
  });
  // What is cut with an ellipsis is told in full where it is pointed at or reached.
  const untrim = ({ target }) => {
    const cell = target.closest?.(".trim, .ledger td > [class^='in-']");
    if (cell && !cell.title && cell.scrollWidth > cell.clientWidth) cell.title = cell.innerText.trim();
  };
  ["pointerover", "focusin"].forEach((kind) => document.addEventListener(kind, untrim));
  const moves = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };
  function walk(event) {
    const move = moves[event.key];
    const grid = event.target.closest("table[data-grid]");
    if (!move || !grid) return false;
    const rows = cells(grid);
    const row = rows.findIndex((items) => items.includes(event.target));
    if (row < 0) return false;
    const to = rows[Math.min(rows.length - 1, Math.max(0, row + move[0]))];
    const column = rows[row].indexOf(event.target) + move[1];
    const next = to[Math.min(to.length - 1, Math.max(0, column))];
    next.focus();
    return true;
  }
  // However a figure came to the focus, it is where Tab comes back to.
  document.addEventListener("focusin", ({ target }) => {
    const grid = target.closest?.("table[data-grid]"), all = grid ? cells(grid).flat() : [];
    if (all.includes(target)) stop(all, target);
  });

  // Results of a search: arrows go from the field into the list and back, Enter opens.
  function walkResults(event) {
    const field = document.querySelector("[data-walk-from]");
    const links = [...document.querySelectorAll("[data-walk] a")];
    if (!field || !links.length || (event.key !== "ArrowDown" && event.key !== "ArrowUp")) return false;
    const place = links.indexOf(event.target);
    if (place < 0 && event.target !== field) return false;
    const next = place + (event.key === "ArrowDown" ? 1 : -1);
    (next < 0 ? field : links[Math.min(next, links.length - 1)]).focus();
    return true;
  }

  const marked = () => document.querySelectorAll(".open-figure[aria-current]");
  // A panel's figure stays marked; focus goes to the panel and back to the figure.
  document.addEventListener("click", (event) => {
    // One beside its page is closed without asking the server; whoever went on in the meantime keeps their place.
    if (event.target.closest("[data-close-working='beside']")) {
      event.preventDefault();
      document.getElementById("working").replaceChildren();
      const free = document.activeElement === document.body;
      marked().forEach((figure) => { figure.removeAttribute("aria-current"); if (free) figure.focus(); });
    }
    const figure = event.target.closest(".open-figure");
    if (figure) {
      marked().forEach((other) => other.removeAttribute("aria-current"));
      figure.setAttribute("aria-current", "true");
    }
    if (event.target.closest("[data-close-keys]")) dialog().close();
    document.querySelectorAll(MENUS).forEach((menu) => { if (!menu.contains(event.target)) menu.open = false; });
    if (event.target.closest("[data-open-keys]")) dialog().showModal();
    if (event.target.closest("[data-switch-keys]")) {
      localStorage.setItem("single-keys", keysOff() ? "on" : "off");
      label();
    }
  });
  // A menu that would reach beyond a side of the page is moved into it.
  document.addEventListener("toggle", ({ target }) => {
    const menu = target.open && target.querySelector(":scope > .menu");
    if (!menu) return;
    menu.style.translate = "";
    const { left, right } = menu.getBoundingClientRect(), width = document.documentElement.clientWidth;
    menu.style.translate = `${Math.max(8 - left, Math.min(0, width - 8 - right))}px`;
  }, true);
  // On a phone the options of a page are folded behind a button, which stands where they would.
  const foldOptions = () => document.querySelectorAll(".tool-row:not(.folds)").forEach((row) => {
    if (row.children.length < 2) return;
    row.classList.add("folds");
    const button = Object.assign(document.createElement("button"), { type: "button", className: "button options-button", textContent: "Options" });
    button.setAttribute("aria-expanded", "false");
    button.addEventListener("click", () => button.setAttribute("aria-expanded", String(row.classList.toggle("unfolded"))));
    row.before(button);
  });
  const label = () => { const note = document.querySelector("[data-switch-keys]"); if (note) note.textContent = keysOff() ? "Turn shortcuts on" : "Turn shortcuts off"; };
  document.addEventListener("page:followed", () => { rove(); scrollable(); });
  document.addEventListener("ajax:merged", () => {
    foldOptions();
    rove();
    scrollable();
  });
  document.addEventListener("DOMContentLoaded", () => {
    rove(); scrollable(); label(); foldOptions();
    const mail = document.querySelector("[data-open-now]");
    if (mail) mail.click();
  });
})();
