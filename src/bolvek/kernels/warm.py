"""Compiling kernels before they are needed: a few processes share the work, the cache keeps it.

A kernel compiles in under a second or in five, on one core; a verb needs twenty or forty of them. The unit of work is
a module: its kernels share helpers. `python -m bolvek.kernels.warm` is one worker: it reads names of modules, one a
line, and answers each with a line when it is done; `python -m bolvek.kernels.warm all` compiles everything.
"""

import importlib
import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterable
from pathlib import Path

from bolvek.kernels.cache import module_folder

MOST_WORKERS = 4

GROUPS = {
    "mesh": ("surface.topology", "exact.triangles", "tree.build", "tree.pairs"),
    "shells": ("tree.stab", "tree.winding", "tree.points"),
    "faults": ("surface.defects", "tree.rays"),
    "places": ("tree.distance",),
    "mend": ("surface.cells", "surface.fill", "exact.polygons", "exact.pierce"),
    "fuse": ("exact.pierce", "exact.polygons"),
    "voids": ("grid.voxels",),
    "walls": (
        "surface.samples",
        "tree.rays",
        "tree.balls",
        "tree.distance",
        "tree.signed",
        "tree.shortest",
        "tree.spheres",
        "tree.climbs",
        "grid.watershed",
    ),
    "overhangs": ("surface.samples", "surface.sweep", "tree.rays", "grid.bridges"),
    "columns": ("grid.columns", "grid.flood"),
    "held": ("grid.columns", "grid.held"),
    "supports": ("tree.between", "tree.rays", "tree.distance", "exact.pierce", "exact.polygons", "surface.cells"),
    "layers": ("surface.sections",),
    "hollow": (
        "surface.samples",
        "surface.cells",
        "surface.collapse",
        "grid.isosurface",
        "tree.distance",
        "tree.between",
        "tree.signed",
        "tree.shortest",
        "tree.spheres",
    ),
    "fairing": ("surface.cells", "surface.fairing", "tree.points"),
    "drain": ("surface.samples", "tree.rays", "tree.distance", "tree.signed"),
    "rooms": (
        "surface.samples",
        "grid.voxels",
        "grid.watershed",
        "tree.climbs",
        "tree.distance",
        "tree.signed",
        "tree.rays",
    ),
    "slim": ("surface.cells", "surface.collapse", "tree.distance", "tree.apart"),
    "picture": ("raster", "tree.distance"),
    "polygons": ("exact.polygons",),
    "text": ("files.text",),
}
"""What verbs name when they say what they need."""

_READERS = {
    ".obj": ("polygons", "text"),
    ".ply": ("polygons",),
    ".off": ("polygons", "text"),
    ".3mf": ("text",),
}


_WRITERS = {".obj": ("text",), ".3mf": ("text",), ".off": ("text",)}


def for_writing(suffix: str) -> list[str]:
    """The modules that write files of a suffix."""
    return modules_of(_WRITERS.get(suffix, ()))


def modules_of(groups: Iterable[str]) -> list[str]:
    """The modules of some groups."""
    return [name for group in groups for name in GROUPS[group]]


def for_suffix(suffix: str) -> list[str]:
    """The modules that read files of a suffix, as far as they always need any."""
    return modules_of(_READERS.get(suffix, ()))


def missing(modules: Iterable[str]) -> list[str]:
    """Those modules that this machine has not compiled yet for this version."""
    return [name for name in dict.fromkeys(modules) if not _marker(name).exists()]


class Warming:
    """Modules being compiled, in their order, by a few processes; `tell(done, all)` is called after each.

    Failure here is no failure: kernels also compile when first called.
    """

    def __init__(self, modules: Iterable[str], tell: Callable[[int, int], None] = lambda *_: None) -> None:
        self._waiting = missing(modules)[::-1]  # taken from the end
        self._open, self._total = set(self._waiting), len(self._waiting)
        self._tell, self._change = tell, threading.Condition()
        if self._total:
            tell(0, self._total)
        self._serving = min(_cores(), MOST_WORKERS, self._total)
        for _ in range(self._serving):
            threading.Thread(target=self._serve, daemon=True).start()

    @property
    def left(self) -> int:
        """How many are not done."""
        return len(self._open)

    def wait(self, modules: Iterable[str] | None = None) -> None:
        """Return when these are done, or all; or when nobody works on them any more."""
        asked = None if modules is None else set(modules)
        with self._change:
            self._change.wait_for(
                lambda: not self._serving or not (self._open if asked is None else self._open & asked)
            )

    def stop(self) -> None:
        """Take up no more of them."""
        with self._change:
            self._waiting.clear()

    def _serve(self) -> None:
        worker = subprocess.Popen(
            [sys.executable, "-m", "bolvek.kernels.warm"], stdin=subprocess.PIPE, stdout=subprocess.PIPE, text=True
        )
        assert worker.stdin is not None and worker.stdout is not None
        while True:
            with self._change:
                if not self._waiting:
                    break
                name = self._waiting.pop()
            try:
                worker.stdin.write(name + "\n")
                worker.stdin.flush()
            except OSError:
                break
            if not worker.stdout.readline():
                break
            with self._change:
                self._open.discard(name)
                self._tell(self._total - len(self._open), self._total)
                self._change.notify_all()
        worker.stdin.close()
        worker.stdout.close()
        worker.wait()
        with self._change:
            self._serving -= 1
            self._change.notify_all()


def warm_up(modules: Iterable[str], tell: Callable[[int, int], None] = lambda *_: None) -> None:
    """Compile what is missing of some modules, the heaviest first; `tell(done, all)` is called after each."""
    Warming(sorted(modules, key=_weight, reverse=True), tell).wait()


def all_modules() -> list[str]:
    """Every module of kernels."""
    folder = Path(__file__).parent
    names = (p.relative_to(folder).with_suffix("") for p in sorted(folder.rglob("*.py")))
    return [".".join(n.parts) for n in names if "@kernel(" in (folder / n).with_suffix(".py").read_text()]


def _cores() -> int:
    return len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else (os.cpu_count() or 1)


def _marker(module: str) -> Path:
    return module_folder(module) / "compiled"


def _weight(module: str) -> int:
    """About how long a module takes: by the size of its source and of the kernels that it calls."""
    folder = Path(__file__).parent
    text = folder.joinpath(*module.split(".")).with_suffix(".py").read_text()
    calls = [line.split()[1] for line in text.splitlines() if line.startswith("from bolvek.kernels.")]
    return len(text) + sum(len(folder.joinpath(*name.split(".")[2:]).with_suffix(".py").read_text()) for name in calls)


def compile_module(module: str) -> None:
    """Compile every kernel of a module, and mark it as done."""
    from bolvek.kernels import KERNELS

    importlib.import_module(f"bolvek.kernels.{module}")
    for kernel in KERNELS:
        if kernel.module == module:
            kernel.prepare()
    try:
        _marker(module).parent.mkdir(exist_ok=True)
        _marker(module).touch()
    except OSError:
        pass


if __name__ == "__main__":
    if sys.argv[1:] == ["all"]:
        warm_up(all_modules())
    else:
        for line in sys.stdin:
            compile_module(line.strip())
            print("done", flush=True)
