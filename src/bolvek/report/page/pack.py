"""Meshes and values as bytes that a browser unpacks: quantised, delta coded, split into planes, deflated.

Coordinates are whole steps of 1/65,535 of the box along each axis; values of faces steps of 1/65,534 of their range, 0
for none. Faces keep their order; vertices are numbered in the order in which faces use them, so that most corners are
near the highest number so far. The high bytes of what changes little are nearly all alike: planes of them deflate well.
"""

import base64
import zlib
from typing import Any

import numpy as np
from numpy.typing import NDArray

from bolvek.arrays import Floats, Ints
from bolvek.mesh import Mesh

STEPS = 65_535
_LEVEL = 6


class Packer:
    """Gathers streams; `text` is all of them, deflated, in base64."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []

    def mesh(self, mesh: Mesh) -> dict[str, Any]:
        """A mesh; what has to be known to unpack it."""
        flat = mesh.faces.ravel().astype(np.int64)
        _, first, number = np.unique(flat, return_index=True, return_inverse=True)
        used = np.argsort(first, kind="stable")  # in order of first use
        rank = np.empty(len(used), np.int64)
        rank[used] = np.arange(len(used))
        corner = rank[number.ravel()]
        points = mesh.vertices[flat[np.sort(first)]]
        low = points.min(axis=0) if len(points) else np.zeros(3)
        step = (np.ptp(points, axis=0) if len(points) else np.zeros(3)) / STEPS
        whole = np.rint((points - low) / np.where(step > 0, step, 1.0)).astype(np.int64)
        for axis in range(3):
            self.deltas(whole[:, axis])
        highest = np.maximum.accumulate(corner) if len(corner) else corner
        self.planes((np.concatenate([[0], highest[:-1] + 1]) if len(corner) else corner) - corner, 4)
        return {"faces": len(mesh.faces), "vertices": len(points), "low": low.tolist(), "step": step.tolist()}

    def values(self, values: Floats) -> dict[str, float]:
        """A value a face, nan for none; lowest value and step."""
        known = np.isfinite(values)
        low, high = (float(values[known].min()), float(values[known].max())) if known.any() else (0.0, 0.0)
        step = (high - low) / (STEPS - 1)
        whole = np.zeros(len(values), np.int64)
        whole[known] = 1 + np.rint((values[known] - low) / (step or 1.0)).astype(np.int64)
        self.deltas(whole)
        return {"low": low, "step": step}

    def numbers(self, numbers: Ints) -> None:
        """A whole number a face, from 0 to 65,535."""
        self.deltas(np.asarray(numbers, np.int64))

    def deltas(self, whole: Ints) -> None:
        """Whole numbers from 0 to 65,535, each as what it differs from the one before, small either way."""
        step = np.diff(whole, prepend=0).astype(np.int16).astype(np.int64)  # modulo 65,536
        self.planes(np.where(step < 0, -2 * step - 1, 2 * step), 2)

    def planes(self, numbers: Ints, count: int) -> None:
        """Numbers without sign as planes of bytes, the lowest first."""
        for k in range(count):
            self._parts.append(((numbers >> (8 * k)) & 0xFF).astype(np.uint8).tobytes())

    def text(self) -> str:
        """All streams."""
        return base64.b64encode(zlib.compress(b"".join(self._parts), _LEVEL)).decode()


class Unpacker:
    """Reads what a `Packer` gathered, as the page does; for tests and for whoever wants the numbers back."""

    def __init__(self, text: str) -> None:
        self._bytes = np.frombuffer(zlib.decompress(base64.b64decode(text)), np.uint8)
        self._at = 0

    def planes(self, length: int, count: int) -> NDArray[np.int64]:
        """Numbers without sign."""
        out = np.zeros(length, np.int64)
        for k in range(count):
            out |= self._bytes[self._at : self._at + length].astype(np.int64) << (8 * k)
            self._at += length
        return out

    def deltas(self, length: int) -> NDArray[np.int64]:
        """Numbers from 0 to 65,535."""
        coded = self.planes(length, 2)
        return np.cumsum(np.where(coded & 1, -(coded + 1) // 2, coded // 2)) & 0xFFFF

    def mesh(self, about: dict[str, Any]) -> tuple[Floats, Ints]:
        """Vertices (V, 3) and faces (F, 3)."""
        whole = np.stack([self.deltas(about["vertices"]) for _ in range(3)], axis=1)
        vertices = np.array(about["low"]) + whole * np.array(about["step"])
        code = self.planes(3 * about["faces"], 4)
        # a new vertex has the number of those before it
        corner = np.cumsum(code == 0) - (code == 0) - code
        return vertices, corner.reshape(-1, 3)

    def values(self, length: int, about: dict[str, float]) -> Floats:
        """Values (F,), nan for none."""
        whole = self.deltas(length)
        return np.where(whole > 0, about["low"] + (whole - 1) * about["step"], np.nan)
