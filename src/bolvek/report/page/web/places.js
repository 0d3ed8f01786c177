/* Numbered places over the view: they follow the turning, and a click flies there. */

class Places {
  constructor(viewer, places) {
    this.viewer = viewer;
    this.current = -1;
    this.layer = el("div", { class: "places" });
    this.places = places.map((p, k) => {
      const where = minus(p.where, viewer.centre);
      const name = `${p.severity} ${k + 1}: ${p.text}`;
      const button = el("button", { type: "button", class: `place ${p.severity}`, title: name, "aria-label": name }, `${k + 1}`);
      button.addEventListener("click", () => this.fly(k));
      this.layer.append(button);
      return { ...p, where, button };
    });
  }

  /** Put every number where its place is drawn. */
  follow() {
    const { viewer } = this;
    const { clientWidth, clientHeight } = viewer.canvas;
    const wide = viewer.wide;
    const [at_, parts] = [viewer.windows.indexOf(viewer.main), viewer.windows.length];
    this.layer.hidden = at_ < 0 || !viewer.numbered;
    for (const [k, place] of this.places.entries()) {
      const at = viewer.camera.project(place.where, wide);
      const cutAway = viewer.state.cut && dot(viewer.state.cut.normal, place.where) > viewer.state.cut.offset + 1e-3 * viewer.main.radius;
      place.button.hidden = !at.seen || Math.abs(at.x) > 1 || Math.abs(at.y) > 1;
      place.button.classList.toggle("away", Boolean(cutAway));
      place.button.classList.toggle("current", k === this.current);
      const x = ((0.5 + 0.5 * at.x + at_) * clientWidth) / parts;
      place.button.style.transform = `translate(${x.toFixed(1)}px, ${((0.5 - 0.5 * at.y) * clientHeight).toFixed(1)}px)`;
    }
  }

  /** Look at a place from its open side; cut open where it lies inside. */
  fly(k) {
    const place = this.places[k];
    const { viewer } = this;
    this.current = k;
    const radius = Math.max(1.6 * place.size, 0.16 * viewer.main.radius);
    const goal = Object.assign(new Camera(), { reach: viewer.camera.reach, parallel: viewer.camera.parallel });
    goal.from(place.eye);
    goal.fit(place.where, radius, viewer.wide);
    if (place.inside) viewer.cutThrough(goal.eye, place.where);
    else viewer.setCut(null);
    viewer.fly(goal);
    viewer.say(`${k + 1} of ${this.places.length}: ${place.text}`);
    for (const link of viewer.article.querySelectorAll("[data-place]")) {
      link.parentElement.classList.toggle("current", Number(link.dataset.place) === k + 1);
    }
  }

  step(by) {
    const n = this.places.length;
    if (n) this.fly((Math.max(this.current, by < 0 ? 0 : -1) + by + n) % n);
  }
}
