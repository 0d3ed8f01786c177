"""The layers of a model: what each holds, what begins, what is too thin, what stays."""

from dataclasses import dataclass, replace

import numpy as np

from bolvek.analyses.columns import (
    Columns,
    Cup,
    Still,
    let_stand,
    list_cups,
    list_pools,
    make_columns,
    pixel_for,
)
from bolvek.analyses.columns.still import ends_of
from bolvek.analyses.layering import first_layer
from bolvek.analyses.layers.membranes import find_membranes, find_slits
from bolvek.analyses.layers.record import CUP_MM, CUP_MM2, Jump, LayerRecord, LayerTable, PoseStill, findings_of
from bolvek.analyses.layers.sections import Stack
from bolvek.analyses.overhangs import Island, find_layer_islands
from bolvek.analyses.shells import counted_once, facing_out
from bolvek.analyses.thickness import check_solid
from bolvek.arrays import Floats, Ints
from bolvek.errors import WorkError
from bolvek.kernels.grid.columns import rules_apart
from bolvek.mesh import Mesh
from bolvek.settings.measures import LayerSettings, OverhangSettings
from bolvek.spatial.parallel import side_by_side

MOST_LAYERS = 200_000
_JUMP_SHARE, _MOST_JUMPS = 0.1, 8
_SLIGHT_SHARE = 1e-6


@dataclass(frozen=True)
class LayerView:
    """What pictures of layers are drawn from: columns along up, what stays in them, and the exact sections."""

    columns: Columns
    still: Still
    stack: Stack


def read_layers(mesh: Mesh, settings: LayerSettings) -> tuple[LayerRecord, LayerView]:
    """Everything about the layers of a model. Faces are read as they are meant (copies once, turned ones turned); where
    slicers would disagree about them as they are is told.

    Raises UsageError for impossible settings, WorkError for a model without surface or with too many layers.
    """
    settings.check()
    check_solid(mesh)
    once, _ = counted_once(mesh)
    meant = facing_out(once)
    s, stack = settings, Stack(meant, settings.up, settings.layer_mm)
    if stack.count > MOST_LAYERS:
        raise WorkError(
            f"layers of {s.layer_mm:g} mm would be {stack.count:,}, {MOST_LAYERS:,} are the limit: thicker ones fit"
        )
    pixel = s.pixel_mm or max(pixel_for(meant, s.up), s.making.pixel_mm or 0.0)
    columns = make_columns(meant, s.up, pixel)
    overlap_mm3, disagree = _disagreement(columns, stack)
    apart_mm3 = overlap_mm3
    if meant is not mesh:  # what slicers see is not what is meant
        apart_mm3, disagree = _disagreement(make_columns(mesh, s.up, pixel), stack)
    still, hanging = side_by_side(
        lambda: let_stand(columns, plate=stack.floor_mm if s.on_plate else None),
        lambda: let_stand(columns, down=False),
    )
    islands = find_layer_islands(mesh, OverhangSettings(up=s.up, layer_mm=s.layer_mm, habit="hangs"))
    unclosed = int(columns.unclosed.sum())
    judged = not unclosed  # where nothing closes, nothing can be said to stay
    poses, stays = _poses(meant, s, still) if judged else ([], None)
    # where material is counted twice, sections enclose more than there is
    exact = not unclosed and overlap_mm3 <= _SLIGHT_SHARE * columns.volume_mm3
    areas = stack.areas() if exact else _pixel_areas(columns, stack)
    volume = meant.volume if exact else columns.volume_mm3
    limit = max(2 * s.layer_mm, s.least_wall_mm)
    cups = list_cups(still, CUP_MM2, CUP_MM, s.layer_mm) if judged else []
    peak = int(np.argmax(areas)) if len(areas) else 0
    heights = stack.heights_mm
    record = LayerRecord(
        up=s.up,
        layer_mm=s.layer_mm,
        count=stack.count,
        height_mm=stack.tall_mm,
        volume_mm3=volume,
        resin_ml=volume / 1000,
        material=s.making.material,
        weight_g=s.making.weight_g(volume),
        price=s.making.price(volume),
        time_s=s.making.seconds(stack.count, volume),
        area_max_mm2=float(areas.max(initial=0.0)),
        area_max_layer=peak,
        area_max_at_mm=float(heights[peak]) if len(heights) else 0.0,
        exact=exact,
        pixel_mm=pixel,
        columns=int(np.prod(columns.shape)),
        unclosed_columns=unclosed,
        jumps=_jumps(areas, heights),
        islands=len(islands),
        island_list=islands,
        membranes=find_membranes(columns, limit, stack.floor_mm, s.layer_mm, on_plate=s.on_plate),
        slits=find_slits(meant, columns.frame[2], s.making.pixel_mm or pixel),
        slit_mm=s.making.pixel_mm or pixel,
        disagreeing_layers=int((disagree > 0).sum()),
        disagreeing_mm3=apart_mm3,
        pool_mm3=still.volume_mm3 if judged else None,
        covered_mm3=_covered_mm3(still) if judged else None,
        pools=list_pools(still) if judged else [],
        air_mm3=hanging.volume_mm3 if judged else None,
        air=list_pools(hanging) if judged else [],
        cups=cups,
        drain_poses=poses,
        stays_mm3=stays,
        table=_table(stack, areas, islands, still, cups, np.asarray(disagree * columns.pixel_mm2, np.float64)),
        findings=(),
    )
    return replace(record, findings=findings_of(record, s.making.kind)), LayerView(columns, still, stack)


