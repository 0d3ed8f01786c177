"""Numbers as text: the shortest digits that read back as the same float64."""

from typing import Any

from numpy.typing import NDArray

_BLOCK = 50_000


def number_lines(line: str, rows: NDArray[Any]) -> str:
    """`line` filled with each row of an array (N, K)."""
    pieces = []
    for at in range(0, len(rows), _BLOCK):
        block = rows[at : at + _BLOCK]
        pieces.append((line * len(block)) % tuple(block.ravel().tolist()))
    return "".join(pieces)


def printable(name: str) -> str:
    """A name on one line, without control characters; never empty."""
    return " ".join("".join(c if c.isprintable() else " " for c in name).split()) or "part"
