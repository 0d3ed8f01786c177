"""A model before and after, side by side, seen alike."""

from bolvek.mesh import Mesh
from bolvek.report.pictures.plain import add_panel
from bolvek.report.pictures.sheet import Caption, Sheet
from bolvek.report.pictures.view import View


def before_after(before: Mesh, after: Mesh, caption: Caption) -> bytes:
    """PNG of two meshes in the same view and light."""
    sheet = Sheet.new(caption)
    for k, (mesh, name) in enumerate(((before, "before"), (after, "after"))):
        add_panel(sheet, (0.5 * k, 0.5 * k + 0.5), mesh, View.three_quarter(elevation_deg=38.0), name)
    return sheet.png()
