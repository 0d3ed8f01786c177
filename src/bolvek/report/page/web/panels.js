/* The controls beside a view. */

/** An element with attributes and children; text is text, never markup. */
function el(tag, attributes = {}, ...children) {
  const made = document.createElement(tag);
  for (const [name, value] of Object.entries(attributes)) {
    if (name.startsWith("on")) made.addEventListener(name.slice(2), value);
    else if (value !== false && value !== null) made.setAttribute(name, value === true ? "" : value);
  }
  made.append(...children);
  return made;
}

const press = (text, act, more = {}) => el("button", { type: "button", onclick: act, ...more }, text);

function toggle(text, on, change) {
  const box = el("input", { type: "checkbox", checked: on, onchange: () => change(box.checked) });
  return Object.assign(el("label", { class: "toggle" }, box, ` ${text}`), { box });
}

function slider(name, more, change) {
  const input = el("input", { type: "range", "aria-label": name, ...more, oninput: () => change(Number(input.value)) });
  return input;
}

function choice(name, options, change) {
  const list = el("select", { "aria-label": name, onchange: () => change(list.value) });
  for (const [value, text] of options) list.append(el("option", { value }, text));
  return list;
}

const group = (title, ...children) => el("fieldset", { class: `panel-${title.toLowerCase()}` }, el("legend", {}, title), ...children);

function viewPanel(v) {
  const views = Object.keys(FIXED_VIEWS).map((name, k) => press(name, () => v.look(name), { title: `key ${k + 1}` }));
  const rows = [
    el("div", { class: "buttons" }, ...views, press("fit", () => v.fitAll(), { title: "key f" })),
    toggle("parallel", false, (on) => v.change(() => (v.camera.parallel = on))),
    (v.controls.edges = toggle("edges of triangles", false, (on) => v.change(() => (v.state.edges = on)))),
    toggle("bed", true, (on) => v.change(() => (v.bedShown = on))),
    toggle("numbers", true, (on) => v.change(() => (v.numbered = on))),
  ];
  if (v.before) {
    v.controls.which = choice("before or after", [["after", "after"], ["before", "before"], ["both", "both, side by side"]], (value) =>
      v.showWhich(value),
    );
    rows.push(el("label", {}, "shown ", v.controls.which));
  }
  return group("View", ...rows);
}

function cutPanel(v) {
  const c = v.controls;
  c.cutOn = toggle("cut open", false, (on) => v.cutBy(on ? c.cutAxis.value : null)).box;
  c.cutAxis = choice("across", [["x", "across x"], ["y", "across y"], ["z", "across z"], ["view", "across the view"]], (value) => v.cutBy(value));
  c.cutAt = slider("where it is cut", { min: 0, max: 1000, value: 500 }, (n) => v.cutAt(n / 1000));
  c.cutText = el("output", {});
  const rows = [
    el("label", { class: "toggle" }, c.cutOn, " cut open"),
    c.cutAxis,
    press("other half", () => v.flipCut()),
    c.cutAt,
    c.cutText,
  ];
  if (!v.model.closed) rows.push(el("p", { class: "quiet" }, "The surface does not close or crosses itself: what is filled here is no proof of material."));
  return group("Cut", ...rows);
}

