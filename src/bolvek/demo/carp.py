"""The carp: a fish lantern figure that leaps out of a wave, closed, with scales and fins.

Its body is swept along a curved spine; scales are domes on the skin, fins are blades thick enough
to print, a round wave with ripples is the foot. About 55 mm tall: the workshop scales it up.
"""

import numpy as np
from scipy.interpolate import CubicSpline
from scipy.spatial import cKDTree

from bolvek.arrays import Floats
from bolvek.demo.fields import blend, capsule, carve, ellipsoid, field_mesh, smoothstep
from bolvek.mesh import Mesh

_SPINE = np.array(
    [
        [7.0, 1.0, 5.5],
        [2.5, 1.6, 10.0],
        [-2.5, 1.0, 17.0],
        [-3.5, -0.4, 26.0],
        [0.5, -1.0, 35.0],
        [7.5, -0.8, 42.5],
        [14.5, 0.0, 47.0],
    ]
)
_SAMPLES = 600
_SCALE_ROWS, _SCALES_ROUND = 15, 14


class _Body:
    """The spine with its frame, and the body's radii along it."""

    def __init__(self) -> None:
        knots = np.linspace(0, 1, len(_SPINE))
        curve = CubicSpline(knots, _SPINE)
        self.s = np.linspace(0, 1, _SAMPLES)
        self.point = curve(self.s)
        tangent = curve(self.s, 1)
        self.tangent = tangent / np.linalg.norm(tangent, axis=1, keepdims=True)
        side = np.array([0.0, 1.0, 0.0]) - self.tangent[:, 1:2] * self.tangent
        self.side = side / np.linalg.norm(side, axis=1, keepdims=True)
        self.back = np.cross(self.side, self.tangent) * -1.0
        self.length = float(np.linalg.norm(np.diff(self.point, axis=0), axis=1).sum())
        # half heights along the spine: tail root, belly, shoulder, head, snout
        profile = CubicSpline([0, 0.12, 0.3, 0.52, 0.7, 0.84, 0.94, 1.0], [2.3, 2.7, 4.9, 7.3, 7.2, 5.9, 4.2, 2.7])
        self.half_height = profile(self.s)
        self.half_width = self.half_height * np.interp(self.s, [0, 0.3, 0.6, 1], [0.62, 0.66, 0.72, 0.86])
        self.search = cKDTree(self.point)

    def at(self, s: float) -> int:
        """Sample index of a place along the spine."""
        return int(round(s * (_SAMPLES - 1)))

    def frame(self, s: float) -> tuple[Floats, Floats, Floats, Floats]:
        """Point, tangent (to the head), side (+y) and back direction at s."""
        i = self.at(s)
        return self.point[i], self.tangent[i], self.side[i], self.back[i]


def _skin(body: _Body, s: Floats, angle: Floats) -> Floats:
    """Height of scales above the body: overlapping rows of domes, none on head and tail root."""
    u = s * _SCALE_ROWS / 0.78
    height = np.zeros_like(s)
    for step in (-1, 0, 1, 2):
        row = np.floor(u) + step
        v = angle / (2 * np.pi) * _SCALES_ROUND + 0.5 * (row % 2)
        off = v - np.floor(v) - 0.5
        # domes lean towards the tail: steep at the free edge, long towards the head
        lean = np.where(u - row > 0, (u - row) / 1.05, (row - u) / 0.62)
        height = np.maximum(height, 1 - np.sqrt((off / 0.62) ** 2 + lean**2))
    reach = smoothstep(s, 0.03, 0.12) * (1 - smoothstep(s, 0.735, 0.775))
    return np.asarray(0.95 * np.clip(height, 0, 0.8) * reach)


def _blade(
    s: Floats, h: Floats, across: Floats, base: Floats, begin: float, end: float, crest: Floats, half: float
) -> Floats:
    """A fin in the body's middle plane between s = begin..end, as high as `crest` above the base."""
    ripple = 0.22 * np.cos(s * 190 + 0.25 * (h - base))
    thick = half + ripple - 0.03 * np.clip(h - base, 0, 10)
    inside = np.maximum(np.abs(across) - thick, h - base - crest)
    ends = np.maximum(begin - s, s - end) * 46.0
    return np.maximum(np.maximum(inside, ends), base - 2.5 - h)


