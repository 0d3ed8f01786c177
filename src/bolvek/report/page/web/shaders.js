/* What runs on the graphics side. A face's number comes from its vertices: its figures lie in textures. */

const BODY_VERTEX = `#version 300 es
precision highp float; precision highp int; precision highp sampler2D;
layout(location = 0) in vec3 steps;
uniform vec3 low, stepSize;
uniform mat4 view, projection;
uniform sampler2D faces, parts;
uniform float wanted;
out vec3 place, seen, corner;
flat out vec3 base;
flat out int face;
void main() {
  face = gl_VertexID / 3;
  vec2 figures = texelFetch(faces, ivec2(face & 2047, face >> 11), 0).xy;
  vec4 part = texelFetch(parts, ivec2(int(figures.y), 0), 0);
  int packed_ = int(figures.x);
  base = vec3(float(packed_ >> 16), float(packed_ >> 8 & 255), float(packed_ & 255)) / 255.0;
  place = low + stepSize * steps + part.yzw;
  vec4 at = view * vec4(place, 1.0);
  seen = at.xyz;
  corner = vec3(gl_VertexID % 3 == 0, gl_VertexID % 3 == 1, gl_VertexID % 3 == 2);
  gl_Position = part.x == wanted ? projection * at : vec4(2.0, 2.0, 2.0, 1.0);
}`;

const BODY_FRAGMENT = `#version 300 es
precision highp float; precision highp int;
in vec3 place, seen, corner;
flat in vec3 base;
uniform vec4 cut;
uniform bool cutting, perspective, edges;
uniform float alpha;
out vec4 colour;
void main() {
  vec3 across = cross(dFdx(seen), dFdy(seen));
  vec3 width = edges ? fwidth(corner) : vec3(1.0);
  if (cutting && dot(cut.xyz, place) > cut.w) discard;
  vec3 normal = across * inversesqrt(max(dot(across, across), 1e-30));
  if (dot(normal, perspective ? -seen : vec3(0.0, 0.0, 1.0)) < 0.0) normal = -normal;
  vec3 own = gl_FrontFacing ? base : mix(base, vec3(0.32, 0.26, 0.36), 0.7);
  float light = 0.42 + 0.46 * max(dot(normal, vec3(-0.35, 0.45, 0.82)), 0.0) + 0.2 * normal.z;
  vec3 lit = own * clamp(light, 0.0, 1.15);
  if (edges) {
    vec3 near = smoothstep(vec3(0.0), 1.2 * width, corner);
    lit = mix(mix(lit, vec3(0.1, 0.09, 0.08), 0.55), lit, min(min(near.x, near.y), near.z));
  }
  colour = vec4(lit * alpha, alpha);
}`;

/* Only which face it is: to find what lies under the pointer, and to count. */
const NUMBER_FRAGMENT = `#version 300 es
precision highp float; precision highp int;
in vec3 place;
flat in int face;
uniform vec4 cut;
uniform bool cutting;
out vec4 colour;
void main() {
  if (cutting && dot(cut.xyz, place) > cut.w) discard;
  int n = face + 1;
  colour = vec4(float(n & 255), float(n >> 8 & 255), float(n >> 16 & 255), 255.0) / 255.0;
}`;

const CAP_VERTEX = `#version 300 es
precision highp float;
layout(location = 0) in vec2 side;
uniform mat4 view, projection;
uniform vec3 middle, along, over;
uniform float half_;
out vec2 flat_;
void main() {
  flat_ = side * half_;
  gl_Position = projection * view * vec4(middle + flat_.x * along + flat_.y * over, 1.0);
}`;

const CAP_FRAGMENT = `#version 300 es
precision highp float;
in vec2 flat_;
uniform vec3 one, other;
uniform float apart;
uniform float alpha;
out vec4 colour;
void main() {
  float line = abs(fract((flat_.x + flat_.y) / apart) - 0.5);
  colour = vec4(apart > 0.0 && line < 0.16 ? other : one, 1.0) * alpha;
}`;

const LINE_VERTEX = `#version 300 es
precision highp float;
layout(location = 0) in vec3 place;
uniform mat4 view, projection;
void main() { gl_Position = projection * view * vec4(place, 1.0); }`;

const LINE_FRAGMENT = `#version 300 es
precision highp float;
uniform vec4 ink;
out vec4 colour;
void main() { colour = vec4(ink.rgb, 1.0) * ink.a; }`;
