// Notes that save themselves a moment after the last key, and at once when left; the line below says when, or why not.
(() => {
  const PAUSE = 900;
  const waiting = new WeakMap(), running = new WeakMap();
  const formOf = (target) => target.closest?.("form[data-saves-itself]");
  const area = (form) => form.querySelector("textarea");
  const say = (form, words) => { form.querySelector("[role=status]").textContent = words; };
  const isTyped = (form) => area(form).value !== area(form).defaultValue;

  async function post(form) {
    const text = area(form).value;
    try {
      const answer = await fetch(form.action, { method: "POST", body: new FormData(form), headers: { "X-Saves-Itself": "yes" }, keepalive: true });
      const { words, expected } = await answer.json();
      say(form, words);
      if (!answer.ok) return;
      document.querySelectorAll("input[name=expected], input[type=hidden][name=notes]").forEach((field) => { field.value = expected; });
      area(form).defaultValue = text;
    } catch {
      say(form, "not saved: the server does not answer; keep typing to try again");
    }
  }

  function save(form) {
    clearTimeout(waiting.get(form));
    if (!isTyped(form)) return;
    say(form, "saving…");
    running.set(form, (running.get(form) || Promise.resolve()).then(() => isTyped(form) && post(form)));
  }

  document.addEventListener("input", ({ target }) => {
    const form = formOf(target);
    if (!form) return;
    say(form, "typing…");
    clearTimeout(waiting.get(form));
    waiting.set(form, setTimeout(save, PAUSE, form));
  });
  document.addEventListener("change", ({ target }) => { const form = formOf(target); if (form) save(form); });
  window.addEventListener("beforeunload", (event) => {
    const open = [...document.querySelectorAll("form[data-saves-itself]")].filter(isTyped);
    open.forEach(save);
    if (open.length) event.preventDefault();
  });
})();
