"""Everything Bolvek raises on purpose, and the exit code each kind stands for.

BolvekError
    UsageError       2  the question makes no sense as asked
    FileError        3  a file cannot be read or written
    WorkError        4  the work could not be done; nothing was written

What is raised by mistake ends with 70, a run stopped by Ctrl-C with 130.
"""

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from bolvek.settings.remedy import Remedy

EXIT_SOUND = 0
EXIT_FINDINGS = 1
EXIT_USAGE = 2
EXIT_FILE = 3
EXIT_WORK = 4
EXIT_BUG = 70
EXIT_STOPPED = 130


class BolvekError(Exception):
    """Root of all deliberate errors; `exit_code` is what the command line returns, `remedies` what would help."""

    exit_code = EXIT_WORK

    def __init__(self, text: str = "", *remedies: "Remedy") -> None:
        super().__init__(text)
        self.remedies = remedies


class UsageError(BolvekError):
    """A setting is out of its range or settings contradict each other."""

    exit_code = EXIT_USAGE


class FileError(BolvekError):
    """A file is missing, damaged, not a model, or may not be written."""

    exit_code = EXIT_FILE


class WorkError(BolvekError):
    """The work cannot be done on this model; the text says why and what would work."""

    exit_code = EXIT_WORK
