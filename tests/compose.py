"""Models composed at random whose truth is known from the composition, to find words that are false either way.

`python tests/compose.py --count 10 --seed 1` composes ten of each kind and prints what was told falsely.
"""

import argparse
from collections import Counter

import numpy as np

from bolvek.analyses.overhangs import find_overhangs
from bolvek.analyses.survey import judge, survey
from bolvek.analyses.thickness import measure_walls
from bolvek.demo.pieces import block, globe, sheet, turned
from bolvek.formats import Parts
from bolvek.mesh import Mesh
from bolvek.operations.pose import rotation
from bolvek.settings.measures import OverhangSettings, WallSettings
from support import blob

KINDS = {}


def kind(make):
    """A kind of model: what it makes of a random generator is compared with what is told of it."""
    KINDS[make.__name__] = make
    return make


def spun(rng, mesh):
    """Turned freely, moved a little, as a file holds it."""
    axis = rng.normal(size=3)
    turn = rotation(axis / np.linalg.norm(axis), rng.uniform(0, 360))
    return Mesh(mesh.vertices @ turn.T + rng.uniform(-20, 20, 3), mesh.faces).as_stored()


def join(*meshes):
    return meshes[0].joined(*meshes[1:]) if len(meshes) > 1 else meshes[0]


def ball(rng, low=4.0, high=9.0, sides=24):
    return globe(rng.uniform(low, high), (0.0, 0.0, 0.0), 2 * int(rng.integers(sides // 2, sides)))


def moved(mesh, by):
    return mesh.moved(mesh.vertices + np.asarray(by, float))


def some_faces(rng, mesh, count):
    """Faces that hang together: a disc of about so many."""
    middle = mesh.corners.mean(axis=1)
    return np.argsort(np.linalg.norm(middle - middle[rng.integers(len(middle))], axis=1), kind="stable")[:count]


def flip(mesh, faces):
    new = np.array(mesh.faces)
    new[faces] = new[faces][:, ::-1]
    return Mesh(mesh.vertices, new)


def without(mesh, faces):
    return mesh.picked(np.setdiff1d(np.arange(len(mesh.faces)), faces))


def told(mesh, parts=None):
    """A survey of the mesh, put like a truth."""
    s, _ = survey(mesh, parts=parts)
    j = judge(s)
    return {
        "faults": sorted(f.code for f in j.findings if f.severity == "fault"),
        "notes": sorted(f.code for f in j.findings if f.severity == "note"),
        "roles": dict(Counter(x.role for x in s.shell_list)),
        "inside_out": s.inside_out,
        "everything": s.everything_inside_out,
        "flipped": s.flipped.count,
        "one_sided": s.one_sided,
        "volume": s.volume_mm3,
        "kinds": dict(Counter(o.kind for o in s.openings)),
        "strays": sum(x.stray for x in s.shell_list),
        "zones": s.self_intersections.zone_count,
        "overlap": s.self_intersections.of_parts > 0,
    }


def compared(found, truth):
    """What is told otherwise than it is."""
    wrong = {}
    for name, value in truth.items():
        if callable(value):
            fine = value(found[name])
        elif isinstance(value, float):
            fine = found[name] is not None and abs(found[name] - value) <= 1e-4 * abs(value)
        else:
            fine = found[name] == value
        if not fine:
            wrong[name] = (found[name], "rule" if callable(value) else value)
    return wrong


# orientation and roles


def holed(rng, mesh):
    """The mesh with a hole of one to four faces, its border a plain loop."""
    while True:
        hole = some_faces(rng, mesh, int(rng.integers(1, 5)))
        if len(np.unique(mesh.faces[hole])) == len(hole) + 2:
            return without(mesh, hole)


@kind
def screws_on_a_plate(rng):
    plate = block((-60, -60, 0), (60, 60, 3))
    n, wrong = 12, int(rng.integers(0, 4))
    screws = [
        moved(turned([(1.0, 0), (1.0, 4), (2.0, 4), (2.0, 5)], 12), (10 * k - 55, rng.uniform(-50, 50), 4))
        for k in range(n)
    ]
    chosen = set(rng.permutation(n)[:wrong].tolist())
    mesh = join(plate, *(s.turned() if k in chosen else s for k, s in enumerate(screws)))
    return spun(rng, mesh), {"inside_out": wrong, "faults": ["inside_out"] if wrong else [], "everything": False}


@kind
def all_inside_out(rng):
    shells = [ball(rng, 8, 10), ball(rng, 5, 7).turned()]
    if rng.random() < 0.5:
        shells.append(ball(rng, 2, 3))
    mesh = join(*shells).turned()
    return spun(rng, mesh), {
        "inside_out": len(shells), "everything": True, "faults": ["inside_out"], "volume": abs(mesh.volume)
    }  # fmt: skip


@kind
def outer_alone_inside_out(rng):
    mesh = join(ball(rng, 8, 10).turned(), ball(rng, 4, 6).turned())
    return spun(rng, mesh), {"inside_out": 1, "everything": False, "roles": {"outer": 1, "cavity": 1}}


@kind
def part_inside_out_in_a_cavity(rng):
    wrong = bool(rng.random() < 0.5)
    part = ball(rng, 2, 3)
    mesh = join(ball(rng, 8, 10), ball(rng, 5, 7).turned(), part.turned() if wrong else part)
    return spun(rng, mesh), {
        "inside_out": int(wrong),
        "roles": {"outer": 1, "cavity": 1, "loose": 1},
        "faults": ["inside_out"] if wrong else [],
    }


@kind
def cavity_in_a_body_with_a_hole(rng):
    outer = holed(rng, ball(rng, 8, 10))
    mesh = join(outer, ball(rng, 4, 6).turned())
    return spun(rng, mesh), {
        "inside_out": 0, "faults": ["open_edges"], "roles": {"open body": 1, "cavity": 1}, "kinds": {"hole": 1}
    }  # fmt: skip


@kind
def inside_out_with_a_hole(rng):
    outer = holed(rng, ball(rng)).turned()
    return spun(rng, outer), {"inside_out": 1, "faults": ["inside_out", "open_edges"], "kinds": {"hole": 1}}


@kind
def most_faces_look_in(rng):
    whole = ball(rng, sides=32)
    wrong = some_faces(rng, whole, int(len(whole.faces) * rng.choice([0.05, 0.3, 0.7, 0.95])))
    mesh = flip(whole, wrong)
    return spun(rng, mesh), {"flipped": len(wrong), "faults": ["badly_oriented_edges"], "inside_out": 0}


@kind
def moebius(rng):
    n = int(rng.integers(20, 60))
    t = 2 * np.pi * np.arange(n) / n
    rim = []
    for side in (-1.0, 1.0):
        r = 10 + side * 2 * np.cos(t / 2)
        rim.append(np.stack([r * np.cos(t), r * np.sin(t), side * 2 * np.sin(t / 2)], axis=1))
    points = np.concatenate(rim)
    faces = []
    for k in range(n):
        a, b = k, k + n
        c, d = (k + 1, k + 1 + n) if k + 1 < n else (n, 0)  # the strip comes back the other way up
        faces += [(a, c, b), (b, c, d)]
    return spun(rng, Mesh(points, faces)), {"one_sided": 1, "flipped": 0, "kinds": {"rim": 1}}


@kind
def doubled(rng):
    body = ball(rng, 7, 9)
    volume = body.volume
    if rng.random() < 0.5:
        inner = ball(rng, 2, 5)
        body, volume = join(body, inner.turned()), volume - inner.volume
    twice = Mesh(body.vertices, np.concatenate([body.faces, body.faces])[rng.permutation(2 * len(body.faces))])
    return spun(rng, twice), {
        "volume": float(volume), "inside_out": 0, "zones": 0, "faults": ["nonmanifold_edges", "twin_faces"]
    }  # fmt: skip


@kind
def two_colours(rng):
    """Parts of one file, laid against each other, apart or into each other."""
    size = rng.uniform(5, 10, 3)
    way = rng.choice(["touch", "apart", "into", "same face"])
    shift = {"touch": 0.0, "apart": 0.5, "into": -0.5, "same face": 0.0}[way]
    low = (size[0] + shift, 0, 0) if way == "same face" else (size[0] + shift, 1, 1)
    high = (size[0] + 6, size[1], size[2]) if way == "same face" else (size[0] + 6, 4, 4)
    one, other = block((0, 0, 0), tuple(size)), block(low, high)
    mesh = Mesh.from_corners(np.concatenate([one.corners, other.corners]))
    parts = Parts(("red", "blue"), np.repeat([0, 1], [12, 12]).astype(np.int32))
    return (mesh, parts), {
        "faults": ["self_intersections"] if way == "into" else [],
        "overlap": way == "into",
        "notes": ["contact"] if way in ("touch", "same face") else ["hidden_faces"] if way == "into" else [],
        "volume": float(one.volume + other.volume),
        "strays": 0,
    }


@kind
def buried_and_sheets(rng):
    flat = Mesh(rng.uniform(-2, 2, (3, 3)) + [0, 0, 30], [(0, 1, 2), (0, 2, 1)])
    mesh = join(ball(rng, 8, 10), ball(rng, 2, 4), flat)
    return spun(rng, mesh), {"roles": {"outer": 1, "buried": 1, "sheet": 1}, "inside_out": 0}


@kind
def strays(rng):
    """Specks apart from the rest are strays; those that poke out of it, or are named parts, are not."""
    body = block((0, 0, 0), (100, 60, 40))
    apart = [
        block(tuple(p), tuple(p + rng.uniform(0.5, 1.5, 3)))
        for p in rng.uniform(110, 150, (int(rng.integers(0, 5)), 3))
    ]
    poking = block((99.5, 10, 10), (100.5, 11, 11))
    mesh = join(body, *apart, poking)
    wanted = {"strays": len(apart), "roles": {"outer": len(apart) + 2}}
    if rng.random() < 0.5:
        return spun(rng, mesh), wanted
    label = np.repeat(np.arange(len(apart) + 2), 12).astype(np.int32)
    return (mesh, Parts(tuple(f"p{k}" for k in range(len(apart) + 2)), label)), wanted | {"strays": 0}


# openings


@kind
def perforated(rng):
    body = ball(rng, sides=40)
    taken, n = np.zeros(0, np.int64), 0
    used = np.zeros(len(body.vertices), bool)
    for _ in range(int(rng.integers(1, 6))):
        hole = some_faces(rng, body, int(rng.integers(1, 7)) if n else 1)
        if not used[body.faces[hole]].any() and len(np.unique(body.faces[hole])) == len(hole) + 2:
            used[body.faces[hole]] = True
            taken, n = np.concatenate([taken, hole]), n + 1
    mesh = without(body, taken)
    return spun(rng, mesh), {"kinds": {"hole": n}, "roles": {"open body": 1}, "faults": ["open_edges"]}


@kind
def slit(rng):
    """A ball cut open along a meridian, the banks a little apart."""
    sides = 48
    body = globe(10, (0, 0, 0), sides)
    faces, vertices = np.array(body.faces), np.array(body.vertices)
    middle = body.corners.mean(axis=1)
    on = (np.abs(vertices[:, 1]) < 1e-9) & (vertices[:, 0] > 0) & (np.abs(vertices[:, 2]) < rng.uniform(4, 9))
    new = np.full(len(vertices), -1)
    inner = np.flatnonzero(on)
    inner = inner[np.argsort(vertices[inner, 2])][1:-1]
    new[inner] = len(vertices) + np.arange(len(inner))
    below = middle[:, 1] < 0
    faces[below] = np.where(new[faces[below]] >= 0, new[faces[below]], faces[below])
    shifted = vertices[inner] - [0, 0.008, 0]
    mesh = Mesh(np.concatenate([vertices, shifted]), faces)
    wide = rng.random() < 0.5
    if wide:  # so wide that it is no crack any more
        mesh = Mesh(np.concatenate([vertices, vertices[inner] - [0, 1.0, 0]]), faces)
    return spun(rng, mesh), {"kinds": {"hole": 1} if wide else {"crack": 1}, "roles": {"open body": 1}}


def rolled(rng, n, m, radius, height, gap=0.0):
    """A sheet rolled into a tube whose two edges are not joined."""
    t = np.linspace(0, 2 * np.pi, n)
    z = np.linspace(0, height, m)
    x = np.stack(
        [
            np.broadcast_to(radius * np.cos(t)[:, None], (n, m)),
            np.broadcast_to(radius * np.sin(t)[:, None], (n, m)),
            np.broadcast_to(z, (n, m)),
        ],
        axis=-1,
    ).copy()
    x[-1] += [0, gap, 0]
    return sheet(x)


@kind
def tube_with_a_seam(rng):
    mesh = rolled(rng, int(rng.integers(12, 40)), int(rng.integers(3, 9)), rng.uniform(4, 9), rng.uniform(20, 60), 5e-4)
    return spun(rng, mesh), {
        "kinds": lambda k: k.get("seam") == 1 and sum(k.values()) == 3 and not k.get("crack") and not k.get("hole")
    }


@kind
def ribbon(rng):
    n = int(rng.integers(10, 40))
    x = np.linspace(0, 100, n)
    width = rng.uniform(0.02, 3)
    points = np.stack(
        [np.stack([x, 0 * x, 5 * np.sin(x / 20)], -1), np.stack([x, 0 * x + width, 5 * np.sin(x / 20)], -1)], 1
    )
    return spun(rng, sheet(points)), {"kinds": {"rim": 1}, "roles": {"open skin": 1}}


@kind
def t_junction(rng):
    """A cube, one of whose edges has a point that only one of its faces knows."""
    body = block((0, 0, 0), tuple(rng.uniform(5, 20, 3)))
    f, k = int(rng.integers(12)), int(rng.integers(3))
    a, b, c = (int(body.faces[f, (k + j) % 3]) for j in range(3))
    m = body.vertices[a] + rng.uniform(0.2, 0.8) * (body.vertices[b] - body.vertices[a])
    n = len(body.vertices)
    faces = np.concatenate([np.delete(body.faces, f, axis=0), [(a, n, c), (n, b, c)]])
    return Mesh(np.concatenate([body.vertices, m[None]]), faces), {"kinds": {"seam": 1}, "roles": {"open body": 1}}


@kind
def ends_of_a_shell(rng):
    """A vase, a tube, a bust, a bowl: the end may be a hole or a rim, nobody can know; never a plain hole or crack."""
    n = 2 * int(rng.integers(12, 32))
    shape = rng.choice(["vase", "tube", "bust", "bowl"])
    if shape == "tube":
        mesh = turned([(6, 0), (6, rng.uniform(5, 80))], n)
        mesh = mesh.picked(np.abs(mesh.area_vectors[:, 2]) < 1e-9)
    elif shape == "vase":
        profile = [(0, 0), (8, 0), (14, 15), (8, 35), (rng.uniform(5, 7), 45), (7.5, 50)]
        mesh = turned(profile, n)
        mesh = without(mesh, np.flatnonzero((mesh.corners[:, :, 2] == 50).all(axis=1)))
    elif shape == "bust":
        profile = [(rng.uniform(4, 6), 0), (4.5, 6), (8, 12), (9, 18), (6, 24), (0, 27)]
        mesh = turned(profile, n)
        mesh = without(mesh, np.flatnonzero((mesh.corners[:, :, 2] == 0).all(axis=1)))
    else:
        mesh = globe(10, (0, 0, 0), n)
        mesh = mesh.picked(mesh.corners[:, :, 2].max(axis=1) < rng.uniform(-4, 1))
    ends = 2 if shape == "tube" else 1
    return spun(rng, mesh), {"kinds": lambda k: k.get("hole or rim", 0) + k.get("rim", 0) == sum(k.values()) == ends}


@kind
def fins_at_holes(rng):
    """A plate with holes, and fins that stand on edges of two of them: the loops run along those too."""
    cells = np.ones((12, 12), bool)
    holes = [(2, 2), (2, 8), (8, 2), (8, 8)]
    for i, j in holes:
        cells[i, j] = False
    x, y = np.meshgrid(np.arange(13.0), np.arange(13.0), indexing="ij")
    plate = sheet(np.stack([x, y, 0 * x], -1), cells)
    vertices, faces = [*map(tuple, plate.vertices)], plate.faces.tolist()
    where = {tuple(v): k for k, v in enumerate(vertices)}
    fins = int(rng.integers(1, 5))
    for i, j in (holes[k] for k in rng.permutation(4)[:fins]):
        # two triangles stand on an edge of the hole: it is used by three faces
        a, b = where[(i, j, 0.0)], where[(i + 1, j, 0.0)]
        vertices += [(i + 0.5, j, 1.0), (i + 0.5, j, -1.0)]
        faces += [(a, b, len(vertices) - 2), (b, a, len(vertices) - 1)]
    mesh = Mesh(np.array(vertices), faces)
    return spun(rng, mesh), {"kinds": lambda k: k["rim"] == 1 and sum(k.values()) == 5 + fins and not k.get("crack")}


@kind
def clean(rng):
    """Nothing is said against what is sound, fine pins and slim shells with a knife edge among them."""
    which = rng.integers(4)
    if which == 0:
        mesh = turned([(0.5, 0), (0.5, 2), (0.2, 2.2)], 400)
    elif which == 1:
        mesh = join(ball(rng, 8, 10), ball(rng, 4, 6).turned())
    elif which == 2:
        mesh = join(*(moved(ball(rng, 1, 4), (12 * k, 0, 0)) for k in range(5)))
    else:
        mesh = block((0, 0, 0), tuple(rng.uniform(11, 90, 3)))
    return spun(rng, mesh), {"faults": [], "inside_out": 0, "notes": lambda n: set(n) <= {"unit", "slivers"}}


# build directions


def hung(mesh, parts=None):
    """Overhangs of the mesh, put like a truth."""
    r, _ = find_overhangs(mesh, OverhangSettings(layer_mm=LAYER))
    return {
        "islands": r.islands,
        "bridges": r.bridges,
        "kinds": dict(Counter(z.kind for z in r.zones)),
        "faults": sorted(f.code for f in r.findings if f.severity == "fault"),
        "notes": sorted(f.code for f in r.findings if f.severity == "note"),
        "area": r.area_mm2,
        "support": r.support_volume_mm3,
        "sealed": r.support_sealed_mm3,
        "contact": r.bed_contact_mm2,
        "verdict": r.verdict,
        "layers": layer_islands(mesh, LAYER),
    }


LAYER = 0.4


def layer_islands(mesh, layer, pixels=500):
    """Islands counted layer by layer on pixels, independently: patches of material with none beneath them."""
    from scipy.ndimage import label

    low, high = mesh.vertices.min(axis=0), mesh.vertices.max(axis=0)
    step = float((high - low)[:2].max()) / pixels
    nx, ny = (np.ceil((high - low)[:2] / step).astype(int) + 1).tolist()
    ys = low[1] + (np.arange(ny) + 0.437) * step
    corners = mesh.vertices[mesh.faces]
    before, count = np.ones((nx, ny), bool), 0
    for z in np.arange(low[2] + 0.5 * layer, high[2], layer):
        wound = np.zeros((nx + 1, ny))
        for tri in corners[(corners[:, :, 2].min(axis=1) < z) & (corners[:, :, 2].max(axis=1) >= z)]:
            ends = []
            for k in range(3):
                p, q = tri[k], tri[(k + 1) % 3]
                if (p[2] < z) != (q[2] < z):
                    ends.append((p + (z - p[2]) / (q[2] - p[2]) * (q - p), p[2] < z))
            (a, up), (b, _) = ends
            a, b = (b, a) if up else (a, b)  # so that material lies on one side
            rows = np.flatnonzero((ys >= min(a[1], b[1])) & (ys < max(a[1], b[1])))
            x = a[0] + (ys[rows] - a[1]) / (b[1] - a[1]) * (b[0] - a[0]) if len(rows) else rows
            at = np.clip(np.ceil((x - low[0]) / step - 0.5), 0, nx).astype(int)
            np.add.at(wound, (at, rows), 1 if b[1] > a[1] else -1)
        here = np.abs(np.cumsum(wound, axis=0)[:nx]) > 0
        patches, n = label(here, np.ones((3, 3)))
        count += sum(not before[patches == k].any() for k in range(1, n + 1))
        before = here
    return count


def rings(radius, count):
    """Points of a flat disc's profile from the axis out."""
    return [(radius * (k + 1) / count, 0.0) for k in range(count)]


def piece(rng):
    """Something that may hang in the air: a cone on its tip or on its base, a frustum, a ball, a box."""
    n = int(rng.choice([8, 24, 96]))
    r, h = rng.uniform(2, 4), rng.uniform(3, 6)
    shape = rng.choice(["cone", "tip", "frustum", "ringed", "ball", "box"])
    if shape == "cone":
        return turned([(r, 0), (0, h)], n)
    if shape == "tip":
        return turned([(0, 0), (r, h)], n)
    if shape == "frustum":
        return turned([(r, 0), (r + rng.uniform(-1, 3), h)], n)
    if shape == "ringed":
        return turned([(0, 0), *rings(r, int(rng.integers(2, 6))), (0.4 * r, h)], n)
    if shape == "ball":
        return moved(globe(r, (0, 0, 0), max(n, 12)), (0, 0, r))
    return block((-r, -r, 0), (r, r, h))


@kind
def floating(rng):
    """Pieces over a plate, some in the air, some in it, some resting on it."""
    parts, n = [block((-50, -50, 0), (50, 50, 4))], 0
    for k in range(int(rng.integers(1, 6))):
        way = rng.choice(["air", "in"])
        n += way == "air"
        parts.append(
            moved(piece(rng), (18 * k - 40, rng.uniform(-30, 30), rng.uniform(6, 30) if way == "air" else 3.5))
        )
    return join(*parts).as_stored(), {"told": hung, "islands": n, "layers": n}


@kind
def flask(rng):
    """A vessel whose inner floor is flat, in rings or domed; a floating or a lying thing in it, or none."""
    n = int(rng.choice([12, 48, 96]))
    floor = rng.choice(["flat", "rings", "dome"])
    inside = {"flat": [(12, 3)], "rings": [(12, 3), (9, 3), (6, 3), (3, 3)], "dome": [(12, 2.5), (6, 4)]}[floor]
    top = {"flat": 3, "rings": 3, "dome": 5}[floor]
    profile = [(0, 0), (15, 0), (15, 20), (10, 30), (10, 34), (8, 34), (8, 30), (12, 20), *inside, (0, top)]
    body = turned(profile, n)
    extra = rng.choice(["none", "floats", "lies"])
    parts = [body]
    if extra != "none":
        thing = turned([(0, 0), *rings(3, 3), (2, 4)], 16)
        parts.append(moved(thing, (0, 0, top + (3 if extra == "floats" else -0.5))))
    islands = int(extra == "floats")
    return join(*parts).as_stored(), {"told": hung, "islands": islands, "layers": islands}


@kind
def poking_boxes(rng):
    """A column with boxes through it: where a corner of one pokes out beneath a little, nothing begins in the air."""
    parts = [block((-8, -8, 0), (8, 8, 40))]
    for k in range(int(rng.integers(1, 4))):
        size = rng.uniform(4, 7)
        axis = rng.normal(size=3)
        box = block((-size, -size, -size), (size, size, size))
        box = box.moved(box.vertices @ rotation(axis / np.linalg.norm(axis), rng.uniform(0, 360)).T)
        tip = box.vertices[np.argmin(box.vertices[:, 2])]
        # its lowest corner comes to lie a hair outside the side x = 8
        parts.append(moved(box, (8 + rng.uniform(0.002, 0.02) - tip[0], -tip[1], 12 + 8 * k - tip[2])))
    return join(*parts).as_stored(), {"told": hung, "islands": 0}


@kind
def organic(rng):
    """A bumpy body, however it lies: its islands are those its layers show, but for what no pixel meets."""
    mesh = blob()
    axis = rng.normal(size=3)
    turn = rotation(axis / np.linalg.norm(axis), rng.uniform(0, 360))

    def matched(mesh, parts=None):
        found = hung(mesh)
        return {"off": abs(found["islands"] - found["layers"])}

    return Mesh(mesh.vertices @ turn.T, mesh.faces).as_stored(), {"told": matched, "off": lambda n: n <= 1}


@kind
def bridges_and_none(rng):
    """A deck over air: held on two sides, near or far; on two that meet; on three; all around; on four legs; a ring."""
    way = rng.choice(["near", "far", "corner", "three", "around", "legs", "ring", "arm"])
    t, high = 3.0, 12.0
    deck = lambda x, y: block((0, 0, high - 0.5), (x, y, high + 3))  # noqa: E731
    wall = lambda *ends: block((ends[0], ends[1], 0), (ends[2], ends[3], high))  # noqa: E731
    long = rng.uniform(24, 60)
    near = rng.uniform(8, 18)
    if way == "near":
        made = [deck(near + 2 * t, 9), wall(0, 0, t, 9), wall(near + t, 0, near + 2 * t, 9)]
    elif way == "far":
        made = [deck(long + 2 * t, 9), wall(0, 0, t, 9), wall(long + t, 0, long + 2 * t, 9)]
    elif way == "corner":
        made = [deck(near + t, near + t), wall(0, 0, t, near + t), wall(0, 0, near + t, t)]
    elif way == "three":
        made = [deck(near + 2 * t, near + t), wall(0, 0, t, near + t), wall(0, 0, near + 2 * t, t)]
        made.append(wall(near + t, 0, near + 2 * t, near + t))
    elif way == "around":
        made = [block((0, 0, 0), (near + 2 * t, 30, high)), block((t, t, 2), (near + t, 27, 9)).turned()]
    elif way == "legs":
        x, y = rng.uniform(30, 200, 2)
        made = [deck(x, y), *(wall(a, b, a + t, b + t) for a in (0, x - t) for b in (0, y - t))]
    elif way == "ring":
        ring = [(9, 0), (9, high), (4, high), (4, high + 2), (9 + t, high + 2), (9 + t, 0)]
        made = [turned(ring, 48, ring=True)]
        made = [made[0] if made[0].volume > 0 else made[0].turned()]
    else:
        made = [deck(near + t, 9), wall(0, 0, t, 9)]
    good = way in ("near", "three", "around")
    mesh = join(*made).as_stored()
    turn = rotation((0, 0, 1), rng.uniform(0, 360))
    mesh = Mesh(mesh.vertices @ turn.T, mesh.faces).as_stored()
    return mesh, {
        "told": hung,
        "islands": 0,
        "bridges": int(good),
        "verdict": "prints as it stands" if good else "needs support",
        "faults": lambda f: set(f) - {"topples"} == (set() if good else {"overhangs"}),
    }


@kind
def on_a_foot(rng):
    """A double cone on its tip, a prism on its edge, a ball, a block, a block with its weight beside it."""
    way = rng.choice(["tip", "edge", "block", "beside", "small hole"])
    if way == "tip":
        mesh = turned([(0, 0), (10, 15), (0, 30)], 48)
    elif way == "edge":
        mesh = block((-10, -10, -10), (10, 10, 10))
        mesh = mesh.moved(mesh.vertices @ rotation((1, 0, 0), 45).T)
    elif way == "block":
        mesh = block((0, 0, 0), tuple(rng.uniform(5, 40, 3)))
    else:
        mesh = join(block((0, 0, 0), (5, 20, 20)), block((4, 0, 15), (rng.uniform(25, 40), 20, 20)))
        mesh = without(mesh, [11]) if way == "small hole" else mesh
    expected = {"tip": "no_foot", "edge": "no_foot", "block": None}.get(way, "topples")
    return mesh.as_stored(), {
        "told": hung,
        "faults": lambda f: (expected in f) if expected else not {"no_foot", "topples"} & set(f),
    }


@kind
def rooms_and_doubles(rng):
    """A ceiling in a sealed room needs support nobody reaches; faces that stand there twice count once."""
    size, w = rng.uniform(60, 90), 3.0
    mesh = join(block((0, 0, 0), (size, size, 40)), block((w, w, w), (size - w, size - w, 30)).turned())
    area = (size - 2 * w) ** 2
    truth = {
        "told": hung,
        "area": float(area),
        "support": float(area * 27),
        "sealed": float(area * 27),
        "contact": float(size**2),
    }
    if rng.random() < 0.5:
        mesh = Mesh(mesh.vertices, np.concatenate([mesh.faces, mesh.faces]))
    return mesh.as_stored(), truth


# walls


def thick(mesh, parts=None, **asked):
    """Walls of the mesh, put like a truth."""
    r, _ = measure_walls(mesh, WallSettings(**({"min_mm": 1.0} | asked)))
    return {
        "zones": sorted(z.kind for z in r.zones),
        "least": min((z.min_mm for z in r.zones), default=None),
        "edges": len(r.edges),
        "recedes": r.edges[0].recedes_mm if r.edges else None,
        "gaps": len(r.gap_zones),
        "verdict": r.verdict,
        "prints": r.prints_at.get("thinnest"),
    }


def prism(outline, depth):
    """A convex outline (x, z), drawn out along y."""
    n = len(outline)
    points = np.array([(x, y, z) for y in (0.0, depth) for x, z in outline])
    faces = [(0, k, k + 1) for k in range(1, n - 1)] + [(n, n + k + 1, n + k) for k in range(1, n - 1)]
    for k in range(n):
        a, b = k, (k + 1) % n
        faces += [(a, n + a, n + b), (a, n + b, b)]
    mesh = Mesh(points, faces)
    return mesh if mesh.volume > 0 else mesh.turned()


@kind
def wedges_and_wings(rng):
    """What tapers to an edge is an edge, whatever its angle: no hole, and nothing else is thin."""
    wing = rng.random() < 0.5
    if wing:
        x = np.linspace(0, 1, 40)[1:-1]
        half = 0.12 * (1.4845 * np.sqrt(x) - 0.63 * x - 1.758 * x**2 + 1.4215 * x**3 - 0.5075 * x**4)
        chord = rng.uniform(40, 80)
        half = half - half[-1] * x / x[-1]
        upper = [(chord * a, chord * b) for a, b in zip(x, half, strict=True)]
        outline = [(0, 0), *upper[:-1], (chord, 0), *[(a, -b) for a, b in upper[-2::-1]]]
        return spun(rng, prism(outline, 30)), {
            "told": thick, "zones": [], "edges": lambda n: n >= 1, "verdict": "thick enough"
        }  # fmt: skip
    angle = rng.uniform(5, 50)
    t = np.radians(angle)
    mesh = prism([(0, 0), (25, 0), (25 * np.cos(t), 25 * np.sin(t))], 20)
    return spun(rng, mesh), {
        "told": thick,
        "zones": [],
        "edges": 1,
        "recedes": lambda r: abs(r * 2 * np.tan(t / 2) - 1) < 0.06,
        "verdict": "thick enough",
        "prints": lambda p: p <= 1.0,
    }


def plate_with(rng, depth, wide, thick_mm=3.0, n=60, size=24.0, cone=False):
    """A plate with a dent in its top."""
    x, y = np.meshgrid(np.linspace(0, size, n), np.linspace(0, size, n), indexing="ij")
    off = np.hypot(x - rng.uniform(8, 16), y - rng.uniform(8, 16))
    dent = np.maximum(0, 1 - off / wide) if cone else np.exp(-((off / wide) ** 2))
    top = np.stack([x, y, thick_mm - depth * dent / dent.max()], axis=-1)
    bottom = np.stack([x, y, 0 * x], axis=-1)
    a, b = sheet(top), sheet(bottom).turned()
    k = np.arange(n)
    rim = np.concatenate([k * n, (n - 1) * n + k[1:], k[-2::-1] * n + n - 1, k[-2:0:-1]])
    m = n * n
    faces = [*a.faces.tolist(), *(b.faces + m).tolist()]
    for k in range(len(rim)):
        p, q = int(rim[k]), int(rim[(k + 1) % len(rim)])
        faces += [(p, p + m, q + m), (p, q + m, q)]
    mesh = Mesh(np.concatenate([top.reshape(-1, 3), bottom.reshape(-1, 3)]), faces)
    return mesh if mesh.topology.sound else None


@kind
def dents(rng):
    """A spot is thinner than what surrounds it; with next to nothing left it is a hole."""
    left = float(rng.choice([rng.uniform(0.3, 0.9), rng.uniform(0.01, 0.06), rng.uniform(1.1, 2.0)]))
    mesh = plate_with(rng, 3.0 - left, rng.uniform(2, 4))
    kinds = [] if left > 1 else ["hole"] if left < 0.1 else ["thin"]
    truth = {"told": thick, "zones": kinds, "edges": 0, "verdict": "thin" if kinds else "thick enough"}
    if kinds:
        truth["least"] = lambda t: abs(t - left) < 0.02
        truth["prints"] = lambda p: abs(p * left - 1) < 0.1 or left < 0.1
    return spun(rng, mesh), truth


@kind
def one_material(rng):
    """Parts in each other or against each other are one material: no thin wall, no gap between them."""
    way = rng.choice(["buried", "touching", "pin", "apart"])
    size = rng.uniform(10, 20)
    gaps = 0
    if way == "buried":
        d = rng.uniform(0.1, 0.6)
        parts = [block((0, 0, 0), (size, size, size)), block((d, d, d), (size - d, size - 2 * d, size - 0.4))]
    elif way == "touching":
        t = rng.uniform(0.2, 0.8)
        parts = [block((0, 0, 0), (size, size, t)), block((0, 0, t), (size, size, t + 5))]
    elif way == "pin":
        r = rng.uniform(1, 3)
        pin = turned([(r, -6), (r, 12)], int(rng.choice([12, 40])))
        parts = [block((-size, -size, 0), (size, size, 5)), pin]
    else:
        parts = [block((0, 0, 0), (size, size, 5)), block((0, 0, 5.3), (size, size, 9))]
        gaps = 1
    parts = [parts[k] for k in rng.permutation(2)]
    mesh = spun(rng, join(*parts))
    if way == "touching":
        mesh = join(*parts)  # turned, they would not touch exactly
    asked = lambda m, p=None: thick(m, p, gap_mm=0.5)  # noqa: E731
    return mesh, {"told": asked, "zones": [], "gaps": gaps, "verdict": "gap too narrow" if gaps else "thick enough"}


@kind
def voids_under_a_top(rng):
    """A pointed void in a large block: its tip comes near to the top, or not."""
    left = float(rng.choice([rng.uniform(0.3, 0.9), rng.uniform(1.2, 3)]))
    size = rng.uniform(100, 300)
    void = turned([(30, 20), (0, size - left)], 24)
    void = moved(void, (*(0.5 * size + rng.uniform(-10, 10, 2)), 0))
    mesh = join(block((0, 0, 0), (size, size, size)), void.turned())
    return mesh.as_stored(), {
        "told": thick,
        "zones": ["thin"] if left < 1 else [],
        "verdict": lambda v: v == "thin" if left < 1 else v.startswith("thick enough"),
    }


@kind
def hardly_a_wall(rng):
    """What has no other side is not measured, and not passed."""
    x, y = np.meshgrid(np.arange(40.0), np.arange(40.0), indexing="ij")
    skin = sheet(np.stack([x, y, np.sin(x / 5)], axis=-1))
    cube = block((60, 0, 0), tuple(np.array([60, 0, 0]) + rng.uniform(3, 6)))
    return join(skin, cube).as_stored(), {"told": thick, "verdict": "not measured"}


@kind
def specks(rng):
    """A crevice thinner than the minimum only on a speck of surface decides nothing; a dent of 1 mm2 does."""
    big = rng.random() < 0.5
    # a cone's pit leaves less than the minimum on a disc whose radius its slope says
    slope = 1.5 if big else 8.0
    left = 0.7
    mesh = plate_with(rng, 3.0 - left, (3.0 - left) / slope, n=160, cone=True)
    return mesh.as_stored(), {"told": thick, "zones": lambda z: z == ["thin"] if big else z in ([], ["thin"])}


def run(names, count, seed):
    """Every false word: (kind, number, what)."""
    found = []
    for name in names:
        for k in range(count):
            rng = np.random.default_rng([seed, k, sum(map(ord, name))])
            made, truth = KINDS[name](rng)
            mesh, parts = made if isinstance(made, tuple) else (made, None)
            wrong = compared(truth.pop("told", told)(mesh, parts), truth)
            if wrong:
                found.append((name, k, wrong))
    return found


if __name__ == "__main__":
    asked = argparse.ArgumentParser()
    asked.add_argument("--count", type=int, default=6)
    asked.add_argument("--seed", type=int, default=1)
    asked.add_argument("--only", nargs="*", default=list(KINDS))
    args = asked.parse_args()
    false = run(args.only, args.count, args.seed)
    for name, k, wrong in false:
        print(name, k, wrong)
    print(f"{len(args.only) * args.count} models of {len(args.only)} kinds, {len(false)} told falsely")
