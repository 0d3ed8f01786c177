"""The places a survey points at: chosen, numbered, and set around a picture so that no two labels meet."""

from dataclasses import dataclass

import numpy as np

from bolvek.analyses.survey.places import places_of
from bolvek.analyses.survey.record import Marks, Survey
from bolvek.arrays import Floats
from bolvek.mesh import Mesh
from bolvek.report.classes import class_of
from bolvek.report.pictures.view import View
from bolvek.units import length_text

MOST = 12
_IN_ZONES = ("twin_faces", "self_intersections", "nonmanifold_edges", "hidden_faces", "knife_edges", "slivers")


@dataclass(frozen=True)
class Callout:
    """A numbered place: its class (the first, where it has several), a few words, middle and extent in mm, a
    point of the surface in trouble, and the direction it faces there."""

    number: int
    code: str
    text: str
    where: Floats
    extent_mm: float
    anchor: Floats
    normal: Floats


@dataclass
class _Place:
    code: str
    names: list[str]
    where: Floats
    extent_mm: float

    def same(self, other: "_Place") -> bool:
        """Whether two classes found trouble in the same place."""
        if any(p.names[0].startswith("rim") for p in (self, other)):
            return False
        near = float(np.linalg.norm(self.where - other.where)) <= 0.25 * max(self.extent_mm, other.extent_mm)
        return near and 0.4 <= (self.extent_mm + 1e-12) / (other.extent_mm + 1e-12) <= 2.5


def _places(s: Survey) -> list[list[_Place]]:
    """Places class by class, what weighs most first: whole shells turned inside out, then by extent."""
    strays = {x.number for x in s.shell_list if x.stray}
    openings = [o for o in s.openings if o.shell not in strays]
    found: dict[str, list[tuple[str, tuple[float, float, float], float]]] = {
        "inside_out": [("inside out", x.where_mm, max(x.size_mm)) for x in s.shell_list if x.inside_out],
        "open_edges": [(o.kind, o.where_mm, o.span_mm) for o in openings if o.kind != "rim"],
        "rims": [("rim of an open skin", o.where_mm, o.span_mm) for o in openings if o.kind == "rim"],
        "strays": [("stray", x.where_mm, max(x.size_mm)) for x in s.shell_list if x.stray],
    }
    zones = {"flipped_faces": s.flipped.zones} | {code: places_of(code, s) for code in _IN_ZONES}
    for code, items in zones.items():
        found[code] = [(class_of(code).name, z.where_mm, max(z.size_mm)) for z in items]
    for code in ("inside_out", "strays"):
        found[code].sort(key=lambda item: -item[2])
    # a rim is drawn like any open edge
    return [
        [_Place("open_edges" if code == "rims" else code, [n], np.array(w), e) for n, w, e in items[:50]]
        for code, items in found.items()
    ]


def choose_spots(mesh: Mesh, s: Survey, marks: Marks) -> tuple[list[Callout], int]:
    """Up to a dozen places, the largest of every class first; and how many there are in all.

    What several classes find in one place is one spot.
    """
    lists = _places(s)
    total = sum(
        len(z) for z in (s.openings, s.flipped.zones, s.twins.zones, s.self_intersections.zones, s.nonmanifold.zones)
    ) + sum(len(z) for z in (s.hidden.zones, s.knives.zones, s.slivers.zones))
    chosen: list[_Place] = []
    for turn in range(max(len(items) for items in lists)):
        for items in lists:
            if turn >= len(items):
                continue
            known = next((p for p in chosen if p.same(items[turn])), None)
            if known is not None:
                known.names += [n for n in items[turn].names if n not in known.names]
            elif len(chosen) < MOST:
                chosen.append(items[turn])
    chosen.sort(key=lambda p: -p.extent_mm)
    spots = []
    for k, place in enumerate(chosen, 1):
        anchor, normal = _anchor(mesh, place, marks)
        names = place.names[0] + (f" and {len(place.names) - 1} more" if len(place.names) > 2 else "")
        names = " and ".join(place.names) if len(place.names) == 2 else names
        text = f"{names}, {length_text(place.extent_mm)}"
        spots.append(Callout(k, place.code, text, place.where, place.extent_mm, anchor, normal))
    return spots, max(total, len(spots))


def _anchor(mesh: Mesh, place: _Place, marks: Marks) -> tuple[Floats, Floats]:
    """The middle of the face in trouble nearest to the place, and where the faces around it look.

    A hole has no faces in its middle: it keeps its place.
    """
    reach = max(0.6 * place.extent_mm, 1e-3 * float(mesh.size.max()))
    near = mesh.tree.faces_in_box(place.where - reach, place.where + reach)
    anchor = place.where
    if place.code != "open_edges" or place.names[0].startswith("rim"):
        own = np.intersect1d(near, marks.faces.get(place.code, near))
        if len(own):
            middles = mesh.vertices[mesh.faces[own]].mean(axis=1)
            best = int(np.argmin(np.linalg.norm(middles - place.where, axis=1).round(6)))
            anchor, near = middles[best], own[[best]]
    normal = mesh.area_vectors[near].sum(axis=0)
    size = float(np.linalg.norm(normal))
    return anchor, normal / size if size > 1e-12 else np.array([0.3, -0.9, 0.3])


def nearest_surface(mesh: Mesh, where: Floats) -> tuple[Floats, Floats]:
    """The point of the surface nearest to a place, and the unit normal there."""
    _, face = mesh.tree.nearest(where[None])
    normal = mesh.area_vectors[face[0]]
    return mesh.tree.closest_points(where[None], face)[0], normal / max(float(np.linalg.norm(normal)), 1e-300)


def best_views(spots: list[Callout]) -> list[View]:
    """Two views: the one that faces most of the places, then the one that faces most of the rest."""
    turns = [-62.0, -17.0, 28.0, 73.0, 118.0, 163.0, 208.0, 253.0]
    views = [View.three_quarter(a, e) for e in (16.0, 50.0, -35.0) for a in turns]
    if not spots:
        return [views[0], views[4]]
    # from below everything is in the shade: only where it shows more
    like = np.array([0.7 if v.eye[2] < 0 else 1.0 for v in views])
    faces = like[:, None] * np.array([[max(0.0, float(s.normal @ v.eye) - 0.2) for s in spots] for v in views])
    first = int(np.argmax(faces.sum(axis=1) + 1e-9 * (np.arange(len(views)) == 0)))
    left = faces * (faces[first] <= 0)
    away = np.array([-float(v.eye @ views[first].eye) for v in views])
    second = int(np.argmax(left.sum(axis=1) + 0.05 * like * (1 + away)))
    return [views[first], views[second]]


def spaced(wanted: list[float], low: float, high: float, gap: float) -> list[float]:
    """Heights as near as may be to those wanted, at least a gap apart, in the same order."""
    order = np.argsort(wanted, kind="stable")
    placed = np.maximum(np.array(wanted, float)[order], low)
    for k in range(1, len(placed)):
        placed[k] = max(placed[k], placed[k - 1] + gap)
    if len(placed) and placed[-1] > high:
        placed[-1] = high
        for k in range(len(placed) - 2, -1, -1):
            placed[k] = min(placed[k], placed[k + 1] - gap)
    out = np.empty(len(placed))
    out[order] = placed
    return [float(x) for x in out]
