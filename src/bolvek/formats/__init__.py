"""Model files: reading by content, writing beside and renaming into place."""

from bolvek.formats.registry import read_model
from bolvek.formats.safe import check_target, write_model

__all__ = ["check_target", "read_model", "write_model"]