def _carp_field(body: _Body, p: Floats) -> Floats:
    _, i = body.search.query(p)
    rel = p - body.point[i]
    along = np.einsum("ij,ij->i", rel, body.tangent[i])
    beyond = np.where((i == 0) | (i == _SAMPLES - 1), along, 0.0)
    across = np.einsum("ij,ij->i", rel, body.side[i])
    up = np.einsum("ij,ij->i", rel, body.back[i])
    s = body.s[i] + np.where((i > 0) & (i < _SAMPLES - 1), along / body.length, 0.0)
    a, b = body.half_width[i], body.half_height[i]
    radial = np.sqrt((across / a) ** 2 + (up / b) ** 2 + (beyond / np.minimum(a, b)) ** 2)
    angle = np.arctan2(up / b, across / a)
    field = (radial - 1) * np.minimum(a, b) - _skin(body, s, angle)
    # gill cover: a groove with a raised rim
    gill = s - 0.80 + 0.035 * np.cos(angle) ** 2
    rim = np.exp(-((gill / 0.010) ** 2)) * 0.75 - np.exp(-(((gill - 0.018) / 0.012) ** 2)) * 0.55
    field = field + rim * (np.abs(np.sin(angle)) < 0.93) * smoothstep(1.6 - radial, 0, 0.5)

    dorsal = 5.6 * smoothstep(s, 0.34, 0.64) * (1 - 0.9 * smoothstep(s, 0.64, 0.72)) + 1.2
    field = blend(field, _blade(s, up, across, b, 0.33, 0.72, dorsal, 1.25), 1.2)
    anal = 3.4 * smoothstep(s, 0.12, 0.24) * (1 - 0.8 * smoothstep(s, 0.24, 0.30)) + 0.6
    field = blend(field, _blade(s, -up, across, b, 0.13, 0.30, anal, 1.15), 1.2)

    for sign in (1.0, -1.0):
        for place, out, down, reach, width, turn in (
            (0.71, 0.80, -0.42, 5.6, 2.9, 0.75),
            (0.44, 0.62, -0.72, 4.2, 2.3, 0.9),
        ):
            c, t, side, back = body.frame(place)
            k = body.at(place)
            root = c + sign * side * body.half_width[k] * out + back * body.half_height[k] * down
            long = sign * side * turn - t * 0.9 + back * (0.7 * down)
            long /= np.linalg.norm(long)
            flat = np.cross(long, t)
            flat /= np.linalg.norm(flat)
            wide = np.cross(flat, long)
            rays = 0.14 * np.cos(((p - root) @ wide) * 4.2)
            fin = ellipsoid(p, root + long * reach * 0.72, np.array([long, wide, flat]), np.array([reach, width, 1.35]))
            field = blend(field, fin + rays, 1.0)
        c, t, side, back = body.frame(0.895)
        k = body.at(0.895)
        eye = c + sign * side * body.half_width[k] * 0.80 + back * body.half_height[k] * 0.34
        gap = np.linalg.norm(p - eye, axis=1)
        field = blend(field, np.abs(gap - 1.75) - 0.28 + 0.9 * smoothstep(gap, 2.1, 3.0), 0.5)
        field = blend(field, gap - 1.45, 0.15)
        c, t, side, back = body.frame(0.985)
        corner = c + sign * side * 1.7 - back * 1.0
        middle = corner + sign * side * 2.1 - back * 1.6 - t * 0.6
        tip = middle + sign * side * 0.5 - back * 2.4 - t * 1.6
        field = blend(field, np.minimum(capsule(p, corner, middle, 0.95, 0.9), capsule(p, middle, tip, 0.9, 0.85)), 0.7)

    c, t, side, back = body.frame(1.0)
    q = p - (c + t * 1.9 - back * 0.2)
    ring = np.sqrt((np.sqrt(((q @ side) / 1.15) ** 2 + (q @ back) ** 2) - 1.55) ** 2 + (q @ t) ** 2) - 0.72
    field = blend(field, ring, 0.8)
    field = carve(field, np.linalg.norm(q - t * 0.7, axis=1) - 1.25, 0.5)
    return _tail_and_wave(body, p, field)


def _tail_and_wave(body: _Body, p: Floats, field: Floats) -> Floats:
    c, t, side, back = body.frame(0.02)
    q = p - c
    away, up, across = -(q @ t), q @ back, q @ side
    reach = np.hypot(away, up)
    spread = np.arctan2(np.abs(up), away)
    edge = 11.5 * (0.66 + 0.34 * smoothstep(spread, 0.05, 0.75))
    thick = 1.35 + 0.2 * np.cos(spread * 22) - 0.02 * reach
    fan = np.maximum(np.maximum(np.abs(across) - thick, reach - edge), (spread - 1.0) * np.maximum(reach, 1.0))
    field = blend(field, fan, 1.4)
    x, y, z = p[:, 0] - 2.0, p[:, 1], p[:, 2]
    r, angle = np.hypot(x, y), np.arctan2(y, x)
    swirl = np.cos(1.25 * r - 2 * angle) * smoothstep(r, 1.0, 5.0)
    top = 2.6 + 0.75 * swirl + 1.5 * np.exp(-(((r - 11.6) / 2.2) ** 2)) * (0.7 + 0.5 * np.cos(7 * angle))
    foot = np.maximum(0.75 * (z - top), 0.9 * (r - 14.2 - 0.9 * np.cos(7 * angle)))
    field = blend(field, foot, 2.2)
    rng = np.random.default_rng(7)
    for _ in range(7):
        turn = rng.uniform(0, 2 * np.pi)
        spot = np.array([2.0 + 10.5 * np.cos(turn), 10.5 * np.sin(turn), rng.uniform(4.2, 5.6)])
        field = blend(field, np.linalg.norm(p - spot, axis=1) - rng.uniform(1.3, 1.9), 1.6)
    return -blend(-field, p[:, 2], 0.7)  # cut flat at the bed, the edge rounded


def carp() -> Mesh:
    """The carp, about 100,000 triangles, closed and sound, its foot flat on z = 0."""
    body = _Body()
    low, high = np.array([-16.0, -17.0, -0.75]), np.array([22.0, 17.0, 53.0])
    return field_mesh(lambda p: _carp_field(body, p), low, high, 0.3, within_mm=0.0125)
