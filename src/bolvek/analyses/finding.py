"""A finding: one thing a model falls short in, or that a preparer should know."""

from dataclasses import dataclass

from bolvek.settings import Remedy


@dataclass(frozen=True)
class Finding:
    """Something the model falls short in ("fault") or that a preparer should know ("note"), and what would help."""

    code: str
    severity: str
    count: int
    text: str
    where_mm: tuple[float, float, float] | None = None
    file: str | None = None
    remedies: tuple[Remedy, ...] = ()
