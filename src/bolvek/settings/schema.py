"""The settings as JSON Schema (draft 2020-12), one definition a class."""

import dataclasses
import types
import typing
from typing import Any

from bolvek.settings import measures, parts, repairs, shape
from bolvek.settings.describe import Setting, Settings, described

_JSON = {bool: "boolean", int: "integer", float: "number", str: "string"}


def settings_schema() -> dict[str, Any]:
    """Every class of settings with its fields: type, range, unit, default, what happens without, and help."""
    classes = [
        owner
        for module in (measures, parts, repairs, shape)
        for owner in vars(module).values()
        if isinstance(owner, type) and issubclass(owner, Settings) and owner.__module__ == module.__name__
    ]
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "$defs": {owner.__name__: _of_class(owner) for owner in classes},
    }


def _of_class(owner: type[Settings]) -> dict[str, Any]:
    hints, known = typing.get_type_hints(owner), described(owner)
    properties = {}
    required = []
    for field in dataclasses.fields(owner):
        told = _of_type(hints[field.name])
        if field.name in known:
            told |= _of_setting(known[field.name], told)
        if field.default is not dataclasses.MISSING:
            told["default"] = field.default
        elif field.default_factory is dataclasses.MISSING:
            required.append(field.name)
        properties[field.name] = told
    return {"type": "object", "properties": properties, "required": required, "additionalProperties": False}


def _of_type(hint: Any) -> dict[str, Any]:
    if isinstance(hint, types.UnionType):
        ways = [_of_type(one) for one in typing.get_args(hint) if one is not types.NoneType]
        return ways[0] if len(ways) == 1 else {"anyOf": ways}
    if typing.get_origin(hint) is typing.Literal:
        return {"type": "string", "enum": list(typing.get_args(hint))}
    if typing.get_origin(hint) is tuple:
        inner = typing.get_args(hint)
        if len(inner) == 2 and inner[1] is Ellipsis:
            return {"type": "array", "items": _of_type(inner[0])}
        return {"type": "array", "prefixItems": [_of_type(one) for one in inner], "minItems": len(inner)}
    if isinstance(hint, type) and issubclass(hint, Settings):
        return {"$ref": f"#/$defs/{hint.__name__}"}
    return {"type": _JSON.get(hint, "object")}


def _of_setting(known: Setting, told: dict[str, Any]) -> dict[str, Any]:
    """The description beside the type; ranges where it is one number."""
    found: dict[str, Any] = {"description": known.help}
    if known.unit:
        found["unit"] = known.unit
    if known.none:
        found["without"] = known.none
    if known.choices and told.get("type") == "string":
        found["enum"] = list(known.choices)
    names = {"least": "minimum", "above": "exclusiveMinimum", "most": "maximum", "below": "exclusiveMaximum"}
    if told.get("type") in ("number", "integer"):
        found |= {name: getattr(known, key) for key, name in names.items() if getattr(known, key) is not None}
    return found
