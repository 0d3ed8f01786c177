"""A picture being composed on paper: images, lines, marks and words, laid over each other in order, as PNG.

Pillow draws. Lengths are pixels, x to the right and y up from the lower left of the sheet, or of the part of it that
`at` gives; sizes of words and marks are points at 100 dots an inch. Lines and shapes are drawn four times as fine
and laid on through the mean, words by the fonts of this package, so the same picture has the same bytes everywhere.
"""

import functools
import io
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike

from bolvek.arrays import Floats
from bolvek.report.pictures import palette

if TYPE_CHECKING:
    from bolvek.report.pictures.raster import Image

WIDTH, HEIGHT = 1280, 800
_DPI = 100
_FINE = 4  # samples a pixel along each axis, of lines and shapes
_RISE, _FALL = 0.76, 0.24  # of the size of words: how far they reach above their base line, and below it
_LINE = 1.2  # of that height: from one line to the next
_FONTS = {"": "DejaVuSans.ttf", "bold": "DejaVuSans-Bold.ttf", "italic": "DejaVuSans-Oblique.ttf"}
DASHED, DOTTED = (5.0, 2.2), (1.4, 2.2)
"""Pixels on and off, of lines."""


@dataclass(frozen=True)
class Caption:
    """Words of a picture: title, a line below it, and optionally a verdict with its colour."""

    title: str
    line: str
    verdict: str = ""
    fit: bool = True


