/* The stage: bodies, the plane that cuts them, the bed; drawn into one canvas. */

const WIDE = 2048; // faces a row of the texture that holds their figures
const [HIDDEN, SOLID, CLEAR] = [0, 1, 2];
const LIGHT_BITS = 6; // 64 cells a side

/** A mesh on the graphics side. `centre` is taken off all coordinates, so that small numbers stay exact. */
class Body {
  constructor(gl, mesh, centre, whole = null, faceOf = null) {
    this.gl = gl;
    this.mesh = mesh;
    this.whole = whole || this; // what it stands for, and the face of it that each of its own stands for
    this.faceOf = faceOf;
    this.low = minus(mesh.low, centre);
    const places = new Uint16Array(12 * mesh.faces);
    for (let i = 0; i < 3 * mesh.faces; i++) {
      const v = 3 * mesh.corners[i];
      places[4 * i] = mesh.points[v];
      places[4 * i + 1] = mesh.points[v + 1];
      places[4 * i + 2] = mesh.points[v + 2];
    }
    this.array = gl.createVertexArray();
    gl.bindVertexArray(this.array);
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ARRAY_BUFFER, places, gl.STATIC_DRAW);
    gl.enableVertexAttribArray(0);
    gl.vertexAttribPointer(0, 3, gl.UNSIGNED_SHORT, false, 8, 0);
    this.figures = new Float32Array(2 * WIDE * Math.max(Math.ceil(mesh.faces / WIDE), 1));
    this.faces = textureOf(gl);
    this.parts = textureOf(gl);
    this.size = [0, 1, 2].map((a) => 65535 * mesh.step[a]);
    this.middle = add(this.low, this.size, 0.5);
    this.radius = Math.max(0.5 * length(this.size), 1e-9);
  }

  /** The part of every face. */
  setParts(part) {
    for (let f = 0; f < this.mesh.faces; f++) this.figures[2 * f + 1] = part[this.faceOf ? this.faceOf[f] : f];
  }

  /** The colour of every face, as a function of its number. */
  paint(colour) {
    for (let f = 0; f < this.mesh.faces; f++) {
      const [r, g, b] = colour(this.faceOf ? this.faceOf[f] : f);
      this.figures[2 * f] = Math.round(255 * r) * 65536 + Math.round(255 * g) * 256 + Math.round(255 * b);
    }
    fillTexture(this.gl, this.faces, WIDE, this.figures.length / 2 / WIDE, this.figures, "RG");
  }

  /** How each part is shown, and by how much it is moved. */
  showParts(parts) {
    fillTexture(this.gl, this.parts, parts.length / 4, 1, parts);
  }

  /** A body of few faces that looks about the same: vertices of one cell of a lattice become one. */
  lighter(centre) {
    const { points, corners, faces } = this.mesh;
    const first = new Int32Array(2 ** (3 * LIGHT_BITS)).fill(-1);
    const shift = 16 - LIGHT_BITS;
    const stands = Uint32Array.from({ length: points.length / 3 }, (_, v) => {
      const [x, y, z] = [0, 1, 2].map((a) => points[3 * v + a] >> shift);
      const cell = (((x << LIGHT_BITS) | y) << LIGHT_BITS) | z;
      if (first[cell] < 0) first[cell] = v;
      return first[cell];
    });
    const [kept, faceOf] = [[], []];
    for (let f = 0; f < faces; f++) {
      const [a, b, c] = [0, 1, 2].map((k) => stands[corners[3 * f + k]]);
      if (a === b || b === c || c === a) continue;
      kept.push(a, b, c);
      faceOf.push(f);
    }
    return new Body(this.gl, { ...this.mesh, corners: Uint32Array.from(kept), faces: faceOf.length }, centre, this, faceOf);
  }

  corner(i) {
    const v = 3 * this.mesh.corners[i];
    return [0, 1, 2].map((a) => this.low[a] + this.mesh.step[a] * this.mesh.points[v + a]);
  }

  face(f) {
    return [0, 1, 2].map((k) => this.corner(3 * f + k));
  }
}

