"""What the measuring verbs share: measuring as if scaled, and the verdict before everything that was measured."""

import dataclasses
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from bolvek.cli.base.outcome import Outcome
from bolvek.report.words.files import model_text

if TYPE_CHECKING:
    from bolvek.formats import Model
    from bolvek.operations.scale import ScaleRecord
    from bolvek.settings.parts import ScaleSettings


def scaled_model(model: "Model", scaling: "ScaleSettings | None") -> "tuple[Model, ScaleRecord | None]":
    """The model as if scaled, and what that did; as it is where no scaling is asked for."""
    if scaling is None:
        return model, None
    from bolvek.operations.scale import scale

    mesh, record = scale(model.mesh, scaling)
    return dataclasses.replace(model, mesh=mesh), record


def measured(
    model: "Model",
    scaled: "ScaleRecord | None",
    record: Any,
    sections: dict[str, Any],
    rows: Sequence[tuple[str, str]],
    line: str,
    picture: Callable[[], bytes],
    outputs: Sequence[Path],
) -> Outcome:
    """The outcome of a measure whose record has findings, a verdict and `ok`."""
    told = [("file", f"{model.path.name}: {model_text(model)}", "")]
    if scaled is not None:
        from bolvek.report.words.scale import scale_text

        sections = {"scale": scaled, **sections}
        told.append(("scaled", scale_text(scaled), ""))
    told.append(("verdict", record.verdict, "bold green" if record.ok else "bold red"))
    told += finding_rows(record.findings)
    told += [(name, text, "") for name, text in rows]
    return Outcome(
        model=model,
        sections=sections,
        line=line,
        verdict=record.verdict,
        ok=record.ok,
        rows=told,
        # what would help a model of another size is not for the file as it is
        findings=tuple(dataclasses.replace(f, remedies=()) for f in record.findings) if scaled else record.findings,
        picture=picture,
        outputs=outputs,
    )


def finding_rows(findings: Sequence[Any]) -> list[tuple[str, str, str]]:
    """A row a finding, faults first."""
    ordered = sorted(findings, key=lambda f: f.severity != "fault")
    return [(f.severity, f.text, "red" if f.severity == "fault" else "yellow") for f in ordered]
