"""Ranges of work over threads. Kernels release the GIL; results do not depend on the split."""

import os
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

A = TypeVar("A")
B = TypeVar("B")

_MOST_RANGES = 64


def thread_count() -> int:
    """Threads to use: BOLVEK_THREADS if set, else the processors this process may use."""
    asked = os.environ.get("BOLVEK_THREADS", "")
    if asked.isdigit() and int(asked) > 0:
        return int(asked)
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)


def side_by_side(one: Callable[[], A], other: Callable[[], B]) -> tuple[A, B]:
    """What two works give that need nothing of each other: each has stretches on one core that the other can use."""
    if thread_count() == 1:
        return one(), other()
    with ThreadPoolExecutor(1) as beside:
        waiting = beside.submit(one)
        found = other()
        return waiting.result(), found


def run_ranges(work: Callable[[int, int], Any], total: int, *, grain: int = 4096) -> list[Any]:
    """Call work(begin, end) over 0..total in ranges of `grain` or more; results in their order.

    The ranges are the same whatever the number of threads, so that nothing can depend on it.
    """
    if total <= 0:
        return []
    threads = thread_count()
    chunk = max(grain, -(-total // _MOST_RANGES))
    ranges = [(b, min(b + chunk, total)) for b in range(0, total, chunk)]
    if threads == 1 or len(ranges) == 1 or getattr(_worker, "is_one", False):
        return [work(b, e) for b, e in ranges]
    return list(_pool(threads).map(lambda r: work(*r), ranges))


_worker = threading.local()
_lock = threading.Lock()
_pools: dict[int, ThreadPoolExecutor] = {}


def _pool(threads: int) -> ThreadPoolExecutor:
    """The pool of so many threads, made once. Its own work never waits for it: see `_worker`."""
    with _lock:
        if threads not in _pools:
            _pools[threads] = ThreadPoolExecutor(threads, initializer=lambda: setattr(_worker, "is_one", True))
        return _pools[threads]
