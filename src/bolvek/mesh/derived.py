"""What is derived from a mesh: computed once, kept with the mesh, read-only."""

import dataclasses
import functools
from collections.abc import Callable
from threading import RLock
from typing import Any, Protocol, TypeVar

import numpy as np

T = TypeVar("T")


class Owner(Protocol):
    """What keeps what is derived from it: a mesh."""

    derived: "Derived"


M = TypeVar("M", bound=Owner)


class Derived:
    """The one place for what was computed of a mesh, by the function that computes it."""

    def __init__(self) -> None:
        self._known: dict[Callable[..., Any], Any] = {}
        self._busy: dict[Callable[..., Any], RLock] = {}

    def __contains__(self, compute: Callable[[Any], Any]) -> bool:
        return getattr(compute, "computes", compute) in self._known

    def get(self, compute: Callable[[M], T], mesh: M) -> T:
        """What `compute` gives of the mesh, computed at the first question."""
        if compute not in self._known:
            with self._busy.setdefault(compute, RLock()):  # two threads may ask at once: one computes
                if compute not in self._known:
                    self._known[compute] = _read_only(compute(mesh))
        found: T = self._known[compute]
        return found

    def forget(self) -> None:
        """Let go of all that was computed, to have its memory; whoever asks for it has it computed again."""
        self._known = {}

    def hand_over(self, compute: Callable[[Any], T], value: T) -> None:
        """Keep what is known already; for constructors of `Mesh`."""
        self._known[getattr(compute, "computes", compute)] = _read_only(value)


def once_a_mesh(compute: Callable[[M], T]) -> Callable[[M], T]:
    """A function of a mesh, computed once for each; it must not return the mesh itself, which would keep it alive."""

    @functools.wraps(compute)
    def found(mesh: M) -> T:
        return mesh.derived.get(compute, mesh)

    found.computes = compute  # type: ignore[attr-defined]
    return found


def _read_only(value: T) -> T:
    """The value, its arrays made read-only: in tuples and records too."""
    if isinstance(value, np.ndarray):
        value.flags.writeable = False
    elif isinstance(value, tuple):
        for one in value:
            _read_only(one)
    elif dataclasses.is_dataclass(value):
        for field in dataclasses.fields(value):
            _read_only(getattr(value, field.name))
    return value
