"""A plot on a sheet: a rectangle with a scale along two of its sides."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from bolvek.arrays import Floats
from bolvek.report.pictures import palette
from bolvek.report.pictures.sheet import Sheet

_STEPS = (1.0, 2.0, 2.5, 5.0, 10.0)
_TICK = 3.5  # pixels


@dataclass(frozen=True)
class Plot:
    """A rectangle of so many pixels whose lower left corner is that of the sheet's part; what x and y are at its
    sides."""

    sheet: Sheet
    width: float
    height: float
    x: tuple[float, float]
    y: tuple[float, float]

    def place(self, points: ArrayLike) -> Floats:
        """Pixels (..., 2) of points (..., 2)."""
        points = np.asarray(points, float)
        low, high = np.array([self.x, self.y]).T
        return np.asarray((points - low) / (high - low) * (self.width, self.height))

    def frame(self, x_words: str = "", y_words: str = "", *, size: float = 9, whole: bool = False) -> None:
        """The two sides, or all four, with ticks, their numbers in points of a size, and words for them."""
        colour, w, h = palette.QUIET, self.width, self.height
        sides = [[(0, h), (0, 0), (w, 0)]] + ([[(w, 0), (w, h), (0, h)]] if whole else [])
        ticks = []
        x_at = ticks_of(self.x, max(2, int(w / 64)))
        for value in x_at:
            at = self.place((value, self.y[0]))[0]
            ticks.append([(at, 0), (at, -_TICK)])
            self.sheet.text(at, -_TICK - 3, number_text(value, x_at), size, colour, across="middle", up="top")
        y_at = ticks_of(self.y, max(2, int(h / 30)))
        for value in y_at:
            at = self.place((self.x[0], value))[1]
            ticks.append([(0, at), (-_TICK, at)])
            self.sheet.text(-_TICK - 3, at, number_text(value, y_at), size, colour, across="right", up="middle")
        self.sheet.lines([*sides, *ticks], colour, 0.5 if whole else 0.8)
        if x_words:
            self.sheet.text(0.5 * w, -_TICK - 5 - 1.6 * size, x_words, size, colour, across="middle", up="top")
        if y_words:
            self.sheet.text(-6, h + 8, y_words, size, colour)

    def bars(self, edges: Floats, heights: Floats, colours: list[str]) -> None:
        """Bars from the bottom between edges (N+1,), a colour each."""
        for low, high, top, colour in zip(edges[:-1], edges[1:], heights, colours, strict=True):
            (x0, y0), (x1, y1) = self.place([(low, self.y[0]), (high, top)])
            self.sheet.rectangle(x0 + 0.35, y0, max(x1 - x0 - 0.7, 0.3), y1 - y0, colour)

    def filled(self, x: Floats, y: Floats, colour: str, alpha: float) -> None:
        """The area below a line."""
        corners = np.concatenate([[(x[0], self.y[0])], np.stack([x, y], axis=1), [(x[-1], self.y[0])]])
        self.sheet.area(self.place(corners), colour, alpha)

    def line(self, x: Floats, y: Floats, colour: str, width: float) -> None:
        """A line through points."""
        self.sheet.lines([self.place(np.stack([x, y], axis=1))], colour, width)

    def upright(self, x: float, colour: str, width: float, dash: tuple[float, float] | None = None) -> None:
        """A line from bottom to top."""
        at = self.place((x, self.y[0]))[0]
        self.sheet.lines([[(at, 0), (at, self.height)]], colour, width, dash)

    def band(self, low: float, high: float, colour: str, alpha: float) -> None:
        """From bottom to top between two values of x."""
        x0, x1 = self.place([(low, self.y[0]), (high, self.y[0])])[:, 0]
        self.sheet.rectangle(x0, 0, x1 - x0, self.height, colour, alpha)


def ticks_of(ends: tuple[float, float], most: int) -> list[float]:
    """At most so many round numbers, evenly between two ends."""
    low, high = ends
    rough = (high - low) / max(most, 1)
    power = 10.0 ** np.floor(np.log10(max(rough, 1e-300)))
    step = float(next(s for s in _STEPS if s * power >= rough * (1 - 1e-9)) * power)
    first, last = int(np.ceil(low / step - 1e-9)), int(np.floor(high / step + 1e-9))
    return [k * step for k in range(first, last + 1)]


def number_text(value: float, among: list[float]) -> str:
    """A tick's number, with as many digits as its scale needs."""
    step = among[1] - among[0] if len(among) > 1 else abs(value) or 1.0
    digits = max(0, -int(np.floor(np.log10(step) + 1e-9)))
    digits += not np.isclose(step * 10**digits, round(step * 10**digits))
    return f"{value:.{min(digits, 9)}f}" if abs(value) > 1e-12 * step else f"{0:.{min(digits, 9)}f}"