class Sheet:
    """A sheet, or a part of it whose lower left corner counts as (0, 0)."""

    def __init__(self, canvas: Any, left: float = 0.0, bottom: float = 0.0) -> None:
        self._canvas, self.left, self.bottom = canvas, left, bottom

    @classmethod
    def new(cls, caption: Caption) -> "Sheet":
        """Paper with title, facts and verdict."""
        from PIL import Image

        sheet = cls(Image.new("RGB", (WIDTH, HEIGHT), palette.PAPER))
        sheet.text(32, 772, caption.title, 17, style="bold", up="top")
        sheet.text(32, 734, caption.line, 10.5, palette.QUIET, up="top")
        if caption.verdict:
            colour = palette.FIT if caption.fit else palette.UNFIT
            sheet.text(WIDTH - 32, 772, caption.verdict, 13, colour, style="bold", across="right", up="top")
        return sheet

    def at(self, left: float, bottom: float) -> "Sheet":
        """The part of it that begins there."""
        return Sheet(self._canvas, self.left + left, self.bottom + bottom)

    def png(self) -> bytes:
        """The whole sheet as PNG."""
        buffer = io.BytesIO()
        self._canvas.save(buffer, "PNG")
        return buffer.getvalue()

    def text(
        self,
        x: float,
        y: float,
        words: str,
        size: float,
        colour: str = palette.INK,
        *,
        style: str = "",
        across: str = "left",
        up: str = "base",
    ) -> None:
        """Words, lines below each other; across: which side of them is at x ("left", "middle", "right"), up: whether
        y is their "top", "middle" or "bottom", or the "base" line of the last."""
        from PIL import ImageDraw

        font, high = _font(style, size), size * _DPI / 72
        lines = words.split("\n")
        step = _LINE * (_RISE + _FALL) * high
        last = {"top": -_RISE, "middle": -0.5 * (_RISE - _FALL), "bottom": _FALL, "base": 0.0}[up] * high
        below = {"top": len(lines) - 1.0, "middle": 0.5 * (len(lines) - 1)}.get(up, 0.0)
        draw = ImageDraw.Draw(self._canvas)
        for k, line in enumerate(lines):
            base = y + last + (len(lines) - 1 - k - below) * step
            where = self._down((x, base))
            anchor = {"left": "ls", "middle": "ms", "right": "rs"}[across]
            draw.text((where[0], where[1]), line, font=font, fill=colour, anchor=anchor)

    def boxed(self, x: float, y: float, words: str, size: float, *, across: str = "middle") -> None:
        """Words on paper in a rounded frame, their middle at the height y."""
        font, high = _font("", size), size * _DPI / 72
        wide, pad = font.getlength(words), 0.35 * high
        left = x - {"left": 0.0, "middle": 0.5, "right": 1.0}[across] * wide
        low, top = self._down((left - pad, y - 0.5 * high - pad)), self._down((left + wide + pad, y + 0.5 * high + pad))
        box = np.array([[low[0], top[1]], [top[0], low[1]]])
        for colour, shrink in ((palette.QUIET, 0.0), (palette.PAPER, 0.9)):

            def round_box(draw: Any, fine: "_Fine", shrink: float = shrink) -> None:
                inner = fine(box + shrink * np.array([[1, 1], [-1, -1]]))
                draw.rounded_rectangle([*map(tuple, inner)], radius=0.3 * high * _FINE, fill=255)

            self._stamp(box, colour, round_box)
        self.text(left, y, words, size, up="middle")

    def image(self, image: "Image", left: float = 0.0, bottom: float = 0.0) -> "Sheet":
        """A shaded image with its lower left corner there; the part of the sheet that it fills."""
        from PIL import Image as Pictures

        part = self.at(left, bottom)
        x, y = part._down((0, image.alpha.shape[0]))
        rgb, alpha = (np.rint(255 * a).astype(np.uint8) for a in (image.rgb, image.alpha))
        self._canvas.paste(Pictures.fromarray(rgb), (round(x), round(y)), Pictures.fromarray(alpha))
        return part

    def pixels(self, rgb: Floats, left: float, bottom: float, width: float, height: float) -> None:
        """Colours (Y, X, 3) in 0..1, the upper row first, stretched over a rectangle."""
        from PIL import Image as Pictures

        x0, y1 = self._down((left, bottom))
        x1, y0 = self._down((left + width, bottom + height))
        size = max(round(x1) - round(x0), 1), max(round(y1) - round(y0), 1)
        shrinks = size[0] < rgb.shape[1] or size[1] < rgb.shape[0]
        drawn = Pictures.fromarray(np.rint(255 * np.clip(rgb, 0, 1)).astype(np.uint8))
        how = Pictures.Resampling.BOX if shrinks else Pictures.Resampling.NEAREST
        self._canvas.paste(drawn.resize(size, how), (round(x0), round(y0)))

    def lines(
        self, paths: Sequence[ArrayLike], colour: str, width: float, dash: tuple[float, float] | None = None
    ) -> None:
        """Polylines (N, 2) of a width in points."""
        drawn = [self._down(path) for path in paths]
        drawn = [piece for path in drawn for piece in (_dashes(path, dash) if dash else [path])]
        if not drawn:
            return
        thick = max(1, round(width * _DPI / 72 * _FINE))

        def strokes(draw: Any, fine: "_Fine") -> None:
            for path in drawn:
                draw.line([*map(tuple, fine(path))], fill=255, width=thick, joint="curve" if len(path) > 2 else None)

        self._stamp(np.concatenate(drawn), colour, strokes, margin=width * _DPI / 72)

    def area(self, corners: ArrayLike, colour: str, alpha: float = 1.0) -> None:
        """A filled polygon (N, 2)."""
        down = self._down(corners)
        self._stamp(down, colour, lambda draw, fine: draw.polygon([*map(tuple, fine(down))], fill=255), strength=alpha)

    def rectangle(
        self, left: float, bottom: float, width: float, height: float, colour: str, alpha: float = 1.0
    ) -> None:
        """A filled rectangle."""
        right, top = left + width, bottom + height
        self.area([(left, bottom), (right, bottom), (right, top), (left, top)], colour, alpha)

    def square(self, x: float, y: float, size: float, colour: str) -> None:
        """A filled square of a size in points around a place."""
        half = 0.5 * size * _DPI / 72
        self.rectangle(x - half, y - half, 2 * half, 2 * half, colour)

    def disc(self, place: ArrayLike, size: float, fill: str | None, edge: str, width: float) -> None:
        """A disc of a size in points around a place (2,), with an edge of a width in points half outside; fill may be
        None: a ring."""
        middle, half, rim = self._down(place), 0.5 * size * _DPI / 72, 0.5 * width * _DPI / 72
        box = middle + np.array([[-1.0], [1.0]]) * (half + rim)

        def ring(draw: Any, fine: "_Fine") -> None:
            draw.ellipse([*map(tuple, fine(box))], outline=255, width=max(1, round(2 * rim * _FINE)))

        if fill is not None:
            self._stamp(box, fill, lambda draw, fine: draw.ellipse([*map(tuple, fine(box))], fill=255))
        self._stamp(box, edge, ring)

    def arrow(self, start: ArrayLike, end: ArrayLike, colour: str = palette.INK, width: float = 1.0) -> None:
        """A line with a filled head at its end."""
        start, end = np.asarray(start, float), np.asarray(end, float)
        along = (end - start) / max(float(np.linalg.norm(end - start)), 1e-9)
        across, foot = np.array([-along[1], along[0]]), end - 7.0 * along
        self.lines([[start, foot]], colour, width)
        self.area([end, foot + 3.0 * across, foot - 3.0 * across], colour)

    def _down(self, points: ArrayLike) -> Floats:
        """Places (..., 2) as Pillow counts: from the upper left of the canvas, y down."""
        points = np.asarray(points, float)
        return np.stack([points[..., 0] + self.left, self._canvas.size[1] - points[..., 1] - self.bottom], axis=-1)

    def _stamp(
        self,
        around: Floats,
        colour: str,
        draw: Callable[[Any, "_Fine"], None],
        *,
        margin: float = 0.0,
        strength: float = 1.0,
    ) -> None:
        """Lay a colour on through what `draw` draws on a fine mask that holds places (N, 2), and a margin of pixels."""
        from PIL import Image, ImageDraw

        low = np.maximum(np.floor(around.min(axis=0) - margin - 1), 0).astype(int)
        high = np.minimum(np.ceil(around.max(axis=0) + margin + 1), self._canvas.size).astype(int)
        if (high <= low).any():
            return
        wide, tall = (int(n) for n in _FINE * (high - low))
        mask = Image.new("L", (wide, tall))
        draw(ImageDraw.Draw(mask), lambda points: _FINE * (points - low))
        mask = mask.reduce(_FINE)
        if strength < 1:
            mask = mask.point([round(strength * k) for k in range(256)])
        self._canvas.paste(colour, (int(low[0]), int(low[1])), mask)