def _disagreement(columns: Columns, stack: Stack) -> tuple[float, Ints]:
    """Volume (mm3) on which fill rules disagree, and pixels of each layer (L,) on which they do."""
    length, layers = np.zeros(len(columns.unclosed)), np.zeros(stack.count + 1, np.int64)
    c, floor, layer = columns, stack.floor_mm, stack.layer_mm
    rules_apart(c.start, c.height, c.turn, c.unclosed, length, layers, floor, layer)
    volume = float(length.sum()) * c.pixel_mm2
    return volume, np.cumsum(layers)[: stack.count]


def _spread(stack: Stack, low: Floats, high: Floats) -> Ints:
    """How many stretches (N,) each layer (L,) cuts."""
    ends = np.stack([low, high])
    at = np.clip(np.ceil((ends - stack.floor_mm) / stack.layer_mm - 0.5), 0, stack.count).astype(np.int64)
    step = np.bincount(at[0], minlength=stack.count + 1) - np.bincount(at[1], minlength=stack.count + 1)
    return np.cumsum(step)[: stack.count]


def _pixel_areas(columns: Columns, stack: Stack) -> Floats:
    return np.asarray(_spread(stack, columns.low, columns.high) * columns.pixel_mm2, np.float64)


def _covered_mm3(still: Still) -> float:
    return float(still.held_mm[np.isfinite(still.ceiling)].sum()) * still.columns.pixel_mm2


def _poses(mesh: Mesh, s: LayerSettings, still: Still) -> tuple[list[PoseStill], float]:
    """What stays in each pose, and after all of them: no more than in the best."""
    if not s.drain_poses:
        return [], still.volume_mm3
    found = []
    for up in s.drain_poses:
        here = let_stand(make_columns(mesh, up, s.pixel_mm))
        found.append(
            PoseStill(up=up, stays_mm3=here.volume_mm3, covered_mm3=_covered_mm3(here), pools=list_pools(here))
        )
    return found, min(p.stays_mm3 for p in found)


def _jumps(areas: Floats, heights: Floats) -> list[Jump]:
    """The largest changes from one layer to the next that are a tenth of the largest area or more, lowest first."""
    if not areas.max(initial=0.0) > 0:
        return []
    change = np.abs(np.diff(areas))
    far = np.flatnonzero(change >= _JUMP_SHARE * areas.max())
    far = np.sort(far[np.argsort(-change[far], kind="stable")][:_MOST_JUMPS])
    return [
        Jump(
            layer=int(k) + 1,
            at_mm=float(heights[k + 1]),
            before_mm2=float(areas[k]),
            after_mm2=float(areas[k + 1]),
        )
        for k in far
    ]


def _table(
    stack: Stack, areas: Floats, islands: list[Island], still: Still, cups: list[Cup], disagree: Floats
) -> LayerTable:
    pixel = still.columns.pixel_mm2
    held = still.held_mm > 0
    closed = np.flatnonzero(held & (still.pool >= still.leaving))
    open_ones = np.flatnonzero(held & (still.pool < still.leaving))
    begins = np.zeros(stack.count, np.int64)
    if stack.count:
        first = [first_layer(i.height_mm, stack.layer_mm) for i in islands]
        rows = np.minimum(np.array(first, np.int64), stack.count - 1)
        begins = np.bincount(rows, minlength=stack.count)
    return LayerTable(
        at_mm=[round(float(h), 6) for h in stack.heights_mm],
        area_mm2=[round(float(a), 6) for a in areas],
        islands=[int(n) for n in begins],
        sealed_mm2=[round(float(n) * pixel, 6) for n in _spread(stack, *ends_of(still, closed))],
        cup_mm2=[round(float(n) * pixel, 6) for n in _spread(stack, *ends_of(still, open_ones))] if cups else [],
        disagree_mm2=[round(float(a), 6) for a in disagree],
    )
