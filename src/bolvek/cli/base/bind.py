"""Options of settings: a verb's file says which field is which option, the description of the field says the rest."""

import dataclasses
import types
import typing
from collections.abc import Callable
from typing import Any, TypeVar

import click

from bolvek.cli.base.types import LENGTH, PLACE, VOLUME
from bolvek.settings import Setting, SettingError, Settings, described

F = TypeVar("F", bound=Callable[..., Any])
S = TypeVar("S", bound=Settings)

_OPTIONAL = object()


class BoundOption(click.Option):
    """An option that gives one field of some settings."""

    def __init__(self, *args: Any, owner: type[Settings], field: str, **more: Any) -> None:
        super().__init__(*args, **more)
        self.owner, self.field = owner, field


def bound(
    option: str,
    owner: type[Settings],
    field: str,
    *,
    default: Any = _OPTIONAL,
    none: str = "",
    help: str = "",
    type: Any = None,
    metavar: str | None = None,
    several: bool = False,
    off: bool = False,
) -> Callable[[F], F]:
    """An option for a field, with the type, default, range and help of its description. default, none, help: other ones
    where this verb has them; several: it may be repeated; off: the flag takes away what is there without it."""
    known = described(owner)[field]
    kind = _kind(owner, field)
    name = f"{owner.__name__}__{field}"
    if kind is bool:
        return click.option(
            option, name, cls=BoundOption, owner=owner, field=field, is_flag=True, flag_value=not off,
            default=off, help=help or known.help,
        )  # fmt: skip
    value = _default(owner, field) if default is _OPTIONAL else default
    return click.option(
        option,
        name,
        cls=BoundOption,
        owner=owner,
        field=field,
        type=type or _type(known, kind),
        metavar=metavar or _metavar(known, kind) if type is None else metavar,
        multiple=several,
        default=() if several else value,
        help=" ".join(part for part in (help or known.help, _bracket(known, value, none)) if part),
    )


def taken(owner: type[S], values: dict[str, Any], **more: Any) -> S:
    """The settings that a command line gave, fields that are no options beside; what it gave is taken out of `values`.
    None where a default stands leaves the default."""
    prefix = f"{owner.__name__}__"
    given = {name: values.pop(name) for name in list(values) if name.startswith(prefix)}
    fields = {f.name: f for f in dataclasses.fields(owner)}
    found = {name.removeprefix(prefix): value for name, value in given.items()}
    found = {
        name: value
        for name, value in found.items()
        if value is not None or fields[name].default in (None, dataclasses.MISSING)
    }
    return owner(**{**found, **more})


def given(owner: type[Settings], field: str, values: dict[str, Any]) -> Any:
    """What an option gave, taken out of `values`."""
    return values.pop(f"{owner.__name__}__{field}")


def named(error: SettingError, command: click.Command) -> str:
    """An error of settings with the names that a verb's options have; of a list, those that it has."""
    names = {(p.owner.__name__, p.field): p.opts[-1] for p in command.params if isinstance(p, BoundOption)}
    return error.named(lambda owner, field: names.get((owner, field), ""))


def _default(owner: type[Settings], field: str) -> Any:
    found = next(f for f in dataclasses.fields(owner) if f.name == field).default
    return None if found is dataclasses.MISSING else found


def _kind(owner: type[Settings], field: str) -> Any:
    """The plain type of a field, without None."""
    hint = typing.get_type_hints(owner)[field]
    if isinstance(hint, types.UnionType):
        hint = next(h for h in typing.get_args(hint) if h is not types.NoneType)
    return hint


def _type(known: Setting, kind: Any) -> Any:
    if known.unit == "mm":
        return LENGTH
    if known.unit == "mm3":
        return VOLUME
    if known.unit == "direction":
        return PLACE
    return kind if kind in (int, float) else str


def _metavar(known: Setting, kind: Any) -> str | None:
    if known.choices:
        return "|".join(known.choices) if len(known.choices) <= 5 else None
    if known.unit == "degrees":
        return "DEGREES"
    if known.unit == "mm2":
        return "MM2"
    return "N" if kind is int else None


def _bracket(known: Setting, value: Any, none: str) -> str:
    """The default and the range, as help shows them."""
    parts = []
    if value not in (None, ()):
        shown = ",".join(f"{x:g}" for x in value) if isinstance(value, tuple) else value
        shown = f"{value:g}" if isinstance(value, float) else shown
        parts.append(f"default: {shown}{_SHORT.get(known.unit, '')}")
    elif none or known.none:
        parts.append(f"default: {none or known.none}")
    if known.range_text and not known.choices:
        parts.append(known.range_text)
    return f"[{'; '.join(parts)}]" if parts else ""


_SHORT = {"mm": "mm", "mm3": "mm3", "mm2": "mm2"}


def bound_options() -> dict[str, dict[str, str]]:
    """For each verb its options that give settings: by name, the class and the field."""
    import importlib

    from bolvek.cli.verbs import VERBS

    found = {}
    for verb in VERBS:
        params = importlib.import_module(f"bolvek.cli.{verb}").command.params
        own = [p for p in params if isinstance(p, BoundOption)]
        found[verb] = {p.opts[-1]: f"{p.owner.__name__}.{p.field}" for p in own}
    return found
