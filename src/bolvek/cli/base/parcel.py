"""One model of a job as it goes to another process, here or on a farm, and what comes back."""

import os
import tempfile
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from bolvek.cli.base.done import ModelDone
from bolvek.cli.base.job import Job
from bolvek.cli.base.options import Asked
from bolvek.cli.base.outcome import Store
from bolvek.cli.base.run import work_apart
from bolvek.cli.base.workers import Part
from bolvek.errors import FileError
from bolvek.formats import Model, Parts, read_model
from bolvek.formats.registry import file_bytes
from bolvek.formats.safe import Written, encode_model
from bolvek.jobs.ledger import digest
from bolvek.jobs.sheet import Sheet

if TYPE_CHECKING:
    from bolvek.mesh import Mesh


class Bench(Store):
    """The disk of a job: what is read is known by its hash, and before a file gets its name the ledger has it."""

    def __init__(self, job: Job) -> None:
        self._job = job
        self._hashes: dict[Path, str] = {}

    def read(self, path: Path, unit: str | None) -> Model:
        """See `Store`."""
        data = file_bytes(path)
        self._hashes[path] = digest(data)
        return read_model(path, unit=unit, data=data)

    def announce(self, file: Path, target: Path, data: bytes, done: ModelDone) -> None:
        """Put down what is about to be a file."""
        self._job.ledger.add(self._job.entry(file, target, self._hashes.pop(file), data, done))


@dataclass(frozen=True, kw_only=True)
class Parcel:
    """One model of a sheet, and where it goes; arguments: the command line that asked; several: it is one of many."""

    sheet: Sheet
    file: Path
    target: Path
    asked: Asked
    arguments: tuple[str, ...]
    several: bool


def work_on(parcel: Parcel) -> Part:
    """In a process of this machine: read, work, write, put down."""
    job = Job(parcel.sheet, [parcel.file])
    bench = Bench(job)
    with _asked_with(parcel.arguments):
        how = job.as_run(store=bench, announce=bench.announce)
        return work_apart(how, parcel.file, parcel.target, parcel.asked, several=parcel.several)


@dataclass(frozen=True, kw_only=True)
class Sent:
    """A parcel on its way to another machine. digest: the SHA-256 of the file; data: what it holds, or None where it is
    read at place; profiles: the user's own, by file name; threads: to use, by name of the machine."""

    parcel: Parcel
    digest: str
    data: bytes | None
    place: str
    profiles: Mapping[str, str]
    threads: Mapping[str, int]


@dataclass(frozen=True)
class Returned:
    """What came of it: as in `Part`; the SHA-256 of what was read; and the bytes of the file to be written, with
    theirs. None of it where the file at its place was another, or none: it has to travel."""

    part: Part | None
    read: str = ""
    data: bytes = b""
    digest: str = ""


class _Carried(Store):
    """A model that is read from its bytes and written to bytes."""

    def __init__(self, data: bytes) -> None:
        self._data, self.made = data, b""

    def read(self, path: Path, unit: str | None) -> Model:
        """See `Store`."""
        return read_model(path, unit=unit, data=self._data)

    def write(
        self, target: Path, mesh: "Mesh", parts: Parts | None, asked: Asked, announce: Callable[[bytes], None]
    ) -> Written:
        """See `Store`."""
        encoded = encode_model(target, mesh, parts=parts, text=asked.ascii_stl)
        encoded.verify(encoded.data)
        announce(encoded.data)
        self.made = encoded.data
        return encoded.written


def work_there(sent: Sent) -> Returned:
    """On a machine of a farm, where a process works on one model at a time: nothing is written there. Raises FileError
    where the file came otherwise than it was sent."""
    import socket

    data = sent.data
    if data is None:
        try:
            data = Path(sent.place).read_bytes()
        except OSError:
            return Returned(None)
        if digest(data) != sent.digest:
            return Returned(None)
    elif digest(data) != sent.digest:
        raise FileError(f"{sent.parcel.file}: it came to the worker otherwise than it was sent")
    threads = sent.threads.get(socket.gethostname(), 1)
    with _settings_of(sent.profiles, threads), _asked_with(sent.parcel.arguments):
        store = _Carried(data)
        how = Job(sent.parcel.sheet, [sent.parcel.file]).as_run(store=store)
        parcel = sent.parcel
        part = work_apart(how, parcel.file, parcel.target, parcel.asked, several=parcel.several)
    return Returned(part, sent.digest, store.made, digest(store.made))


@contextmanager
def _asked_with(arguments: tuple[str, ...]) -> Iterator[None]:
    """As if this process had been called with a command line."""
    with click.Context(click.Command("bolvek"), obj=arguments):
        yield


@contextmanager
def _settings_of(profiles: Mapping[str, str], threads: int) -> Iterator[None]:
    """With the profiles of whoever asked, and so many threads."""
    names = {"BOLVEK_CONFIG": "", "BOLVEK_THREADS": str(threads)}
    before = {name: os.environ.get(name) for name in names}
    with tempfile.TemporaryDirectory(prefix="bolvek-") as folder:
        for name, text in profiles.items():
            path = Path(folder) / "profiles" / Path(name).name
            path.parent.mkdir(exist_ok=True)
            path.write_text(text, encoding="utf-8")
        os.environ.update(names | {"BOLVEK_CONFIG": folder})
        try:
            yield
        finally:
            for name, value in before.items():
                if value is None:
                    os.environ.pop(name, None)
                else:
                    os.environ[name] = value
