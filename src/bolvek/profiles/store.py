"""Reading profiles from TOML: what ships, then every file of the user's folder, name by name."""

import os
import tomllib
from dataclasses import dataclass
from difflib import get_close_matches
from importlib import resources
from pathlib import Path
from typing import Any, Literal, TypeVar

import platformdirs
from pydantic import BaseModel, ConfigDict, Field, ValidationError

from bolvek.errors import FileError, UsageError

Kind = Literal["resin", "filament"]


class Printer(BaseModel):
    """What a class of printer can do. Lengths in mm; build_mm is width, depth, height."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str
    title: str
    kind: Kind
    build_mm: tuple[float, float, float]
    layer_mm: float = Field(gt=0)
    min_wall_mm: float = Field(gt=0)
    min_hole_mm: float = Field(gt=0)
    min_drain_mm: float = Field(gt=0)
    overhang_deg: float = Field(ge=0, le=90)
    pixel_mm: float | None = Field(default=None, gt=0)


class Material(BaseModel):
    """What a material weighs, in grams per cubic centimetre."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str
    title: str
    kind: Kind
    density_g_cm3: float = Field(gt=0)
    note: str = ""


P = TypeVar("P", Printer, Material)


@dataclass(frozen=True)
class Profiles:
    """Printers and materials by name, and the files they came from."""

    printers: dict[str, Printer]
    materials: dict[str, Material]
    files: tuple[Path, ...]

    def printer(self, name: str) -> Printer:
        """The printer of a name; raises UsageError with the names there are."""
        return _pick(self.printers, name, "printer")

    def material(self, name: str) -> Material:
        """The material of a name; raises UsageError with the names there are."""
        return _pick(self.materials, name, "material")


def _pick(known: dict[str, P], name: str, what: str) -> P:
    if name in known:
        return known[name]
    near = get_close_matches(name, known, 1)
    hint = f" Did you mean '{near[0]}'?" if near else ""
    raise UsageError(f"there is no {what} '{name}'; known are {', '.join(known)}.{hint}")


def user_folder() -> Path:
    """Where the user's own profiles are: BOLVEK_CONFIG, or the platform's folder for settings."""
    chosen = os.environ.get("BOLVEK_CONFIG")
    return (Path(chosen) if chosen else Path(platformdirs.user_config_dir("bolvek"))) / "profiles"


def load_profiles() -> Profiles:
    """What ships with Bolvek, overridden by the user's files in order of their names.

    A user's table may give only what differs. Raises FileError for a file that is no TOML, or a table
    that is incomplete or has unknown keys or impossible values.
    """
    tables: dict[str, dict[str, dict[str, Any]]] = {"printer": {}, "material": {}}
    shipped = resources.files("bolvek.profiles").joinpath("generic.toml").read_text("utf-8")
    _merge(tables, tomllib.loads(shipped), Path("generic.toml"))
    folder = user_folder()
    files = tuple(sorted(folder.glob("*.toml"))) if folder.is_dir() else ()
    for path in files:
        try:
            _merge(tables, tomllib.loads(path.read_text("utf-8")), path)
        except tomllib.TOMLDecodeError as error:
            raise FileError(f"{path}: not TOML: {error}") from None
        except (OSError, UnicodeDecodeError) as error:
            raise FileError(f"{path} cannot be read: {error}") from None
    printers = {n: _build(Printer, n, t, files) for n, t in tables["printer"].items()}
    materials = {n: _build(Material, n, t, files) for n, t in tables["material"].items()}
    return Profiles(printers, materials, files)


def _merge(tables: dict[str, dict[str, dict[str, Any]]], found: dict[str, Any], path: Path) -> None:
    for kind, entries in found.items():
        if (
            kind not in tables
            or not isinstance(entries, dict)
            or not all(isinstance(e, dict) for e in entries.values())
        ):
            raise FileError(f"{path}: expected tables [printer.NAME] and [material.NAME], found '{kind}'")
        for name, entry in entries.items():
            tables[kind][name] = {**tables[kind].get(name, {}), **entry}


def _build(kind: type[P], name: str, table: dict[str, Any], files: tuple[Path, ...]) -> P:
    try:
        return kind(name=name, **table)
    except (ValidationError, TypeError) as error:
        detail = str(error)
        if isinstance(error, ValidationError):
            first = error.errors()[0]
            detail = f"{'.'.join(str(p) for p in first['loc'])}: {first['msg']}"
        where = ", ".join(str(f) for f in files)
        raise FileError(f"{where}: profile '{name}': {detail}") from None
