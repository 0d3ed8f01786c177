"""The columns of a model in layers: which stretch of material is in which layers, and the rules of holding."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from bolvek.analyses.columns import Columns, make_columns, pixel_for
from bolvek.analyses.layering import first_layers
from bolvek.analyses.shells import counted_once, facing_out
from bolvek.arrays import Floats, Ints
from bolvek.errors import WorkError
from bolvek.kernels.grid.held import Build
from bolvek.mesh import Mesh
from bolvek.settings.supports import HeldSettings

SHARE_OF_REACH = 1 / 8
"""How wide a column is at most, as a share of the reach: a debt is known to that."""
WIDEST_MM = 0.125
"""How wide a column is at most: material thinner than that and gaps narrower than a column's diagonal are not seen."""
MOST_COLUMNS = 4_000_000
"""Of a model that would take more the columns are wider."""
_FARTHEST = 96
"""Columns: the longest straight line of a path. A longer one turns on its way, which makes it longer by no more than a
hundredth of a column for each such length."""
BRIDGE_END_MM = 1.0
"""How deep over what holds both ends of a bridge lie."""


@dataclass(frozen=True)
class Stretches:
    """Stretches of material (S,) of the columns of a model that are in a layer at least; layer k is cut in its middle,
    `floor_mm` + (k + 1/2) `layer_mm` high. row (S,): which stretch of the columns each is."""

    columns: Columns
    row: Ints
    build: Build
    floor_mm: float
    layer_mm: float

    @property
    def layers(self) -> int:
        """How many layers there are."""
        return len(self.build.first) - 1

    @cached_property
    def bottoms(self) -> Floats:
        """Where each stretch (S, 3) begins, in the model's coordinates."""
        return self.columns.middle(self.columns.column_of[self.row], self.columns.low[self.row])


def cut_in_layers(mesh: Mesh, settings: HeldSettings) -> Stretches:
    """The columns of a mesh in layers. Raises WorkError for columns that do not close, or hold no material."""
    s = settings
    mesh = facing_out(counted_once(mesh)[0])
    widest = min(SHARE_OF_REACH * s.reach_mm, WIDEST_MM)
    pixel = s.pixel_mm or max(widest, pixel_for(mesh, s.up, MOST_COLUMNS))
    columns = make_columns(mesh, s.up, pixel)
    if columns.unclosed.any():
        raise WorkError("what holds is not judged: the surface is not closed; 'bolvek solid' closes it")
    floor = float((mesh.vertices[mesh.faces.ravel()] @ columns.frame[2]).min())
    floor -= max(s.lift_mm, s.layer_mm) if s.lift_mm else 0.0
    both = np.stack([first_layers(z - floor, s.layer_mm) for z in (columns.low, columns.high)], axis=1)
    row = np.flatnonzero(both[:, 1] > both[:, 0])
    if not len(row):
        raise WorkError("what holds is not judged: no layer shows any material")
    span, column = both[row].astype(np.int32), columns.column_of[row].astype(np.int32)
    start = np.zeros(len(columns.unclosed) + 1, np.int64)
    np.cumsum(np.bincount(column, minlength=len(columns.unclosed)), out=start[1:])
    order = np.argsort(span[:, 0], kind="stable").astype(np.int32)
    first = np.searchsorted(span[order, 0], np.arange(int(span.max()) + 1))
    pay = s.layer_mm / np.tan(np.radians(s.angle_deg))
    lengths = np.array([pay, s.reach_mm, _FARTHEST * pixel, s.bridge_most_mm, BRIDGE_END_MM]) / pixel
    build = Build(start, column, span, order, first.astype(np.int32), np.concatenate([[columns.shape[1]], lengths]))
    for array in build:
        array.flags.writeable = False
    return Stretches(columns, row, build, floor, s.layer_mm)
