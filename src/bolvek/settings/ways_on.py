"""Remedies that several rooms name: each worded once."""

from bolvek.settings.remedy import Remedy, remedy
from bolvek.settings.repairs import SKIN_MM, MendSettings, ThickenSettings

SOLID = remedy("solid", "makes a sound solid of it")
ANEW = remedy("recast", "makes a solid of it anew")
THICKENS = remedy("thicken", "gives the skin a wall", ThickenSettings(by_mm=SKIN_MM))
BOTH_SIDES = remedy("thicken", "gives two sides to a surface that has one", ThickenSettings(by_mm=SKIN_MM, side="both"))
CLOSES_ENDS = remedy("mend", "closes what may be an end", MendSettings(close_ends=True))
DIGS_OUT = remedy("mend", "takes buried shells out", MendSettings(drop_buried=True))
FUSES = remedy("fuse", "makes one body of what goes into each other or touches")
OPENS = remedy("drain", "opens it where liquid would stay", auto=True)
SPLITS = remedy("split", "makes a file of each part")


def thick_as(least_mm: float) -> Remedy:
    """Walls of a closed model made as thick."""
    return remedy("thicken", "makes it as thick", ThickenSettings(at_least_mm=least_mm))
