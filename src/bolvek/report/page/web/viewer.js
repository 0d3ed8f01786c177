/* One model's view: the canvas, what is shown, and what mouse, touch and keys do. */

const SNAP_PIXELS = 10;
const SMOOTH_MS = 450;
const [SETTLED_MS, SLOW_MS] = [180, 45];
const MANY_FACES = 40000;

class Viewer {
  constructor(article, model, look) {
    Object.assign(this, { article, model, look_: look, controls: {}, partBoxes: [], picked: [], tool: "" });
    this.ramp = new Ramp(look);
    this.state = { cut: null, colouring: null, limit: 1, edges: false, levels: [], anyClear: false, bed: null, main: null };
    this.coarser = 1; // how much while it moves, on slow machines
    this.bedShown = true;
    this.numbered = true;
  }

  async start() {
    const { article, model } = this;
    const read = await Unpacker.of(article.querySelector(".packed").textContent);
    const mesh = read.mesh(model.mesh);
    this.origin = model.origin ? read.planes(mesh.faces, 4) : null;
    const part = read.deltas(mesh.faces);
    this.inner = read.deltas(mesh.faces);
    this.fields = model.fields.map((f) => {
      const values = read.values(mesh.faces, f);
      const known = values.filter((x) => !Number.isNaN(x)).sort();
      const top = Math.max(Math.min(known[known.length - 1] || 0, 4 * f.limit), 1.5 * f.limit) || 1;
      return { ...f, values, top };
    });
    this.kinds = model.kinds.map((k) => {
      const values = read.deltas(mesh.faces);
      const count = k.kinds.map((_, i) => values.reduce((n, x) => n + (x === i + 1), 0));
      return { ...k, values, count, colours: k.kinds.map(([, colour]) => fromHex(colour)) };
    });
    this.centre = [0, 1, 2].map((a) => mesh.low[a] + 32767.5 * mesh.step[a]);
    this.canvas = el("canvas", { tabindex: 0, class: "sight", role: "application", "aria-label": `${model.name}: turn with arrows, zoom with + and -, ? for all keys` });
    this.stage = new Stage(this.canvas, this.look_);
    this.main = new Body(this.stage.gl, mesh, this.centre);
    this.state.main = this.main;
    this.part = part;
    this.main.setParts(part);
    this.before = model.before ? new Body(this.stage.gl, read.mesh(model.before), this.centre) : null;
    if (this.before) {
      this.before.paint(() => this.look_.outside);
      this.before.showParts(Float32Array.of(SOLID, 0, 0, 0));
    }
    this.partState = new Float32Array(4 * Math.max(model.parts.length, 1));
    for (let k = 0; k < this.partState.length; k += 4) this.partState[k] = SOLID;
    this.state.levels = model.levels.map((l) => ({
      ...l,
      half: Math.max(0.6 * Math.sqrt(l.area), 0.02 * this.main.radius),
      middle: add(minus(l.where, this.centre), l.up, l.level - dot(l.up, l.where)),
    }));
    this.camera = new Camera();
    this.camera.reach = this.main.radius;
    this.windows = [this.main];
    this.places = new Places(this, model.places);
    this.colourBy(this.fields[0] || this.kinds[0] || null);
    this.build();
    this.main.showParts(this.partState);
    this.fitAll();
    this.listen();
    article.classList.add("live");
  }

  build() {
    this.status = el("p", { class: "status quiet", "aria-live": "polite" }, "drag to turn, shift-drag to move, wheel to zoom; ? lists the keys");
    this.tip = el("div", { class: "tip", hidden: true });
    this.bar = el("div", { class: "scale" }, el("span", {}), el("i", {}));
    this.labels = el("div", { class: "labels" });
    const frame = el("div", { class: "frame" }, this.canvas, this.labels, this.places.layer, this.bar, this.tip);
    const panels = [viewPanel, cutPanel, colourPanel, partPanel, layerPanel, measurePanel].map((make) => make(this)).filter(Boolean);
    this.live = el("div", { class: "living" }, el("div", { class: "seen" }, frame, this.status), el("div", { class: "panels" }, ...panels));
    this.article.querySelector(".stage").append(this.live);
    this.observer = new ResizeObserver(() => this.change());
    this.observer.observe(frame);
    this.makeBed();
    for (const link of this.article.querySelectorAll("[data-place]")) {
      link.addEventListener("click", (event) => {
        event.preventDefault();
        this.places.fly(Number(link.dataset.place) - 1);
        this.live.scrollIntoView({ block: "nearest" });
      });
    }
  }

