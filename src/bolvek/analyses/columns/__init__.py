"""A model as columns of material and air along a direction, and what stays in the air."""

from bolvek.analyses.columns.columns import MOST_PIXELS, Columns, frame_of, make_columns, pixel_for
from bolvek.analyses.columns.still import (
    Cup,
    Pool,
    Still,
    air_between,
    hole_beneath,
    let_stand,
    list_cups,
    list_pools,
)

__all__ = [
    "MOST_PIXELS",
    "Columns",
    "Cup",
    "Pool",
    "Still",
    "air_between",
    "frame_of",
    "hole_beneath",
    "let_stand",
    "list_cups",
    "list_pools",
    "make_columns",
    "pixel_for",
]
