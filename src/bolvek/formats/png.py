"""Pictures as PNG (ISO/IEC 15948): one bit a pixel, what a resin printer shows layer by layer; and in colour."""

import struct
import zlib

import numpy as np
from numpy.typing import NDArray


def bit_png(rows: NDArray[np.uint8], width: int, pixel_mm: float) -> bytes:
    """White where set, black elsewhere. rows (Y, ceil(width / 8)) hold eight pixels a byte, the lowest row first; the
    size of a pixel is stated."""
    height = len(rows)
    lines = np.zeros((height, 1 + rows.shape[1]), np.uint8)  # each row begins with its filter: none
    lines[:, 1:] = rows[::-1]
    metre = round(1000 / pixel_mm)
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        (
            _chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 1, 0, 0, 0, 0)),
            _chunk(b"pHYs", struct.pack(">IIB", metre, metre, 1)),
            _chunk(b"IDAT", zlib.compress(lines.tobytes(), 1)),
            _chunk(b"IEND", b""),
        )
    )


def colour_png(rgb: NDArray[np.uint8]) -> bytes:
    """Pixels (Y, X, 3), the highest row first, eight bits a colour."""
    height, width = rgb.shape[:2]
    lines = np.zeros((height, 1 + 3 * width), np.uint8)
    lines[:, 0] = 2  # each row as what it differs from the one above
    flat = rgb.reshape(height, -1)
    lines[:, 1:] = flat
    lines[1:, 1:] -= flat[:-1]
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        (
            _chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)),
            _chunk(b"IDAT", zlib.compress(lines.tobytes(), 6)),
            _chunk(b"IEND", b""),
        )
    )


def _chunk(name: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + name + data + struct.pack(">I", zlib.crc32(name + data))
