/* Vectors of three numbers, and the eye: it turns around a target, z upward. */

const add = (a, b, t = 1) => [a[0] + t * b[0], a[1] + t * b[1], a[2] + t * b[2]];
const minus = (a, b) => add(a, b, -1);
const dot = (a, b) => a[0] * b[0] + a[1] * b[1] + a[2] * b[2];
const cross = (a, b) => [a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]];
const length = (a) => Math.hypot(a[0], a[1], a[2]);
const unit = (a) => add([0, 0, 0], a, 1 / (length(a) || 1));
const clamp = (x, low, high) => Math.min(Math.max(x, low), high);

const FIXED_VIEWS = {
  front: [-90, 0], back: [90, 0], left: [180, 0], right: [0, 0], top: [-90, 90], below: [-90, -90], corner: [-62, 16],
};
const HALF_ANGLE = (15 * Math.PI) / 180;
const STEEPEST = Math.PI / 2;

class Camera {
  constructor() {
    this.target = [0, 0, 0];
    this.parallel = false;
    this.reach = 1; // radius of all that is shown
    this.look("corner");
    this.distance = 4;
  }

  look(name) {
    [this.yaw, this.pitch] = FIXED_VIEWS[name].map((d) => (d * Math.PI) / 180);
  }

  /** Look from a direction. */
  from(way) {
    const w = unit(way);
    this.pitch = Math.asin(clamp(w[2], -1, 1));
    if (Math.abs(w[2]) < 0.999) this.yaw = Math.atan2(w[1], w[0]);
  }

  fit(middle, radius, wide = 1) {
    this.target = [...middle];
    this.distance = Math.max((1.08 * radius) / Math.sin(HALF_ANGLE) / Math.min(wide, 1), 1e-3);
  }

  get eye() {
    const c = Math.cos(this.pitch);
    return [c * Math.cos(this.yaw), c * Math.sin(this.yaw), Math.sin(this.pitch)];
  }

  get right() {
    return [-Math.sin(this.yaw), Math.cos(this.yaw), 0];
  }

  get up() {
    return cross(this.eye, this.right);
  }

  turn(right, up) {
    this.yaw -= right;
    this.pitch = clamp(this.pitch + up, -STEEPEST, STEEPEST);
  }

  /** Move the target by parts of the height of the picture. */
  pan(right, up) {
    const size = 2 * this.distance * Math.tan(HALF_ANGLE);
    this.target = add(add(this.target, this.right, -right * size), this.up, -up * size);
  }

  zoom(factor) {
    this.distance = clamp(this.distance * factor, 1e-3 * this.reach, 60 * this.reach);
  }

  /** View and projection (column by column) for a picture so many times as wide as high. */
  matrices(wide) {
    const [r, u, e] = [this.right, this.up, this.eye];
    const t = this.target;
    const view = [
      r[0], u[0], e[0], 0, r[1], u[1], e[1], 0, r[2], u[2], e[2], 0,
      -dot(r, t), -dot(u, t), -dot(e, t) - this.distance, 1,
    ];
    const span = 3 * this.reach + length(t);
    const far = this.distance + span;
    const f = 1 / Math.tan(HALF_ANGLE);
    if (this.parallel) {
      const s = f / this.distance;
      const near = this.distance - span;
      const deep = far - near;
      return { view, projection: [s / wide, 0, 0, 0, 0, s, 0, 0, 0, 0, -2 / deep, 0, 0, 0, -(far + near) / deep, 1] };
    }
    const near = Math.max(this.distance - span, 2e-3 * this.distance);
    const deep = near - far;
    return { view, projection: [f / wide, 0, 0, 0, 0, f, 0, 0, 0, 0, (far + near) / deep, -1, 0, 0, (2 * far * near) / deep, 0] };
  }

  /** Where a point comes to lie: x and y from -1 to 1, and whether it is before the eye. */
  project(p, wide) {
    const d = minus(p, this.target);
    const f = 1 / Math.tan(HALF_ANGLE);
    const away = this.distance - dot(this.eye, d);
    const scale = f / (this.parallel ? this.distance : away);
    return { x: (dot(this.right, d) * scale) / wide, y: dot(this.up, d) * scale, seen: this.parallel || away > 0 };
  }

  /** The straight line of sight through a place of the picture, x and y from -1 to 1. */
  ray(x, y, wide) {
    const t = Math.tan(HALF_ANGLE);
    const side = add(add([0, 0, 0], this.right, x * wide * t), this.up, y * t);
    const eye = add(this.target, this.eye, this.distance);
    if (this.parallel) return { from: add(eye, side, this.distance), way: add([0, 0, 0], this.eye, -1) };
    return { from: eye, way: unit(add(side, this.eye, -1)) };
  }

  get mmPerHeight() {
    return 2 * this.distance * Math.tan(HALF_ANGLE);
  }
}
