"""How far a job of many models is: what is done, what is being worked on and where, how long the rest will take."""

import shutil
import threading
import time
from collections.abc import Sequence
from pathlib import Path

from bolvek.units import count_text

_BAR, _MOST_LINES = 24, 8


class Saying:
    """What is being done right now, by whoever does it: one line that changes."""

    def __init__(self, what: str) -> None:
        self._what, self._begin = what, time.monotonic()

    def __call__(self, what: str) -> None:
        self._what = what

    def line(self) -> str:
        """All in one line, with the seconds since the beginning."""
        return f"{self._what} ... {time.monotonic() - self._begin:.0f} s"

    def lines(self) -> list[str]:
        """The same, no wider than the terminal."""
        return [self.line()[: shutil.get_terminal_size().columns - 1]]


class Progress:
    """Told by whoever hands out the work, read by whoever shows it. sizes: how much work each model is, in any unit."""

    def __init__(self, verb: str, files: Sequence[Path], sizes: Sequence[float]) -> None:
        self._verb, self._names, self._sizes = verb, [file.name for file in files], sizes
        self._total = max(sum(sizes), 1e-9)
        self._done: set[int] = set()
        self._at_work: dict[int, tuple[str, float]] = {}
        self._begin, self._lock = time.monotonic(), threading.Lock()

    def begun(self, number: int, where: str = "") -> None:
        """A model is being worked on; where: the worker, if that says anything."""
        with self._lock:
            self._at_work[number] = where, time.monotonic()

    def ended(self, number: int) -> None:
        """A model is done, or has failed."""
        with self._lock:
            self._at_work.pop(number, None)
            self._done.add(number)

    @property
    def done(self) -> int:
        """So many models have come to an end."""
        return len(self._done)

    def line(self) -> str:
        """All in one line."""
        now, at_work = time.monotonic(), self._running()
        words = [f"{self._verb}: {self.done} of {count_text(len(self._names), 'model')}"]
        if at_work:
            named = ", ".join(f"{text} {now - since:.0f} s" for text, since in at_work[:_MOST_LINES])
            words.append(f"{len(at_work)} at work ({named})")
        return "; ".join([*words, *self._left(now)])

    def lines(self) -> list[str]:
        """A bar, and a line a model at work, none wider than the terminal."""
        now, at_work = time.monotonic(), self._running()
        share = self._share()
        head = f"{self._verb}  [{'=' * round(_BAR * share):<{_BAR}}] {self.done} of {len(self._names)}"
        text = ["  ".join([head, *self._left(now)])]
        text += [f"  {name}  {now - since:.0f} s" for name, since in at_work[:_MOST_LINES]]
        if len(at_work) > _MOST_LINES:
            text.append(f"  and {len(at_work) - _MOST_LINES} more")
        wide = shutil.get_terminal_size().columns - 1
        return [line[:wide] for line in text]

    def _running(self) -> list[tuple[str, float]]:
        with self._lock:
            found = sorted(self._at_work.items())
        return [(f"{self._names[k]} on {where}" if where else self._names[k], since) for k, (where, since) in found]

    def _share(self) -> float:
        with self._lock:
            return sum(self._sizes[k] for k in self._done) / self._total

    def _left(self, now: float) -> list[str]:
        """How long the rest will take if it goes on as it went."""
        share = self._share()
        if not 0 < share < 1:
            return []
        seconds = (now - self._begin) * (1 - share) / share
        return [f"about {f'{seconds:.0f} s' if seconds < 100 else f'{seconds / 60:.0f} min'} left"]
