"""Where the time of the tests goes: by file and by cause.

`make spent` runs the suite with this as a plugin and prints the table of docs/benchmarks.md. Causes: models and
folders that fixtures make (setup), programs started in processes of their own, kernels compiled or loaded in the
test's own process, and the rest, which is the work that the test looks at.
"""

import subprocess
import time
from collections import defaultdict
from pathlib import Path

import pytest

from bolvek.kernels import Kernel

CAUSES = ("setup", "programs", "kernels", "work")
_spent: dict[str, float] = defaultdict(float)
_sums: dict[str, dict[str, float]] = defaultdict(lambda: defaultdict(float))
_began = time.perf_counter()


def _counted(function, cause):
    def wrapped(*args, **named):
        begin = time.perf_counter()
        try:
            return function(*args, **named)
        finally:
            _spent[cause] += time.perf_counter() - begin
            _spent[f"{cause} count"] += 1

    return wrapped


subprocess.run = _counted(subprocess.run, "programs")
Kernel.prepare = _counted(Kernel.prepare, "kernels")


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item, call):
    """What was spent within this phase goes with its report, from a process of xdist to the one that sums."""
    report = yield
    report.spent = dict(_spent)
    _spent.clear()
    return report


def pytest_runtest_logreport(report):
    if not hasattr(report, "spent"):
        return
    row = _sums[report.nodeid.split("::")[0]]
    row["tests"] += report.when == "call"
    if report.when == "setup":
        row["setup"] += report.duration
        return
    inside = sum(report.spent.get(cause, 0.0) for cause in ("programs", "kernels"))
    for name, amount in report.spent.items():
        row[name] += amount
    row["work"] += max(report.duration - inside, 0.0)


def pytest_terminal_summary(terminalreporter, config):
    if hasattr(config, "workerinput"):
        return
    total = defaultdict(float)
    lines = ["| file | tests | s | setup | programs | started | kernels | work |", "|" + "---|" * 8]
    ordered = sorted(_sums.items(), key=lambda item: -sum(item[1][cause] for cause in CAUSES))
    for _, row in ordered:
        for key, amount in row.items():
            total[key] += amount
    for name, row in [*ordered, ("**all**", total)]:
        seconds = sum(row[cause] for cause in CAUSES)
        lines.append(
            f"| {Path(name).name} | {row['tests']:.0f} | {seconds:.1f} | {row['setup']:.1f} | {row['programs']:.1f} "
            f"| {row['programs count']:.0f} | {row['kernels']:.1f} | {row['work']:.1f} |"
        )
    terminalreporter.write_line("")
    terminalreporter.write_line("\n".join(lines))
    terminalreporter.write_line(f"\n{time.perf_counter() - _began:.0f} s on the clock")
