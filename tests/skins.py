"""Skins to be made thick: convex, concave, creased, noisy, ragged, near themselves. `python skins.py` does all."""

import argparse
import time

import numpy as np

from bolvek.analyses.soundness import find_defects
from bolvek.mesh import Mesh
from bolvek.operations.thicken import ThickenRecord, thicken
from bolvek.settings.repairs import ThickenSettings

THICKNESS = 1.2


def grid(rows, columns, shape):
    """A skin over the unit square: shape(u, v) gives x, y, z."""
    u, v = np.meshgrid(np.linspace(0, 1, rows), np.linspace(0, 1, columns), indexing="ij")
    first = np.arange((rows - 1) * columns).reshape(rows - 1, columns)[:, :-1].ravel()
    a, b, c, d = first, first + columns, first + columns + 1, first + 1
    faces = np.concatenate([np.stack([a, b, c], axis=1), np.stack([a, c, d], axis=1)])
    return Mesh(np.stack(shape(u.ravel(), v.ravel()), axis=1), faces).as_stored()


def creased(degrees):
    """Two planes that meet at an angle; the back lies within it."""
    half = np.radians(degrees) / 2
    return grid(61, 30, lambda u, v: ((u - 0.5) * 40 * np.sin(half), 20 * v, -np.abs(u - 0.5) * 40 * np.cos(half)))


def bowl(radius):
    """Most of a ball with a slit, its back within."""

    def shape(u, v):
        polar, turn = u * np.pi * 0.75 + 0.25, v * 1.6 * np.pi
        return radius * np.sin(polar) * np.cos(turn), radius * np.sin(polar) * np.sin(turn), radius * np.cos(polar)

    return grid(30, 60, shape)


def noisy(noise, seed=1):
    """Hills 40 mm wide with noise (mm) on them."""
    rng = np.random.default_rng(seed)
    return grid(60, 60, lambda u, v: (40 * u, 40 * v, 4 * np.sin(6 * u) * np.cos(5 * v) + rng.normal(0, noise, len(u))))


def ragged(seed):
    """A lobed piece of hills, its rim made of whole faces, some of them hanging by a corner."""
    skin, rng = noisy(0.05, seed), np.random.default_rng(seed)
    x, y = (skin.corners.mean(axis=1)[:, :2] - 20).T
    reach = 14 + 2 * np.sin(9 * np.arctan2(y, x)) + rng.normal(0, 0.5, len(x))
    skin = skin.picked(np.hypot(x, y) < reach)
    return skin.picked(skin.topology.shell == np.bincount(skin.topology.shell).argmax())


def spiral(gap):
    """Two turns of a band, so far apart."""

    def shape(u, v):
        turn = 4 * np.pi * u
        radius = 4 + gap * turn / (2 * np.pi)
        return radius * np.cos(turn), radius * np.sin(turn), 20 * v

    return grid(120, 20, shape)


def hairpin(gap):
    """Two planes so far apart, joined by half a tube."""

    def shape(u, v):
        radius = 0.5 * gap
        along = u * (40 + np.pi * radius)
        turn = np.clip((along - 20) / radius, 0, np.pi)
        x = np.where(turn < np.pi, np.minimum(along, 20), 40 + np.pi * radius - along) + radius * np.sin(turn)
        return x, 20 * v, radius - radius * np.cos(turn)

    return grid(120, 20, shape)


def moebius():
    """A band with one side."""
    n, m = 80, 8
    turn, across = np.meshgrid(np.arange(n) * 2 * np.pi / n, np.linspace(-4, 4, m), indexing="ij")
    reach = 15 + across * np.cos(turn / 2)
    points = np.stack([reach * np.cos(turn), reach * np.sin(turn), across * np.sin(turn / 2)], -1).reshape(-1, 3)
    faces = []
    for i in range(n):
        for j in range(m - 1):
            a, b = i * m + j, i * m + j + 1
            c, d = (a + m, b + m) if i < n - 1 else (m - 1 - j, m - 2 - j)
            faces += [[a, c, d], [a, d, b]]
    return Mesh(points, faces).as_stored()


def skins():
    """All of them by name."""
    found = {}
    for degrees in (20, 40, 60, 80, 100, 120, 140, 160):
        found[f"crease of {degrees}, back within"] = creased(degrees)
        found[f"crease of {degrees}, back without"] = creased(degrees).turned()
    for radius in (15.0, 5.0, 3.0):
        found[f"bowl of {radius:g} mm, back within"] = bowl(radius)
        found[f"bowl of {radius:g} mm, back without"] = bowl(radius).turned()
    found |= {f"noise of {noise:g} mm": noisy(noise) for noise in (0.02, 0.1, 0.2, 0.4)}
    found |= {f"ragged {seed}": ragged(seed) for seed in (2, 3, 4, 5)}
    for gap in (8.0, 3.0, 2.0, 1.5):
        found[f"spiral {gap:g} mm apart"] = spiral(gap)
        found[f"spiral {gap:g} mm apart, turned"] = spiral(gap).turned()
    for gap in (6.0, 3.0, 2.0, 1.0):
        found[f"hairpin {gap:g} mm apart, back without"] = hairpin(gap)
        found[f"hairpin {gap:g} mm apart, back within"] = hairpin(gap).turned()
    return found


def made_thick(name: str, skin: Mesh) -> tuple[Mesh, ThickenRecord]:
    """The skin made thick; AssertionError where the result is not sound, or the skin not kept."""
    made, record = thicken(skin, ThickenSettings(by_mm=THICKNESS, trim=name.startswith("ragged")))
    assert not find_defects(made), f"{name}: {find_defects(made)}"
    if not record.trimmed_mm2:
        assert record.kept_faces == len(skin.faces), f"{name}: {record.kept_faces} of {len(skin.faces)} faces kept"
    return made, record


if __name__ == "__main__":
    argparse.ArgumentParser(description=__doc__).parse_args()
    full = 0
    for label, one in skins().items():
        begin = time.perf_counter()
        _, told = made_thick(label, one)
        full += told.share_full >= 0.99
        print(
            f"{label:36} {100 * told.share_full:6.2f}% full, {told.least_mm:.3f} mm least, "
            f"{told.below_mm2:6.2f} mm2 below, {told.triangles:6} triangles, {time.perf_counter() - begin:5.1f} s",
            flush=True,
        )
    print(f"{full} of {len(skins())} as thick as asked on 99% of their area; all sound, every front kept")