  stop() {
    this.observer.disconnect();
    this.stage.gl.getExtension("WEBGL_lose_context")?.loseContext();
    this.live.remove();
    this.article.classList.remove("live");
  }

  get wide() {
    return this.canvas.width / this.windows.length / this.canvas.height;
  }

  /** Change something, and draw it in the next picture; a finer one follows when nothing changes any more. */
  change(work = () => {}) {
    work();
    clearTimeout(this.settling);
    this.settling = setTimeout(() => this.draw(2), SETTLED_MS);
    if (this.waiting) return;
    this.waiting = requestAnimationFrame((now) => {
      this.waiting = 0;
      const took = now - (this.lastFrame || -1e9);
      this.lastFrame = now;
      // one late picture is none; what keeps being late is drawn coarser while it moves
      this.late = took > SLOW_MS && took < 10 * SLOW_MS ? (this.late || 0) + 1 : 0;
      if (this.late > 1) this.drawLess();
      this.draw(1 / this.coarser);
    });
  }

  /** What moves too slowly is drawn coarser while it moves; large models with fewer faces too. */
  drawLess() {
    this.coarser = Math.min(1.5 * this.coarser, 2);
    if (this.light || this.main.mesh.faces < MANY_FACES) return;
    this.light = this.main.lighter(this.centre);
    this.light.setParts(this.part);
    this.light.showParts(this.partState);
    this.paint();
  }

  draw(finer = 1) {
    this.stage.resize(finer);
    this.state.bed = this.bedShown ? { lines: this.bedLines, ink: this.ink() } : null;
    const bodies = this.windows.map((body) => (finer < 1 && body === this.main && this.light ? this.light : body));
    this.stage.draw(this.camera, bodies, this.state);
    this.places.follow();
    this.followLabels();
    this.showScale();
    this.drawn = (this.drawn || 0) + 1;
  }

  ink() {
    const c = getComputedStyle(this.canvas).color.match(/[\d.]+/g).slice(0, 3).map((n) => n / 255);
    return [...c, 0.35];
  }

  say(text) {
    this.status.textContent = text;
  }

  /* ---- where one looks from ---- */

  look(name) {
    const goal = Object.assign(new Camera(), this.camera);
    goal.look(name);
    this.fly(goal);
  }

  fitAll() {
    this.canvas.width ||= 1;
    this.stage.resize();
    const shown = this.shownBox();
    this.change(() => this.camera.fit(shown.middle, shown.radius, this.wide));
  }

  /** The box of what is shown: of the parts that are not hidden, and of what it was before. */
  shownBox() {
    const boxes = this.windows.map((body) => (body === this.main ? this.partBox() : body));
    if (boxes.length === 1) return boxes[0];
    const half = length(minus(boxes[1].middle, boxes[0].middle)) / 2;
    return { middle: add(boxes[0].middle, minus(boxes[1].middle, boxes[0].middle), 0.5), radius: half + Math.max(boxes[0].radius, boxes[1].radius) };
  }

  partBox() {
    if (this.partState.every((x, i) => (i % 4 ? x === 0 : x === SOLID))) return this.main;
    const [low, high] = [[1e30, 1e30, 1e30], [-1e30, -1e30, -1e30]];
    for (let f = 0; f < this.main.mesh.faces; f++) {
      const k = 4 * this.part[f];
      if (this.partState[k] === HIDDEN) continue;
      for (const p of this.main.face(f)) {
        for (let a = 0; a < 3; a++) {
          const x = p[a] + this.partState[k + 1 + a];
          low[a] = Math.min(low[a], x);
          high[a] = Math.max(high[a], x);
        }
      }
    }
    return low[0] > high[0] ? this.main : { middle: add(low, minus(high, low), 0.5), radius: 0.5 * length(minus(high, low)) };
  }

