// A table of number fields that is worked like a spreadsheet: arrows, Enter and Tab walk, Shift marks a block, which is copied,
// pasted, filled and undone; sums follow, worked out by the server. Without a script it is a form with a button.
(() => {
  const FIELD = "input.cell-in", CELL = `${FIELD}, a.open-figure`;
  const PAUSE = 300, MANY = 60;
  const plural = (number, word) => `${number} ${word}${number === 1 ? "" : "s"}`;
  const isWhole = (field) => field.selectionStart === 0 && field.selectionEnd === field.value.length;
  const between = (one, other) => [Math.min(one, other), Math.max(one, other)];

  const open = (table) => {
    const form = table.closest("form"), status = form.querySelector("[data-sheet-status]");
    const done = [], undone = [];
    let grid = [], at = [0, 0], to = [0, 0], dragging = false, waiting;
    const fields = () => [...table.querySelectorAll(FIELD)];
    const was = new WeakMap(fields().map((field) => [field, field.value]));
    const say = (words) => { status.textContent = words; };
    const cell = ([row, column]) => grid[row]?.[column];
    const corners = () => [...between(at[0], to[0]), ...between(at[1], to[1])];
    const block = () => { const [top, bottom, left, right] = corners(); return grid.slice(top, bottom + 1).map((row) => row.slice(left, right + 1)); };
    const isBlock = () => at[0] !== to[0] || at[1] !== to[1];
    const inputs = (row) => row.filter((one) => one.matches(FIELD));
    const within = ([row, column]) => {
      const top = Math.max(0, Math.min(grid.length - 1, row));
      return [top, Math.max(0, Math.min(grid[top].length - 1, column))];
    };

    const read = () => {
      grid = [...table.tBodies[0].rows].filter((row) => !row.hidden).map((row) => [...row.querySelectorAll(CELL)]).filter((row) => row.length);
      grid.flat().forEach((one) => { one.tabIndex = -1; });
      at = to = within(at);
      if (cell(at)) cell(at).tabIndex = 0;
    };
    const paint = () => {
      table.querySelectorAll(".marked").forEach((one) => one.classList.remove("marked"));
      if (isBlock()) block().flat().forEach((one) => one.closest("td").classList.add("marked"));
    };
    const stand = (where) => {
      if (cell(at)) cell(at).tabIndex = -1;
      at = to = where;
      cell(at).tabIndex = 0;
      if (cell(at).matches(FIELD)) cell(at).select();
      paint();
    };
    const go = (where) => cell(within(where))?.focus();
    const mark = (where) => {
      to = within(where);
      paint();
      const marked = block();
      say(`${marked.length} by ${marked[0].length} cells marked`);
      cell(to).scrollIntoView({ block: "nearest", inline: "nearest" });
    };

    const write = (field, text) => {
      field.value = text;
      was.set(field, text);
      if (field === document.activeElement) field.select();
    };
    // Changes are pairs of a field and its new text; one call is one step of undo.
    const put = (pairs, what, lost = 0) => {
      const changes = pairs.filter(([field, text]) => !field.disabled && was.get(field) !== text).map(([field, text]) => [field, was.get(field), text]);
      if (changes.length) { done.push(changes); undone.length = 0; }
      changes.forEach(([field, , text]) => write(field, text));
      say(`${plural(changes.length, "cell")} ${what}${lost ? `; ${plural(lost, "value")} beyond the edge left out` : ""}`);
      if (changes.length) follow();
    };
    const step = (from, onto, side, what) => {
      const changes = from.pop();
      if (!changes) { say("nothing more to undo"); return; }
      onto.push(changes);
      changes.forEach((change) => write(change[0], change[side]));
      say(`${plural(changes.length, "cell")} ${what}`);
      follow();
    };
    const undo = () => step(done, undone, 1, "undone");
    const redo = () => step(undone, done, 2, "done again");
    const fill = (down) => {
      const marked = block().map(inputs).filter((row) => row.length);
      if (!marked.length) return;
      if (!isBlock()) {
        const [row, column] = at, from = down ? cell([row - 1, column]) : grid[row].slice(0, column).filter((one) => one.matches(FIELD)).at(-1);
        if (from?.matches(FIELD)) put([[marked[0][0], from.value]], "filled");
        return;
      }
      put(down ? marked.slice(1).flatMap((row) => row.map((field, place) => [field, marked[0][place].value]))
        : marked.flatMap((row) => row.slice(1).map((field) => [field, row[0].value])), "filled");
    };

    const copy = (event) => {
      if (!isBlock() && !(cell(at).matches(FIELD) && isWhole(cell(at)))) return false;
      const lines = block().map((row) => row.map((one) => (one.matches(FIELD) ? one.value : one.textContent.trim())).join("\t"));
      event.preventDefault();
      event.clipboardData.setData("text/plain", lines.join("\r\n"));
      say(`${plural(block().flat().length, "cell")} copied`);
      return true;
    };
    // A block goes into the fields from the one in use on; one value fills a marked block; sums are passed over.
    const paste = (event) => {
      const lines = event.clipboardData.getData("text/plain").replace(/\r\n?/g, "\n").replace(/\n$/, "").split("\n").map((line) => line.split("\t").map((text) => text.trim()));
      event.preventDefault();
      const [top, , left] = corners(), isOne = lines.length === 1 && lines[0].length === 1;
      if (isOne && isBlock()) { put(block().flatMap(inputs).map((field) => [field, lines[0][0]]), "pasted"); return; }
      const pairs = [], first = inputs(grid[top].slice(left))[0], from = inputs(grid[top]).indexOf(first);
      let lost = 0;
      lines.forEach((line, row) => line.forEach((text, column) => {
        const field = grid[top + row] && inputs(grid[top + row])[from + column];
        if (field) pairs.push([field, text]); else lost += 1;
      }));
      put(pairs, "pasted", lost);
    };

    // What the typed values come to is worked out where everything else is.
    const follow = () => { clearTimeout(waiting); waiting = setTimeout(sums, PAUSE); };
    const sums = async () => {
      const body = new FormData(form);
      body.set("tool", "sums");
      const answer = await fetch(form.action, { method: "POST", body }).catch(() => null);
      if (!answer || (!answer.ok && answer.status !== 422)) { say("sums are not up to date: the server does not answer"); return; }
      const page = new DOMParser().parseFromString(await answer.text(), "text/html"), fresh = page.querySelector("table[data-sheet]");
      if (!fresh) return;
      const words = page.querySelector("[data-sheet-words]"), shown = form.querySelector("[data-sheet-words]");
      if (words && shown && shown.textContent !== words.textContent) shown.textContent = words.textContent;
      [...table.tBodies[0].rows].forEach((row, place) => [...row.cells].forEach((old, column) => {
        const now = fresh.tBodies[0].rows[place]?.cells[column], field = old.querySelector(FIELD);
        if (!now || !column) return;
        if (field) {
          old.className = now.className;
          field.title = now.querySelector(FIELD).title;
          field.setAttribute("aria-invalid", now.querySelector(FIELD).getAttribute("aria-invalid") || "false");
        } else {
          const [link, other] = [old.querySelector("a"), now.querySelector("a")];
          if ("sum" in old.dataset) old.textContent = now.textContent;
          else if (link && other) { link.textContent = other.textContent; link.className = other.className; }
        }
      }));
      paint();
      form.classList.toggle("unsaved", fields().some((field) => field.value !== field.defaultValue));
    };

    const move = { ArrowUp: [-1, 0], ArrowDown: [1, 0], ArrowLeft: [0, -1], ArrowRight: [0, 1] };
    const onKey = (event) => {
      const one = event.target.closest(CELL);
      if (!one || !table.contains(one)) return;
      const isField = one.matches(FIELD), ctrl = event.ctrlKey || event.metaKey, key = event.key.toLowerCase(), way = move[event.key];
      const inText = isField && !isWhole(one), taken = () => { event.preventDefault(); event.stopPropagation(); };
      const typed = isField && one.value !== was.get(one);
      if (way && event.shiftKey && (way[0] || !inText)) { taken(); mark([to[0] + way[0], to[1] + way[1]]); return; }
      if (way && !event.altKey) {
        const edge = one.selectionStart === one.selectionEnd && (way[1] < 0 ? one.selectionStart === 0 : one.selectionEnd === one.value?.length);
        if (way[1] && inText && !edge) return;
        taken();
        go(ctrl ? [way[0] ? (way[0] < 0 ? 0 : grid.length - 1) : at[0], way[1] ? (way[1] < 0 ? 0 : grid[at[0]].length - 1) : at[1]] : [at[0] + way[0], at[1] + way[1]]);
      } else if ((event.key === "Home" || event.key === "End") && !inText) {
        taken();
        go([ctrl ? (event.key === "Home" ? 0 : grid.length - 1) : at[0], event.key === "Home" ? 0 : grid[at[0]].length - 1]);
      } else if (event.key === "Enter" && isField && !ctrl) { taken(); commit(one); go([at[0] + (event.shiftKey ? -1 : 1), at[1]]); }
      else if (event.key === "Tab" && !ctrl) {
        const flat = grid.flat(), next = flat[flat.indexOf(one) + (event.shiftKey ? -1 : 1)];
        if (next) { taken(); next.focus(); }
      } else if (event.key === "F2" && isField) { taken(); one.setSelectionRange(one.value.length, one.value.length); }
      else if (event.key === "Escape" && typed) { taken(); one.value = was.get(one); one.select(); }
      else if (event.key === "Escape") { taken(); form.querySelector("[data-after-sheet]").focus(); }
      else if (ctrl && (key === "d" || key === "r")) { taken(); fill(key === "d"); }
      else if (ctrl && key === "z" && !typed) { taken(); (event.shiftKey ? redo : undo)(); }
      else if (ctrl && key === "y" && !typed) { taken(); redo(); }
      else if (ctrl && key === "a") { taken(); at = [0, 0]; mark([grid.length - 1, grid.at(-1).length - 1]); }
      else if ((event.key === "Delete" || event.key === "Backspace") && isBlock()) { taken(); put(block().flatMap(inputs).map((field) => [field, ""]), "emptied"); }
    };
    const commit = (field) => { if (field.value !== was.get(field)) put([[field, field.value]], "changed"); };
    const placeOf = (one) => { const row = grid.findIndex((some) => some.includes(one)); return row < 0 ? null : [row, grid[row].indexOf(one)]; };

    // Teams are folded and opened; of a large plan all stand folded at first.
    const rows = [...table.tBodies[0].rows], depth = (row) => Number(row.dataset.depth);
    const below = (row) => { const rest = rows.slice(rows.indexOf(row) + 1), end = rest.findIndex((other) => depth(other) <= depth(row)); return end < 0 ? rest : rest.slice(0, end); };
    const turn = (button, isOpen) => {
      const row = button.closest("tr");
      button.setAttribute("aria-expanded", String(isOpen));
      below(row).forEach((other) => { other.hidden = !isOpen; });
      if (isOpen) below(row).forEach((other) => { const inner = other.querySelector("[data-fold]"); if (inner?.getAttribute("aria-expanded") === "false") turn(inner, false); });
      read();
    };
    rows.filter((row) => below(row).length && depth(row)).forEach((row) => {
      const button = Object.assign(document.createElement("button"), { type: "button", className: "fold", tabIndex: 0 });
      button.dataset.fold = "";
      button.setAttribute("aria-expanded", "true");
      button.setAttribute("aria-label", `Rows below ${row.cells[0].textContent.trim()}`);
      button.addEventListener("click", () => turn(button, button.getAttribute("aria-expanded") !== "true"));
      row.cells[0].prepend(button);
    });
    read();
    if (rows.length > MANY) table.querySelectorAll("[data-fold]").forEach((button) => turn(button, false));

    table.addEventListener("focusin", (event) => { const where = placeOf(event.target); if (where) stand(where); });
    table.addEventListener("click", (event) => { if (event.target.matches(FIELD) && event.detail === 1 && !isBlock()) event.target.select(); });
    table.addEventListener("keydown", onKey);
    table.addEventListener("change", (event) => { if (event.target.matches(FIELD)) commit(event.target); else follow(); });
    table.addEventListener("copy", copy);
    table.addEventListener("cut", (event) => { if (copy(event)) put(block().flatMap(inputs).map((field) => [field, ""]), "cut"); });
    table.addEventListener("paste", paste);
    table.addEventListener("pointerdown", (event) => {
      const where = placeOf(event.target.closest(CELL));
      if (!where) return;
      if (event.shiftKey) { event.preventDefault(); mark(where); } else dragging = event.pointerType === "mouse";
    });
    table.addEventListener("pointerover", (event) => { const where = dragging && placeOf(event.target.closest(CELL)); if (where && cell(where) !== cell(at)) mark(where); });
    addEventListener("pointerup", () => { dragging = false; });
    const tools = { "fill-right": () => fill(false), "fill-down": () => fill(true), undo, redo };
    form.addEventListener("click", (event) => { const tool = event.target.closest("[data-sheet-tool]"); if (tool) tools[tool.dataset.sheetTool](); });
  };

  document.addEventListener("DOMContentLoaded", () => document.querySelectorAll("table[data-sheet]").forEach(open));
})();

// What the tools below a sheet would do, said anew while their settings are typed; typed shares are custom ones.
document.addEventListener("alpine:init", () => {
  Alpine.data("toolWords", () => ({
    async ask({ target }) {
      const fields = this.$root.elements;
      if (target.name === "given" && target.value) fields.weights.value = "given";
      if (target.name === "weights" && target.value !== "given") fields.given.value = "";
      const query = new URLSearchParams([...fields].filter((field) => field.name && field.tagName !== "BUTTON").map((field) => [field.name, field.value]));
      const answer = await fetch(`${this.$root.dataset.words}&${query}`);
      if (!answer.ok) return;
      const words = await answer.json();
      this.$root.querySelectorAll("[data-tool-words]").forEach((line) => { line.textContent = words[line.dataset.toolWords] || ""; });
    },
  }));
});
