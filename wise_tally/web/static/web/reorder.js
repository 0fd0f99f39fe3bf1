// Dragging fills the same forms that buttons and selects fill: rows into a new order, nodes under another.
document.addEventListener("alpine:init", () => {
  Alpine.data("reorder", () => ({
    dragged: null,
    init() {
      const rows = () => [...this.$root.querySelectorAll("[data-key]")];
      const clear = () => rows().forEach((row) => row.classList.remove("over", "dragged"));
      this.$root.addEventListener("dragstart", (event) => {
        if (event.target.closest("input, select")) { event.preventDefault(); return; }
        this.dragged = event.target.closest("[data-key]");
        this.dragged.classList.add("dragged");
      });
      this.$root.addEventListener("dragover", (event) => {
        const over = event.target.closest("[data-key]");
        if (!this.dragged || !over) return;
        event.preventDefault();
        rows().forEach((row) => row.classList.toggle("over", row === over));
      });
      this.$root.addEventListener("dragend", clear);
      this.$root.addEventListener("drop", (event) => {
        event.preventDefault();
        const over = event.target.closest("[data-key]");
        clear();
        if (!over || over === this.dragged) return;
        const after = rows().indexOf(over) > rows().indexOf(this.dragged);
        over[after ? "after" : "before"](this.dragged);
        const form = document.getElementById(this.$root.dataset.form);
        form.elements.order.value = rows().map((row) => row.dataset.key).join(",");
        form.submit();
      });
    },
  }));
  Alpine.data("tree", () => ({
    dragged: null,
    init() {
      const form = document.getElementById(this.$root.dataset.form);
      // A field for a name shows it with the identifier that is meant.
      const put = (field, token) => {
        const named = field.tagName === "INPUT" && this.$root.querySelector(`[data-node="${token}"] a`);
        field.value = named ? `${named.textContent} (${token})` : token;
      };
      const choose = (node, above) => {
        put(form.elements.node, node);
        if (above !== undefined) put(form.elements.above, above);
        form.elements[above === undefined ? "above" : "from_on"].focus();
        form.scrollIntoView({ block: "nearest" });
      };
      this.$root.addEventListener("click", (event) => {
        const button = event.target.closest("button");
        if (button) choose(button.closest("[data-node]").dataset.node);
      });
      const above = (event) => event.target.closest('[data-node]:not([data-node^="person:"])');
      this.$root.addEventListener("dragstart", (event) => { this.dragged = event.target.closest("[draggable]"); });
      this.$root.addEventListener("dragover", (event) => { if (this.dragged && above(event)) event.preventDefault(); });
      this.$root.addEventListener("drop", (event) => {
        const over = above(event);
        if (over === this.dragged) return;
        event.preventDefault();
        choose(this.dragged.dataset.node, over.dataset.node);
      });
    },
  }));
  Alpine.data("lanes", () => ({
    card: null,
    init() {
      const lanes = () => [...this.$root.querySelectorAll("[data-lane]")];
      const clear = () => lanes().forEach((lane) => lane.classList.remove("over"));
      this.$root.addEventListener("dragstart", (event) => { this.card = event.target.closest("form[draggable]"); });
      this.$root.addEventListener("dragover", (event) => {
        const over = event.target.closest("[data-lane]");
        if (!this.card || !over) return;
        event.preventDefault();
        lanes().forEach((lane) => lane.classList.toggle("over", lane === over));
      });
      this.$root.addEventListener("dragend", clear);
      this.$root.addEventListener("drop", (event) => {
        const over = event.target.closest("[data-lane]");
        clear();
        if (!this.card || !over || over.contains(this.card)) return;
        event.preventDefault();
        const select = this.card.querySelector("select");
        select.value = over.dataset.lane;
        window.saveInPlace(this.card, select);
      });
      this.$root.addEventListener("keydown", (event) => {
        const here = event.target.closest("[data-card]");
        const step = { ArrowUp: [0, -1], ArrowDown: [0, 1], ArrowLeft: [-1, 0], ArrowRight: [1, 0] }[event.key];
        if (!here || !step) return;
        const columns = lanes().map((lane) => [...lane.querySelectorAll("[data-card]")]);
        const column = columns.findIndex((cards) => cards.includes(here));
        const row = columns[column].indexOf(here);
        let to = column + step[0];
        while (columns[to] && !columns[to].length) to += step[0];
        const cards = columns[to] || columns[column];
        const next = cards[Math.min(cards.length - 1, Math.max(0, row + step[1]))];
        if (next) { event.preventDefault(); next.focus(); }
      });
    },
  }));
});