  /** Move the eye there, at once for those who want no motion. */
  fly(goal) {
    const from = Object.assign(new Camera(), this.camera, { target: [...this.camera.target] });
    const begin = performance.now();
    const round = (a) => a - 2 * Math.PI * Math.round(a / (2 * Math.PI));
    const still = matchMedia("(prefers-reduced-motion: reduce)").matches;
    const flight = (this.flight = {});
    const step = () => {
      if (this.flight !== flight) return;
      const t = still ? 1 : clamp((performance.now() - begin) / SMOOTH_MS, 0, 1);
      const s = t * t * (3 - 2 * t);
      this.camera.yaw = from.yaw + s * round(goal.yaw - from.yaw);
      this.camera.pitch = from.pitch + s * (goal.pitch - from.pitch);
      this.camera.distance = from.distance * (goal.distance / from.distance) ** s;
      this.camera.target = add(from.target, minus(goal.target, from.target), s);
      this.change();
      if (t < 1) requestAnimationFrame(step);
      else this.flight = null;
    };
    step();
  }

  showWhich(value) {
    this.controls.which.value = value;
    this.windows = { after: [this.main], before: [this.before], both: [this.before, this.main] }[value];
    this.fitAll();
  }

  /* ---- cutting ---- */

  setCut(cut) {
    this.controls.cutOn.checked = Boolean(cut);
    this.change(() => (this.state.cut = cut));
    if (!cut) return;
    const { low, high } = this.span(cut.normal);
    this.controls.cutAt.value = Math.round((1000 * (cut.offset - low)) / (high - low));
    const at = cut.offset + dot(cut.normal, this.centre);
    const axis = cut.normal.findIndex((x) => Math.abs(x) === 1);
    const along = cut.normal.map((x) => x.toFixed(2)).join(", ");
    this.controls.cutAxis.value = axis < 0 ? "view" : "xyz"[axis];
    this.controls.cutText.textContent = axis < 0 ? `${at.toFixed(2)} mm along ${along}` : `${"xyz"[axis]} = ${(cut.normal[axis] * at).toFixed(2)} mm`;
  }

  span(normal) {
    const half = 0.5 * [0, 1, 2].reduce((s, a) => s + Math.abs(normal[a]) * this.main.size[a], 0);
    const middle = dot(normal, this.main.middle);
    return { low: middle - half, high: middle + half };
  }

  /** Cut across an axis or the view; what lies towards the eye is taken away. */
  cutBy(name) {
    if (!name) return this.setCut(null);
    this.controls.cutAxis.value = name;
    let normal = this.camera.eye;
    if (name !== "view") {
      const k = "xyz".indexOf(name);
      normal = [0, 0, 0];
      normal[k] = this.camera.eye[k] < 0 ? -1 : 1;
    }
    this.setCut({ normal, offset: dot(normal, this.main.middle) + 1e-4 * this.main.radius });
  }

  cutAt(share) {
    if (!this.state.cut) this.cutBy(this.controls.cutAxis.value);
    const { normal } = this.state.cut;
    const { low, high } = this.span(normal);
    this.setCut({ normal, offset: low + share * (high - low) });
  }

  flipCut() {
    if (this.state.cut) this.setCut({ normal: add([0, 0, 0], this.state.cut.normal, -1), offset: -this.state.cut.offset });
  }

  cutThrough(normal, place) {
    this.setCut({ normal: unit(normal), offset: dot(unit(normal), place) + 1e-4 * this.main.radius });
  }

  /** The lowest point along a direction, on the axis through the middle. */
  lowest(up) {
    let least = Infinity;
    const { mesh, low } = this.main;
    for (let v = 0; v < mesh.points.length; v += 3) {
      let h = 0;
      for (let a = 0; a < 3; a++) h += up[a] * (low[a] + mesh.step[a] * mesh.points[v + a]);
      least = Math.min(least, h);
    }
    return add([0, 0, 0], up, least);
  }

  /* ---- colours and parts ---- */

