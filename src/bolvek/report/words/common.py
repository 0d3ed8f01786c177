"""What the words of every topic share."""

Row = tuple[str, str]
"""What, and what is said about it."""

MOST_LISTED = 8
"""Entries of a list that are told unless everything is asked for."""
ALL = 1_000_000


def percent(share: float) -> str:
    return f"{100 * share:.1f}%" if share >= 0.001 or share == 0 else f"{100 * share:.2g}%"


def limited(rows: list[Row], most: int) -> list[Row]:
    """The first rows, and how many more there are."""
    left = len(rows) - most
    return rows if left <= 0 else [*rows[:most], ("", f"and {left:,} more; --details tells all")]
