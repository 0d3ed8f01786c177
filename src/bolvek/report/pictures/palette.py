"""Colours of pictures: linear RGB triples in 0..1 unless said otherwise."""

import numpy as np

from bolvek.arrays import Floats

OUTSIDE = (0.78, 0.62, 0.44)
INSIDE = (0.30, 0.50, 0.62)
WET = (0.02, 0.22, 0.62)
CUT = (0.86, 0.33, 0.20)
CUT_DARK = (0.74, 0.26, 0.15)
PLAIN = (0.60, 0.58, 0.55)
PAPER = "#f6f3ee"
INK = "#2a2622"
QUIET = "#7d746a"
FIT = "#2f7d4f"
UNFIT = "#b3261e"


def linear(colour: str) -> tuple[float, float, float]:
    """A hex colour as the linear triple that comes out as it in a fully lit picture."""
    r, g, b = (int(colour[k : k + 2], 16) / 255 for k in (1, 3, 5))
    return r**1.6, g**1.6, b**1.6


_WALL_STEPS = (0.0, 0.5, 0.999, 1.001, 2.0, 4.0)
_WALL_COLOURS = ("#67000d", "#d55e00", "#f6b26b", "#cfe1f2", "#6baed6", "#08519c")


def wall_steps() -> tuple[tuple[float, ...], tuple[str, ...]]:
    """Shares of the minimum, and the colour (hex) of each; between them colours run into each other."""
    return _WALL_STEPS, _WALL_COLOURS


def wall_colours(share: Floats) -> Floats:
    """Linear colours (N, 3) of walls given as shares of the minimum: orange below it, blue above, grey for nan.

    Orange against blue tells the two sides apart in every common kind of colour blindness.
    """
    ends = np.array([linear(c) for c in _WALL_COLOURS])
    filled = np.nan_to_num(share, nan=0.0)
    out = np.stack([np.interp(filled, _WALL_STEPS, ends[:, k]) for k in range(3)], axis=-1)
    out[np.isnan(share)] = PLAIN
    return out


def shown(colours: Floats) -> Floats:
    """Linear colours as they come out in a fully lit picture."""
    return np.clip(colours, 0, 1) ** (1 / 1.6)


def hex_of(colour: tuple[float, float, float] | Floats) -> str:
    """A linear colour as the hex colour it comes out as."""
    return "#" + "".join(f"{round(255 * float(c)):02x}" for c in shown(np.asarray(colour)))
