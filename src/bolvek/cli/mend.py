"""`bolvek mend`."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from bolvek.cli.base.bind import bound, given, taken
from bolvek.cli.base.options import Asked, options, output_option, several_models, writing_options
from bolvek.cli.base.shown import adds
from bolvek.cli.base.types import PICTURE, PLACE
from bolvek.errors import UsageError
from bolvek.settings.repairs import STYLES, MendSettings

if TYPE_CHECKING:
    from bolvek.cli.base.outcome import Outcome, Steps
    from bolvek.formats import Model


def _words(texts: tuple[str, ...] | str | None) -> tuple[str, ...]:
    """Words from options that take several, with commas or by repeating them."""
    given = (texts,) if isinstance(texts, str) else texts or ()
    return tuple(word.strip() for text in given for word in text.split(",") if word.strip())


@click.command("mend")
@options(
    several_models,
    output_option,
    click.option("--plan", is_flag=True, help="Tell what would be done; write nothing."),
    bound("--only", MendSettings, "only", type=str, metavar="STEP,...", several=True),
    bound("--without", MendSettings, "without", type=str, metavar="STEP,...", several=True),
    bound("--near", MendSettings, "near_mm"),
    bound("--close", MendSettings, "style"),
    bound("--up-to", MendSettings, "up_to_mm"),
    bound("--at", MendSettings, "at", type=PLACE, several=True),
    bound("--close-ends", MendSettings, "close_ends"),
    bound("--sliver", MendSettings, "sliver_mm"),
    bound("--drop-strays", MendSettings, "drop_strays"),
    bound("--drop-buried", MendSettings, "drop_buried"),
    bound("--mirror", MendSettings, "mirror", metavar="x|y|z|auto[+|-]"),
    click.option("--try", "tried", metavar="STYLE,...", help="Try these styles and compare them; write no model."),
    click.option("--sheet", type=PICTURE, metavar="FILE.png", help="Draw what --try made side by side."),
    writing_options,
)
def command(
    models: tuple[Path, ...], output: Path | None, plan: bool, tried: str | None, sheet: Path | None, **values: Any
) -> None:
    """Mend models step by step and tell every step; sound faces stay bit for bit where they are.

    Cracks are welded, faces without area, copies and scraps taken out, crowded edges taken apart, faces turned to
    look out, holes closed, small crossings made anew. Where a body is still at fault, the place is made anew on a
    fine lattice. The rim of an open skin is no hole and is left. What comes out is checked whole: exit code 0 only
    when it is sound.

    \b
    Examples:
      bolvek mend finial.stl --plan
      bolvek mend scans/ -o mended/ --up-to 20mm
      bolvek mend tile.ply --try flat,curved,corner --sheet ways.png
    """
    from bolvek.cli.base.outcome import Run
    from bolvek.cli.base.run import run
    from bolvek.report.words.mend import remake_text, repairs_text

    only, without = (_words(given(MendSettings, name, values)) for name in ("only", "without"))
    settings = taken(MendSettings, values, only=only, without=without)
    asked = Asked(**values)
    styles = _words(tried)
    for name in styles:
        if name not in STYLES:
            raise UsageError(f"--try takes styles, of {', '.join(STYLES)}; not '{name}'")
    if sheet is not None and not styles:
        raise UsageError("--sheet goes with --try")
    if output is not None and (plan or styles):
        raise UsageError(f"{'--plan' if plan else '--try'} writes no model; leave out -o")

    def work(model: "Model", step: "Steps") -> "Outcome":
        model = _as_written(model, output, asked)
        if styles:
            return _try_styles(model, settings, styles, sheet, step, asked)
        return _mended(model, settings, step, asked, plan=plan)

    how = Run(
        verb="mend",
        settings={"": settings},
        work=work,
        writes=None if plan or styles else "proven",
        alone={"--sheet": sheet},
        texts={"mend": lambda done: repairs_text(done[1]), "remake": lambda done: remake_text(done[1])},
        keeps_names=True,
    )
    run(how, models, asked, output)


def _as_written(model: "Model", output: Path | None, asked: Asked) -> "Model":
    """The model as its file can hold it, so that what is checked is what is written."""
    from bolvek.cli.base.targets import output_beside
    from bolvek.formats.safe import keeps_parts

    suffix = output_beside(model.path, output, "mend").suffix.lower()
    mesh = model.mesh.as_stored() if suffix == ".stl" and not asked.ascii_stl else model.mesh
    return dataclasses.replace(
        model, mesh=mesh, parts=model.parts if keeps_parts(suffix, text=asked.ascii_stl) else None
    )


def _mended(model: "Model", settings: MendSettings, step: "Steps", asked: Asked, *, plan: bool) -> "Outcome":
    from bolvek.analyses.deviation import compare
    from bolvek.cli.base.outcome import Outcome, owned
    from bolvek.operations.mend import mend, origin_parts
    from bolvek.operations.places import remade_places
    from bolvek.report.pictures.results import compare_result
    from bolvek.report.words.compare import compare_line
    from bolvek.report.words.files import model_text
    from bolvek.report.words.mend import mend_line, mend_rows

    before, parts = model.mesh, model.parts
    mesh, record, origin = step("mend", lambda: mend(before, settings, parts.part if parts is not None else None))
    if parts is None and record.verdict != "sound":
        mesh, record = step("remake", lambda: remade_places(mesh, record, settings))
    changes, found = step("compare", lambda: compare(before, mesh))
    if parts is not None:
        parts = dataclasses.replace(parts, part=origin_parts(origin, parts.part, mesh))
    rows = mend_rows(record, plan=plan, most=asked.most)
    if not record.unchanged:
        rows.insert(-1, ("faces", compare_line(changes), ""))
    if plan:
        rows.insert(0, ("file", f"{model.path.name}: {model_text(model)}", ""))
    return Outcome(
        model=dataclasses.replace(model, mesh=mesh, parts=parts),
        sections={"mend": record, "compare": changes},
        line=mend_line(record),
        **owned(record),
        rows=rows,
        picture=lambda: compare_result(model.path, before, mesh, changes, found, record),
        scene=adds("changed", before, (changes, found)),
    )


def _try_styles(
    model: "Model",
    settings: "MendSettings",
    styles: tuple[str, ...],
    sheet: Path | None,
    step: "Steps",
    asked: Asked,
) -> "Outcome":
    """The model mended in each style, the figures side by side."""
    from bolvek.analyses.deviation import compare
    from bolvek.cli.base.changes import draw_tries
    from bolvek.cli.base.outcome import Outcome, owned
    from bolvek.operations.mend import mend, sharpest_bend
    from bolvek.report.record import Try
    from bolvek.report.words.mend import try_texts

    before = model.mesh
    tries, records, shown = [], [], []
    rows: list[tuple[str, str, str]] = []
    for name in styles:
        chosen = dataclasses.replace(settings, style=name)
        mesh, record, origin = step(name, lambda chosen=chosen: mend(before, chosen))  # type: ignore[misc]
        changes, found = compare(before, mesh)
        new = origin < 0
        one = Try(
            name=name,
            verdict=record.verdict,
            added=int(new.sum()),
            area_mm2=float(mesh.face_areas[new].sum()),
            volume_mm3=mesh.volume if mesh.topology.sound else None,
            bend_deg=sharpest_bend(mesh, new),
            apart_mm=changes.to_old.max_mm,
        )
        texts = try_texts(one, record)
        rows.append((name, "; ".join(texts), ""))
        tries.append(one)
        records.append(record)
        shown.append((name, mesh, found, texts))
    more, outputs = draw_tries(sheet, f"{model.path.name}: ways to close", shown, replace=asked.replace)
    sound = [one for one in tries if one.verdict == "sound"]
    best = min(sound or tries, key=lambda one: one.bend_deg)
    told = records[tries.index(best)]
    rows.append(("least bend", f"{best.name}; 'mend --close {best.name}' writes it", "bold"))
    return Outcome(
        model=model,
        sections={"tries": tries},
        line=f"{len(tries)} ways tried; least bend {best.name}",
        **owned(told),
        rows=[*rows, *more],
        outputs=outputs,
    )
