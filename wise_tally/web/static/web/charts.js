// Pictures: what web/charts.py describes, drawn as SVG in the page's own inks (classes, CSS variables, shared hatches).
// A picture is one tab stop: arrows, Page, Home and End move the reading line, Enter opens what is behind, Escape leaves,
// T changes to the table. It is drawn again when its width changes. Without a script the table stands open.
(() => {
  const NS = "http://www.w3.org/2000/svg";
  const LETTER = 7.4; // width of a letter of 13 px, in px
  const put = (parent, tag, attributes, text) => {
    const node = document.createElementNS(NS, tag);
    Object.entries(attributes).forEach(([name, value]) => { if (value !== null && value !== undefined) node.setAttribute(name, value); });
    if (text !== undefined) node.textContent = text;
    return parent.appendChild(node);
  };
  const NARROW = 560;
  const fitting = (words, width) => (width < NARROW ? words.split(" · ")[0] : words);
  const longest = (words) => Math.max(0, ...words.map((one) => one.length));

  // Words above a picture, each in the first row where it lies on no other.
  const headings = (marks, at, room, width) => {
    const rows = [];
    return marks.map((mark) => {
      const words = fitting(mark.words, width), half = (words.length * LETTER) / 2, middle = at(mark.at);
      const anchor = middle > room.right - half ? "end" : middle < room.left + half ? "start" : "middle";
      const from = anchor === "end" ? middle - 2 * half : anchor === "start" ? middle : middle - half;
      let row = rows.findIndex((taken) => taken.every(([left, right]) => from > right + 8 || from + 2 * half < left - 8));
      if (row < 0) row = rows.push([]) - 1;
      rows[row].push([from, from + 2 * half]);
      return { ...mark, words, middle, anchor, row };
    });
  };

  // Scales of a picture for the room it has: where a point and a value stand.
  const scales = (data, width, height) => {
    const ends = longest(data.layers.map((layer) => fitting(layer.label, width)));
    const room = {
      left: 12 + LETTER * longest(data.y.map(([, words]) => words)),
      right: width - (ends ? 10 + LETTER * ends : 8),
      foot: height - 24,
    };
    const count = data.points.length, wide = room.right - room.left;
    const high = Math.max(...data.y.map(([value]) => value));
    const [first, last] = data.ends || [data.places[0], data.places[count - 1]], whole = last - first || 1;
    const at = (place) => room.left + (data.edges ? (place - first) / whole : (place + 0.5) / count) * wide;
    const x = (index) => at(data.places[index]);
    const placed = headings(data.marks.filter((mark) => mark.at !== null), at, room, width);
    room.top = 10 + Math.max(0, ...placed.map((mark) => 14 + 16 * mark.row));
    const y = (value) => room.foot - ((value - data.low) / (high - data.low || 1)) * (room.foot - room.top);
    return { room, width, placed, at, x, y, band: wide / count };
  };

  const axes = (svg, data, { room, at: along, y }) => {
    data.y.forEach(([value, words]) => {
      put(svg, "line", { class: value === data.low ? "axis" : "rule", x1: room.left, x2: room.right, y1: y(value), y2: y(value) });
      put(svg, "text", { x: room.left - 8, y: y(value) + 4, "text-anchor": "end" }, words);
    });
    const labels = data.x.map(([place, words]) => {
      const middle = along(place), half = (words.length * LETTER) / 2;
      const anchor = middle + half > room.right + 6 ? "end" : data.edges && middle - half < room.left ? "start" : "middle";
      const from = anchor === "end" ? middle - 2 * half : anchor === "start" ? middle : middle - half;
      return { words, middle, anchor, from, to: from + 2 * half };
    });
    // Every label, or every second, third … : the most that leave room between them.
    const fits = (chosen) => chosen.every((label, place) => !place || label.from > chosen[place - 1].to + 8);
    const chosen = [1, 2, 3, 4, 6, 12].map((step) => labels.filter((_, place) => place % step === 0)).find(fits) || labels.slice(0, 1);
    chosen.forEach((label) => put(svg, "text", { x: label.middle, y: room.foot + 17, "text-anchor": label.anchor }, label.words));
  };

  const shapes = {
    area: (svg, layer, { x, y }) => {
      const drawn = d3.area().defined((value) => value !== null).x((_, index) => x(index))
        .y0((_, index) => y(layer.base[index] ?? 0)).y1((value) => y(value)).curve(layer.steps ? d3.curveStepAfter : d3.curveLinear);
      put(svg, "path", { class: layer.css, d: drawn(layer.values) });
    },
    line: (svg, layer, { x, y }) => {
      const drawn = d3.line().defined((value) => value !== null).x((_, index) => x(index)).y((value) => y(value))
        .curve(layer.steps ? d3.curveStepAfter : d3.curveLinear);
      put(svg, "path", { class: `stroke ${layer.css}`, d: drawn(layer.values) });
    },
    columns: (svg, layer, { x, y, band }) => layer.values.forEach((value, index) => {
      if (value === null) return;
      const base = layer.base[index] ?? 0, wide = Math.max(1, band * 0.74);
      put(svg, "rect", { class: layer.css, x: x(index) - wide / 2, width: wide, y: Math.min(y(value), y(base)), height: Math.abs(y(base) - y(value)) });
    }),
    dots: (svg, layer, { x, y }) => layer.values.forEach((value, index) => {
      if (value !== null) put(svg, "circle", { class: layer.css, cx: x(index), cy: y(value), r: layer.sizes[index] ?? 3.2 });
    }),
    spans: (svg, layer, { x, y }) => layer.values.forEach((value, index) => {
      if (value !== null) put(svg, "line", { class: `stroke ${layer.css}`, x1: x(index), x2: x(index), y1: y(layer.base[index]), y2: y(value) });
    }),
    strokes: (svg, layer, { x, y, band }) => layer.values.forEach((value, index) => {
      if (value === null) return;
      const half = Math.min(16, band * 0.42), line = { x1: x(index) - half, x2: x(index) + half, y1: y(value), y2: y(value) };
      // On a rim of paper, so that a stroke is seen on a column, too.
      ["rim", `stroke ${layer.css}`].forEach((css) => put(svg, "line", { class: css, ...line }));
    }),
  };

  const marks = (svg, data, { room, placed, y }) => {
    data.marks.filter((mark) => mark.level !== null).forEach((mark) => {
      put(svg, "line", { class: `stroke ${mark.css}`, x1: room.left, x2: room.right, y1: y(mark.level), y2: y(mark.level) });
      put(svg, "text", { class: "halo strong", x: room.left + 6, y: y(mark.level) - 6 }, mark.words);
    });
    placed.forEach((mark) => {
      put(svg, "line", { class: `stroke ${mark.css}`, x1: mark.middle, x2: mark.middle, y1: room.top, y2: room.foot });
      put(svg, "text", { class: "halo strong", x: mark.middle, y: 13 + 16 * mark.row, "text-anchor": mark.anchor }, mark.words);
    });
  };

  // Words at the ends of lines, moved apart where they would lie on each other.
  const ends = (svg, data, scale) => {
    const shown = data.layers.filter((layer) => layer.label).map((layer) => {
      const index = layer.values.findLastIndex((value) => value !== null);
      return index < 0 ? null : { words: fitting(layer.label, scale.width), css: layer.css, at: scale.y(layer.values[index]) };
    }).filter(Boolean).sort((one, other) => one.at - other.at);
    shown.forEach((label, place) => {
      if (place) label.at = Math.max(label.at, shown[place - 1].at + 15);
      put(svg, "text", { class: `end-${label.css}`, x: scale.room.right + 6, y: label.at + 4 }, label.words);
    });
  };

  const tipOf = (data, point) => {
    const title = Object.assign(document.createElement("h3"), { textContent: point.title });
    const list = document.createElement("dl");
    point.rows.forEach(([name, value]) => {
      list.append(Object.assign(document.createElement("dt"), { textContent: name }), Object.assign(document.createElement("dd"), { textContent: value }));
    });
    const more = point.href && data.enter ? [Object.assign(document.createElement("p"), { textContent: `Enter ${data.enter}` })] : [];
    return [title, list, ...more];
  };

  const start = (figure) => {
    const data = JSON.parse(document.getElementById(figure.dataset.chart).textContent), { points } = data;
    const plot = figure.querySelector(".plot"), tip = figure.querySelector(".tip");
    let scale, svg, stroke, here = points.length - 1, touched = -1, brush = null, from = null;
    const paint = () => {
      svg?.remove();
      const width = plot.clientWidth, height = plot.clientHeight;
      if (!width) return;
      svg = put(plot, "svg", { class: "drawn ink", width, height, viewBox: `0 0 ${width} ${height}`, "aria-hidden": "true" });
      scale = scales(data, width, height);
      axes(svg, data, scale);
      data.layers.forEach((layer) => shapes[layer.shape](svg, layer, scale));
      marks(svg, data, scale);
      ends(svg, data, scale);
      brush = put(svg, "rect", { class: "brush", y: scale.room.top, height: scale.room.foot - scale.room.top, visibility: "hidden" });
      stroke = put(svg, "line", { class: "reading", y1: scale.room.top, y2: scale.room.foot, visibility: "hidden" });
    };
    const valueText = () => [points[here].title, ...points[here].rows.map((row) => row.join(" "))].join(", ");
    const show = (index) => {
      here = Math.max(0, Math.min(points.length - 1, index));
      const at = scale.x(here);
      stroke.setAttribute("x1", at); stroke.setAttribute("x2", at); stroke.setAttribute("visibility", "visible");
      tip.hidden = false;
      tip.replaceChildren(...tipOf(data, points[here]));
      const left = at + tip.offsetWidth + 14 > plot.clientWidth ? at - tip.offsetWidth - 10 : at + 10;
      tip.style.setProperty("left", `${Math.max(0, left)}px`);
      plot.setAttribute("aria-valuenow", here);
      plot.setAttribute("aria-valuetext", valueText());
    };
    const hide = () => { tip.hidden = true; [stroke, brush].forEach((one) => one?.setAttribute("visibility", "hidden")); touched = -1; from = null; };
    // Points chosen together: dragged across, or walked over with Shift held.
    const chosen = () => (from === null || from === here ? null : [Math.min(from, here), Math.max(from, here)]);
    const mark = () => {
      const ends = chosen();
      brush.setAttribute("visibility", ends ? "visible" : "hidden");
      if (!ends) return;
      brush.setAttribute("x", scale.x(ends[0]) - scale.band / 2);
      brush.setAttribute("width", scale.x(ends[1]) - scale.x(ends[0]) + scale.band);
      const words = ends.map((index) => points[index].title).join(" – ");
      tip.querySelector("h3").textContent = words;
      tip.querySelector("dl").replaceChildren();
      plot.setAttribute("aria-valuetext", words);
    };
    const open = () => {
      const point = points[here], ends = chosen();
      if (ends) { location.assign(data.brush.replace("FIRST", data.spans[ends[0]][0]).replace("LAST", data.spans[ends[1]][1])); return; }
      if (!point.href) return;
      const link = figure.querySelector(point.panel ? ".panel-link" : ".point-link");
      link.href = point.href;
      link.click();
    };
    const near = (event) => {
      const at = event.clientX - plot.getBoundingClientRect().left;
      return points.reduce((best, _, index) => (Math.abs(scale.x(index) - at) < Math.abs(scale.x(best) - at) ? index : best), 0);
    };
    Object.entries({ role: "slider", tabindex: 0, "aria-valuemin": 0, "aria-valuemax": points.length - 1, "aria-valuenow": here, "aria-valuetext": valueText() })
      .forEach(([name, value]) => plot.setAttribute(name, value));
    plot.addEventListener("pointermove", (event) => { if (event.pointerType === "mouse") { show(near(event)); mark(); } });
    plot.addEventListener("pointerdown", (event) => { if (data.brush && event.pointerType === "mouse") { from = near(event); event.preventDefault(); plot.focus(); } });
    plot.addEventListener("pointerleave", (event) => { if (event.pointerType === "mouse") hide(); });
    plot.addEventListener("blur", hide);
    plot.addEventListener("focus", () => { if (plot.matches(":focus-visible")) show(here); });
    // A mouse shows on its way and opens with a click; a finger shows with the first touch and opens with the second.
    plot.addEventListener("click", (event) => {
      const index = near(event), second = event.pointerType === "mouse" || index === touched;
      show(index);
      touched = index;
      if (second) open();
      from = null;
    });
    plot.addEventListener("keydown", (event) => {
      const to = { ArrowRight: here + 1, ArrowUp: here + 1, ArrowLeft: here - 1, ArrowDown: here - 1, PageUp: here + 7, PageDown: here - 7, Home: 0, End: points.length - 1 }[event.key];
      if (to !== undefined) {
        from = event.shiftKey && data.brush ? from ?? here : null;
        show(to);
        mark();
      }
      else if (event.key === "Enter") open();
      else if (event.key === "Escape" && !tip.hidden) hide();
      else if (event.key === "t" && !event.ctrlKey && !event.metaKey && !event.altKey) turn(figure.closest(".picture"), "table");
      else return;
      event.preventDefault();
      event.stopPropagation();
    });
    let drawn = 0;
    new ResizeObserver(() => { if (plot.clientWidth && plot.clientWidth !== drawn) { drawn = plot.clientWidth; paint(); } }).observe(plot);
    drawn = plot.clientWidth;
    paint();
  };

  // Picture or table: the choice stands in the address, so that it can be sent on.
  const turn = (section, to) => {
    if (!section.querySelector("[data-show]")) return;
    section.classList.toggle("shows-table", to === "table");
    section.querySelectorAll("[data-show]").forEach((button) => button.setAttribute("aria-pressed", String(button.dataset.show === to)));
    const hash = `#${section.dataset.picture}-table`;
    if (to === "table") history.replaceState(null, "", hash);
    else if (location.hash === hash) history.replaceState(null, "", location.pathname + location.search);
    section.querySelector(`[data-show="${to}"]`).focus({ preventScroll: true });
  };

  // A picture saved carries its colours with it: what the page's styles say is written into each of its parts.
  const PAINTED = ["fill", "stroke", "stroke-width", "stroke-dasharray", "opacity", "font-family", "font-size", "font-weight", "paint-order"];
  const painted = (from, to) => {
    const style = getComputedStyle(from);
    PAINTED.forEach((name) => to.setAttribute(name, style.getPropertyValue(name).replace(/url\("?.*?#([\w-]+)"?\)/, "url(#$1)")));
    [...from.children].forEach((child, index) => painted(child, to.children[index]));
  };
  const asSvg = (section) => {
    const svg = section.querySelector("svg.drawn"), copy = svg.cloneNode(true), defs = document.querySelector(".hidden-defs defs");
    painted(svg, copy);
    const hatches = defs.cloneNode(true);
    painted(defs, hatches);
    copy.prepend(hatches);
    copy.setAttribute("xmlns", NS);
    const paper = document.createElementNS(NS, "rect");
    Object.entries({ width: "100%", height: "100%", fill: getComputedStyle(document.body).backgroundColor }).forEach(([name, value]) => paper.setAttribute(name, value));
    hatches.after(paper);
    return new XMLSerializer().serializeToString(copy);
  };
  const hand = (address, name) => Object.assign(document.createElement("a"), { href: address, download: name }).click();
  const save = (section, kind) => {
    const text = `data:image/svg+xml;charset=utf-8,${encodeURIComponent(asSvg(section))}`, name = `${section.dataset.picture}.${kind}`;
    if (kind === "svg") { hand(text, name); return; }
    const image = new Image();
    image.onload = () => {
      const canvas = Object.assign(document.createElement("canvas"), { width: image.width * 2, height: image.height * 2 });
      const pen = canvas.getContext("2d");
      pen.scale(2, 2);
      pen.drawImage(image, 0, 0);
      hand(canvas.toDataURL("image/png"), name);
    };
    image.src = text;
  };

  document.addEventListener("click", (event) => {
    const section = event.target.closest?.(".picture");
    const shown = event.target.closest?.("[data-show]"), saved = event.target.closest?.("[data-save]");
    if (section && shown) turn(section, shown.dataset.show);
    if (section && saved) save(section, saved.dataset.save);
  });
  const all = () => document.querySelectorAll("figure[data-chart]:not([data-drawn])").forEach((figure) => {
    figure.dataset.drawn = "";
    start(figure);
    const section = figure.closest(".picture");
    if (location.hash === `#${section.dataset.picture}-table`) turn(section, "table");
  });
  document.addEventListener("ajax:merged", all);
  document.addEventListener("page:followed", all);
  document.addEventListener("DOMContentLoaded", all);
})();
