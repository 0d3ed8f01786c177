"""What a verb says of itself and of each model, and where models are read and written: words of the one way it runs."""

import dataclasses
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Protocol, TypeVar

from bolvek.analyses.finding import Finding, Told, agree
from bolvek.cli.base.console import Talk
from bolvek.cli.base.stopping import stop_if_asked
from bolvek.formats import Model, Parts, read_model, write_model
from bolvek.formats.safe import Written
from bolvek.settings import Remedy

if TYPE_CHECKING:
    from bolvek.cli.base.done import ModelDone
    from bolvek.cli.base.options import Asked
    from bolvek.cli.base.progress import Progress
    from bolvek.cli.base.workers import Task
    from bolvek.mesh import Mesh
    from bolvek.report.page.scene import Scene

T = TypeVar("T")
Row = tuple[str, str, str]
"""What, what is said about it, and a style."""


@dataclass(frozen=True, kw_only=True)
class Outcome:
    """What a verb found in a model, or made of it.

    model: as read, with the mesh that it has now; sections: those of the record; line: all in one line, where it is
    one of many; rows: everything, where it is alone; remedies: what to do now, beside those of findings; picture: draws
    it; outputs: files that the work wrote itself; volume_mm3: counted together where told. supports: what is written
    with the model and is no part of it; written: whether there is anything to write.
    """

    model: Model
    sections: dict[str, Any]
    line: str
    verdict: str
    ok: bool = True
    rows: Sequence[Row] = ()
    findings: tuple[Finding, ...] = ()
    remedies: tuple[Remedy, ...] = ()
    picture: Callable[[], bytes] | None = None
    scene: "Callable[[Scene], Scene] | None" = None
    outputs: Sequence[Path] = ()
    volume_mm3: float | None = None
    supports: "Mesh | None" = None
    written: bool = True

    def __post_init__(self) -> None:
        """Raise ValueError where what is told contradicts itself."""
        agree(self.verdict, self.ok, self.findings)


def owned(told: Told) -> dict[str, Any]:
    """What an outcome has of the record that owns its verdict."""
    return {"verdict": told.verdict, "ok": told.ok, "findings": told.findings}


def remade(model: Model, mesh: "Mesh", records: dict[str, Any], line: str, told: Told | str = "done") -> Outcome:
    """The outcome of an operation: the model with another mesh. told: the record that owns the verdict, or the word
    where none can find a fault."""

    def draw() -> bytes:
        from bolvek.report.pictures.results import plain_result  # imports what only pictures need

        return plain_result(model.path, mesh)

    after = dataclasses.replace(model, mesh=mesh)
    if isinstance(told, str):
        return Outcome(model=after, sections=records, line=line, verdict=told, picture=draw)
    return Outcome(model=after, sections=records, line=line, picture=draw, **owned(told))


class Steps:
    """Runs the steps of one model, each with its seconds; tells of them where the model is alone."""

    def __init__(self, talk: Talk, loud: bool, of: str, texts: Mapping[str, Callable[[Any], str]]) -> None:
        self.seconds: dict[str, float] = {}
        self._talk, self._loud, self._of, self._texts = talk, loud, of, texts

    def __call__(self, name: str, work: Callable[[], T], /) -> T:
        stop_if_asked()
        begin = time.perf_counter()
        with self._talk.during(f"{name}{self._of}"):
            result = work()
        took = time.perf_counter() - begin
        self.seconds[name] = self.seconds.get(name, 0.0) + took
        if self._loud and name in self._texts:
            self._talk.step(name, self._texts[name](result), took)
        return result


class Store:
    """Where models are read from and written to: the disk."""

    def read(self, path: Path, unit: str | None) -> Model:
        """A model. Raises FileError."""
        return read_model(path, unit=unit)

    def write(
        self, target: Path, mesh: "Mesh", parts: Parts | None, asked: "Asked", announce: Callable[[bytes], None]
    ) -> Written:
        """Write it; `announce` gets the bytes before they have their name. Raises FileError."""
        return write_model(target, mesh, parts=parts, text=asked.ascii_stl, replace=asked.replace, announce=announce)


@dataclass(frozen=True, kw_only=True)
class Run:
    """How a verb works on each of its models.

    settings: the verb's own by the name "", others by theirs. work(model, step) does it and returns the outcome.
    writes: the mesh of the outcome is written, after it passed the gate ("made"), when it was only moved ("moved":
    told what rounding made worse, and names kept), or as it is ("proven": the work has judged it already). suffix:
    that of the files written, where it is not the model's own. alone: targets that only one model may have, inputs:
    other files read for it. kernels: groups of them needed beyond the table. texts: what is told of each step.
    as_set: what is found from all meshes together before the work, which gets it as a third argument. keeps_names: the
    parts of the outcome's model, numbered face by face, are written with it. model_only: objects that the file calls
    support are left out before the work. store: where models are read and written.

    Of a job of many: announce(file, target, bytes, done) is called when all that is left is to give the bytes their
    name; kept: what is known of models that are left as they are; among: all its files, in order; task: the work on
    one file in another process; engine: who gives such tasks to processes, where it is not this machine.
    """

    verb: str
    settings: Mapping[str, Any]
    work: Callable[..., Outcome]
    writes: Literal["made", "moved", "proven"] | None = None
    suffix: str | None = None
    alone: Mapping[str, Path | None] = field(default_factory=dict)
    inputs: Mapping[str, Path | None] = field(default_factory=dict)
    kernels: Sequence[str] = ()
    texts: Mapping[str, Callable[[Any], str]] = field(default_factory=dict)
    as_set: "Callable[[Sequence[Mesh]], Any] | None" = None
    keeps_names: bool = False
    model_only: bool = False
    store: Store = field(default_factory=Store)
    announce: "Callable[[Path, Path, bytes, ModelDone], None] | None" = None
    kept: "Mapping[Path, ModelDone]" = field(default_factory=dict)
    among: Sequence[Path] | None = None
    task: "Callable[[Path, Path, bool], Task] | None" = None
    engine: "Engine | None" = None


class Engine(Protocol):
    """Who gives tasks to processes and gets back what came of them."""

    def hand_out(self, tasks: "Sequence[Task]", tell: Callable[[int, Any], None], progress: "Progress") -> None:
        """Have all tasks done; `tell` gets the number of each and what came of it, or a BolvekError, in order."""


COLLECTED: list[bool] = []
"""Not empty while verbs are only asked how they would work."""


class Collected(BaseException):
    """How a verb would work, instead of its work."""

    def __init__(self, how: Run) -> None:
        super().__init__()
        self.how = how
