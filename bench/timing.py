"""Whole runs of the program, timed; and what this machine does in this hour."""

import os
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np

PROGRAM = Path(sys.executable).with_name("bolvek")


@dataclass(frozen=True)
class Done:
    """Seconds on the clock and of processors, peak memory (MB), exit code."""

    seconds: float
    cpu: float
    peak_mb: float
    code: int


def run(*args: object, cache: Path | None = None) -> Done:
    """One run of the program."""
    environment = {**os.environ, **({"BOLVEK_CACHE": str(cache)} if cache else {})}
    # a small process in between: a child's peak memory counts its parent's at the time of the fork
    code = (
        "import os, subprocess, sys; p = subprocess.Popen(sys.argv[1:], stdout=-3, stderr=-3); "
        "_, s, u = os.wait4(p.pid, 0); print(u.ru_maxrss, os.waitstatus_to_exitcode(s), u.ru_utime + u.ru_stime)"
    )
    begin = time.perf_counter()
    done = subprocess.run(
        [sys.executable, "-S", "-c", code, PROGRAM, *map(str, args)], stdout=subprocess.PIPE, text=True, env=environment
    )
    seconds = time.perf_counter() - begin
    kilobytes, code_text, cpu = done.stdout.split()
    return Done(seconds, float(cpu), int(kilobytes) / 1024, int(code_text))


def yardstick() -> float:
    """Seconds of a fixed workload in NumPy and memory: what this machine does in this hour."""
    rng = np.random.default_rng(0)
    numbers = rng.random(4_000_000)
    rows = rng.integers(0, len(numbers), len(numbers))
    begin = time.perf_counter()
    for _ in range(3):
        numbers = np.sort(numbers[rows]) + np.sqrt(numbers)
    return time.perf_counter() - begin


def timed_with_yardstick(*args: object, cache: Path | None = None) -> tuple[float, float, float]:
    """Seconds, the same in yardsticks (the mean of one before and one after), and peak memory (MB)."""
    before = yardstick()
    done = run(*args, cache=cache)
    return done.seconds, done.seconds / (0.5 * (before + yardstick())), done.peak_mb