  colourBy(field) {
    this.change(() => {
      this.state.colouring = field;
      this.state.limit = field ? field.limit || 1 : 1;
      this.paint();
    });
  }

  /** Colour every face by what is chosen. */
  paint() {
    const { outside, inside, plain } = this.look_;
    const field = this.state.colouring;
    let colour = (f) => (this.inner[f] ? inside : outside);
    if (field?.kinds) colour = (f) => (field.values[f] ? field.colours[field.values[f] - 1] : plain);
    else if (field) colour = (f) => this.ramp.at(field.values[f], this.state.limit, field.worse);
    this.main.paint(colour);
    this.light?.paint(colour);
  }

  showPart(k, how) {
    this.partState[4 * k] = how;
    this.partBoxes[k].checked = how !== HIDDEN;
    this.partsChanged();
  }

  onlyPart(only) {
    this.partBoxes.forEach((box, k) => {
      this.partState[4 * k] = only < 0 || k === only ? SOLID : HIDDEN;
      box.checked = this.partState[4 * k] !== HIDDEN;
    });
    this.partsChanged();
    if (only >= 0) this.fitAll();
  }

  pullApart(share) {
    this.model.shift.forEach((s, k) => s.forEach((x, a) => (this.partState[4 * k + 1 + a] = share * x)));
    this.partsChanged();
    this.fitAll();
  }

  partsChanged() {
    this.change(() => {
      this.state.anyClear = this.partState.some((x, i) => i % 4 === 0 && x === CLEAR);
      this.main.showParts(this.partState);
      this.light?.showParts(this.partState);
    });
  }

  /* ---- bed, scale ---- */

  makeBed() {
    const step = niceStep(0.2 * Math.max(this.main.size[0], this.main.size[1], 1e-6));
    const [lines, marks] = [[], []];
    const bottom = this.main.low[2];
    const ends = [0, 1].map((a) => {
      const low = this.main.low[a] + this.centre[a];
      return [Math.floor(low / step) - 1, Math.ceil((low + this.main.size[a]) / step) + 1];
    });
    for (const a of [0, 1]) {
      const b = 1 - a;
      for (let k = ends[a][0]; k <= ends[a][1]; k++) {
        for (const end of ends[b]) {
          const p = [0, 0, bottom];
          p[a] = k * step - this.centre[a];
          p[b] = end * step - this.centre[b];
          lines.push(...p);
        }
        const sides = ends[b].map((end) => {
          const at = [0, 0, bottom];
          at[a] = k * step - this.centre[a];
          at[b] = end * step - this.centre[b];
          return at;
        });
        marks.push([sides, `${+(k * step).toPrecision(6)}`]);
      }
    }
    // up, with the height at its top
    const corner = [0, 1].map((a) => ends[a][0] * step - this.centre[a]);
    const top = bottom + this.main.size[2];
    const arm = 0.25 * step;
    lines.push(...corner, bottom, ...corner, top, ...corner, top, corner[0] + arm, corner[1], top - arm, ...corner, top, corner[0] - arm, corner[1], top - arm);
    marks.push([[[...corner, top]], `up, ${this.main.size[2].toFixed(1)} mm`]);
    this.bedLines = this.stage.linesOf(new Float32Array(lines));
    this.marks = marks.map(([sides, text]) => {
      const label = el("span", {}, text);
      this.labels.append(label);
      return { sides, label };
    });
  }

  followLabels() {
    const { clientWidth, clientHeight } = this.canvas;
    this.labels.hidden = !this.bedShown || this.windows.length > 1 || this.windows[0] !== this.main;
    for (const { sides, label } of this.marks) {
      // on the side towards the eye nothing stands before them
      const where = sides.reduce((best, p) => (dot(p, this.camera.eye) > dot(best, this.camera.eye) ? p : best));
      const at = this.camera.project(where, this.wide);
      label.hidden = !at.seen || Math.abs(at.x) > 1 || Math.abs(at.y) > 1;
      label.style.transform = `translate(${((0.5 + 0.5 * at.x) * clientWidth).toFixed(1)}px, ${((0.5 - 0.5 * at.y) * clientHeight).toFixed(1)}px)`;
    }
  }

