"""Model files: reading by content, writing beside and renaming into place."""

from bolvek.formats.registry import Model, read_model
from bolvek.formats.safe import check_target, write_model
from bolvek.formats.soup import Parts

__all__ = ["Model", "Parts", "check_target", "read_model", "write_model"]
