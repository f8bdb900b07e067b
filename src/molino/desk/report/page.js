"use strict";
(() => {
  const svgNames = "http://www.w3.org/2000/svg";
  const plain = (value) => {
    if (!Number.isFinite(value)) return "";
    const size = Math.abs(value);
    return size >= 1e4 && size < 1e6 ? value.toFixed(0) : String(Number(value.toPrecision(4)));
  };
  const make = (tag, attributes, parent) => {
    const found = document.createElementNS(svgNames, tag);
    for (const [name, value] of Object.entries(attributes)) found.setAttribute(name, value);
    if (parent) parent.append(found);
    return found;
  };
  const held = (parent) => JSON.parse(parent.querySelector('script[type="application/json"]').textContent);

  // light or dark, as the reader likes; the system decides at first
  const look = document.getElementById("look");
  look.hidden = false;
  look.addEventListener("click", () => {
    const root = document.documentElement;
    const dark = root.dataset.look ? root.dataset.look === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
    root.dataset.look = dark ? "light" : "dark";
  });

  // tables: sorted by a column, copied as TSV
  const cellValue = (cell) => (cell.dataset.value === undefined ? cell.textContent.trim() : Number(cell.dataset.value));
  const order = (a, b) => {
    if (typeof a === "number" && typeof b === "number") return a - b;
    if (typeof a === "number" || typeof b === "number") return typeof a === "number" ? -1 : 1;
    return a.localeCompare(b, undefined, { numeric: true });
  };
  const sort = (table, column) => {
    const heads = [...table.tHead.rows[0].cells];
    const down = heads[column].getAttribute("aria-sort") === "ascending";
    heads.forEach((head, n) => head.setAttribute("aria-sort", n !== column ? "none" : down ? "descending" : "ascending"));
    const rows = [...table.tBodies[0].rows];
    const sign = down ? -1 : 1;
    rows.sort((a, b) => sign * order(cellValue(a.cells[column]), cellValue(b.cells[column])));
    table.tBodies[0].append(...rows);
  };
  const exact = (cell) => (cell.dataset.value === undefined ? cell.textContent.trim() : cell.dataset.value);
  const asText = (table) =>
    [[...table.tHead.rows[0].cells].map((cell) => cell.textContent.trim()),
      ...[...table.tBodies[0].rows].map((row) => [...row.cells].map(exact))]
      .map((row) => row.join("\t")).join("\n") + "\n";
  const copy = async (text) => {
    if (navigator.clipboard && window.isSecureContext) return navigator.clipboard.writeText(text);
    const area = document.createElement("textarea");
    area.value = text;
    document.body.append(area);
    area.select();
    document.execCommand("copy");
    area.remove();
  };
  for (const table of document.querySelectorAll("table.data")) {
    [...table.tHead.rows[0].cells].forEach((head, n) => {
      const button = document.createElement("button");
      button.type = "button";
      button.append(...head.childNodes);
      head.append(button);
      head.setAttribute("aria-sort", "none");
      button.addEventListener("click", () => sort(table, n));
    });
    const tool = document.createElement("button");
    tool.type = "button";
    tool.className = "tool";
    tool.textContent = "Copy table";
    tool.setAttribute("aria-label", `Copy table: ${table.caption ? table.caption.textContent : ""}`);
    const bar = document.createElement("div");
    bar.className = "tools";
    const state = document.createElement("span");
    state.setAttribute("role", "status");
    bar.append(tool, state);
    table.closest(".scroll").after(bar);
    tool.addEventListener("click", async () => {
      try {
        await copy(asText(table));
        state.textContent = "copied, columns separated by tabs";
      } catch {
        state.textContent = "this browser does not let a page copy";
      }
    });
  }

  // curves read off by pointer or arrow keys
  const along = (axis, share) => {
    const [a, b] = axis.range;
    return axis.log ? a * (b / a) ** share : a + (b - a) * share;
  };
  const share = (axis, value) => {
    const [a, b] = axis.range;
    return axis.log ? Math.log(value / a) / Math.log(b / a) : (value - a) / (b - a);
  };
  const at = (curve, x) => {
    const n = curve.x.findIndex((one) => one >= x);
    if (n < 0 || x < curve.x[0]) return NaN;
    if (n === 0) return curve.y[0];
    const [x0, x1] = [curve.x[n - 1], curve.x[n]];
    const part = x1 > x0 ? (x - x0) / (x1 - x0) : 1;
    return curve.y[n - 1] + part * (curve.y[n] - curve.y[n - 1]);
  };
  for (const plot of document.querySelectorAll(".plot[tabindex]")) {
    const panels = held(plot).filter((panel) => panel.curves.length);
    const svg = plot.querySelector("svg");
    const reading = plot.parentElement.querySelector(".reading");
    const view = svg.viewBox.baseVal;
    const line = make("line", { stroke: "var(--ink)", "stroke-width": 0.8, "stroke-dasharray": "3 2" }, svg);
    const spots = make("g", {}, svg);
    let [now, place] = [0, 0.5];
    reading.textContent = "Point at the curves, or use the arrow keys, to read them off.";
    const read = () => {
      const panel = panels[now];
      const [left, top, wide, high] = panel.box;
      const x = along(panel.x, place);
      const px = left + wide * place;
      for (const [name, value] of Object.entries({ x1: px, x2: px, y1: top, y2: top + high })) {
        line.setAttribute(name, value);
      }
      spots.replaceChildren();
      const parts = [];
      for (const curve of panel.curves) {
        const y = at(curve, x);
        if (!Number.isFinite(y)) continue;
        const up = share(panel.y, y);
        if (up >= -0.01 && up <= 1.01) {
          make("circle", { cx: px, cy: top + high * (1 - up), r: 3, fill: curve.color, stroke: "var(--paper)" }, spots);
        }
        parts.push(`${curve.name ? `${curve.name} ` : ""}${plain(y)}`);
      }
      reading.textContent = `${panel.x.label} ${plain(x)}: ${parts.join("; ")}${parts.length ? ` (${panel.y.label})` : "no curve here"}`;
    };
    plot.addEventListener("pointermove", (event) => {
      const frame = svg.getBoundingClientRect();
      const px = ((event.clientX - frame.left) / frame.width) * view.width;
      const py = ((event.clientY - frame.top) / frame.height) * view.height;
      const found = panels.findIndex(({ box: [x, y, w, h] }) => px >= x && px <= x + w && py >= y && py <= y + h);
      if (found < 0) return;
      now = found;
      place = (px - panels[now].box[0]) / panels[now].box[2];
      read();
    });
    plot.addEventListener("keydown", (event) => {
      const step = { ArrowRight: 0.01, ArrowLeft: -0.01 }[event.key];
      const other = { ArrowDown: 1, ArrowUp: -1 }[event.key];
      if (!step && !other) return;
      event.preventDefault();
      if (step) place = Math.min(1, Math.max(0, place + step));
      if (other) now = (now + other + panels.length) % panels.length;
      read();
    });
  }

  // the operating point along a swept condition
  for (const explorer of document.querySelectorAll(".explorer")) {
    const { varied, metrics, rows } = held(explorer);
    explorer.hidden = false;
    const levels = varied.map((_, n) => [...new Set(rows.map((row) => row[n]))].sort(order));
    const main = levels.reduce((best, one, n) => (one.length > levels[best].length && typeof one[0] === "number" ? n : best), 0);
    const chosen = levels.map((one) => one[Math.floor(one.length / 2)]);
    const controls = explorer.querySelector(".controls");
    const body = explorer.querySelector("tbody");
    const charts = explorer.querySelector(".curves");
    const heading = (item) => (item.unit ? `${item.name} [${item.unit}]` : item.name);
    varied.forEach((item, n) => {
      const id = `${explorer.id}-${n}`;
      const label = document.createElement("label");
      label.htmlFor = id;
      label.textContent = heading(item);
      const input = document.createElement(n === main ? "input" : "select");
      input.id = id;
      const shown = document.createElement("output");
      shown.htmlFor = id;
      if (n === main) {
        Object.assign(input, { type: "range", min: 0, max: levels[n].length - 1, step: 1 });
        input.value = levels[n].indexOf(chosen[n]);
      } else {
        for (const value of levels[n]) input.add(new Option(typeof value === "number" ? plain(value) : value, String(value)));
        input.value = String(chosen[n]);
      }
      input.addEventListener("input", () => {
        chosen[n] = n === main ? levels[n][Number(input.value)] : levels[n].find((one) => String(one) === input.value);
        show();
      });
      const line = document.createElement("p");
      line.append(label, input, " ", shown);
      controls.append(line);
      item.shown = shown;
      item.input = input;
    });
    const show = () => {
      varied.forEach((item, n) => {
        const text = typeof chosen[n] === "number" ? plain(chosen[n]) : chosen[n];
        if (n === main) {
          item.shown.textContent = `${text} ${item.unit}`.trim();
          item.input.setAttribute("aria-valuetext", item.shown.textContent);
        }
      });
      const alike = rows.filter((row) => varied.every((_, n) => n === main || row[n] === chosen[n]));
      const row = alike.find((one) => one[main] === chosen[main]);
      body.replaceChildren();
      charts.replaceChildren();
      metrics.forEach((item, m) => {
        const value = row ? row[varied.length + m] : null;
        const line = body.insertRow();
        const name = document.createElement("th");
        name.scope = "row";
        name.textContent = heading(item);
        const cell = document.createElement("td");
        cell.className = "number";
        cell.textContent = typeof value === "number" ? plain(value) : (value ?? "not computed");
        line.append(name, cell);
        if (typeof levels[main][0] === "number") charts.append(chart(item, alike, m, value));
      });
    };
    const chart = (item, alike, m, value) => {
      const [wide, high, left, low] = [320, 190, 56, 36];
      const points = alike.map((row) => [row[main], row[varied.length + m]])
        .filter((pair) => pair.every((one) => typeof one === "number")).sort((a, b) => a[0] - b[0]);
      const found = make("svg", { viewBox: `0 0 ${wide} ${high}`, role: "img" });
      found.setAttribute("aria-label", `${heading(item)} over ${heading(varied[main])}; at the chosen point ${plain(value)}`);
      const all = rows.map((row) => row[varied.length + m]).filter((one) => typeof one === "number");
      if (!points.length) return found;
      const [x0, x1] = [points[0][0], points[points.length - 1][0]];
      let [y0, y1] = [Math.min(...all), Math.max(...all)];
      if (y0 === y1) [y0, y1] = [y0 - 1, y1 + 1];
      const px = (x) => left + ((x - x0) / (x1 - x0 || 1)) * (wide - left - 12);
      const py = (y) => high - low - ((y - y0) / (y1 - y0)) * (high - low - 24);
      const text = (x, y, words, anchor) => {
        make("text", { x, y, "text-anchor": anchor, "font-size": 11, fill: "var(--ink)" }, found).textContent = words;
      };
      make("path", { d: `M${left} 18V${high - low}H${wide - 8}`, fill: "none", stroke: "var(--edge)" }, found);
      make("path", { d: "M" + points.map(([x, y]) => `${px(x)} ${py(y)}`).join("L"), fill: "none", stroke: "var(--accent)", "stroke-width": 2 }, found);
      text(left - 4, py(y0) + 4, plain(y0), "end");
      text(left - 4, py(y1) + 4, plain(y1), "end");
      text(left, high - low + 14, plain(x0), "middle");
      text(wide - 12, high - low + 14, plain(x1), "middle");
      text((left + wide) / 2, high - 6, heading(varied[main]), "middle");
      text(left, 12, heading(item), "start");
      if (typeof value === "number") {
        make("circle", { cx: px(chosen[main]), cy: py(value), r: 5, fill: "var(--mark)", stroke: "var(--paper)", "stroke-width": 1.5 }, found);
      }
      return found;
    };
    show();
  }
})();
