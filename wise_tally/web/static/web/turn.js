// The wall turns to the next dashboard by itself until somebody holds it.
(() => {
  const { turns, seconds } = document.body.dataset;
  const hold = document.querySelector("[data-hold]");
  let timer = null;
  const go = () => { timer = setTimeout(() => location.assign(turns), seconds * 1000); };
  hold.addEventListener("click", () => {
    if (timer) { clearTimeout(timer); timer = null; hold.textContent = "Resume"; } else { go(); hold.textContent = "Pause"; }
  });
  go();
})();
