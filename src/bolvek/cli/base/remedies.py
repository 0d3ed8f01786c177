"""Remedies as commands that can be typed."""

import dataclasses
import importlib
import shlex
from collections.abc import Callable, Sequence
from functools import cache
from pathlib import Path

import click

from bolvek.cli.base.bind import BoundOption
from bolvek.cli.verbs import VERBS
from bolvek.settings.remedy import Remedy, merged, worded

MOST_TOLD = 3
"""So many commands are told after a verdict, or with what went wrong."""


def commands(remedies: Sequence[Remedy], arguments: Sequence[str], read: str, made: str = "") -> list[Remedy]:
    """Each remedy once, with its command. arguments: those of this run; read, made: the model read, and the file that
    was made of it. One for this verb that has no such option is left out."""
    told = []
    this = arguments[0] if arguments else ""
    for one in _usable(remedies, this):
        verb = one.verb or this
        if one.verb:
            words = worded(one, _named(verb), [shlex.quote(one.model or (read if one.anew or not made else made))])
        else:
            words = f"{shlex.join(arguments)} {worded(one, _named(verb))}"
        if made and verb == this and (one.anew or not one.verb) and "--replace" not in arguments:
            words += " --replace"  # what it writes was written just now
        told.append(dataclasses.replace(one, command=f"bolvek {words}"))
    return told


def lines(told: Sequence[Remedy]) -> list[str]:
    """Commands with what they do, as a shell takes them."""
    wide = max((len(one.command) for one in told[:MOST_TOLD]), default=0)
    return [f"{one.command:<{min(wide, 60)}}  # {one.does}" for one in told[:MOST_TOLD]]


def _usable(remedies: Sequence[Remedy], this: str) -> list[Remedy]:
    """Each remedy once, without those for this verb once more that it has no option for."""
    return [
        one
        for one in merged(remedies)
        if (one.verb or this) in VERBS and (one.verb or all(_option(this, key) for key, _ in one.given))
    ]


def first_model(arguments: Sequence[str]) -> str:
    """The first file that a command line reads, as it names it; MODEL where none is found."""
    before = ["", *arguments]
    for word, previous in zip(arguments[1:], before[1:], strict=False):
        if not word.startswith("-") and not previous.startswith("-") and Path(word).exists():
            return word
    return "MODEL"


def _named(verb: str) -> Callable[[str], str]:
    """What a key is called on the command line of a verb. Raises KeyError where it has no such option."""

    def named(key: str) -> str:
        if not (option := _option(verb, key)):
            raise KeyError(f"{verb} has no option for {key}")
        return option

    return named


def _option(verb: str, key: str) -> str:
    return _options(verb).get(key, "")


@cache
def _options(verb: str) -> dict[str, str]:
    """The options of a verb by "Class.field" of the setting they give, and by their own names."""
    command: click.Command = importlib.import_module(f"bolvek.cli.{verb}").command
    found = {}
    for option in command.params:
        if isinstance(option, click.Option):
            name = next(opt for opt in option.opts if opt.startswith("--"))
            found[name.removeprefix("--")] = name
            if isinstance(option, BoundOption):
                found[f"{option.owner.__name__}.{option.field}"] = name
    return found
