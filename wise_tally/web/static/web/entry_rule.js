// An entry rule is shown in words while it is picked: tests that fit the field, a value only where the test has one.
document.addEventListener("alpine:init", () => {
  Alpine.data("checkBuilder", () => ({
    init() { this.inWords(); },
    inWords() {
      const form = this.$root, { about, asked, asks, bound } = form.elements;
      const { kind } = about.selectedOptions[0].dataset;
      [...asks.options].forEach((option) => { option.hidden = option.disabled = !option.dataset.kinds.split(" ").includes(kind); });
      if (asks.selectedOptions[0]?.disabled !== false) asks.value = [...asks.options].find((option) => !option.disabled).value;
      const test = asks.selectedOptions[0], isFree = kind === "question" || kind === "mover";
      form.querySelector("[data-asked]").hidden = !isFree;
      form.querySelector("[data-bound-field]").hidden = test.dataset.bound === undefined;
      const subject = isFree ? asked.value || "…" : about.value.slice(about.value.indexOf(":") + 1);
      form.querySelector("[data-sentence]").textContent = test.dataset.wording.replace("{subject}", subject).replace("{bound}", bound.value || "…");
    },
  }));
});
