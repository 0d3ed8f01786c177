"""The workshop's models to be measured: a gourd with thin spots, a lattice shade with islands. All is planned."""

from dataclasses import dataclass

import numpy as np

from bolvek.arrays import Floats
from bolvek.demo.pieces import blocks, in_one
from bolvek.mesh import Mesh
from bolvek.units import Triple


@dataclass(frozen=True)
class ThinSpot:
    """A planned thin spot: the wall there, and a point of the outside at its thinnest (for a ring, one of many)."""

    wall_mm: float
    where_mm: Triple
    ring: bool = False


GOURD_WALL_MM = 2.4
_OUTLINE = [(0, 14.0), (8, 24.0), (25, 28.0), (42, 20.0), (58, 8.0), (68, 9.5), (75, 13.0)]  # height, radius
_NECK = (58.0, 0.9, 2.5)  # height, wall, spread
_DENTS = ((25.0, 0.0, 0.5), (25.0, 139.5, 0.7))  # height, direction (degrees), wall
_DENT_SPREAD_MM = 2.2


def gourd(sides: int = 160, rows: int = 151) -> tuple[Mesh, list[ThinSpot]]:
    """A lamp body like a gourd, open at its mouth, 75 mm tall: a thin neck and two dents in its inner side."""
    from scipy.interpolate import PchipInterpolator

    height = np.linspace(0, 75, rows)
    outline = PchipInterpolator(*np.array(_OUTLINE).T)
    radius, slope = outline(height), outline.derivative()(height)
    turn = 2 * np.pi * np.arange(sides) / sides
    wall = np.full((rows, sides), GOURD_WALL_MM)
    at, least, spread = _NECK
    wall -= ((GOURD_WALL_MM - least) * np.exp(-(((height - at) / spread) ** 2)))[:, None]
    for z, degrees, least in _DENTS:
        around = 28.0 * ((turn - np.radians(degrees) + np.pi) % (2 * np.pi) - np.pi)
        far2 = (height[:, None] - z) ** 2 + around[None] ** 2
        wall -= (GOURD_WALL_MM - least) * np.exp(-far2 / _DENT_SPREAD_MM**2)
    # square into the wall: along the normal of the outline
    lean = np.sqrt(1 + slope**2)
    inner_radius = radius[:, None] - wall / lean[:, None]
    inner_height = height[:, None] + wall * (slope / lean)[:, None]
    first = int(np.searchsorted(height, 5.0))

    def ring(r: Floats, z: Floats) -> Floats:
        return np.stack([r * np.cos(turn), r * np.sin(turn), z * np.ones(sides)], axis=-1)

    outside = ring(radius[:, None], height[:, None])
    inside = ring(inner_radius, inner_height)[first:][::-1]
    surface = np.concatenate([outside, inside])
    vertices = [*surface.reshape(-1, 3), (0.0, 0.0, 0.0), (0.0, 0.0, float(inside[-1, :, 2].mean()))]
    count, foot, floor = len(surface), len(vertices) - 2, len(vertices) - 1
    faces = []
    for i in range(sides):
        j = (i + 1) % sides
        faces += [(foot, j, i), (floor, (count - 1) * sides + i, (count - 1) * sides + j)]
        for k in range(count - 1):
            a, b, c, d = k * sides + i, k * sides + j, (k + 1) * sides + j, (k + 1) * sides + i
            faces += [(a, b, c), (a, c, d)]
    neck = ThinSpot(_NECK[1], (8.0, 0.0, _NECK[0]), ring=True)
    dents = [
        ThinSpot(w, (28.0 * float(np.cos(np.radians(t))), 28.0 * float(np.sin(np.radians(t))), z)) for z, t, w in _DENTS
    ]
    return in_one([Mesh(np.array(vertices), faces)]), sorted([*dents, neck], key=lambda spot: spot.wall_mm)


@dataclass(frozen=True)
class HangPlan:
    """What must be found when it is built upright: counts, and the area that looks down above the bed."""

    islands: int
    bridges: int
    cantilevers: int
    overhang_mm2: float
    bed_contact_mm2: float


CELL_MM = 2.0


def lattice_shade() -> tuple[Mesh, HangPlan]:
    """A filament shade of square bars: posts, a top frame over their spans, hooks that hang down, two ledges."""
    cells = np.zeros((31, 21, 28), bool)
    x0, x1, y1 = 5, 26, 21
    for low in (0, 26):  # frames below and above, two cells square
        cells[x0:x1, :, low : low + 2] = True
        cells[x0 + 2 : x1 - 2, 2 : y1 - 2, low : low + 2] = False
    for x in (x0, x1 - 2):
        for y in (0, y1 - 2):
            cells[x : x + 2, y : y + 2, :] = True
    for x, step, y, z in ((x0 - 1, -1, 0, 10), (x0 - 1, -1, 19, 15), (x1, 1, 0, 20)):  # hooks: an arm, and down
        arm = [x + step * k for k in range(4)]
        cells[arm, y, z] = True
        cells[arm[-1], y, z - 4 : z] = True
    for z in (8, 18):  # ledges: an arm only
        cells[x1 : x1 + 3, 19, z] = True
    down = cells[:, :, 1:] & ~cells[:, :, :-1]
    plan = HangPlan(
        islands=3,
        bridges=3,
        cantilevers=2 + 4,  # the top frame spans 34 mm, too long for a bridge
        overhang_mm2=float(down.sum()) * CELL_MM**2,
        bed_contact_mm2=float(cells[:, :, 0].sum()) * CELL_MM**2,
    )
    return in_one([blocks(cells, CELL_MM)]), plan