function colourPanel(v) {
  const c = v.controls;
  const all = [...v.fields, ...v.kinds];
  const options = [["", "as it is"], ...all.map((f, k) => [String(k), f.name])];
  const body = el("div", {});
  c.colour = choice("colour by", options, (value) => {
    v.colourBy(value === "" ? null : all[Number(value)]);
    show();
  });
  const show = () => {
    const field = v.state.colouring;
    body.replaceChildren();
    if (field && field.kinds) {
      for (const [k, [name]] of field.kinds.entries()) {
        const box = el("span", { class: "swatch" });
        box.style.background = css(field.colours[k]);
        body.append(el("div", {}, box, ` ${name}: ${field.count[k].toLocaleString("en")} triangles`));
      }
    } else if (field) {
      const canvas = el("canvas", { width: 480, height: 110, class: "histogram", role: "img", "aria-label": `${field.name} by faces` });
      const text = el("output", {});
      const tell = () => {
        const short = field.values.filter((x) => (field.worse === "low" ? x < v.state.limit : x > v.state.limit)).length;
        text.textContent = `limit ${shown(v.state.limit, field.unit)}: ${short.toLocaleString("en")} triangles ${field.worse === "low" ? "below" : "above"}; up to ${shown(field.top, field.unit)} drawn`;
        drawHistogram(canvas, field, v.state.limit, v.ramp);
      };
      c.limit = slider("limit", { min: 1, max: 1000, value: Math.round((1000 * field.limit) / field.top) }, (n) =>
        v.change(() => {
          v.state.limit = (n / 1000) * field.top;
          v.paint();
          tell();
        }),
      );
      body.append(canvas, c.limit, text);
      requestAnimationFrame(tell);
    }
  };
  if (all.length) {
    c.colour.value = "0";
    show();
  }
  return all.length ? group("Colour", c.colour, body) : null;
}

function partPanel(v) {
  if (v.model.parts.length < 2) return null;
  const list = el("ul", { class: "parts" });
  v.model.parts.forEach((name, k) => {
    const box = el("input", { type: "checkbox", checked: true, "aria-label": `show ${name}`, onchange: () => v.showPart(k, box.checked ? SOLID : HIDDEN) });
    v.partBoxes.push(box);
    list.append(
      el("li", {}, el("label", {}, box, ` ${name}`), press("alone", () => v.onlyPart(k)), press("clear", () => v.showPart(k, v.partState[4 * k] === CLEAR ? SOLID : CLEAR))),
    );
  });
  const rows = [list, press("show all", () => v.onlyPart(-1))];
  if (v.model.shift) rows.push(el("label", {}, "pulled apart ", slider("pulled apart", { min: 0, max: 100, value: 0 }, (n) => v.pullApart(n / 100))));
  return group("Parts", ...rows);
}

function layerPanel(v) {
  const plot = v.model.layers;
  if (!plot || !plot.at.length) return null;
  const canvas = el("canvas", { width: 480, height: 90, class: "histogram", role: "img", "aria-label": "area of every layer" });
  const text = el("output", {});
  const most = Math.max(...plot.area, 1e-9);
  const draw = (k) => {
    const d = canvas.getContext("2d");
    d.clearRect(0, 0, canvas.width, canvas.height);
    d.fillStyle = css(v.look_.inside);
    const step = canvas.width / plot.at.length;
    plot.area.forEach((a, i) => d.fillRect(i * step, canvas.height * (1 - a / most), Math.max(step, 1), (canvas.height * a) / most));
    d.fillStyle = css(v.look_.cut);
    const top = plot.at[plot.at.length - 1];
    for (const [at] of plot.events) d.fillRect((at / top) * canvas.width - 1, 0, 2, 7);
    d.fillRect((k + 0.5) * step - 1, 0, 2, canvas.height);
  };
  const go = (k) => {
    v.cutThrough(plot.up, add(v.lowest(plot.up), plot.up, plot.at[k]));
    const near = plot.events.filter(([at]) => Math.abs(at - plot.at[k]) < 0.02 * (plot.at[plot.at.length - 1] || 1)).map(([, what]) => what);
    text.textContent = `layer ${k + 1} of ${plot.at.length}, ${plot.at[k].toFixed(2)} mm up, ${plot.area[k].toFixed(1)} mm2 ${near.length ? `- ${near.join("; ")}` : ""}`;
    draw(k);
  };
  v.controls.layer = slider("layer", { min: 0, max: plot.at.length - 1, value: 0 }, go);
  requestAnimationFrame(() => draw(0));
  return group("Layers", canvas, v.controls.layer, text);
}

function measurePanel(v) {
  const c = v.controls;
  c.tool = choice("measure", [["", "a click turns to it"], ["length", "length (2 clicks), angle (3)"], ["rim", "diameter of a rim"]], (value) => v.takeTool(value));
  c.measured = el("output", { class: "measured", "aria-live": "polite" });
  return group("Measure", c.tool, c.measured);
}
