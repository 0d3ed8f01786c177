/* Lengths, angles and diameters between places that are clicked. */

const SHARP = Math.cos((25 * Math.PI) / 180);

/** Where a line of sight meets the plane of a face. */
function meet(ray, [a, b, c]) {
  const normal = cross(minus(b, a), minus(c, a));
  const t = dot(normal, minus(a, ray.from)) / dot(normal, ray.way);
  return Number.isFinite(t) ? add(ray.from, ray.way, t) : a;
}

/** The edges of a body that are open or bend sharply: for each half-edge the ones that go on from it. */
class Rims {
  constructor(body) {
    this.body = body;
    const { corners, faces } = body.mesh;
    const known = new Map();
    const count = body.mesh.points.length / 3;
    for (let h = 0; h < 3 * faces; h++) {
      const [a, b] = [corners[h], corners[h - (h % 3) + ((h + 1) % 3)]];
      const key = Math.min(a, b) * count + Math.max(a, b);
      if (!known.has(key)) known.set(key, []);
      known.get(key).push(h);
    }
    const normals = new Map();
    const normal = (f) => {
      if (!normals.has(f)) {
        const [a, b, c] = body.face(f);
        normals.set(f, unit(cross(minus(b, a), minus(c, a))));
      }
      return normals.get(f);
    };
    this.edges = [];
    this.at = new Map(); // sharp edges around each vertex, as the vertex across
    for (const [key, uses] of known) {
      const [f, g] = uses.map((h) => Math.floor(h / 3));
      if (uses.length === 2 && dot(normal(f), normal(g)) > SHARP) continue;
      const [a, b] = [Math.floor(key / count), key % count];
      this.edges.push([a, b]);
      for (const [from, to] of [[a, b], [b, a]]) {
        if (!this.at.has(from)) this.at.set(from, []);
        this.at.get(from).push(to);
      }
    }
  }

  point(v) {
    const { low, mesh } = this.body;
    return [0, 1, 2].map((a) => low[a] + mesh.step[a] * mesh.points[3 * v + a]);
  }

  /** The round of edges that begins with one from a to b, straight on at every vertex; null where it does not close. */
  round(a, b) {
    const way = [a, b];
    while (way.length < 20000) {
      const [last, here] = way.slice(-2);
      const come = unit(minus(this.point(here), this.point(last)));
      const on = (this.at.get(here) || []).filter((v) => v !== last);
      if (!on.length) return null;
      const bend = (v) => dot(come, unit(minus(this.point(v), this.point(here))));
      const next = on.reduce((best, v) => (bend(v) > bend(best) ? v : best));
      if (next === a) return way;
      if (way.includes(next)) return null;
      way.push(next);
    }
    return null;
  }

  /** The round nearest to a place, within a reach, and the circle through it: middle, diameter, how far it is from one. */
  circle(place, reach) {
    let best = null;
    for (const [a, b] of this.edges) {
      const [p, q] = [this.point(a), this.point(b)];
      const t = clamp(dot(minus(place, p), minus(q, p)) / (length(minus(q, p)) ** 2 || 1), 0, 1);
      const gap = length(minus(place, add(p, minus(q, p), t)));
      if (gap < (best ? best.gap : reach)) best = { gap, a, b };
    }
    const way = best && this.round(best.a, best.b);
    if (!way || way.length < 3) return null;
    const points = way.map((v) => this.point(v));
    // middle by length, radius as the mean of the corners' distances
    let middle = [0, 0, 0];
    let total = 0;
    points.forEach((p, k) => {
      const q = points[(k + 1) % points.length];
      const l = length(minus(q, p));
      middle = add(middle, add(p, q), 0.5 * l);
      total += l;
    });
    middle = add([0, 0, 0], middle, 1 / total);
    const radii = points.map((p) => length(minus(p, middle)));
    const mean = radii.reduce((s, r) => s + r, 0) / radii.length;
    return { middle, points, diameter: 2 * mean, off: Math.max(...radii.map((r) => Math.abs(r - mean))) };
  }
}

/** What the clicked places tell: one its coordinates, two a length, three an angle at the second. */
function measured(places) {
  const [a, b, c] = places;
  if (places.length === 2) return `${length(minus(b, a)).toFixed(3)} mm`;
  if (places.length === 3) {
    const angle = Math.acos(clamp(dot(unit(minus(a, b)), unit(minus(c, b))), -1, 1));
    return `${((angle * 180) / Math.PI).toFixed(2)} degrees; ${length(minus(b, a)).toFixed(3)} and ${length(minus(c, b)).toFixed(3)} mm`;
  }
  return "";
}
