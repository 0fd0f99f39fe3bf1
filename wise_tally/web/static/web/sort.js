// Tables sort by their heads: numbers falling first, names rising; rows below another stay below it, totals where they are.
// A list that is longer than its page sorts at the server: its heads are links.
(() => {
  const FEWEST = 3;
  const SIZES = { k: 1e3, m: 1e6 };
  const text = (cell) => cell?.textContent.replace(/\s+/g, " ").trim() ?? "";
  // The number that a cell begins with as the application writes it; null for none.
  const number = (cell) => {
    const { decimal } = document.body.dataset, plain = text(cell).replace(/^[▲▼+\s]+/, "").replace(/\u2212/g, "-").replace(/(\d)[\u00a0 ](?=\d)/g, "$1").replace(decimal, ".");
    const found = /^(-?\d+(?:\.\d+)?)\s*([km]?)(?![a-z])/i.exec(plain);
    return found ? Number(found[1]) * (SIZES[found[2]] || 1) : null;
  };
  const depth = (row) => Number(row.dataset.depth ?? /\bin-(\d)\b/.exec(row.cells[0]?.innerHTML)?.[1] ?? 0);

  // A row with all that stand below it, as a tree; totals keep their places.
  const tree = (rows) => {
    const top = [], path = [];
    rows.forEach((row) => {
      const node = { row, below: [] }, level = depth(row);
      while (path.length && path.at(-1).level >= level) path.pop();
      (path.at(-1)?.node.below ?? top).push(node);
      path.push({ node, level });
    });
    return top;
  };
  const isFixed = (node) => node.row.matches(".total, .fell") && !node.below.length;
  const ordered = (nodes, compare) => {
    const free = nodes.filter((node) => !isFixed(node)).sort(compare);
    return nodes.map((node) => (isFixed(node) ? node : free.shift())).flatMap((node) => [node.row, ...ordered(node.below, compare)]);
  };

  const sort = (table, head) => {
    const column = head.cellIndex, body = table.tBodies[0], rows = [...body.rows];
    const isNumber = rows.some((row) => number(row.cells[column]) !== null) && !head.classList.contains("left");
    const was = head.getAttribute("aria-sort"), way = was ? (was === "ascending" ? "descending" : "ascending") : isNumber ? "descending" : "ascending";
    const sign = way === "ascending" ? 1 : -1;
    const compare = (one, other) => {
      const [a, b] = [one, other].map(({ row }) => (isNumber ? number(row.cells[column]) : text(row.cells[column]) || null));
      if (a === null || b === null) return (a === null) - (b === null);
      return sign * (isNumber ? a - b : a.localeCompare(b));
    };
    table.querySelectorAll("th[aria-sort]").forEach((other) => other.removeAttribute("aria-sort"));
    head.setAttribute("aria-sort", way);
    body.append(...ordered(tree(rows), compare));
  };

  const open = (table) => {
    table.dataset.sorts = "";
    const rows = [...(table.tBodies[0]?.rows ?? [])];
    if (rows.length < FEWEST || rows.some((row) => [...row.cells].some((cell) => cell.colSpan > 1)) || table.tHead?.rows.length !== 1) return;
    [...table.tHead.rows[0].cells].forEach((head) => {
      if (!text(head) || rows.every((row) => !text(row.cells[head.cellIndex])) || head.querySelector("a, button, input, svg, .is-sr-only")) return;
      const button = Object.assign(document.createElement("button"), { type: "button", className: "sorts" });
      button.append(...head.childNodes);
      button.addEventListener("click", () => sort(table, head));
      head.append(button);
    });
  };
  const all = () => document.querySelectorAll("table[data-grid]:not([data-sorts]):not(.no-sort)").forEach(open);
  ["ajax:merged", "DOMContentLoaded"].forEach((name) => document.addEventListener(name, all));
})();
