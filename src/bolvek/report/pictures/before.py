"""A model before and after, side by side, seen alike."""

from bolvek.mesh import Mesh
from bolvek.report.pictures.plain import Caption, add_panel, new_figure, png_bytes
from bolvek.report.pictures.view import View


def before_after(before: Mesh, after: Mesh, caption: Caption) -> bytes:
    """PNG of two meshes in the same view and light."""
    figure = new_figure(caption)
    for k, (mesh, name) in enumerate(((before, "before"), (after, "after"))):
        add_panel(figure, (0.5 * k, 0.5 * k + 0.5), mesh, View.three_quarter(elevation_deg=38.0), name)
    return png_bytes(figure)
