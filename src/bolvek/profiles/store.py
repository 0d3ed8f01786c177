"""Reading profiles from TOML: what ships, then every file of the user's folder, name by name."""

import os
import tomllib
from dataclasses import MISSING, dataclass, fields
from difflib import get_close_matches
from importlib import resources
from pathlib import Path
from typing import Any, TypeVar

import platformdirs

from bolvek.errors import FileError, UsageError
from bolvek.settings.measures import LEAST_DRAIN_MM, LEAST_WALL_MM

KINDS = ("resin", "filament")


@dataclass(frozen=True)
class Printer:
    """What a class of printer can do. Lengths in mm; build_mm is width, depth, height.

    Of a resin printer, seconds a layer: exposure_s, first_exposure_s of the first_layers, lift_s for lifting and coming
    back. Of a filament printer: flow_mm3_s as it prints, layer_change_s. support_...: what supports are like, see
    `SupportSettings`; a gap makes pads of their tips.
    """

    name: str
    title: str
    kind: str
    build_mm: tuple[float, float, float]
    layer_mm: float
    min_wall_mm: float
    min_hole_mm: float
    min_drain_mm: float
    overhang_deg: float
    bridge_most_mm: float = 20.0
    pixel_mm: float | None = None
    exposure_s: float | None = None
    first_exposure_s: float | None = None
    first_layers: float | None = None
    lift_s: float | None = None
    flow_mm3_s: float | None = None
    layer_change_s: float | None = None
    support_tip_mm: float | None = None
    support_column_mm: float | None = None
    support_clearance_mm: float | None = None
    support_gap_mm: float | None = None
    support_foot_mm: float | None = None
    support_lean_deg: float | None = None
    support_reach_mm: float | None = None
    support_carry_mm: float | None = None


@dataclass(frozen=True)
class Material:
    """What a material weighs, in grams per cubic centimetre."""

    name: str
    title: str
    kind: str
    density_g_cm3: float
    note: str = ""

    def weight_g(self, volume_mm3: float) -> float:
        """What so much of it weighs."""
        return self.density_g_cm3 * volume_mm3 / 1000


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

    def material_for(self, name: str | None, printer: Printer | None) -> Material:
        """The material of a name, or the first of the printer's kind; of resin without a printer."""
        kind = printer.kind if printer is not None else "resin"
        if name is None:
            name = next((m.name for m in self.materials.values() if m.kind == kind), None)
        if name is None:
            raise UsageError(f"no profile names a material for a {kind} printer: name one with --material")
        return self.material(name)


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


def user_files() -> tuple[Path, ...]:
    """The user's own files of profiles, in order of their names."""
    folder = user_folder()
    return tuple(sorted(folder.glob("*.toml"))) if folder.is_dir() else ()


def load_profiles() -> Profiles:
    """What ships with Bolvek, overridden by the user's files in order of their names.

    A user's table may give only what differs. Raises FileError for a file that is no TOML, or a table
    that is incomplete or has unknown keys or impossible values.
    """
    tables: dict[str, dict[str, dict[str, Any]]] = {"printer": {}, "material": {}}
    shipped = resources.files("bolvek.profiles").joinpath("generic.toml").read_text("utf-8")
    _merge(tables, tomllib.loads(shipped), Path("generic.toml"))
    files = user_files()
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
    """A profile from its table, checked key by key (plainly: this runs at every start)."""
    known = {f.name: f.default is MISSING for f in fields(kind) if f.name != "name"}

    def wrong(key: str, why: str) -> FileError:
        return FileError(f"{', '.join(str(f) for f in files)}: profile '{name}': {key} {why}")

    for key in table:
        if key not in known:
            raise wrong(key, f"is not known; known are {', '.join(known)}")
    values: dict[str, Any] = {}
    for key, needed in known.items():
        if key not in table:
            if needed:
                raise wrong(key, "is missing")
            continue
        value = table[key]
        if key in ("title", "note"):
            if not isinstance(value, str):
                raise wrong(key, "must be a text")
        elif key == "kind":
            if value not in KINDS:
                raise wrong(key, f"must be {' or '.join(KINDS)}")
        else:
            numbers = value if key == "build_mm" and isinstance(value, list) else [value]
            plain = all(isinstance(n, (int, float)) and not isinstance(n, bool) and 0 < n < 1e9 for n in numbers)
            if not plain or len(numbers) != (3 if key == "build_mm" else 1):
                raise wrong(key, "must be three numbers above 0" if key == "build_mm" else "must be a number above 0")
            most = {"overhang_deg": 90, "support_lean_deg": 60}.get(key)
            if most is not None and value > most:
                raise wrong(key, f"must be {most} at most")
            value = (float(numbers[0]), float(numbers[1]), float(numbers[2])) if key == "build_mm" else float(value)
        values[key] = value
    return kind(name=name, **values)


def limits(printer: str | None) -> tuple[float, float]:
    """Least drain and least wall (mm) of a printer, or the general ones. Raises UsageError for an unknown name."""
    if printer is None:
        return LEAST_DRAIN_MM, LEAST_WALL_MM
    known = load_profiles().printer(printer)
    return known.min_drain_mm, known.min_wall_mm
