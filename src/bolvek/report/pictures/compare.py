"""Old and new side by side, what changed in colour; several results on one sheet."""

from collections.abc import Sequence

import numpy as np

from bolvek.analyses.deviation import Compared, CompareRecord
from bolvek.analyses.zones import Zone, face_zones
from bolvek.arrays import Bools, Floats
from bolvek.mesh import Mesh
from bolvek.report.pictures import palette
from bolvek.report.pictures.plain import add_scale_bar, legend_row
from bolvek.report.pictures.raster import Image, render
from bolvek.report.pictures.sheet import HEIGHT, WIDTH, Caption, Sheet
from bolvek.report.pictures.view import View

_TOP, _BOTTOM = 84, 60
GONE, ADDED, MOVED, TURNED = "#d55e00", "#009e73", "#0072b2", "#cc79a7"


def compare_picture(old: Mesh, new: Mesh, record: CompareRecord, found: Compared, caption: Caption) -> bytes:
    """PNG: the old with what is gone, the new with what came and what moved, and the largest change from near."""
    sheet = Sheet.new(caption)
    far = found.off_mm > 1e-6 * float(new.size.max(initial=1e-9))
    marks = [(found.turned, TURNED), (found.added, ADDED), (found.added & far, MOVED)]
    paints = (_painted(old, [(found.gone, GONE)]), _painted(new, marks))
    zone = _largest(old, new, record, found)
    view = _view(old, new, found)
    wide = WIDTH if zone is None else WIDTH - 400
    for k, (mesh, paint, name) in enumerate(((old, paints[0], "before"), (new, paints[1], "after"))):
        left = int(k * wide / 2)
        width, height = int(wide / 2) - 16, HEIGHT - _TOP - _BOTTOM
        image = render(mesh, view, width, height, paint=paint)
        panel = sheet.image(image, left + 8, _BOTTOM)
        panel.text(6, height - 4, name, 12, style="italic", up="top")
        add_scale_bar(panel, image)
    if zone is not None:
        _near(sheet, old, new, paints, zone, found)
    named = [(GONE, "gone", found.gone), (TURNED, "turned", found.turned), (ADDED, "new, in place", found.added & ~far)]
    named.append((MOVED, "new, off the old surface", found.added & far))
    legend_row(sheet, 44, 14, [(words, colour) for colour, words, faces in named if faces.any()])
    return sheet.png()


def _painted(mesh: Mesh, marks: Sequence[tuple[Bools, str]]) -> Floats:
    paint = np.tile(np.array(palette.PLAIN), (len(mesh.faces), 1))
    for faces, colour in marks:
        paint[faces] = palette.linear(colour)
    return paint


def _largest(old: Mesh, new: Mesh, record: CompareRecord, found: Compared) -> Zone | None:
    """The largest place that changed, unless it is much of the model."""
    zones = record.moved or (face_zones(new, np.flatnonzero(found.added)) if found.added.any() else [])
    zones = zones or (face_zones(old, np.flatnonzero(found.gone)) if found.gone.any() else [])
    fits = [z for z in zones if max(z.size_mm) < 0.6 * float(new.size.max(initial=0.0))]
    return fits[0] if fits else None


def _view(old: Mesh, new: Mesh, found: Compared) -> View:
    """From where most of what changed is seen, front views first."""
    looks = (new.area_vectors * (found.added | found.turned)[:, None], old.area_vectors * found.gone[:, None])
    normal = np.concatenate(looks)
    views = [View.three_quarter(a, e) for e in (16.0, 50.0, -25.0) for a in (-62.0, -17.0, 28.0, 118.0, 208.0)]
    like = np.array([1.0 if v.eye[2] > 0 else 0.8 for v in views])
    seen = [float(np.maximum(normal @ v.eye, 0).sum()) for v in views]
    return views[int(np.argmax(like * np.array(seen) + 1e-9 * (np.arange(len(views)) == 0)))]


def _near(sheet: Sheet, old: Mesh, new: Mesh, paints: tuple[Floats, Floats], zone: Zone, found: Compared) -> None:
    where = np.array(zone.where_mm)
    reach = max(2.6 * max(zone.size_mm), 0.02 * float(new.size.max()))
    around = new.tree.faces_in_box(where - 0.3 * reach, where + 0.3 * reach)
    normal = new.area_vectors[around][found.added[around]].sum(axis=0)
    eye = normal if float(np.linalg.norm(normal)) > 1e-12 else np.array([0.3, -0.9, 0.3])
    view = View.from_eye(eye / np.linalg.norm(eye) + np.array([0.15, -0.2, 0.2]))
    width, height = 380, (HEIGHT - _TOP - _BOTTOM - 70) // 2
    for k, (mesh, paint, name) in enumerate(((old, paints[0], "before, from near"), (new, paints[1], "after"))):
        faces = mesh.tree.faces_in_box(where - 0.75 * reach, where + 0.75 * reach)
        bottom = _BOTTOM + (1 - k) * (height + 50)
        if not len(faces):
            continue
        image = render(mesh.picked(faces), view, width, height, paint=paint[faces], window=(where, reach))
        panel = sheet.image(image, WIDTH - 392, bottom)
        panel.text(4, height + 6, name, 11, style="italic")
        add_scale_bar(panel, image)


def tries_sheet(title: str, tries: Sequence[tuple[str, Mesh, Compared, Sequence[str]]]) -> bytes:
    """PNG: several results of one model side by side, each with its name and a few lines."""
    told = ", the new faces in colour" if any(found.added.any() for _, _, found, _ in tries) else ""
    sheet = Sheet.new(Caption(title, f"each way tried{told}"))
    count = len(tries)
    width, height = WIDTH // count - 16, HEIGHT - _TOP - 190
    first = tries[0]
    zones = face_zones(first[1], np.flatnonzero(first[2].added))
    normal = (first[1].area_vectors * first[2].added[:, None]).sum(axis=0)
    eye = normal if float(np.linalg.norm(normal)) > 1e-12 else np.array([0.3, -0.9, 0.3])
    view = View.from_eye(eye / np.linalg.norm(eye) + np.array([0.35, -0.45, 0.3]))
    for k, (name, mesh, found, lines) in enumerate(tries):
        paint = _painted(mesh, [(found.added, ADDED)])
        window = None
        if len(zones):  # the largest place, from near
            reach = max(2.6 * max(zones[0].size_mm), 0.02 * float(mesh.size.max()))
            window = (np.array(zones[0].where_mm), reach) if reach < float(mesh.size.max()) else None
        image = render(mesh, view, width, height, paint=paint, window=window)
        add_try(sheet, image, k * (WIDTH // count) + 8, name, lines)
    return sheet.png()


def add_try(sheet: Sheet, image: Image, left: float, name: str, lines: Sequence[str]) -> None:
    """One of several results side by side: its picture, its name and a few lines below."""
    add_scale_bar(sheet.image(image, left, 170), image)
    sheet.text(left, 128, name, 13, style="bold", up="top")
    for row, line in enumerate(lines):
        sheet.text(left, 104 - 19 * row, line, 10, palette.QUIET, up="top")
