"""One row a model: what a bureau asks of a folder, as CSV, JSON lines or Markdown."""

import csv
import io
import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from bolvek.report.record import ModelSection
from bolvek.units import Triple

COLUMNS = (
    "file",
    "output",
    "verdict",
    "exit_code",
    "unit",
    "size_before_mm",
    "size_mm",
    "triangles_before",
    "triangles",
    "volume_mm3",
    "weight_g",
    "price",
    "wall_asked_mm",
    "wall_least_mm",
    "drains",
    "stays_mm3",
    "done",
    "faults",
    "notes",
    "warnings",
    "seconds",
    "memory_mb",
)
"""What each column holds; lengths, areas and volumes with their unit in the name."""

Row = dict[str, Any]
SUFFIXES = (".csv", ".jsonl", ".md")
_MADE = (
    *("scale", "pose", "mend", "solid", "thicken", "recast", "fuse"),
    *("hollow", "drain", "cut", "plinth", "smooth", "slim"),
)
"""Sections of what was made, in the order in which it is told."""


def table_row(
    section: ModelSection,
    findings: Sequence[Any],
    *,
    verb: str,
    exit_code: int,
    before: tuple[Triple, int],
    seconds: float,
    memory_mb: float | None,
) -> Row:
    """The row of a model. before: its size (mm) and triangles as it was read."""
    walls, proof, layers = section.walls, section.proof, section.layers
    proven = proof.wall if proof is not None else None
    asked = walls.min_mm if walls is not None else proven.asked_mm if proven is not None else None
    least = walls.wall.min_mm if walls is not None else proven.min_mm if proven is not None else None
    measured = (section.survey, proof, layers, section.thicken, section.recast)
    volumes = [r.volume_mm3 for r in measured if r is not None]
    stays = [
        proof.liquid.stays_mm3 if proof is not None and proof.liquid is not None else None,
        section.drain.auto.stays_mm3 if section.drain is not None and section.drain.auto is not None else None,
        layers.pool_mm3 if layers is not None else None,
    ]
    faults = {f.code: f.count for f in findings if f.severity == "fault"}
    values = (
        section.file,
        section.outputs,
        section.verdict,
        exit_code,
        section.unit,
        before[0],
        section.size_mm,
        before[1],
        section.triangles,
        next((v for v in volumes if v is not None), None),
        layers.weight_g if layers is not None else section.weight_g,
        layers.price if layers is not None else None,
        asked,
        least,
        len(section.drain.holes) if section.drain is not None else None,
        next((s for s in stays if s is not None), None),
        _done(section, verb),
        faults,
        [f.code for f in findings if f.severity == "note"],
        section.warnings,
        seconds,
        memory_mb,
    )
    return dict(zip(COLUMNS, values, strict=True))


def _done(section: ModelSection, verb: str) -> list[str]:
    """What was made of it, in order; of one that stays solid, that."""
    done = []
    for name in _MADE:
        record = getattr(section, name)
        if record is None or getattr(record, "unchanged", False):
            continue
        way = getattr(record, "way", "")
        done.append(f"{name} ({way})" if name == "solid" and way else name)
    if verb == "prep" and section.hollow is None and section.proof is not None:
        done.append("left solid")
    return done


def failed_row(file: str, text: str, exit_code: int) -> Row:
    """The row of a file that nothing came of."""
    row: Row = dict.fromkeys(COLUMNS)
    return row | {"file": file, "output": [], "verdict": "failed", "exit_code": exit_code, "warnings": [text]}


def table_bytes(rows: Sequence[Row], path: Path) -> bytes:
    """All rows, in the way that the suffix of a file asks for."""
    suffix = path.suffix.lower()
    if suffix == ".jsonl":
        return "".join(json.dumps(row, ensure_ascii=False) + "\n" for row in rows).encode()
    cells = [[_text(row[name]) for name in COLUMNS] for row in rows]
    if suffix == ".md":
        shown = [[cell.replace("|", "\\|").replace("\n", " ") for cell in row] for row in [list(COLUMNS), *cells]]
        lines = [f"| {' | '.join(row)} |" for row in shown]
        return "\n".join([lines[0], f"|{'---|' * len(COLUMNS)}", *lines[1:], ""]).encode()
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(COLUMNS)
    writer.writerows([[_harmless(cell) for cell in row] for row in cells])
    return out.getvalue().encode()


def _text(value: Any) -> str:
    """A value in one cell."""
    if value is None:
        return ""
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, dict):
        return "; ".join(f"{name} {count}" for name, count in value.items())
    if isinstance(value, tuple):
        return " x ".join(f"{x:.3f}" for x in value)
    if isinstance(value, list):
        return "; ".join(map(str, value))
    return str(value)


def _harmless(cell: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return f"'{cell}" if cell[:1] in ("=", "+", "@", "\t") or (cell[:1] == "-" and not _number(cell)) else cell


def _number(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return False
    return True