_Fine = Callable[[Floats], Floats]


def words_wide(words: str, size: float, style: str = "") -> float:
    """How many pixels wide words are."""
    return float(_font(style, size).getlength(words))


def shortened(words: str, size: float, most: float) -> str:
    """The words, cut with dots where they are wider than so many pixels."""
    if words_wide(words, size) <= most:
        return words
    while words and words_wide(words + "...", size) > most:
        words = words[:-1].rstrip(" ,")
    return words + "..."


@functools.cache
def _font(style: str, size: float) -> Any:
    from PIL import ImageFont

    path = Path(__file__).parent / "fonts" / _FONTS[style]
    return ImageFont.truetype(str(path), size * _DPI / 72, layout_engine=ImageFont.Layout.BASIC)


def _dashes(path: Floats, dash: tuple[float, float]) -> list[Floats]:
    """A polyline (N, 2) as its dashes."""
    on, off = dash
    steps = np.linalg.norm(np.diff(path, axis=0), axis=1)
    along = np.concatenate([[0.0], np.cumsum(steps)])
    begins = np.arange(0.0, along[-1], on + off)
    ends = np.minimum(begins + on, along[-1])
    both = np.stack([np.interp(np.stack([begins, ends], axis=1), along, path[:, k]) for k in (0, 1)], axis=-1)
    return list(both)
