"""What a job has done so far: a line a model, put down before its output gets its name, so that it can go on where it
stopped.

A line that was torn when everything stopped is no line. What counts is held against the files, by their SHA-256: a line
whose output never got its name says nothing, and an output that any line tells of was made here.
"""

import hashlib
import json
import os
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from bolvek import __version__
from bolvek.errors import FileError

NAME = "ledger.jsonl"


@dataclass(frozen=True)
class Entry:
    """A model that was worked on: hashes of the input, of what was asked and of the output; the version; the exit code
    and the verdict; told: what a record and a table know of it, as plain values."""

    file: str
    input: str
    asked: str
    version: str
    output: str
    made: str
    exit_code: int
    verdict: str
    told: Mapping[str, Any] = field(default_factory=dict)


@dataclass
class Known:
    """What a ledger knows: the last entry of each model, and the hashes of all that was ever made of it."""

    last: dict[str, Entry] = field(default_factory=dict)
    made: dict[str, set[str]] = field(default_factory=dict)


class Ledger:
    """The ledger of a folder."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / NAME

    def read(self) -> Known:
        """What it knows. Raises FileError where it cannot be read."""
        known = Known()
        try:
            lines = self.path.read_text(encoding="utf-8").splitlines()
        except FileNotFoundError:
            return known
        except (OSError, UnicodeDecodeError) as error:
            raise FileError(f"{self.path} cannot be read: {error}") from None
        for line in lines:
            try:
                entry = Entry(**json.loads(line))
            except (ValueError, TypeError):
                continue  # torn, or of another version
            known.last[entry.file] = entry
            known.made.setdefault(entry.file, set()).add(entry.made)
        return known

    def add(self, entry: Entry) -> None:
        """One more line, on the disk before this returns."""
        line = json.dumps(asdict(entry), ensure_ascii=False) + "\n"
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with open(self.path, "ab+", buffering=0) as file:
                torn = b""
                if file.seek(0, os.SEEK_END):
                    file.seek(-1, os.SEEK_END)
                    torn = b"" if file.read(1) == b"\n" else b"\n"
                file.write(torn + line.encode())  # in one piece: other processes add lines too
                os.fsync(file.fileno())
        except OSError as error:
            raise FileError(f"{self.path} cannot be written: {error.strerror or error}") from None


def digest(data: bytes) -> str:
    """The SHA-256 of some bytes."""
    return hashlib.sha256(data).hexdigest()


def sha256(path: Path) -> str:
    """Of a file; empty where there is none."""
    try:
        with open(path, "rb") as file:
            return hashlib.file_digest(file, "sha256").hexdigest()
    except OSError:
        return ""


def asked_hash(asked: object) -> str:
    """Of what was asked for, as plain values."""
    return digest(json.dumps(asked, sort_keys=True, default=str).encode())


def up_to_date(entry: Entry | None, file: Path, asked: str, output: Path) -> bool:
    """Whether what is there is what would come of a file asked for in this way, by this version."""
    return (
        entry is not None
        and entry.version == __version__
        and entry.asked == asked
        and entry.made == sha256(output)
        and entry.input == sha256(file)
    )
