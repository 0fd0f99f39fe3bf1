// Cells edited where they stand: saved once, with Enter or when left; Esc puts back what was there; the page's figures follow.
// The server answers a save in words that go beside the cell, or with a dialog that asks for what is missing.
(() => {
  const FORM = "form[data-in-place]";
  const FIELD = "input:not([type=hidden]), select";
  const MARK = "X-In-Place";
  const sent = new WeakMap();   // field -> value on its way to the server
  const denied = new WeakMap(); // field -> value that was refused, sent again only when asked for
  const queue = new WeakMap();  // form -> the save before this one
  const changed = new Map();    // id of a row -> where its deal is now
  let byPointer = false;
  let announced = 0;
  let lastPlace = null;         // finds the cell that had the focus last

  const fieldOf = (target) => (target.matches?.(FIELD) ? target : null);
  const formOf = (field) => field?.closest(FORM);
  const bySelf = (form) => form && form.dataset.inPlace !== "button";
  const stored = (field) => (field.tagName === "SELECT"
    ? ([...field.options].find((option) => option.defaultSelected) || field.options[0])?.value
    : field.defaultValue);
  const differs = (field) => field.value !== (sent.get(field) ?? stored(field));
  const restore = (field) => { field.value = stored(field); settle(field); };
  const settle = (field) => { field.removeAttribute("aria-invalid"); note(field).replaceChildren(); };
  const keep = (field, value) => {
    if (field.tagName === "SELECT") [...field.options].forEach((option) => { option.defaultSelected = option.value === value; });
    else field.defaultValue = value;
  };

  // Whether somebody typed into a field, of whatever form, what is not saved yet.
  const isTyped = (node) => (node.matches?.("[type=checkbox], [type=radio]") ? node.checked !== node.defaultChecked
    : node.matches?.(`${FIELD}, textarea`) && differs(node));

  function note(field) {
    const next = field.nextElementSibling;
    if (next?.classList.contains("cell-note")) return next;
    const made = document.createElement("span");
    made.className = "cell-note";
    made.role = "status";
    field.after(made);
    return made;
  }

  function send(form, field, more = {}) {
    if (field) { sent.set(field, field.value); field.setAttribute("aria-busy", "true"); note(field).textContent = "Saving…"; }
    const turn = (queue.get(form) || Promise.resolve()).then(() => post(form, field, more));
    queue.set(form, turn);
    return turn;
  }

  async function post(form, field, more, address = form.action) {
    const body = new FormData(form);
    if (field && bySelf(form)) body.set("edited", field.name);
    if (form.elements.edited?.type === "hidden") body.set("edited", form.elements.edited.value);
    Object.entries(more).forEach(([name, value]) => body.set(name, value));
    const place = field || form.querySelector("button") || form;
    const typed = field?.value;
    let answer, text;
    try {
      answer = await fetch(address, { method: "POST", body, headers: { [MARK]: "yes" } });
      text = await answer.text();
    } catch {
      arrived(field, typed);
      note(place).textContent = "Not saved: the server does not answer. Press Enter to try again.";
      return;
    }
    arrived(field, typed);
    if (answer.redirected && !answer.headers.has(MARK)) { form.dataset.sent = ""; location.assign(answer.url); return; }
    if (!answer.headers.has(MARK)) { note(place).textContent = "Not saved. Load the page again."; return; }
    if (!answer.ok) { refused(form, field, place, text); return; }
    if (bySelf(form)) saved(form, field, place, text, typed);
    else savedWhole(form, body, text);
  }

  // What was typed on while a value was on its way is sent by itself.
  const arrived = (field, typed) => {
    if (!field || sent.get(field) !== typed) return;
    sent.delete(field);
    field.removeAttribute("aria-busy");
  };

  function saved(form, field, place, text, typed) {
    const node = note(place);
    node.innerHTML = text;
    const state = node.querySelector("[data-revision]").dataset;
    form.elements.revision.value = state.revision;
    field?.removeAttribute("aria-invalid");
    // Only the last change can be undone, so earlier words go.
    form.querySelectorAll(".cell-note").forEach((other) => { if (other !== node) other.replaceChildren(); });
    [...form.elements].filter((other) => other.matches(FIELD)).forEach((other) => {
      const value = other.name in state ? state[other.name] : other === field ? typed : null;
      if (value === null) return;
      const isTypedOn = other === field ? field.value !== typed : differs(other);
      keep(other, value);
      if (!isTypedOn) other.value = value;
    });
    const row = form.closest("[data-row]");
    if (row) changed.set(row.id, state.now);
    follow();
  }

  // A form with a button: the page says what was saved and offers to undo it; what was typed on meanwhile stays to be saved.
  function savedWhole(form, body, text) {
    const state = new DOMParser().parseFromString(text, "text/html").querySelector("[data-revision]").dataset;
    form.closest("dialog")?.close();
    form.elements.revision.value = state.revision;
    form.querySelectorAll(".cell-note").forEach((node) => node.replaceChildren());
    [...form.elements].filter((field) => field.matches(FIELD)).forEach((field) => {
      field.removeAttribute("aria-invalid");
      if (field.value === body.get(field.name)) keep(field, field.value);
    });
    follow();
  }

  function refused(form, field, place, text) {
    const shown = new DOMParser().parseFromString(text, "text/html").body;
    const dialog = shown.querySelector("dialog");
    if (dialog) { ask(form, field, dialog); return; }
    const wrong = field || form.elements[shown.querySelector("[data-field]")?.dataset.field];
    wrong?.setAttribute("aria-invalid", "true");
    if (field) denied.set(field, field.value);
    const node = note(wrong || place);
    node.replaceChildren(...shown.childNodes);
    node.querySelectorAll("[data-again]").forEach((button) => button.addEventListener("click", () => {
      field?.focus();
      send(form, field, { [button.dataset.again]: button.dataset.value });
    }));
    node.querySelector("[data-cancel]")?.addEventListener("click", () => { form.dataset.sent = ""; location.reload(); });
  }

  function ask(form, field, dialog) {
    form.closest("dialog")?.close();
    document.getElementById("asked").replaceChildren(dialog);
    if (field) { sent.set(field, field.value); note(field).replaceChildren(); }
    const back = () => {
      if (!field) { form.querySelector("button")?.focus(); return; }
      restore(field);
      sent.delete(field);
      field.focus();
    };
    let answered = false;
    dialog.querySelector("[data-cancel]").addEventListener("click", () => dialog.close());
    dialog.querySelector("form").addEventListener("submit", (event) => {
      event.preventDefault();
      answered = true;
      const typed = Object.fromEntries(new FormData(event.target));
      dialog.close();
      field?.focus();
      send(form, field, typed);
    });
    dialog.addEventListener("close", () => { if (!answered) back(); dialog.remove(); });
    dialog.showModal();
  }

  // The page is read again and its figures take their new values; what is being typed, said or marked stays.
  async function follow() {
    const turn = ++announced;
    const answer = await fetch(location.href, { headers: { "X-Follow": "yes" } });
    const text = await answer.text();
    if (!answer.ok || turn !== announced) return;
    const fresh = new DOMParser().parseFromString(text, "text/html");
    changed.forEach((now, id) => stay(document.getElementById(id), fresh, now));
    const callbacks = {
      beforeNodeRemoved: (node) => !node.matches?.(".cell-note, .read-as"),
      beforeNodeMorphed: (old) => !(sent.has(old) || old.getAttribute?.("aria-invalid") || isTyped(old)),
      // What the reader opened or marked stays open and marked.
      beforeAttributeUpdated: (name, node) => !(name === "open" || (name === "aria-current" && node.matches(".open-figure"))),
    };
    // Nothing is looked for past what has the focus: words that the fresh page lacks would go with what stands behind them.
    const focused = document.activeElement;
    if (focused.closest(".cell-note")) focused.blur();
    // Who is about to type over a value goes on to, whatever the value is now.
    const isMarked = focused.value && focused.selectionStart === 0 && focused.selectionEnd === focused.value.length;
    for (const id of ["main", "messages", "count-strip"]) {
      const [old, now] = [document.getElementById(id), fresh.getElementById(id)];
      if (old && now) window.Idiomorph.morph(old, now, { callbacks });
    }
    refocus();
    if (isMarked) focused.select();
    document.dispatchEvent(new CustomEvent("page:followed"));
  }

  // A row that moved may lose the focus at once or when the browser draws it anew, one picture later.
  function refocus(frames = 2) {
    if (document.activeElement === document.body) lastPlace?.()?.focus();
    if (frames) requestAnimationFrame(() => refocus(frames - 1));
  }

  // Where a field stands, or what is said beside it, to find it again when its row was made anew.
  function finder(target) {
    const field = target.closest(".cell-note")?.previousElementSibling || target;
    const [row, name] = [field.closest("[data-row]")?.id, field.name];
    return () => target.isConnected ? target : document.getElementById(row)?.querySelector(`[name="${CSS.escape(name)}"]`);
  }

  // A row that was edited keeps its place among its neighbours, also where the page read again would not show it there or at all.
  function stay(row, fresh, now) {
    if (!row) return;
    const there = fresh.getElementById(row.id);
    const neighbour = (step) => {
      let other = row[step];
      while (other && !(other.matches("[data-row]") && fresh.getElementById(other.id))) other = other[step];
      return other && fresh.getElementById(other.id);
    };
    const [before, after] = [neighbour("previousElementSibling"), neighbour("nextElementSibling")];
    const parent = (before || after)?.parentNode || (row.parentNode.id && fresh.getElementById(row.parentNode.id));
    if (!parent || (there && there.parentNode !== parent)) return;
    const kept = there || row.cloneNode(true);
    if (!there) mark(kept, now);
    if (before) before.after(kept); else if (after) after.before(kept); else parent.prepend(kept);
  }

  function mark(row, now) {
    row.classList.add("gone");
    const button = row.querySelector("[data-undo]");
    if (!button || row.querySelector(".is-now") || !now) return;
    const words = row.ownerDocument.createElement("b");
    words.className = "is-now watch";
    words.textContent = `${now} `;
    button.before(words);
  }

  document.addEventListener("keydown", (event) => {
    byPointer = false;
    const field = fieldOf(event.target);
    const form = formOf(field);
    // In a dialog Esc closes it, what was typed stays for the next time.
    if (!form || form.closest("dialog")) return;
    if (event.key === "Enter" && bySelf(form)) {
      event.preventDefault();
      if (differs(field) || field.getAttribute("aria-invalid")) send(form, field);
    } else if (event.key === "Escape" && (differs(field) || field.getAttribute("aria-invalid"))) {
      event.preventDefault();
      event.stopImmediatePropagation();
      restore(field);
    }
  }, true);
  document.addEventListener("input", (event) => {
    // Words about the value before go, so that Tab leads to the next cell.
    const field = fieldOf(event.target);
    if (bySelf(formOf(field)) && !sent.has(field) && !field.getAttribute("aria-invalid")) note(field).replaceChildren();
  });
  document.addEventListener("focusin", (event) => { lastPlace = finder(event.target); });
  document.addEventListener("pointerdown", () => { byPointer = true; lastPlace = null; }, true);
  document.addEventListener("change", (event) => {
    const field = fieldOf(event.target);
    const form = formOf(field);
    if (byPointer && bySelf(form) && field.type !== "text" && differs(field)) send(form, field);
  });
  document.addEventListener("focusout", (event) => {
    const field = fieldOf(event.target);
    const form = formOf(field);
    const again = field && denied.get(field) === field.value;
    if (bySelf(form) && differs(field) && !again && document.hasFocus()) send(form, field);
  });
  document.addEventListener("submit", (event) => {
    const form = event.target.closest(FORM);
    if (!form) return;
    event.preventDefault();
    // Pressed again while it is being saved: sent once more only if something else was typed by then.
    if (form.dataset.busy) { form.dataset.busy = "again"; return; }
    form.dataset.busy = "yes";
    send(form, null).finally(() => {
      const isAgain = form.dataset.busy === "again" && [...form.elements].some(isTyped);
      delete form.dataset.busy;
      if (isAgain) form.requestSubmit();
    });
  });
  document.addEventListener("click", async (event) => {
    const button = event.target.closest("[data-undo]");
    const form = button?.closest(FORM);
    if (!form) return;
    const field = button.closest(".cell-note").previousElementSibling;
    field.focus();
    await post(form, field, { revision: form.elements.revision.value }, button.dataset.undo);
  });
  window.saveInPlace = (form, field) => send(form, field);
  window.sayBeside = (field, words) => { field.setAttribute("aria-invalid", "true"); note(field).textContent = words; };
})();
