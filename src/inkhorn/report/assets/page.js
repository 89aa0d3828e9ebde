"use strict";
(() => {
  const rootStyle = () => getComputedStyle(document.documentElement);
  const ON_PAPER = { "--paper": "#fff", "--ink": "#000", "--soft": "#333", "--line": "#bbb" };
  let printing = false;
  const colour = (name) => (printing && ON_PAPER[name]) || rootStyle().getPropertyValue(name).trim();
  const element = (tag, settings = {}, ...children) => {
    const made = Object.assign(document.createElement(tag), settings);
    made.append(...children);
    return made;
  };

  // --- tables: shown a page at a time, sorted by a column, saved as they were written ---

  const FIRST = 15;

  const shown = (value, numeric) => {
    if (value === null) return numeric ? "–" : "";
    if (!numeric || typeof value !== "number") return String(value);
    const size = Math.abs(value);
    if (size >= 1e7 || (size > 0 && size < 1e-4)) return value.toExponential(2);
    if (Number.isInteger(value)) return value.toLocaleString("en");
    return size >= 1000 ? Math.round(value).toLocaleString("en") : String(Number(value.toPrecision(5)));
  };

  const csv = (table) => {
    const quoted = (value) => {
      const text = value === null ? "" : String(value);
      return /[",\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
    };
    const rows = table.columns[0].map((_, k) => table.columns.map((column) => quoted(column[k])).join(","));
    return [table.heads.map(quoted).join(","), ...rows].join("\n") + "\n";
  };

  const save = (name, text) => {
    const address = URL.createObjectURL(new Blob(["\ufeff", text], { type: "text/csv;charset=utf-8" }));
    const link = element("a", { href: address, download: name });
    link.click();
    setTimeout(() => URL.revokeObjectURL(address), 10000);
  };

  const setUpTable = (figure) => {
    const table = JSON.parse(figure.querySelector(".rows").textContent);
    const body = figure.querySelector("tbody"), heads = [...figure.querySelectorAll("th")];
    const count = table.columns.length ? table.columns[0].length : 0;
    let order = [...Array(count).keys()], all = false;

    const fill = () => {
      const rows = order.slice(0, all ? count : FIRST).map((k) => element("tr", {}, ...table.columns.map((column, c) =>
        element("td", { className: table.numeric[c] ? "number" : "", textContent: shown(column[k], table.numeric[c]) }))));
      body.replaceChildren(...rows);
      more.textContent = all ? `Show ${FIRST} rows` : `Show all ${count.toLocaleString("en")} rows`;
    };
    const sort = (c) => {
      const up = heads[c].getAttribute("aria-sort") !== "ascending";
      heads.forEach((head) => head.removeAttribute("aria-sort"));
      heads[c].setAttribute("aria-sort", up ? "ascending" : "descending");
      const column = table.columns[c], sign = up ? 1 : -1;
      order.sort((a, b) => {
        const [x, y] = [column[a], column[b]];
        if (x === null || y === null) return (x === null) - (y === null);
        if (typeof x === "number" && typeof y === "number") return sign * (x - y);
        return sign * String(x).localeCompare(String(y), "en", { numeric: true });
      });
      fill();
    };
    heads.forEach((head, c) => {
      const button = element("button", { type: "button", textContent: head.textContent, title: "Sort by this column" });
      button.addEventListener("click", () => sort(c));
      head.replaceChildren(button);
    });
    const more = element("button", { type: "button" });
    more.addEventListener("click", () => { all = !all; fill(); });
    const keep = element("button", { type: "button", textContent: "Save as CSV" });
    keep.addEventListener("click", () => save(table.name, csv(table)));
    figure.append(element("div", { className: "tools" }, ...(count > FIRST ? [more] : []), keep));
    fill();
    window.addEventListener("beforeprint", () => { if (count <= 60) { all = true; fill(); } });
  };

  // --- what is turned and slid ---

  const bytesOf = async (text, squeezed = true) => {
    const bytes = Uint8Array.from(atob(text), (letter) => letter.charCodeAt(0));
    if (!squeezed) return bytes.buffer;
    return new Response(new Blob([bytes]).stream().pipeThrough(new DecompressionStream("gzip"))).arrayBuffer();
  };

  const frame = (more) => ({
    paper_bgcolor: colour("--paper"), plot_bgcolor: colour("--paper"), font: { color: colour("--ink"), size: 13 },
    margin: { l: 65, r: 15, t: 15, b: 50 }, ...(printing ? { width: 690, autosize: false } : { width: undefined, autosize: true }), ...more,
  });
  const axis = (title, more = {}) => ({
    title: { text: title }, gridcolor: colour("--line"), zeroline: false, linecolor: colour("--soft"), exponentformat: "none",
    separatethousands: true, ...more,
  });
  const settings = { responsive: true, displaylogo: false, modeBarButtonsToRemove: ["select2d", "lasso2d"] };

  const choice = (words, names, chosen, heard) => {
    const select = element("select", {}, ...names.map((name, k) => element("option", { value: k, textContent: name })));
    select.value = chosen;
    select.addEventListener("change", () => heard(Number(select.value)));
    return element("label", {}, words, select);
  };
  const slider = (words, names, chosen, heard) => {
    const said = element("output", { textContent: names[chosen] });
    const range = element("input", { type: "range", min: 0, max: names.length - 1, step: 1, value: chosen });
    range.setAttribute("aria-valuetext", names[chosen]);
    range.addEventListener("input", () => {
      said.textContent = names[range.value];
      range.setAttribute("aria-valuetext", names[range.value]);
      heard(Number(range.value));
    });
    return element("label", {}, words, range, said);
  };

  const ways = {
    async map(figure, data) {
      const whole = new Uint16Array(await bytesOf(data.values));
      const [x0, dx, nx] = data.x, [y0, dy, ny] = data.y, size = nx * ny;
      const real = (v) => (data.logarithmic ? 10 ** v : v);
      const x = Array.from({ length: nx }, (_, k) => x0 + k * dx), y = Array.from({ length: ny }, (_, k) => y0 + k * dy);
      let layer = 0, time = data.times.length - 1;
      const values = () => {
        const begin = (layer * data.times.length + time) * size, rows = [];
        for (let j = 0; j < ny; j++) {
          const row = new Array(nx);
          for (let i = 0; i < nx; i++) {
            const v = whole[begin + j * nx + i];
            row[i] = v === 65535 ? null : data.low + (data.high - data.low) * v / 65534;
          }
          rows.push(row);
        }
        return rows;
      };
      const ticks = () => {
        const found = [];
        for (let p = Math.floor(data.low); p <= Math.ceil(data.high); p++)
          for (const m of [1, 2, 5]) { const v = p + Math.log10(m); if (v >= data.low && v <= data.high) found.push(v); }
        return { tickvals: found, ticktext: found.map((v) => String(Number((10 ** v).toPrecision(2)))) };
      };
      const traces = () => {
        const z = values();
        const bar = { title: { text: data.label, side: "right" }, thickness: 16, outlinewidth: 0, ...(data.logarithmic ? ticks() : {}) };
        const found = [{
          type: "heatmap", x, y, z, zmin: data.low, zmax: data.high, colorscale: data.colours, colorbar: bar, hoverongaps: false,
          customdata: data.logarithmic ? z.map((row) => row.map((v) => (v === null ? null : real(v)))) : undefined,
          hovertemplate: `x %{x:,.0f}, y %{y:,.0f}<br>%{${data.logarithmic ? "customdata" : "z"}:.4~g}<extra>${data.label}</extra>`,
        }];
        if (data.contours && data.high > data.low) found.push({
          type: "contour", x, y, z, contours: { coloring: "none", showlabels: true, labelfont: { size: 11, color: "#222" } }, ncontours: 14,
          line: { color: "#2b2b2b", width: 0.9 }, hoverinfo: "skip", showlegend: false, showscale: false, connectgaps: false,
        });
        if (data.limit) found.push({
          type: "contour", x, y, z: z.map((row) => row.map((v) => (v === null ? data.low - 1 : v))),
          contours: { coloring: "none", start: Math.log10(data.limit), end: Math.log10(data.limit), size: 1 },
          line: { color: "#c1121f", width: 2.5 }, hoverinfo: "skip", showlegend: false, showscale: false,
        });
        for (const line of data.lines) found.push(line.points
          ? { type: "scatter", mode: "markers", x: line.x, y: line.y, text: line.names, name: line.name, showlegend: false,
              marker: { color: line.colour, size: line.width, line: { color: "#222", width: 1 } }, hovertemplate: "%{text}<extra></extra>" }
          : { type: "scatter", mode: "lines", x: line.x, y: line.y, name: line.name, showlegend: false,
              line: { color: line.colour === "#2b2b2b" ? colour("--ink") : line.colour, width: 1.3 * line.width },
              hoverinfo: "name" });
        return found;
      };
      const drawn = figure.querySelector(".drawn");
      const layout = () => frame({
        xaxis: axis(`x [${data.length}]`, { showgrid: false, constrain: "domain" }),
        yaxis: axis(`y [${data.length}]`, { showgrid: false, scaleanchor: "x", constrain: "domain" }), uirevision: "kept", hovermode: "closest",
      });
      const draw = () => Plotly.react(drawn, traces(), layout(), settings);
      const controls = figure.querySelector(".controls");
      if (data.layers.length > 1) controls.append(choice("Layer", data.layers, layer, (k) => { layer = k; draw(); }));
      if (data.times.length > 1) controls.append(slider("Time", data.times, time, (k) => { time = k; draw(); }));
      await draw();
      return draw;
    },

    async block(figure, data) {
      const parts = [], places = new Float32Array(await bytesOf(data.places)), count = places.length / 2;
      const x = Array.from(places.subarray(0, count)), y = Array.from(places.subarray(count));
      const corners = new Uint16Array(await bytesOf(data.triangles));
      const light = { ambient: 0.7, diffuse: 0.5, specular: 0.05, roughness: 0.9 };
      const said = `%{x:,.0f}, %{y:,.0f}<br>%{z:.1f} ${data.length}`;
      // a surface over all places, without the triangles of which a corner has no value
      const surface = (numbers, name, shade, more) => {
        const z = Array.from(numbers), i = [], j = [], k = [];
        for (let t = 0; t < corners.length; t += 3) {
          const [a, b, c] = corners.subarray(t, t + 3);
          if (!Number.isNaN(z[a] + z[b] + z[c])) { i.push(a); j.push(b); k.push(c); }
        }
        return {
          type: "mesh3d", x, y, z: z.map((v) => (Number.isNaN(v) ? data.low : v)), i, j, k, color: shade, lighting: light, name,
          legendgroup: name, hovertemplate: `${said}<extra>${name}</extra>`, ...more };
      };
      for (const layer of data.layers) {
        const numbers = new Float32Array(await bytesOf(layer.surfaces)), sides = new Float32Array(await bytesOf(layer.sides));
        for (let s = 0; s < layer.count; s++)
          parts.push(surface(numbers.subarray(s * count, (s + 1) * count), layer.name, layer.colour, { showlegend: s === 0 }));
        const n = data.rim, i = [], j = [], k = [];
        for (let p = 0; p + 1 < n; p++) {
          if ([p, p + 1, n + p, n + p + 1].some((v) => Number.isNaN(sides[v]))) continue;
          i.push(p, p + 1); j.push(p + 1, n + p + 1); k.push(n + p, n + p);
        }
        const twice = (v) => [...v.slice(0, n), ...v.slice(0, n)];
        parts.push({
          type: "mesh3d", x: twice(x), y: twice(y), z: Array.from(sides, (v) => (Number.isNaN(v) ? data.low : v)), i, j, k,
          color: layer.colour, flatshading: true, lighting: { ...light, ambient: 0.8 }, name: layer.name, legendgroup: layer.name,
          showlegend: false, hoverinfo: "skip",
        });
      }
      if (data.water) parts.push(surface(new Float32Array(await bytesOf(data.water)), "water table", "#3b8fc4",
        { showlegend: true, visible: "legendonly", opacity: 0.55 }));
      const reach = (v) => v.reduce((m, a) => Math.max(m, a), -Infinity) - v.reduce((m, a) => Math.min(m, a), Infinity);
      const across = reach(x), along = reach(y), longest = Math.max(across, along);
      const usual = 0.22 * longest / (data.high - data.low || 1);
      const factors = [...new Set([1, 2, 5, 10, 20, 50, 100, 200].filter((f) => f < 4 * usual).concat(Number(usual.toPrecision(1))))].sort((a, b) => a - b);
      let factor = factors.indexOf(Number(usual.toPrecision(1)));
      const drawn = figure.querySelector(".drawn");
      const layout = () => {
        const plane = (title, more = {}) => ({
          title: { text: title }, gridcolor: colour("--line"), color: colour("--ink"), showbackground: false, exponentformat: "none", ...more });
        return frame({
          margin: { l: 0, r: 0, t: 0, b: 0 }, legend: { x: 0.01, y: 0.99, bgcolor: "rgba(0,0,0,0)" }, uirevision: "kept",
          scene: {
            xaxis: plane(`x [${data.length}]`, { nticks: 5 }), yaxis: plane(`y [${data.length}]`, { nticks: 5 }),
            zaxis: plane(`elevation [${data.length}]`, { nticks: 5 }), aspectmode: "manual", uirevision: "kept",
            aspectratio: { x: 1.5 * across / longest, y: 1.5 * along / longest, z: 1.5 * factors[factor] * (data.high - data.low) / longest },
            camera: { eye: { x: -0.9, y: -1.35, z: 0.85 }, center: { x: 0, y: 0, z: -0.15 } },
          },
        });
      };
      // what is turned is no picture for a printer: beside it stands one, as it was turned last
      const still = element("img", { className: "still", alt: figure.querySelector("figcaption").textContent });
      drawn.after(still);
      let waiting;
      const keep = () => {
        clearTimeout(waiting);
        waiting = setTimeout(async () => {
          printing = true;
          const { camera } = drawn.layout.scene, whole = { ...layout(), width: 1000 };
          printing = false;
          const shown = drawn.data.map((part) => ({ ...part }));
          whole.scene.camera = camera;
          still.src = await Plotly.toImage({ data: shown, layout: whole }, { format: "png", width: 1000, height: 620 });
        }, 400);
      };
      const draw = async () => { await Plotly.react(drawn, parts, layout(), settings); keep(); };
      figure.querySelector(".controls").append(slider("Heights ×", factors.map(String), factor, (k) => { factor = k; draw(); }));
      await draw();
      for (const event of ["plotly_relayout", "plotly_restyle"]) drawn.on(event, keep);
      return draw;
    },

    async bars(figure, data) {
      const drawn = figure.querySelector(".drawn");
      const bar = (name, values, shade) => ({
        type: "bar", orientation: "h", y: data.names, x: values, name, marker: { color: shade }, hovertemplate: `%{x:,.4~g} ${data.label}<extra>%{y}, ${name}</extra>` });
      const draw = () => Plotly.react(drawn, [bar("in", data.in, "#2a6f97"), bar("out", data.out.map((v) => -v), "#d9894c")], frame({
        barmode: "relative", margin: { l: 15, r: 15, t: 15, b: 50 }, xaxis: axis(`out (−), in (+) [${data.label}]`, { zeroline: true, zerolinecolor: colour("--soft") }),
        yaxis: axis("", { automargin: true, autorange: "reversed" }), legend: { orientation: "h", y: 1.1 },
      }), settings);
      await draw();
      return draw;
    },
  };

  const redraws = [];
  const setUpLive = async () => {
    const library = document.getElementById("library");
    if (!library) return;
    const text = new TextDecoder().decode(await bytesOf(library.textContent.trim()));
    document.body.append(element("script", { textContent: text }));
    library.remove();
    for (const figure of document.querySelectorAll(".live")) {
      const data = JSON.parse(figure.querySelector(".data").textContent);
      redraws.push(await ways[figure.dataset.way](figure, data));
    }
    document.documentElement.dataset.drawn = "all";
  };

  // --- light and dark ---

  const theme = document.getElementById("theme");
  const dark = () => {
    const said = document.documentElement.dataset.theme;
    return said ? said === "dark" : matchMedia("(prefers-color-scheme: dark)").matches;
  };
  const show = () => {
    theme.textContent = dark() ? "Light" : "Dark";
    theme.setAttribute("aria-pressed", String(dark()));
    redraws.forEach((draw) => draw());
  };
  theme.hidden = false;
  theme.addEventListener("click", () => { document.documentElement.dataset.theme = dark() ? "light" : "dark"; show(); });
  matchMedia("(prefers-color-scheme: dark)").addEventListener("change", show);

  const forPrint = (on) => { printing = on; redraws.forEach((draw) => draw()); };
  window.addEventListener("beforeprint", () => forPrint(true));
  window.addEventListener("afterprint", () => forPrint(false));

  document.querySelectorAll("figure.table").forEach(setUpTable);
  show();
  setUpLive().catch((problem) => {
    console.error(problem);
    document.querySelectorAll(".live .drawn").forEach((place) => { place.textContent = "This browser cannot draw it."; });
  });
})();
