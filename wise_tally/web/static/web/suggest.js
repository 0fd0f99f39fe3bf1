// A field with a list of names asks for them while it is typed in, so that no page carries all of them.
(() => {
  const PAUSE = 150;
  let waiting, last = "";

  document.addEventListener("input", ({ target }) => {
    const list = target.list;
    const text = target.value.trim();
    if (!list?.dataset.asks || text === last) return;
    last = text;
    clearTimeout(waiting);
    waiting = setTimeout(async () => {
      const answer = await fetch(`${list.dataset.asks}?q=${encodeURIComponent(text)}`);
      if (answer.ok && text === last) list.innerHTML = await answer.text();
    }, PAUSE);
  });
})();
