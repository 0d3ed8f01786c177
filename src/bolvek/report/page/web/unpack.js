/* Reads the streams that the page carries: whole numbers as differences, in planes of bytes, deflated, in base64. */

class Unpacker {
  constructor(bytes) {
    this.bytes = bytes;
    this.at = 0;
  }

  static async of(text) {
    const packed = Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
    const stream = new Blob([packed]).stream().pipeThrough(new DecompressionStream("deflate"));
    return new Unpacker(new Uint8Array(await new Response(stream).arrayBuffer()));
  }

  /** Numbers without sign, whose bytes lie in `count` planes, the lowest first. */
  planes(length, count) {
    const out = new Uint32Array(length);
    for (let k = 0; k < count; k++, this.at += length) {
      for (let i = 0; i < length; i++) out[i] |= this.bytes[this.at + i] << (8 * k);
    }
    return out;
  }

  /** Numbers from 0 to 65,535, each coded as what it differs from the one before. */
  deltas(length) {
    const coded = this.planes(length, 2);
    const out = new Uint16Array(length);
    for (let i = 0, sum = 0; i < length; i++) {
      sum += coded[i] & 1 ? -(coded[i] + 1) / 2 : coded[i] / 2;
      out[i] = sum;
    }
    return out;
  }

  /** A mesh: whole steps (3 a vertex) above `low`, and the corners (3 a face). */
  mesh(about) {
    const axes = [0, 1, 2].map(() => this.deltas(about.vertices));
    const code = this.planes(3 * about.faces, 4);
    const points = new Uint16Array(3 * about.vertices);
    for (let v = 0; v < about.vertices; v++) for (let a = 0; a < 3; a++) points[3 * v + a] = axes[a][v];
    const corners = new Uint32Array(code.length);
    for (let i = 0, known = 0; i < code.length; i++) {
      corners[i] = known - code[i];
      if (code[i] === 0) known++;
    }
    return { points, corners, faces: about.faces, low: about.low, step: about.step };
  }

  /** A value a face, NaN for none. */
  values(length, about) {
    const whole = this.deltas(length);
    return Float32Array.from(whole, (n) => (n ? about.low + (n - 1) * about.step : NaN));
  }
}
