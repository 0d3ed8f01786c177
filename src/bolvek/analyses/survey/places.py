"""Where each class of finding is: one table for findings, words and pictures."""

from collections.abc import Callable, Sequence
from typing import Protocol

from bolvek.analyses.survey.record import Survey
from bolvek.units import Triple


class HasPlace(Protocol):
    """Whatever has a middle."""

    @property
    def where_mm(self) -> Triple:
        """The middle of its box."""

    @property
    def size_mm(self) -> Triple:
        """The extent of its box."""


PLACES: dict[str, Callable[[Survey], Sequence[HasPlace]]] = {
    "open_edges": lambda s: s.openings,
    "nonmanifold_edges": lambda s: s.nonmanifold.zones,
    "badly_oriented_edges": lambda s: s.flipped.zones,
    "inside_out": lambda s: [x for x in s.shell_list if x.inside_out],
    "twin_faces": lambda s: s.twins.zones,
    "self_intersections": lambda s: s.self_intersections.zones,
    "buried": lambda s: [x for x in s.shell_list if x.role == "buried"],
    "not_judged": lambda s: [x for x in s.shell_list if x.role == "not judged"],
    "sheets": lambda s: [x for x in s.shell_list if x.role == "sheet"],
    "strays": lambda s: [x for x in s.shell_list if x.stray],
    "loose_parts": lambda s: [x for x in s.shell_list if x.role == "loose"],
    "hidden_faces": lambda s: s.hidden.zones,
    "slivers": lambda s: s.slivers.zones,
    "knife_edges": lambda s: s.knives.zones,
}


def places_of(code: str, survey: Survey) -> Sequence[HasPlace]:
    """The places of a class of finding; none where it has none."""
    return PLACES[code](survey) if code in PLACES else ()


def first_place(code: str, survey: Survey) -> Triple | None:
    """The first place of a class of finding."""
    found = places_of(code, survey)
    return found[0].where_mm if found else None