function textureOf(gl) {
  const texture = gl.createTexture();
  gl.bindTexture(gl.TEXTURE_2D, texture);
  for (const name of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER]) gl.texParameteri(gl.TEXTURE_2D, name, gl.NEAREST);
  return texture;
}

function fillTexture(gl, texture, width, height, values, kind = "RGBA") {
  gl.bindTexture(gl.TEXTURE_2D, texture);
  gl.texImage2D(gl.TEXTURE_2D, 0, gl[`${kind}32F`], width, height, 0, gl[kind], gl.FLOAT, values);
}

class Program {
  constructor(gl, vertex, fragment) {
    this.gl = gl;
    this.program = gl.createProgram();
    for (const [kind, source] of [[gl.VERTEX_SHADER, vertex], [gl.FRAGMENT_SHADER, fragment]]) {
      const shader = gl.createShader(kind);
      gl.shaderSource(shader, source);
      gl.compileShader(shader);
      if (!gl.getShaderParameter(shader, gl.COMPILE_STATUS)) throw new Error(gl.getShaderInfoLog(shader));
      gl.attachShader(this.program, shader);
    }
    gl.linkProgram(this.program);
    if (!gl.getProgramParameter(this.program, gl.LINK_STATUS)) throw new Error(gl.getProgramInfoLog(this.program));
    this.places = {};
  }

  /** Use it with these uniforms: [kind, value] by name. */
  use(uniforms) {
    const { gl } = this;
    gl.useProgram(this.program);
    for (const [name, [kind, value]] of Object.entries(uniforms)) {
      this.places[name] ??= gl.getUniformLocation(this.program, name);
      if (kind === "Matrix4fv") gl.uniformMatrix4fv(this.places[name], false, value);
      else gl[`uniform${kind}`](this.places[name], value);
    }
  }
}

class Stage {
  constructor(canvas, look) {
    this.canvas = canvas;
    this.look = look;
    const asked = { stencil: true, antialias: false, alpha: true, preserveDrawingBuffer: true };
    const gl = canvas.getContext("webgl2", asked);
    if (!gl) throw new Error("no WebGL2");
    this.gl = gl;
    this.bodyProgram = new Program(gl, BODY_VERTEX, BODY_FRAGMENT);
    this.numberProgram = new Program(gl, BODY_VERTEX, NUMBER_FRAGMENT);
    this.capProgram = new Program(gl, CAP_VERTEX, CAP_FRAGMENT);
    this.lineProgram = new Program(gl, LINE_VERTEX, LINE_FRAGMENT);
    this.quad = this.linesOf(new Float32Array([-1, -1, 1, -1, -1, 1, 1, 1]), 2);
  }

  linesOf(values, size = 3) {
    const { gl } = this;
    const array = gl.createVertexArray();
    gl.bindVertexArray(array);
    gl.bindBuffer(gl.ARRAY_BUFFER, gl.createBuffer());
    gl.bufferData(gl.ARRAY_BUFFER, values, gl.STATIC_DRAW);
    gl.enableVertexAttribArray(0);
    gl.vertexAttribPointer(0, size, gl.FLOAT, false, 0, 0);
    return { array, count: values.length / size };
  }

  /** Make the canvas so many times finer than it is shown. */
  resize(finer = 1) {
    const scale = finer * Math.min(window.devicePixelRatio || 1, 2);
    const [w, h] = [this.canvas.clientWidth, this.canvas.clientHeight].map((n) => Math.max(Math.round(n * scale), 1));
    if (this.canvas.width !== w || this.canvas.height !== h) [this.canvas.width, this.canvas.height] = [w, h];
  }

