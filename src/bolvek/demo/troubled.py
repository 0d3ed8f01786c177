"""The workshop's troubled models: a finial, a scanned cloud tile, a dragon bracket. Every fault is planned.

Each comes with the plan of what a survey has to find, no more and no less.
"""

from dataclasses import dataclass, field

import numpy as np

from bolvek.demo.pieces import block, globe, in_one, sheet, turned
from bolvek.mesh import Mesh


@dataclass(frozen=True)
class Plan:
    """What a survey must find. crossing: pairs of shells (from 1) that cross; openings: counts by kind."""

    shells: int
    roles: dict[str, int]
    open_edges: int = 0
    nonmanifold_edges: int = 0
    badly_oriented_edges: int = 0
    openings: dict[str, int] = field(default_factory=dict)
    flipped_faces: int = 0
    flipped_regions: int = 0
    twins_same_way: int = 0
    twins_opposite_way: int = 0
    inside_out: int = 0
    strays: int = 0
    crossing: frozenset[tuple[int, int]] = frozenset()
    slivers: int = 0
    near_vertices: int = 0
    cracks_closed: int = 0
    knife_edges: int = 0


_SIDES = 32


def finial() -> tuple[Mesh, Plan]:
    """A roof ornament put together from overlapping and hovering parts, about 90 mm tall."""
    # the ball sits in a cup of the foot and closes it: a void once they are one
    foot = turned([(16, 0), (17, 3), (12, 6), (8, 12), (9, 20), (14, 26), (14, 30), (7, 30), (7, 24)], _SIDES)
    ball = globe(11, (0, 0, 38), _SIDES)
    spire = turned([(6, 44), (5, 52), (3, 66), (1.2, 80)], _SIDES)
    angle = 2 * np.pi * np.arange(12) / 12
    collar = turned([(9 + 1.5 * np.cos(a), 60 + 1.5 * np.sin(a)) for a in angle], _SIDES, ring=True)
    tip = globe(2.4, (0, 0, 83), 16)
    core = globe(4, (0, 0, 16), 16)
    leaf = block((10, -1.5, 22), (24, 1.5, 25))
    # a patch of the foot turned against its neighbours: three columns of the band from 6 to 12 mm
    foot_faces = np.array(foot.faces)
    middle = foot.vertices[foot_faces].mean(axis=1)
    turn = np.arctan2(middle[:, 1], middle[:, 0])
    patch = (middle[:, 2] > 6.5) & (middle[:, 2] < 11.5) & (turn > 0) & (turn < 3 * 2 * np.pi / _SIDES)
    foot_faces[patch] = foot_faces[patch][:, ::-1]
    # faces of the ball that stand there twice, far from each other, three one way and two the other
    ball_middle = ball.middles
    belt = np.flatnonzero(np.abs(ball_middle[:, 2] - 42) < 1.0)[:: _SIDES // 5][:5]
    doubled = np.concatenate([ball.faces, ball.faces[belt[:3]], ball.faces[belt[3:], ::-1]])
    mesh = in_one(
        [Mesh(foot.vertices, foot_faces), Mesh(ball.vertices, doubled), spire, collar.turned(), tip, core, leaf]
    )
    plan = Plan(
        shells=7,
        roles={"outer": 6, "buried": 1},
        nonmanifold_edges=3 * 5,
        badly_oriented_edges=2 * 3 + 2,
        flipped_faces=int(patch.sum()),
        flipped_regions=1,
        twins_same_way=3,
        twins_opposite_way=2,
        inside_out=1,
        crossing=frozenset({(1, 2), (2, 3), (1, 7)}),
    )
    return mesh, plan


def cloud_tile() -> tuple[Mesh, Plan]:
    """A scanned relief of a cloud, 60 mm wide: one open skin with a ragged rim, two holes, noise around it."""
    m, n, step = 121, 81, 0.5
    x, y = np.meshgrid(step * np.arange(m), step * np.arange(n), indexing="ij")
    puffs = [(18, 18, 9), (30, 22, 11), (42, 18, 9), (30, 13, 10), (12, 14, 5), (48, 14, 5)]
    z = np.max([8 * np.exp(-((x - a) ** 2 + (y - b) ** 2) / (0.55 * r * r)) for a, b, r in puffs], axis=0)
    rng = np.random.default_rng(11)
    z = z + 0.35 * np.sin(0.9 * x + 0.6 * y) * (z > 1) + rng.normal(0, 0.02, z.shape)
    cells = np.ones((m - 1, n - 1), bool)
    first = 2 + np.cumsum(rng.integers(-1, 2, m - 1)) % 3  # rows start and end up to two cells apart: never a pinch
    last = n - 5 + np.cumsum(rng.integers(-1, 2, m - 1)) % 3
    column = np.arange(n - 1)
    cells &= (column >= first[:, None]) & (column <= last[:, None])
    cells[:3] = cells[-3:] = False
    cells[60:66, 50:54] = False  # what the scanner could not see: 6 x 4 cells
    cells[30, 30] = False  # and one cell
    skin = sheet(np.stack([x, y, z], axis=-1), cells)
    rim = _border(cells)
    noise = []
    for k in range(5):
        at = np.array([6 + 11 * k, 4 + 7 * (k % 3), 13 + 0.7 * k])
        noise.append(Mesh(at + rng.uniform(-0.4, 0.4, (3, 3)), [[0, 1, 2]]))
    plan = Plan(
        shells=6,
        roles={"open skin": 6},
        strays=5,
        open_edges=rim + 5 * 3,
        openings={"rim": 1 + 5, "hole": 2},
    )
    return in_one([skin, *noise]), plan


def _border(cells: np.ndarray) -> int:
    """Edges between cells that are there and cells that are not."""
    wide = np.pad(cells, 1)
    return int((wide[1:] != wide[:-1]).sum() + (wide[:, 1:] != wide[:, :-1]).sum())


def dragon_bracket() -> tuple[Mesh, Plan]:
    """A wall bracket with a dragon, put together from plates, sheets and bent metal as games do: 120 mm long."""
    plate = block((0, -20, 0), (6, 20, 80))
    arm = block((4, -5, 55), (100, 5, 65))
    # the belly, bent sheet metal in two halves whose seams miss each other by four microns
    turn = np.linspace(0, np.pi, 13)
    along = np.linspace(12, 92, 9)
    half = np.stack(
        [
            np.broadcast_to(along[None, :], (13, 9)),
            np.broadcast_to(12 * np.cos(turn)[:, None], (13, 9)),
            np.broadcast_to(52 - 10 * np.sin(turn)[:, None], (13, 9)),
        ],
        axis=-1,
    )
    left, right = sheet(half[:7]), sheet(half[6:] + np.array([0, 0, -0.004]))
    # wings: sheets that run through the arm
    u, v = np.meshgrid(np.linspace(0, 1, 9), np.linspace(0, 1, 7), indexing="ij")
    wings = []
    for side in (-1.0, 1.0):
        wing = np.stack([30 + 45 * u, side * (1 + 28 * v), 60.3 + 18 * v * (1 - 0.4 * u) + 2 * np.sin(3 * u)], axis=-1)
        wings.append(sheet(wing))
    # teeth: wedges sharper than any printer; hovering before the arm
    sharp = []
    for k in range(3):
        x, y = 106 + 3.0 * k, -2.0
        width = 4.0
        lean = width * np.tan(np.radians(2.0))
        corners = [
            (x, y, 56),
            (x + lean, y, 56),
            (x, y, 64),
            (x + lean, y, 64),
            (x + 0.5 * lean, y + width, 56),
            (x + 0.5 * lean, y + width, 64),
        ]
        faces = [(0, 4, 1), (2, 3, 5), (0, 1, 3), (0, 3, 2), (1, 4, 5), (1, 5, 3), (4, 0, 2), (4, 2, 5)]
        sharp.append(Mesh(np.array(corners), faces))
    # a lantern hook whose bottom was forgotten
    hook = block((84, -4, 30), (92, 4, 40))
    hook = hook.picked(np.arange(12) >= 2)
    plan = Plan(
        shells=2 + 2 + 2 + 3 + 1,
        roles={"outer": 5, "open skin": 4, "open shell": 1},
        open_edges=2 * (2 * 6 + 2 * 8) + 2 * (2 * 8 + 2 * 6) + 4,
        openings={"rim": 3, "seam": 1, "hole or rim": 1},  # the halves of the belly are one skin with a seam
        crossing=frozenset({(1, 2), (2, 5), (2, 6)}),
        near_vertices=2 * 9,
        cracks_closed=2 * 8,
        knife_edges=3,
    )
    return in_one([plate, arm, left, right, *wings, *sharp, hook]), plan
