"""Which layers there are: each is cut in its middle, numbered from 0 at the lowest point."""

import numpy as np

from bolvek.arrays import Floats, Ints

_SLACK = 1e-6  # layers: what a height may fall short of a middle by rounding


def layer_count(height_mm: float, layer_mm: float) -> int:
    """How many layers of a model hold material at their middle; one at least of anything that has a height."""
    if not height_mm > 0:
        return 0
    return max(1, int(np.ceil(height_mm / layer_mm - 0.5 - _SLACK)))


def first_layer(height_mm: float, layer_mm: float) -> int:
    """The first layer that shows what begins at a height above the lowest point."""
    return int(first_layers(np.array(height_mm), layer_mm))


def first_layers(height_mm: Floats, layer_mm: float) -> Ints:
    """The first layers (N,) that show what begins at heights (N,) above the lowest point."""
    return np.asarray(np.maximum(np.ceil(height_mm / layer_mm - 0.5 - _SLACK), 0), np.int64)


def layers_between(low_mm: float, high_mm: float, layer_mm: float) -> tuple[int, int]:
    """The first and the last layer cut between two heights above the lowest point; the nearest, where none is."""
    first = first_layer(low_mm, layer_mm)
    last = first_layer(high_mm, layer_mm) - 1
    return (first, last) if last >= first else (max(last, 0), max(last, 0))
