"""Sound models hurt on purpose: what mending has to bring back, and where it has nothing to touch.

Each wound takes a mesh and a generator and returns the hurt corners (F, 3, 3) or mesh with the places (mm) it touched.
`python tests/wounds.py --count 20` mends so many of each kind, alone and mixed, and counts what did not come out.
"""

import argparse
import sys

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.mesh import Mesh
from bolvek.operations.mend import mend
from bolvek.settings.repairs import MendSettings
from support import ball, blob, field


def fine_box() -> Mesh:
    """A box of 20 x 14 x 10 mm in squares of 1 mm."""
    return field(lambda x, y, z: np.max(np.abs([x / 10, y / 7, z / 5]), axis=0) * 5 - 5.0, 12.0, 1.0)


SHAPES = {
    "ball": lambda: ball(10, 0.8),
    "blob": blob,
    "torus": lambda: field(lambda x, y, z: np.hypot(np.hypot(x, y) - 8, z) - 3, 12, 0.6),
    "hollow": lambda: ball(10, 0.9).joined(ball(6, 0.9).turned()),
    "two": lambda: ball(6, 0.7).joined(Mesh(ball(4, 0.7).vertices + [20.0, 0, 0], ball(4, 0.7).faces)),
}


def _near(mesh, rng, radius):
    """A random face middle and the faces whose middles are within a radius of it, joined by edges."""
    middles = mesh.corners.mean(axis=1)
    seed = int(rng.integers(len(mesh.faces)))
    faces = np.flatnonzero(np.linalg.norm(middles - middles[seed], axis=1) < radius)
    reached, front = {seed}, [seed]
    inside = set(faces.tolist())
    while front:
        f = front.pop()
        for g in mesh.topology.opposite[3 * f : 3 * f + 3]:
            if g >= 0 and int(g) // 3 in inside and int(g) // 3 not in reached:
                reached.add(int(g) // 3)
                front.append(int(g) // 3)
    return middles[seed], np.array(sorted(reached))


def hole(mesh, rng):
    place, faces = _near(mesh, rng, rng.uniform(0.1, 2.2))
    return Mesh(mesh.vertices, np.delete(mesh.faces, faces, axis=0)), place


def crack(mesh, rng):
    """A patch whose vertices are not those of the rest, off by a micrometre."""
    place, faces = _near(mesh, rng, rng.uniform(0.8, 2.5))
    vertices = np.concatenate([mesh.vertices, mesh.vertices + rng.uniform(-5e-4, 5e-4, mesh.vertices.shape)])
    hurt = np.array(mesh.faces)
    hurt[faces] += len(mesh.vertices)
    return Mesh(vertices, hurt).picked(slice(None)), place


def t_junction(mesh, rng):
    """An edge that only one of its two faces knows to have a vertex in its middle."""
    f, k = int(rng.integers(len(mesh.faces))), int(rng.integers(3))
    if mesh.topology.opposite[3 * f + k] < 0:
        return mesh, None
    a, b, c = (int(mesh.faces[f, (k + i) % 3]) for i in range(3))
    middle = 0.5 * (mesh.vertices[a] + mesh.vertices[b])
    m = len(mesh.vertices)
    faces = np.concatenate([np.delete(mesh.faces, f, axis=0), [(a, m, c), (m, b, c)]])
    return Mesh(np.concatenate([mesh.vertices, middle[None]]), faces), middle


def flipped(mesh, rng):
    place, faces = _near(mesh, rng, rng.uniform(0.3, 2.5))
    hurt = np.array(mesh.faces)
    hurt[faces] = hurt[faces][:, ::-1]
    return Mesh(mesh.vertices, hurt), place


def inside_out(mesh, rng):
    bodies = np.flatnonzero(mesh.shell_volumes > 0)  # a cavity turned would be a buried shell
    if not len(bodies):
        return mesh, None
    s = int(rng.choice(bodies))
    own = mesh.topology.shell == s
    hurt = np.array(mesh.faces)
    hurt[own] = hurt[own][:, ::-1]
    return Mesh(mesh.vertices, hurt), None


def copies(mesh, rng):
    place, faces = _near(mesh, rng, rng.uniform(0.1, 1.5))
    return Mesh(mesh.vertices, np.concatenate([mesh.faces, mesh.faces[faces]])), place


def opposite_copies(mesh, rng):
    place, faces = _near(mesh, rng, rng.uniform(0.1, 1.0))
    pair = np.concatenate([mesh.faces[faces], mesh.faces[faces][:, ::-1]])
    return Mesh(mesh.vertices, np.concatenate([mesh.faces, pair])), place


def fin(mesh, rng):
    """A face without thickness that stands on an edge."""
    f, k = int(rng.integers(len(mesh.faces))), int(rng.integers(3))
    a, b = mesh.faces[f, k], mesh.faces[f, (k + 1) % 3]
    tip = 0.5 * (mesh.vertices[a] + mesh.vertices[b]) + 0.8 * mesh.unit_normals[f]
    return Mesh(
        np.concatenate([mesh.vertices, tip[None]]), np.concatenate([mesh.faces, [(a, b, len(mesh.vertices))]])
    ), tip


def flat_face(mesh, rng):
    """A face without area closes what would be a T-junction."""
    hurt, place = t_junction(mesh, rng)
    if place is None:
        return mesh, None
    m = len(hurt.vertices) - 1
    a, b = hurt.faces[-2, 0], hurt.faces[-1, 1]
    return Mesh(hurt.vertices, np.concatenate([hurt.faces, [(a, b, m)]])), place


def strays(mesh, rng):
    """Noise around it: small open skins."""
    place = mesh.bounds[1] + rng.uniform(0.5, 2, 3)
    corners = place + rng.uniform(-0.2, 0.2, (3, 3))
    n = len(mesh.vertices)
    return Mesh(np.concatenate([mesh.vertices, corners]), np.concatenate([mesh.faces, [(n, n + 1, n + 2)]])), place


def fold(mesh, rng):
    """A vertex pushed through the faces beside it."""
    v = int(rng.integers(len(mesh.vertices)))
    around = np.flatnonzero((mesh.faces == v).any(axis=1))
    if not len(around):
        return mesh, None
    others = np.setdiff1d(mesh.faces[around], [v])
    far = others[int(rng.integers(len(others)))]
    vertices = np.array(mesh.vertices)
    vertices[v] += 1.6 * (vertices[far] - vertices[v])
    return Mesh(vertices, mesh.faces), mesh.vertices[v]


def _outward(mesh, face):
    """The normal of a face, turned to look into air."""
    normal, middle = mesh.unit_normals[face], mesh.corners[face].mean(axis=0)
    turns = np.rint(mesh.tree.winding(np.stack([middle + 0.4 * normal, middle - 0.4 * normal])))
    return normal if turns[0] % 2 == 0 else -normal  # even in air, whichever way the shells are turned


def pinch(mesh, rng):
    """Two vertices of the surface made one: a body that touches it in a point."""
    place, faces = _near(mesh, rng, 0.01)
    f = faces[0]
    n = _outward(mesh, f)
    v = int(mesh.faces[f, 0])
    p = mesh.vertices[v]
    u = np.cross(n, [0.3, 0.5, 0.8])
    u /= np.linalg.norm(u)
    w = np.cross(n, u)
    b = len(mesh.vertices)
    tip = [p + 1.0 * n + 0.3 * u, p + 1.0 * n - 0.15 * u + 0.26 * w, p + 1.0 * n - 0.15 * u - 0.26 * w]
    more = [(v, b + 1, b), (v, b + 2, b + 1), (v, b, b + 2), (b, b + 1, b + 2)]
    return Mesh(np.concatenate([mesh.vertices, tip]), np.concatenate([mesh.faces, more])), p


def hinge(mesh, rng):
    """A body that touches it along an edge: four faces there."""
    f, k = int(rng.integers(len(mesh.faces))), int(rng.integers(3))
    a, b = int(mesh.faces[f, k]), int(mesh.faces[f, (k + 1) % 3])
    g = int(mesh.topology.opposite[3 * f + k])
    if g < 0:
        return mesh, None
    n = _outward(mesh, f) + _outward(mesh, g // 3)
    n /= np.linalg.norm(n)
    side = np.cross(mesh.vertices[b] - mesh.vertices[a], n)
    side *= 0.25 / np.linalg.norm(side)
    middle = 0.5 * (mesh.vertices[a] + mesh.vertices[b]) + 0.9 * n
    c = len(mesh.vertices)
    # a tetrahedron a, b, c, d above the edge
    more = [(a, b, c), (b, a, c + 1), (a, c, c + 1), (c, b, c + 1)]
    made = Mesh(np.concatenate([mesh.vertices, [middle + side, middle - side]]), np.concatenate([mesh.faces, more]))
    if made.picked(np.arange(len(mesh.faces), len(made.faces))).volume < 0:
        made = Mesh(made.vertices, np.concatenate([mesh.faces, np.array(more)[:, ::-1]]))
    return made, 0.5 * (mesh.vertices[a] + mesh.vertices[b])


WOUNDS = {
    w.__name__: w
    for w in (
        hole,
        crack,
        t_junction,
        flipped,
        inside_out,
        copies,
        opposite_copies,
        fin,
        flat_face,
        strays,
        fold,
        pinch,
        hinge,
    )
}


def _rows(corners):
    return {c.tobytes() for c in np.ascontiguousarray(np.sort(corners.view("f8,f8,f8").reshape(-1, 3), axis=1))}


def judge(sound: Mesh, hurt: Mesh, places, reach: float = 4.0) -> str:
    """What is wrong with how a hurt model came out of mending; empty where nothing is."""
    out, record, _ = mend(hurt, MendSettings(close_ends=True))
    said = []
    defects = [*find_defects(out), *find_defects(out.as_stored())]
    if defects:
        said.append("; ".join(d.text for d in defects))
    if (record.verdict == "sound") != (not find_defects(out)) and not record.after.inside_out:
        said.append(f"told as {record.verdict}")
    before, after = {d.code: d.count for d in find_defects(hurt)}, {d.code: d.count for d in find_defects(out)}
    worse = [code for code in after if after[code] > before.get(code, 0)]
    if worse:
        said.append(f"worse in {worse}")
    where = [p for p in places if p is not None]
    middles = sound.corners.mean(axis=1)
    far = np.ones(len(middles), bool)
    for p in where:
        far &= np.linalg.norm(middles - p, axis=1) > reach
    kept = _rows(out.corners)
    lost = sum(c.tobytes() not in kept for c in np.sort(sound.corners[far].view("f8,f8,f8").reshape(-1, 3), axis=1))
    if lost:
        said.append(f"{lost} faces far from any wound are not as they were")
    if abs(out.volume - sound.volume) > 0.05 * abs(sound.volume):
        said.append(f"volume {out.volume:.1f}, was {sound.volume:.1f}")
    return ", ".join(said)


def main() -> int:
    """Mend many, tell what failed."""
    parser = argparse.ArgumentParser()
    parser.add_argument("--count", type=int, default=10)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--mixed", type=int, default=20)
    parser.add_argument("--only", default="")
    asked = parser.parse_args()
    shapes = {name: make().as_stored() for name, make in SHAPES.items()}
    total = failed = 0
    for name, wound in WOUNDS.items():
        if asked.only and name not in asked.only.split(","):
            continue
        bad = 0
        for k in range(asked.count):
            rng = np.random.default_rng([asked.seed, k])
            shape = list(shapes)[k % len(shapes)]
            hurt, place = wound(shapes[shape], rng)
            text = judge(shapes[shape], hurt.as_stored(), [place])
            total += 1
            if text:
                bad += 1
                print(f"  {name} {k} on {shape}: {text}")
        failed += bad
        print(f"{name}: {asked.count - bad} of {asked.count}")
    bad = 0
    for k in range(asked.mixed if not asked.only else 0):
        rng = np.random.default_rng([asked.seed, 1000 + k])
        shape = list(shapes)[k % len(shapes)]
        mesh, places, names = shapes[shape], [], []
        for name in rng.choice(list(WOUNDS), int(rng.integers(2, 7))):
            mesh, place = WOUNDS[name](mesh, rng)
            places.append(place)
            names.append(str(name))
        text = judge(shapes[shape], mesh.as_stored(), places)
        total += 1
        if text:
            bad += 1
            print(f"  mixed {k} on {shape} ({', '.join(names)}): {text}")
    if asked.mixed and not asked.only:
        print(f"mixed: {asked.mixed - bad} of {asked.mixed}")
    print(f"{total} mended, {failed + bad} not as they should be")
    return int(bool(failed + bad))


if __name__ == "__main__":
    sys.exit(main())
