"""What a setting is, and the one check that reads it."""

import dataclasses
import math
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from bolvek.errors import UsageError

_KEY = "setting"
_UNITS = {"mm": " mm", "mm2": " mm2", "mm3": " mm3", "degrees": " degrees"}


@dataclass(frozen=True, kw_only=True)
class Setting:
    """unit: "mm", "mm2", "mm3", "degrees", "direction" (three numbers, not all zero) or "" (a plain number, a word, a
    flag). least, above, most, below: the range of a number, or of each of several; choices: the words that it may be,
    or each of several; none: what happens without it."""

    help: str
    unit: str = ""
    least: float | None = None
    above: float | None = None
    most: float | None = None
    below: float | None = None
    choices: tuple[str, ...] = ()
    none: str = ""

    @property
    def range_text(self) -> str:
        """The range in words; empty where every number will do."""
        unit = _UNITS.get(self.unit, "")
        if self.least is not None and self.most is not None:
            return f"{_number(self.least)} to {_number(self.most)}{unit}"
        low = f"at least {_number(self.least)}" if self.least is not None else ""
        low = f"more than {_number(self.above)}" if self.above is not None else low
        high = f"at most {_number(self.most)}" if self.most is not None else ""
        high = f"less than {_number(self.below)}" if self.below is not None else high
        if self.least is not None and not high:
            return f"{_number(self.least)}{unit} or more"
        both = " and ".join(part for part in (low, high) if part)
        return f"{both}{unit}" if both else ""

    def takes(self, value: float) -> bool:
        """Whether a number lies in the range."""
        return (
            math.isfinite(value)
            and (self.least is None or value >= self.least)
            and (self.above is None or value > self.above)
            and (self.most is None or value <= self.most)
            and (self.below is None or value < self.below)
        )

    def wrong_with(self, value: Any) -> str:
        """What is wrong with a value, to be put behind its name; empty where nothing is."""
        if value is None or isinstance(value, (bool, Settings)):
            return ""
        if self.unit == "direction":
            several = value if value and isinstance(value[0], (tuple, list)) else [value] if value else []
            fine = all(0 < math.hypot(*way) < math.inf for way in several)
            return "" if fine else "needs a direction, as in 0,0,1, not a zero direction"
        several = value if isinstance(value, (tuple, list)) else (value,)
        for one in several:
            if self.choices and isinstance(one, str) and one not in self.choices:
                return f"takes {_either(self.choices)}, not '{one}'"
            if isinstance(one, (int, float)) and not self.takes(one):
                return f"must be {self.range_text or 'a number'}, not {_number(one)}{_UNITS.get(self.unit, '')}"
        return ""


class SettingError(UsageError):
    """A setting out of its range, or settings that do not go together. The text names fields in braces; whoever has
    other names for them, as the command line has, puts those in."""

    def __init__(self, owner: str, text: str) -> None:
        super().__init__(_FIELD.sub(lambda found: found[1], text))
        self.owner, self.template = owner, text

    def named(self, name: Callable[[str, str], str]) -> str:
        """The text with the name that (owner, field) has here; one without a name is left out of lists."""
        fields = _FIELD.findall(self.template)
        known = {field: name(self.owner, field) for field in fields}
        text = self.template
        for field in fields if any(known.values()) else ():
            if not known[field]:
                text = text.replace(f", {{{field}}}", "")
        return _FIELD.sub(lambda found: known[found[1]] or found[1], text)


_FIELD = re.compile(r"\{(\w+)\}")


def setting(default: Any = dataclasses.MISSING, **description: Any) -> Any:
    """A dataclass field with its description, see `Setting`."""
    return dataclasses.field(default=default, metadata={_KEY: Setting(**description)})


def described(owner: "type[Settings] | Settings") -> dict[str, Setting]:
    """The described fields of a class of settings."""
    return {f.name: f.metadata[_KEY] for f in dataclasses.fields(owner) if _KEY in f.metadata}


@dataclass(frozen=True)
class Settings:
    """What a verb is asked for: a frozen dataclass whose fields say what they may be."""

    def check(self) -> None:
        """Raise SettingError for the first setting that makes no sense, here and in settings within."""
        known = described(self)
        for field in dataclasses.fields(self):
            value = getattr(self, field.name)
            if field.name in known and (wrong := known[field.name].wrong_with(value)):
                raise SettingError(type(self).__name__, f"{{{field.name}}} {wrong}")
            for within in value if isinstance(value, tuple) else (value,):
                if isinstance(within, Settings):
                    within.check()
        for text in self.contradictions():
            raise SettingError(type(self).__name__, text)

    def contradictions(self) -> Iterator[str]:
        """Sentences on settings that do not go together, fields named in braces."""
        return iter(())


def _number(value: float) -> str:
    return f"{value:,.10g}"


def _either(words: tuple[str, ...]) -> str:
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} or {words[-1]}"


def settings_dict(settings: Any) -> dict[str, Any]:
    """Frozen settings as plain values."""
    return {k: str(v) if isinstance(v, Path) else v for k, v in dataclasses.asdict(settings).items()}
