"""What is raised by mistake: kept whole in a file, told in one sentence."""

import sys
import tempfile
import traceback

from bolvek import __version__
from bolvek.errors import EXIT_BUG, BolvekError


def bug_text(error: BaseException) -> str:
    """The sentence, after its traceback was put into a file."""
    return f"a bug in bolvek {__version__}: {type(error).__name__}: {_saved(error)}"


def as_bug(error: Exception) -> BolvekError:
    """The same as an error that one model of several ends with."""
    told = BolvekError(bug_text(error))
    told.exit_code = EXIT_BUG
    return told


def _saved(error: BaseException) -> str:
    """Where the traceback of a bug was put."""
    text = "".join(traceback.format_exception(error))
    try:
        with tempfile.NamedTemporaryFile("w", prefix="bolvek-bug-", suffix=".txt", delete=False) as file:
            file.write(f"bolvek {__version__}\n{' '.join(sys.argv)}\n\n{text}")
    except OSError:
        return text
    return f"the traceback is in {file.name}, please send it"