  /** Draw into windows (parts of the canvas from left to right): each a body with the state of what is shown. */
  draw(camera, windows, state) {
    const { gl } = this;
    gl.disable(gl.SCISSOR_TEST);
    gl.viewport(0, 0, this.canvas.width, this.canvas.height);
    gl.clearColor(0, 0, 0, 0);
    gl.clearStencil(0);
    gl.stencilMask(255);
    gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT | gl.STENCIL_BUFFER_BIT);
    windows.forEach((body, k) => {
      const width = Math.floor(this.canvas.width / windows.length);
      gl.viewport(k * width, 0, width, this.canvas.height);
      this.drawBody(camera.matrices(width / this.canvas.height), body, state, camera);
    });
  }

  uniforms(matrices, body, state) {
    const cut = state.cut;
    return {
      view: ["Matrix4fv", matrices.view],
      projection: ["Matrix4fv", matrices.projection],
      low: ["3fv", body.low],
      stepSize: ["3fv", body.mesh.step],
      cutting: ["1i", cut ? 1 : 0],
      cut: ["4fv", cut ? [...cut.normal, cut.offset] : [0, 0, 1, 0]],
      wanted: ["1f", SOLID],
      faces: ["1i", 0],
      parts: ["1i", 1],
    };
  }

  bind(body) {
    const { gl } = this;
    gl.activeTexture(gl.TEXTURE1);
    gl.bindTexture(gl.TEXTURE_2D, body.parts);
    gl.activeTexture(gl.TEXTURE0);
    gl.bindTexture(gl.TEXTURE_2D, body.faces);
    gl.bindVertexArray(body.array);
  }

  drawBody(matrices, body, state, camera) {
    const { gl } = this;
    const bare = this.uniforms(matrices, body, state);
    const uniforms = {
      ...bare,
      perspective: ["1i", camera.parallel ? 0 : 1],
      edges: ["1i", state.edges ? 1 : 0],
      alpha: ["1f", 1],
    };
    const count = 3 * body.mesh.faces;
    gl.enable(gl.DEPTH_TEST);
    gl.disable(gl.BLEND);
    this.bind(body);
    if (state.cut) {
      this.numberProgram.use(bare);
      this.count(count);
    }
    this.bodyProgram.use(uniforms);
    gl.drawArrays(gl.TRIANGLES, 0, count);
    if (state.cut) this.drawCap(matrices, body, state.cut);
    for (const level of body.whole === state.main ? state.levels : []) this.drawLevel(matrices, level);
    if (state.bed && body.whole === state.main) this.drawBed(matrices, state);
    if (state.anyClear && body.whole === state.main) {
      gl.enable(gl.BLEND);
      gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
      gl.depthMask(false);
      this.bind(body);
      this.bodyProgram.use({ ...uniforms, wanted: ["1f", CLEAR], alpha: ["1f", 0.22] });
      gl.drawArrays(gl.TRIANGLES, 0, count);
      gl.depthMask(true);
    }
  }

  /** Count how often each line of sight leaves material behind the cut more often than it enters: there it is cut. */
  count(count) {
    const { gl } = this;
    gl.enable(gl.STENCIL_TEST);
    gl.colorMask(false, false, false, false);
    gl.depthMask(false);
    gl.disable(gl.DEPTH_TEST);
    gl.stencilFunc(gl.ALWAYS, 0, 255);
    gl.stencilOpSeparate(gl.BACK, gl.KEEP, gl.KEEP, gl.INCR_WRAP);
    gl.stencilOpSeparate(gl.FRONT, gl.KEEP, gl.KEEP, gl.DECR_WRAP);
    gl.drawArrays(gl.TRIANGLES, 0, count);
    gl.colorMask(true, true, true, true);
    gl.depthMask(true);
    gl.enable(gl.DEPTH_TEST);
    gl.disable(gl.STENCIL_TEST);
  }

  drawCap(matrices, body, cut) {
    const { gl } = this;
    gl.enable(gl.STENCIL_TEST);
    gl.stencilFunc(gl.NOTEQUAL, 0, 255);
    gl.stencilOp(gl.KEEP, gl.KEEP, gl.ZERO);
    const middle = add(body.middle, cut.normal, cut.offset - dot(cut.normal, body.middle));
    this.drawQuad(matrices, middle, cut.normal, 2 * body.radius, this.look.cut, this.look.cutDark, body.radius / 16, 1);
    gl.disable(gl.STENCIL_TEST);
  }

  drawQuad(matrices, middle, normal, half, one, other, apart, alpha) {
    const along = unit(cross(Math.abs(normal[2]) < 0.9 ? [0, 0, 1] : [1, 0, 0], normal));
    this.capProgram.use({
      view: ["Matrix4fv", matrices.view],
      projection: ["Matrix4fv", matrices.projection],
      middle: ["3fv", middle],
      along: ["3fv", along],
      over: ["3fv", cross(normal, along)],
      half_: ["1f", half],
      one: ["3fv", one],
      other: ["3fv", other],
      apart: ["1f", apart],
      alpha: ["1f", alpha],
    });
    this.gl.bindVertexArray(this.quad.array);
    this.gl.drawArrays(this.gl.TRIANGLE_STRIP, 0, 4);
  }

  drawLevel(matrices, level) {
    const { gl } = this;
    gl.enable(gl.BLEND);
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
    this.drawQuad(matrices, level.middle, level.up, level.half, this.look.wet, this.look.wet, 0, 0.55);
    gl.disable(gl.BLEND);
  }

  drawBed(matrices, state) {
    const { gl } = this;
    gl.enable(gl.BLEND);
    gl.blendFunc(gl.ONE, gl.ONE_MINUS_SRC_ALPHA);
    const same = { view: ["Matrix4fv", matrices.view], projection: ["Matrix4fv", matrices.projection] };
    this.lineProgram.use({ ...same, ink: ["4fv", state.bed.ink] });
    gl.bindVertexArray(state.bed.lines.array);
    gl.drawArrays(gl.LINES, 0, state.bed.lines.count);
    gl.disable(gl.BLEND);
  }

  /** The face at a pixel of the canvas (from the upper left), -1 for none. */
  faceAt(camera, body, state, x, y, part, parts) {
    const { gl } = this;
    const width = Math.floor(this.canvas.width / parts);
    const row = this.canvas.height - 1 - y;
    this.target ??= this.pickTarget();
    gl.bindFramebuffer(gl.FRAMEBUFFER, this.target.frame);
    this.target.fit(this.canvas.width, this.canvas.height);
    gl.viewport(part * width, 0, width, this.canvas.height);
    gl.enable(gl.SCISSOR_TEST);
    gl.scissor(x, row, 1, 1);
    gl.enable(gl.DEPTH_TEST);
    gl.disable(gl.BLEND);
    gl.clearColor(0, 0, 0, 0);
    gl.clear(gl.COLOR_BUFFER_BIT | gl.DEPTH_BUFFER_BIT);
    this.bind(body);
    const matrices = camera.matrices(width / this.canvas.height);
    this.numberProgram.use(this.uniforms(matrices, body, state));
    gl.drawArrays(gl.TRIANGLES, 0, 3 * body.mesh.faces);
    const pixel = new Uint8Array(4);
    gl.readPixels(x, row, 1, 1, gl.RGBA, gl.UNSIGNED_BYTE, pixel);
    gl.disable(gl.SCISSOR_TEST);
    gl.bindFramebuffer(gl.FRAMEBUFFER, null);
    return (pixel[0] | (pixel[1] << 8) | (pixel[2] << 16)) - 1;
  }

  pickTarget() {
    const { gl } = this;
    const frame = gl.createFramebuffer();
    const [colour, depth] = [gl.createRenderbuffer(), gl.createRenderbuffer()];
    let size = "";
    const fit = (w, h) => {
      if (size === `${w}x${h}`) return;
      size = `${w}x${h}`;
      for (const [buffer, format, at] of [
        [colour, gl.RGBA8, gl.COLOR_ATTACHMENT0],
        [depth, gl.DEPTH_COMPONENT24, gl.DEPTH_ATTACHMENT],
      ]) {
        gl.bindRenderbuffer(gl.RENDERBUFFER, buffer);
        gl.renderbufferStorage(gl.RENDERBUFFER, format, w, h);
        gl.framebufferRenderbuffer(gl.FRAMEBUFFER, at, gl.RENDERBUFFER, buffer);
      }
    };
    return { frame, fit };
  }
}