  showScale() {
    const perPixel = this.camera.mmPerHeight / this.canvas.clientHeight;
    const step = niceStep(110 * perPixel);
    this.bar.lastChild.style.width = `${(step / perPixel).toFixed(1)}px`;
    this.bar.firstChild.textContent = `${+step.toPrecision(3)} mm`;
  }

  /* ---- what lies under the pointer ---- */

  /** The face and place at a position of the window, null for none. */
  at(event) {
    const box = this.canvas.getBoundingClientRect();
    const share = (event.clientX - box.left) / box.width;
    const window_ = Math.min(Math.floor(share * this.windows.length), this.windows.length - 1);
    const body = this.windows[window_];
    const scale = this.canvas.width / box.width;
    const [x, y] = [Math.floor((event.clientX - box.left) * scale), Math.floor((event.clientY - box.top) * scale)];
    const face = this.stage.faceAt(this.camera, body, this.state, clamp(x, 0, this.canvas.width - 1), clamp(y, 0, this.canvas.height - 1), window_, this.windows.length);
    if (face < 0 || face >= body.mesh.faces) return null;
    const across = 2 * (share * this.windows.length - window_) - 1;
    const ray = this.camera.ray(across, 1 - (2 * (event.clientY - box.top)) / box.height, this.wide);
    const corners = body.face(face);
    const k = body === this.main ? 4 * this.part[face] : 0;
    const shift = body === this.main ? [...this.partState.slice(k + 1, k + 4)] : [0, 0, 0];
    const moved = corners.map((c) => add(c, shift));
    return { body, face, place: meet(ray, moved), corners: moved };
  }

  tellUnder(event) {
    const hit = this.at(event);
    this.tip.hidden = !hit;
    if (!hit) return;
    const where = add(hit.place, this.centre);
    const parts = [];
    const field = hit.body === this.main ? this.state.colouring : null;
    if (field && field.kinds) parts.push(field.values[hit.face] ? field.kinds[field.values[hit.face] - 1][0] : "none");
    else if (field) parts.push(Number.isNaN(field.values[hit.face]) ? `no ${field.name} here` : `${field.name} ${shown(field.values[hit.face], field.unit)}`);
    parts.push(`face ${(this.origin && hit.body === this.main ? this.origin[hit.face] : hit.face).toLocaleString("en")}`);
    parts.push(where.map((x) => x.toFixed(2)).join(", "));
    this.tip.textContent = parts.join(" | ");
    const box = this.canvas.getBoundingClientRect();
    this.tip.style.transform = `translate(${event.clientX - box.left + 14}px, ${event.clientY - box.top + 14}px)`;
  }

  takeTool(tool) {
    this.tool = tool;
    this.picked = [];
    this.controls.tool.value = tool;
    this.controls.measured.textContent = tool === "rim" ? "click an edge of the rim" : tool ? "click a place; corners are taken where near" : "";
  }

  click(event) {
    const hit = this.at(event);
    if (!hit) return;
    const out = this.controls.measured;
    const reach = (SNAP_PIXELS * this.camera.mmPerHeight) / this.canvas.clientHeight;
    if (this.tool === "rim") {
      hit.body.rims ??= new Rims(hit.body);
      const found = hit.body.rims.circle(hit.place, 3 * reach);
      out.textContent = found ? `diameter ${found.diameter.toFixed(3)} mm, round within ${found.off.toFixed(3)} mm` : "no closed rim here";
    } else if (this.tool) {
      const near = hit.corners.reduce((best, c) => (length(minus(c, hit.place)) < length(minus(best, hit.place)) ? c : best));
      if (this.picked.length === 3) this.picked = [];
      this.picked.push(length(minus(near, hit.place)) < reach ? near : hit.place);
      out.textContent = measured(this.picked) || `from ${add(this.picked[0], this.centre).map((x) => x.toFixed(2)).join(", ")}`;
    } else if (event.detail === 2) {
      const goal = Object.assign(new Camera(), this.camera, { target: hit.place });
      this.fly(goal);
    }
  }

  /* ---- mouse, touch, keys ---- */

