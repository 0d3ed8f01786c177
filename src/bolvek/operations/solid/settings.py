"""What making a solid is asked for, and how its steps are run."""

from collections.abc import Callable
from typing import Protocol, TypeVar

T = TypeVar("T")


class Step(Protocol):
    """How a step is run: called with its name and its work, it returns what the work gives."""

    def __call__(self, name: str, work: Callable[[], T], /) -> T: ...


def just_do(name: str, work: Callable[[], T]) -> T:
    """A step of which nobody is told."""
    return work()
