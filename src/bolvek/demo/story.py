"""The workshop's example, run for real: a carp is made fit to print, troubled models are surveyed and mended, a set is
sized, a lamp is proved; chapter by chapter, several at once."""

import os
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import Future, ProcessPoolExecutor, ThreadPoolExecutor, as_completed
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path
from typing import Any

from bolvek.demo import carp_story, measure_story, repair_story
from bolvek.demo.desk import Desk, Tell
from bolvek.formats import check_target
from bolvek.formats.folder import check_folder
from bolvek.formats.safe import write_bytes
from bolvek.kernels import PLAIN
from bolvek.kernels.warm import Warming, modules_of
from bolvek.report.page.entry import Entry
from bolvek.report.page.page import page_bytes
from bolvek.spatial.parallel import thread_count
from bolvek.units import count_text

INDEX = "index.html"
"""The pages of the story."""


@dataclass(frozen=True)
class Chapter:
    """A part of the story that needs no other: what it does (False where what it made falls short), the files it
    leaves, and the groups of kernels it needs."""

    name: str
    work: Callable[[Desk], bool | None]
    files: tuple[str, ...]
    kernels: tuple[str, ...]


_LOOK = ("mesh", "shells", "faults", "picture")
CHAPTERS = (
    Chapter(
        "the carp",
        carp_story.prepare_the_carp,
        carp_story.FILES,
        (*_LOOK, "walls", "hollow", "drain", "rooms", "columns", "layers", "mend", "fuse", "places"),
    ),
    Chapter("the lantern set", measure_story.size_the_set, measure_story.SET_FILES, _LOOK),
    Chapter(
        "the finial and the cloud tile",
        repair_story.repair_finial_and_tile,
        repair_story.FILES,
        (
            *_LOOK,
            "mend",
            "places",
            "fuse",
            "walls",
            "hollow",
            "drain",
            "rooms",
            "columns",
            "fairing",
            "polygons",
            "text",
        ),
    ),
    Chapter(
        "the twin lamp",
        measure_story.prove_the_lamp,
        measure_story.LAMP_FILES,
        (*_LOOK, "walls", "rooms", "columns", "drain"),
    ),
    Chapter(
        "the leaf and the bracket",
        repair_story.make_leaf_and_bracket_solid,
        repair_story.SOLID_FILES,
        (*_LOOK, "mend", "walls", "hollow", "drain", "places", "fuse", "rooms"),
    ),
    Chapter(
        "the lattice shade",
        measure_story.measure_the_shade,
        measure_story.SHADE_FILES,
        (*_LOOK, "overhangs", "columns", "layers", "places"),
    ),
    Chapter(
        "the lantern post",
        measure_story.cut_the_post,
        measure_story.POST_FILES,
        (*_LOOK, "layers", "fuse", "mend", "hollow", "places"),
    ),
    Chapter("the gourd", measure_story.measure_the_gourd, measure_story.GOURD_FILES, (*_LOOK, "walls", "places")),
)
"""In the order in which they are begun: first what one came to see, then the long ones."""


def run_demo(folder: Path, tell: Tell, busy: Callable[[str], None], *, jobs: int = 1, replace: bool = False) -> bool:
    """Write every model, record and picture into a folder, so many chapters at once; whether the carp is fit.

    What a chapter needs is compiled while others are at work. busy is told what is being done, whenever that changes.
    Raises FileError when one of the files exists and `replace` is not set.
    """
    for name in (*(name for chapter in CHAPTERS for name in chapter.files), INDEX):
        check_target(folder / name, replace=replace)
    check_folder(folder / carp_story.PLUGS, replace=replace)
    needed = [] if PLAIN else [module for chapter in CHAPTERS for module in modules_of(chapter.kernels)]
    warming = Warming(needed, lambda done, count: busy(_preparing(count - done)))
    try:
        if jobs == 1:
            told = [_worked(chapter, Desk(folder, tell, busy, replace), warming) for chapter in CHAPTERS]
        else:
            told = _at_once(folder, tell, busy, jobs, replace, warming)
    finally:
        warming.stop()
    begin = time.perf_counter()
    entries = [entry for _, entries in told for entry in entries]
    write_bytes(folder / INDEX, page_bytes(entries, verb="demo"), replace=replace)
    tell("pages", f"{folder / INDEX}", time.perf_counter() - begin)
    return all(fit is not False for fit, _ in told)


