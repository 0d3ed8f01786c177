"""`bolvek recast`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.cli.base.types import PICTURE, Parsed
from bolvek.errors import UsageError
from bolvek.settings.repairs import RecastSettings
from bolvek.units import area_text, length_text, parse_length

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


def _ways(text: str | None) -> tuple[str, tuple[float, ...]]:
    """What is to be varied and the lengths, from "bridge=0.2,0.4mm"."""
    if text is None:
        return "", ()
    name, _, values = text.partition("=")
    if name not in ("grid", "bridge", "grow") or not values:
        raise UsageError(f"--try takes grid=, bridge= or grow= and lengths with commas; found '{text}'")
    return f"{name}_mm", tuple(parse_length(word) for word in values.split(","))


@click.command("recast")
@options(
    several_models,
    output_option,
    bound(
        "--grid",
        RecastSettings,
        "grid_mm",
        type=Parsed("LENGTH|auto", lambda text: None if text == "auto" else parse_length(text)),
    ),
    bound("--bridge", RecastSettings, "bridge_mm"),
    bound("--grow", RecastSettings, "grow_mm"),
    bound("--inside", RecastSettings, "inside"),
    bound("--keep-edges", RecastSettings, "keep_edges"),
    bound("--within", RecastSettings, "within_mm"),
    bound("--least-wall", RecastSettings, "least_mm"),
    bound("--least-volume", RecastSettings, "least_mm3"),
    click.option("--try", "tried", metavar="WHAT=A,B,...", help="Compare, as in bridge=0.2,0.4mm; write no model."),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="Draw what --try made side by side."),
    writing_options,
)
def command(
    models: tuple[Path, ...], output: Path | None, tried: str | None, sheet: Path | None, **asked_for: Any
) -> None:
    """Make one closed solid of whatever is there: open, crossing, doubled, one-sided, in hundreds of pieces.

    All faces are made anew on a lattice. What a ball half as wide as the bridge cannot reach is closed in; what has no
    thickness gets one. 'mend' keeps the faces: try it first. The result is held against the file: what is missing,
    hollow or filled is a fault (exit code 1).

    \b
    Examples:
      bolvek recast dragon_bracket.obj --grid 0.4mm --bridge 0.8mm -o solid.stl
      bolvek recast dragon_bracket.obj --try bridge=0.5,1,2mm --sheet ways.png
    """
    from bolvek.analyses.likeness import closed_voids, likeness
    from bolvek.analyses.shells import counted_once
    from bolvek.cli.base.outcome import Run, remade
    from bolvek.cli.base.run import run
    from bolvek.cli.base.scaled import finding_rows
    from bolvek.operations.recast import not_enclosed, recast
    from bolvek.report.words.files import size_rows
    from bolvek.report.words.recast import recast_rows, recast_text

    settings = taken(RecastSettings, asked_for)
    asked = Asked(**asked_for)
    what, values = _ways(tried)
    if sheet is not None and not values:
        raise UsageError("--sheet goes with --try")
    if output is not None and values:
        raise UsageError("--try writes no model; leave out -o")

    def work(model: "Model", step: "Steps") -> "Outcome":
        if values:
            return _try_ways(model, settings, what, values, sheet, step, asked)
        mesh, record = step("recast", lambda: recast(model.mesh, settings))
        voids = closed_voids(counted_once(model.mesh)[0]) if settings.inside == "fill" else None
        alike = step("likeness", lambda: likeness(model.mesh, mesh, voids))
        found = (*alike.findings, *not_enclosed(model.mesh, alike), *record.findings)
        done = remade(model, mesh, {"recast": record, "likeness": alike}, recast_text(record), alike)
        return dataclasses.replace(
            done,
            rows=[*size_rows(model.mesh.size, mesh.size), *recast_rows(record), *finding_rows(found)],
            findings=found,
        )

    how = Run(
        verb="recast",
        settings={"": settings},
        work=work,
        writes=None if values else "made",
        alone={"--sheet": sheet},
        texts={"recast": lambda done: recast_text(done[1])},
    )
    run(how, models, asked, output)


def _try_ways(
    model: "Model",
    settings: "RecastSettings",
    what: str,
    values: tuple[float, ...],
    sheet: Path | None,
    step: "Steps",
    asked: Asked,
) -> "Outcome":
    """The model recast with each value, the figures side by side; the first that does not leak is proposed."""
    import numpy as np

    from bolvek.analyses.deviation import Compared
    from bolvek.cli.base.changes import draw_tries
    from bolvek.cli.base.outcome import Outcome
    from bolvek.operations.recast import recast
    from bolvek.report.words.recast import recast_text
    from bolvek.units import count_text

    rows: list[tuple[str, str, str]] = []
    records, shown = [], []
    for value in values:
        chosen = dataclasses.replace(settings, **{what: value})  # type: ignore[arg-type]
        name = f"{what.removesuffix('_mm')} {length_text(value)}"
        mesh, record = step(name, lambda chosen=chosen: recast(model.mesh, chosen))  # type: ignore[misc]
        lines = [
            f"{record.volume_mm3 / 1000:.3f} cm3, {count_text(record.triangles, 'triangle')}",
            f"{length_text(record.to_new.max_mm)} from the original at most",
            f"lost {area_text(record.lost_mm2)}, added {area_text(record.added_mm2)}",
            f"leaks in {count_text(len(record.leaks), 'place')}" if record.leaks else "no leak",
        ]
        rows.append((name, f"{recast_text(record)}; {'; '.join(lines[1:])}", ""))
        records.append(record)
        nothing = np.zeros(len(mesh.faces), bool)
        shown.append((name, mesh, Compared(nothing, nothing, nothing, np.zeros(len(mesh.faces))), lines))
    tight = [k for k, record in enumerate(records) if not record.leaks]
    best = min(tight or range(len(values)), key=lambda k: (records[k].lost_mm2 + records[k].added_mm2, k))
    why = "the least lost and added of those that do not leak" if tight else "all leak: it has the least lost and added"
    option = f"--{what.removesuffix('_mm')} {values[best]:g}mm"
    rows.append(("suggestion", f"{option}: {why}", "bold"))
    more, outputs = draw_tries(sheet, f"{model.path.name}: ways to recast", shown, replace=asked.replace)
    return Outcome(
        model=model,
        sections={"tries": records},
        line=f"{len(values)} ways tried; {option}",
        verdict="done",
        rows=[*rows, *more],
        outputs=outputs,
    )
