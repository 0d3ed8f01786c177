"""Lengths as people write them. Inside Bolvek every length is millimetres."""

import math
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING

from bolvek.errors import UsageError

if TYPE_CHECKING:  # the command line imports this for its help: no numpy then
    from bolvek.arrays import Floats

MILLIMETRES = {
    "mm": 1.0,
    "cm": 10.0,
    "m": 1000.0,
    "in": 25.4,
    "ft": 304.8,
    "um": 0.001,
    "µm": 0.001,
}
"""Millimetres in one unit."""

Triple = tuple[float, float, float]
"""A place, a direction or a size: x, y and z."""

UNIT_NAMES = {"mm": "millimetres", "cm": "centimetres", "m": "metres", "in": "inches", "ft": "feet", "um": "microns"}
"""Units as people call them."""

_LEAST_LENGTH_MM = 1e-6

_LENGTH = re.compile(r"^\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*([a-zµ]*)\s*$")


def parse_length(text: str) -> float:
    """Millimetres in a text such as "2mm", "0.08in", "12cm" or "2" (millimetres).

    Raises UsageError for anything else, naming the text and the units that are known.
    """
    match = _LENGTH.match(text)
    unit = match.group(2) or "mm" if match else ""
    if not match or unit not in MILLIMETRES:
        raise UsageError(f"'{text}' is not a length: write a number with one of {', '.join(MILLIMETRES)}, as in 2mm")
    value = float(match.group(1)) * MILLIMETRES[unit]
    if not math.isfinite(value):
        raise UsageError(f"'{text}' is too large for a length")
    return value


def parse_point(text: str) -> tuple[float, float, float]:
    """Three lengths separated by commas, as millimetres."""
    parts = text.split(",")
    if len(parts) != 3:
        raise UsageError(f"'{text}' is not a point: write three lengths with commas, as in 10,0,-2.5")
    x, y, z = (parse_length(part) for part in parts)
    return x, y, z


def parse_volume(text: str) -> float:
    """Cubic millimetres in a text such as "20cm3", "1500mm3" or "1500" (cubic millimetres)."""
    match = re.match(r"^\s*([-+]?(?:\d+\.?\d*|\.\d+)(?:[eE][-+]?\d+)?)\s*(?:([a-z]+)(?:3|\^3|³)|(ml)|(l))?\s*$", text)
    unit = match.group(2) or "mm" if match else ""
    if not match or unit not in MILLIMETRES:
        raise UsageError(
            f"'{text}' is not a volume: write a number with mm3, cm3, ml, in3 or another unit, as in 20cm3"
        )
    factor = MILLIMETRES["cm"] ** 3 if match.group(3) else 1e6 if match.group(4) else MILLIMETRES[unit] ** 3
    return float(match.group(1)) * factor


def as_triple(v: "Sequence[float] | Floats") -> tuple[float, float, float]:
    """Three numbers as plain floats, with one zero only."""
    return float(v[0]) + 0.0, float(v[1]) + 0.0, float(v[2]) + 0.0


def decimals(mm: float) -> int:
    """Decimals that tell lengths of about so many mm: two from a millimetre up, one more for each tenth of it."""
    if not 0 < mm < 1 or not math.isfinite(mm):
        return 2
    return min(2 + math.ceil(-math.log10(mm) - 1e-9), 9)


def count_text(n: int, one: str, many: str | None = None) -> str:
    """A number with its word, in one or the other form."""
    return f"{n:,} {one if n == 1 else many or one + 's'}"


def number_text(value: float, digits: int = 3) -> str:
    """A number for people: so many digits that count, never as a power of ten."""
    if not value or not math.isfinite(value):
        return f"{value:.0f}"
    places = max(0, digits - 1 - math.floor(math.log10(abs(value))))
    text = f"{value:,.{places}f}"
    return text.rstrip("0").rstrip(".") if "." in text else text


def area_text(mm2: float) -> str:
    """An area for people, in square millimetres."""
    return f"{number_text(mm2)} mm2"


def length_text(mm: float) -> str:
    """A length for people: three significant digits or thousandths of a millimetre, more of them below a hundredth."""
    size = abs(mm)
    if 0 < size < _LEAST_LENGTH_MM:
        return f"less than {_LEAST_LENGTH_MM:.6f} mm"
    return f"{mm:.{2 if size >= 10 else 3 if size >= 0.01 or not size else decimals(size)}f} mm"


def point_text(point: object, longest_mm: float = 10.0) -> str:
    """A place for people, in millimetres, with the decimals that a model of that size needs."""
    n = decimals(longest_mm)
    return "(" + ", ".join(f"{round(float(x), n) + 0.0:.{n}f}" for x in point) + ")"  # type: ignore[attr-defined]


def size_text(size: object) -> str:
    """Extents in mm, with the decimals that the largest needs."""
    n = decimals(max(float(x) for x in size))  # type: ignore[attr-defined]
    return " x ".join(f"{float(x):.{n}f}" for x in size) + " mm"  # type: ignore[attr-defined]


def bytes_text(megabytes: float) -> str:
    """The size of a file for people."""
    return f"{megabytes:.1f} MB" if megabytes >= 1 else f"{1000 * megabytes:.1f} kB"


def volume_text(mm3: float) -> str:
    """A volume for people: cubic millimetres when small, else cubic centimetres, three digits that count at least."""
    if 0 < abs(mm3) < 0.01:
        return "less than 0.01 mm3"
    mm3 = round(mm3, 3)  # what differs by rounding reads the same
    if abs(mm3) < 100:
        return f"{mm3:.2f} mm3"
    return f"{mm3 / 1000:.{3 if abs(mm3) < 1000 else 2}f} cm3"