  listen() {
    const { canvas } = this;
    const held = new Map();
    let travelled = 0;
    let timer = 0;
    canvas.addEventListener("pointerdown", (e) => {
      canvas.setPointerCapture(e.pointerId);
      held.set(e.pointerId, e);
      travelled = 0;
      clearTimeout(timer);
      this.flight = null;
      this.tip.hidden = true;
    });
    canvas.addEventListener("pointermove", (e) => {
      const last = held.get(e.pointerId);
      if (!last) {
        clearTimeout(timer);
        timer = setTimeout(() => this.tellUnder(e), 60);
        return;
      }
      const [dx, dy] = [e.clientX - last.clientX, e.clientY - last.clientY];
      travelled += Math.hypot(dx, dy);
      const high = canvas.clientHeight;
      if (held.size === 2) {
        const other = [...held.values()].find((p) => p.pointerId !== e.pointerId);
        const apart = (p) => Math.hypot(p.clientX - other.clientX, p.clientY - other.clientY);
        this.camera.zoom(apart(last) / Math.max(apart(e), 1));
        this.camera.pan(dx / high / 2, -dy / high / 2);
      } else if (e.shiftKey || e.buttons & 6) this.camera.pan(dx / high, -dy / high);
      else this.camera.turn((dx / high) * 4, (dy / high) * 4);
      held.set(e.pointerId, e);
      this.change();
    });
    const release = (e) => {
      if (held.delete(e.pointerId) && e.type === "pointerup" && travelled < 4) this.click(e);
    };
    canvas.addEventListener("pointerup", release);
    canvas.addEventListener("pointercancel", release);
    canvas.addEventListener("pointerleave", () => {
      clearTimeout(timer);
      this.tip.hidden = true;
    });
    canvas.addEventListener("dblclick", (e) => this.click(e));
    canvas.addEventListener("contextmenu", (e) => e.preventDefault());
    canvas.addEventListener(
      "wheel",
      (e) => {
        e.preventDefault();
        this.change(() => this.camera.zoom(Math.exp(clamp(e.deltaY, -200, 200) * 0.0015)));
      },
      { passive: false },
    );
    canvas.addEventListener("keydown", (e) => this.key(e));
  }

  key(e) {
    if (e.ctrlKey || e.metaKey || e.altKey) return;
    const turn = { ArrowLeft: [-0.12, 0], ArrowRight: [0.12, 0], ArrowUp: [0, -0.12], ArrowDown: [0, 0.12] }[e.key];
    const views = Object.keys(FIXED_VIEWS);
    const act = {
      "+": () => this.camera.zoom(0.87),
      "=": () => this.camera.zoom(0.87),
      "-": () => this.camera.zoom(1.15),
      f: () => this.fitAll(),
      e: () => this.controls.edges.box.click(),
      c: () => this.controls.cutOn.click(),
      "[": () => this.cutAt(clamp(this.controls.cutAt.value / 1000 - 0.02, 0, 1)),
      "]": () => this.cutAt(clamp(this.controls.cutAt.value / 1000 + 0.02, 0, 1)),
      n: () => this.places.step(1),
      p: () => this.places.step(-1),
      b: () => this.before && this.showWhich({ after: "before", before: "both", both: "after" }[this.controls.which.value]),
      m: () => this.takeTool({ "": "length", length: "rim", rim: "" }[this.tool]),
      Escape: () => this.takeTool(""),
      "?": () => this.say("arrows turn (with shift: move), + - zoom, 1 to 7 views, f fit, c cut, [ ] move the cut, e edges, n p findings, b before and after, m measure"),
    }[e.key];
    if (turn) this.change(() => (e.shiftKey ? this.camera.pan(-turn[0] / 3, turn[1] / 3) : this.camera.turn(...turn)));
    else if (views[Number(e.key) - 1]) this.look(views[Number(e.key) - 1]);
    else if (act) this.change(act);
    else return;
    e.preventDefault();
  }
}

/** The largest of 1, 2 and 5 times a power of ten that is no more. */
function niceStep(most) {
  const ten = 10 ** Math.floor(Math.log10(most));
  return [5, 2, 1].find((m) => m * ten <= most) * ten;
}
