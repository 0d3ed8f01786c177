"""What would help, as data: a verb, what it is given, and what that does. The command line words it as a command."""

import dataclasses
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any

from bolvek.settings.describe import Settings, described


@dataclass(frozen=True)
class Remedy:
    """A verb that would help ("": the same once more) and what it does, as the end of a sentence: "closes the holes".

    given: what it is given besides, by "Class.field" of its settings, or by the plain name of an option that is no
    setting; True is a flag. anew: it is for the model as it was read, not for what was made of it; model: for this
    file instead. command: a line that can be typed, where somebody has worded it.
    """

    verb: str
    does: str
    given: tuple[tuple[str, Any], ...] = ()
    anew: bool = False
    model: str = ""
    command: str = ""


def remedy(verb: str, does: str, *settings: Settings, anew: bool = False, model: str = "", **options: Any) -> Remedy:
    """A remedy that gives the fields of `settings` that are not what they are by default, and plain options."""
    given = [
        (f"{type(one).__name__}.{f.name}", getattr(one, f.name))
        for one in settings
        for f in dataclasses.fields(one)
        if f.name in described(one) and getattr(one, f.name) != f.default
    ]
    plain = [(name.rstrip("_").replace("_", "-"), value) for name, value in options.items()]
    return Remedy(verb, does, (*given, *plain), anew, model)


def merged(remedies: Sequence[Remedy]) -> list[Remedy]:
    """Each command once, in the order of first mention, with all that it does. Of those that do the same and differ in
    their values only, the first stands for all."""
    found: dict[tuple[Any, ...], list[Remedy]] = {}
    does: dict[tuple[Any, ...], tuple[Any, ...]] = {}
    for one in remedies:
        command = one.verb, one.given, one.anew, one.model
        same = one.verb, tuple(key for key, _ in one.given), one.anew, one.model, one.does
        if does.setdefault(same, command) == command:
            found.setdefault(command, []).append(one)
    return [
        dataclasses.replace(some[0], does=_joined(list(dict.fromkeys(one.does for one in some))))
        for some in found.values()
    ]


def worded(one: Remedy, option: Callable[[str], str], models: Sequence[str] = ()) -> str:
    """The words after "bolvek": the verb, the models, the options; option(key): what a key of `given` is called."""
    words = [one.verb] if one.verb else []
    words += models
    for key, value in one.given:
        words.append(option(key))
        if value is not True:
            words.append(_value_text(key, value))
    return " ".join(words)


def _value_text(key: str, value: Any) -> str:
    """A value as it is typed."""
    if isinstance(value, tuple) and value and isinstance(value[0], tuple):
        value = value[0]  # of options that may be repeated, one
    if isinstance(value, tuple):
        return ",".join(f"{x:.6g}" for x in value)
    if isinstance(value, float):
        unit = "mm3" if key.endswith("_mm3") else "mm" if key.endswith("_mm") else ""
        return f"{value:.6g}{unit}"
    return str(value)


def _joined(parts: Sequence[str]) -> str:
    return parts[0] if len(parts) == 1 else f"{', '.join(parts[:-1])} and {parts[-1]}"
