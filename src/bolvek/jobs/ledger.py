"""What a job has done so far: a line a model, appended when its output stands, so that it can go on where it stopped.

A line that was torn when everything stopped is no line. What counts is held against the files, by their SHA-256.
"""

import hashlib
import json
import os
from dataclasses import asdict, dataclass
from pathlib import Path

from bolvek import __version__
from bolvek.errors import FileError

NAME = "ledger.jsonl"


@dataclass(frozen=True)
class Entry:
    """A model that was worked on: hashes of the input, of what was asked and of the output ("": none); the version;
    the exit code and the verdict."""

    file: str
    input: str
    asked: str
    version: str
    output: str
    made: str
    exit_code: int
    verdict: str


class Ledger:
    """The ledger of a folder."""

    def __init__(self, folder: Path) -> None:
        self.path = folder / NAME

    def entries(self) -> dict[str, Entry]:
        """The last entry of each model."""
        found: dict[str, Entry] = {}
        try:
            lines = self.path.read_text(encoding="utf-8").splitlines()
        except FileNotFoundError:
            return found
        except (OSError, UnicodeDecodeError) as error:
            raise FileError(f"{self.path} cannot be read: {error}") from None
        for line in lines:
            try:
                entry = Entry(**json.loads(line))
            except (ValueError, TypeError):
                continue  # torn, or of another version
            found[entry.file] = entry
        return found

    def add(self, entry: Entry) -> None:
        """One more line, on the disk before this returns."""
        line = json.dumps(asdict(entry), ensure_ascii=False) + "\n"
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            torn = self.path.exists() and not self.path.read_bytes().endswith(b"\n") and self.path.stat().st_size > 0
            with open(self.path, "ab") as file:
                file.write((("\n" if torn else "") + line).encode())
                file.flush()
                os.fsync(file.fileno())
        except OSError as error:
            raise FileError(f"{self.path} cannot be written: {error.strerror or error}") from None


def sha256(path: Path) -> str:
    """Of a file; empty where there is none."""
    try:
        return hashlib.sha256(path.read_bytes()).hexdigest()
    except OSError:
        return ""


def asked_hash(asked: object) -> str:
    """Of what was asked for, as plain values."""
    return hashlib.sha256(json.dumps(asked, sort_keys=True, default=str).encode()).hexdigest()


def up_to_date(entry: Entry | None, file: Path, asked: str, output: Path | None) -> bool:
    """Whether what is there is what would come of a file asked for in this way, by this version."""
    return (
        entry is not None
        and entry.version == __version__
        and entry.asked == asked
        and entry.input == sha256(file)
        and (output is None or (entry.made != "" and entry.made == sha256(output)))
    )