def _preparing(left: int) -> str:
    return f"preparing kernels, once on this machine: {count_text(left, 'module')} left"


def _worked(chapter: Chapter, desk: Desk, warming: Warming) -> tuple[bool | None, list[Entry]]:
    warming.wait(modules_of(chapter.kernels))
    desk.busy(chapter.name)
    return chapter.work(desk), desk.entries


def _at_once(
    folder: Path, tell: Tell, busy: Callable[[str], None], jobs: int, replace: bool, warming: Warming
) -> list[tuple[bool | None, list[Entry]]]:
    """The chapters in processes of their own, each begun when its kernels are there; what they say is told as it
    comes."""
    context = get_context("spawn")
    said: Any = context.Queue()
    at_work: dict[int, str] = {}

    def listen() -> None:
        while (message := said.get()) is not None:
            kind, number, *rest = message
            if kind == "step":
                tell(*rest)
            elif rest[0]:
                at_work[number] = rest[0]
            else:
                at_work.pop(number, None)
            waiting = [_preparing(warming.left)] if warming.left else []
            busy("; ".join([*waiting, *at_work.values()]))

    listener = threading.Thread(target=listen, daemon=True)
    listener.start()
    threads = max(1, thread_count() // jobs)
    pool = ProcessPoolExecutor(jobs, context, initializer=_begin, initargs=(threads, said))
    slots = ThreadPoolExecutor(jobs)

    def work(number: int) -> tuple[bool | None, list[Entry]]:
        warming.wait(modules_of(CHAPTERS[number].kernels))
        return pool.submit(_chapter, number, folder, replace).result()

    waiting: list[Future[Any]] = [slots.submit(work, number) for number in range(len(CHAPTERS))]
    try:
        for done in as_completed(waiting):
            done.result()
        return [done.result() for done in waiting]
    except BaseException:
        for process in list((pool._processes or {}).values()):
            process.terminate()
        raise
    finally:
        slots.shutdown(wait=False, cancel_futures=True)
        pool.shutdown(wait=False, cancel_futures=True)
        said.put(None)
        listener.join()


_SAID: list[Any] = []


def _begin(threads: int, said: Any) -> None:
    """A process that works on chapters: it uses so many threads, and leaves Ctrl-C to the one that called it."""
    import signal

    os.environ["BOLVEK_THREADS"] = str(threads)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _SAID[:] = [said]


def _chapter(number: int, folder: Path, replace: bool) -> tuple[bool | None, list[Entry]]:
    """One chapter, in a process of `_at_once`."""
    chapter, put = CHAPTERS[number], _SAID[0].put

    def tell(name: str, text: str, seconds: float) -> None:
        put(("step", number, name, text, seconds))

    def busy(what: str) -> None:
        put(("busy", number, what))

    desk = Desk(folder, tell, busy, replace)
    busy(chapter.name)
    try:
        return chapter.work(desk), desk.entries
    finally:
        busy("")


def ways_on(folder: Path) -> Sequence[tuple[str, str]]:
    """What to open, and what to type next, when the story is at its end."""
    return (
        ("open", f"{folder / INDEX} in a browser: turn the models, cut them open, fly to what was found"),
        ("look", f"{folder / 'carp.prep.png'}: the carp, hollow and drained; carp.prep.json beside it is its proof"),
        ("next", f"bolvek prep {folder / 'carp.stl'} --height 120mm --wall 2mm -o {folder / 'carp120.stl'}"),
    )
