"""The places a survey points at: chosen, numbered, and set around a picture so that no two labels meet."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from bolvek.analyses.survey_record import Survey
from bolvek.mesh import Mesh
from bolvek.report.view import View
from bolvek.units import length_text

Floats = NDArray[np.float64]

MOST = 12
_MOST_OF_A_CLASS = 4


@dataclass(frozen=True)
class Spot:
    """A numbered place: its class, a few words, middle, extent in mm and the direction it faces."""

    number: int
    code: str
    text: str
    where: Floats
    extent_mm: float
    normal: Floats


def choose_spots(mesh: Mesh, s: Survey) -> tuple[list[Spot], int]:
    """Up to a dozen places, smallest first, a few of every class; and how many there are in all."""
    found: list[tuple[str, str, tuple[float, float, float], float]] = []
    total = 0

    def add(code: str, items: list[tuple[str, tuple[float, float, float], float]]) -> None:
        nonlocal total
        total += len(items)
        found.extend((code, *item) for item in items[:_MOST_OF_A_CLASS])

    add("open_edges", [(o.kind, o.where_mm, o.span_mm) for o in s.openings if o.kind != "rim"])
    add("open_edges", [(o.kind, o.where_mm, o.span_mm) for o in s.openings if o.kind == "rim"][:1])
    classes = [
        ("nonmanifold_edges", "non-manifold edges", s.nonmanifold.zones),
        ("flipped_faces", "flipped faces", s.flipped.zones),
        ("twin_faces", "twin faces", s.twins.zones),
        ("slivers", "slivers", s.slivers.zones),
        ("knife_edges", "knife edges", s.knives.zones),
        ("hidden_faces", "hidden faces", s.hidden.zones),
    ]
    for code, name, zones in classes:
        add(code, [(name, z.where_mm, max(z.size_mm)) for z in zones])
    add(
        "self_intersections",
        [
            (f"{z.count:,} crossing" + (" itself" if z.shells[0] == z.shells[1] else ""), z.where_mm, max(z.size_mm))
            for z in s.self_intersections.zones
        ],
    )
    add("strays", [("stray", x.where_mm, max(x.size_mm)) for x in s.shell_list if x.role == "stray"])
    found.sort(key=lambda item: item[3])
    spots = []
    for k, (code, name, where, extent) in enumerate(found[:MOST], 1):
        at = np.array(where)
        reach = max(0.6 * extent, 1e-3 * float(mesh.size.max()))
        near = mesh.tree.faces_in_box(at - reach, at + reach)
        normal = mesh.area_vectors[near].sum(axis=0)
        size = float(np.linalg.norm(normal))
        normal = normal / size if size > 1e-12 else np.array([0.3, -0.9, 0.3])
        spots.append(Spot(k, code, f"{name}, {length_text(extent)}", at, extent, normal))
    return spots, total


def best_views(spots: list[Spot]) -> list[View]:
    """Two views: the one that faces most of the places, then the one that faces most of the rest."""
    turns = [-62.0, -17.0, 28.0, 73.0, 118.0, 163.0, 208.0, 253.0]
    views = [View.three_quarter(a, e) for e in (16.0, 50.0, -35.0) for a in turns]
    if not spots:
        return [views[0], views[4]]
    faces = np.array([[max(0.0, float(s.normal @ v.eye) - 0.2) for s in spots] for v in views])
    first = int(np.argmax(faces.sum(axis=1) + 1e-9 * (np.arange(len(views)) == 0)))
    left = faces * (faces[first] <= 0)
    away = np.array([-float(v.eye @ views[first].eye) for v in views])
    second = int(np.argmax(left.sum(axis=1) + 1e-3 * away))
    return [views[first], views[second]]


def spread(wanted: list[float], low: float, high: float, gap: float) -> list[float]:
    """Heights as near as may be to those wanted, at least a gap apart, in the same order."""
    order = np.argsort(wanted, kind="stable")
    placed = np.array(wanted, float)[order]
    for k in range(1, len(placed)):
        placed[k] = max(placed[k], placed[k - 1] + gap)
    if len(placed) and placed[-1] > high:
        placed[-1] = high
        for k in range(len(placed) - 2, -1, -1):
            placed[k] = min(placed[k], placed[k + 1] - gap)
    out = np.empty(len(placed))
    out[order] = np.maximum(placed, low)
    return [float(x) for x in out]
