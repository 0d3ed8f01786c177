"""Several models at once: each in a process of its own, told in order as if they had run one after the other.

A worker runs the same command line and works on one of its files (`PART`); what it says, finds and would record comes
back. Each place for a worker is an executor of one process, so that one that dies takes only its own model along.
"""

import os
import threading
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor
from concurrent.futures.process import BrokenProcessPool
from contextlib import contextmanager
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from bolvek.cli.base.console import Talk
from bolvek.cli.base.outcome import Engine
from bolvek.cli.base.progress import Progress, Saying
from bolvek.cli.base.stopping import stop_if_asked
from bolvek.errors import BolvekError, WorkError

Cells = tuple[tuple[str, str], ...]

PART: list[int] = []
"""Which of the files this process works on; empty in the one that was called."""

_BASE_MB, _MOST_SHARE = 300.0, 0.8
_BYTES = {"survey": 700, "walls": 800, "scale": 500, "pose": 500, "picture": 500, "recast": 4500, "mend": 1900}
_BYTES_ELSE = 1700
"""Memory (bytes a triangle) that a verb takes, as measured on a million; of a process it is so much more (MB)."""
_FILE_BYTES = {".stl": 50, ".ply": 19, ".obj": 60, ".off": 50, ".3mf": 12}


class Finished(BaseException):
    """The end of a worker's part: not an error, and nothing that `except Exception` may catch."""

    def __init__(self, part: "Part") -> None:
        super().__init__()
        self.part = part


class Kept(Talk):
    """Keeps what is said, to be told by the process that was called."""

    def __init__(self) -> None:
        super().__init__(None)
        self.said: list[Cells] = []

    def _print(self, *cells: tuple[str, str]) -> None:
        self.said.append(cells)

    @contextmanager
    def during(self, what: str | Progress | Saying, every_s: float | None = None) -> Iterator[None]:
        yield


def needed_mb(file: Path, verb: str) -> float:
    """About how much memory a verb takes for a file, from its size."""
    try:
        size = file.stat().st_size
    except OSError:
        return _BASE_MB
    triangles = size / _FILE_BYTES.get(file.suffix.lower(), 50)
    return _BASE_MB + triangles * _BYTES.get(verb, _BYTES_ELSE) / 1e6


def free_mb() -> float:
    """Memory that workers may fill together."""
    try:
        pages = os.sysconf("SC_AVPHYS_PAGES")
        cached = 0.0
        with open("/proc/meminfo") as lines:
            cached = next((float(line.split()[1]) / 1024 for line in lines if line.startswith("MemAvailable")), 0.0)
        return _MOST_SHARE * max(pages * os.sysconf("SC_PAGE_SIZE") / 1e6, cached)
    except (OSError, ValueError, AttributeError):
        return float("inf")


class _Room:
    """Memory shared out: who needs more than is left waits, unless nobody else runs."""

    def __init__(self, free: float) -> None:
        self._free, self._users, self._change = free, 0, threading.Condition()

    @contextmanager
    def taken(self, mb: float) -> Iterator[None]:
        with self._change:
            self._change.wait_for(lambda: self._users == 0 or mb <= self._free)
            self._users, self._free = self._users + 1, self._free - mb
        try:
            yield
        finally:
            with self._change:
                self._users, self._free = self._users - 1, self._free + mb
                self._change.notify_all()


@dataclass(frozen=True)
class Task:
    """Work of one model in another process: what is called with what (all of it can be pickled), the memory it needs,
    and how much work it is (any unit)."""

    call: Callable[..., "Part"]
    given: tuple[Any, ...]
    needs_mb: float
    size: float


@dataclass(frozen=True)
class Part:
    """What came of a model in another process: its end, or why nothing came of it, and what was said."""

    end: Any
    said: list[Cells]


def part_task(file: Path, verb: str, arguments: tuple[str, ...], number: int) -> Task:
    """The same command line, for one of its files."""
    return Task(_part, (arguments, number), needed_mb(file, verb), file_size(file))


def file_size(file: Path) -> float:
    """Bytes of a file; 1 at least, also where there is none."""
    try:
        return max(float(file.stat().st_size), 1.0)
    except OSError:
        return 1.0


class Beside(Engine):
    """So many processes on this machine."""

    def __init__(self, jobs: int) -> None:
        self._jobs = jobs

    def hand_out(self, tasks: Sequence[Task], tell: Callable[[int, Any], None], progress: Progress) -> None:
        """See `Engine`."""
        room, threads = _Room(free_mb()), max(1, (os.cpu_count() or 1) // self._jobs)
        alive: dict[int, ProcessPoolExecutor] = {}
        places = threading.local()
        stopping = threading.Event()

        def work(number: int) -> Any:
            if stopping.is_set():
                raise KeyboardInterrupt
            task = tasks[number]
            with room.taken(task.needs_mb):
                pool = getattr(places, "pool", None)
                if pool is None:
                    pool = places.pool = ProcessPoolExecutor(
                        1, mp_context=get_context("spawn"), initializer=_begin, initargs=(threads,)
                    )
                    alive[threading.get_ident()] = pool
                progress.begun(number)
                try:
                    return pool.submit(task.call, *task.given).result()
                except BrokenProcessPool:
                    pool.shutdown(wait=False)
                    del places.pool
                    return WorkError(
                        "its process was ended from outside; most likely there was not enough memory for it"
                    )
                except BolvekError as error:
                    return error
                finally:
                    if not stopping.is_set():
                        progress.ended(number)

        with ThreadPoolExecutor(self._jobs) as slots:
            waiting: list[Future[Any]] = [slots.submit(work, k) for k in range(len(tasks))]
            try:
                for number, one in enumerate(waiting):
                    tell(number, one.result())
                    stop_if_asked()
            except KeyboardInterrupt:
                stopping.set()
                for pool in list(alive.values()):
                    for process in list((pool._processes or {}).values()):
                        process.terminate()
                raise
            finally:
                for pool in list(alive.values()):
                    pool.shutdown(wait=False, cancel_futures=True)


def _begin(threads: int) -> None:
    """A worker: it uses so many threads, leaves Ctrl-C to the process that called it, and tidies up when ended."""
    import signal

    os.environ["BOLVEK_THREADS"] = str(threads)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.signal(signal.SIGTERM, _leave)


def _leave(*_: Any) -> None:
    raise SystemExit


def _part(arguments: tuple[str, ...], number: int) -> Part:
    """The command line, worked on for one of its files."""
    from bolvek.cli.main import cli

    PART[:] = [number]
    try:
        with cli.make_context("bolvek", list(arguments), obj=arguments) as context:
            cli.invoke(context)
    except Finished as end:
        return end.part
    finally:
        PART.clear()
    raise WorkError("nothing came of it")
