"""What drilling did, and how the places of holes were found: plain values."""

from dataclasses import dataclass, field, replace

from bolvek.analyses.finding import Finding, Worded
from bolvek.units import Triple, point_text, volume_text


@dataclass(frozen=True, kw_only=True)
class RoomDrained:
    """A room: what stayed in it at first, what stays with its holes, and how much may; air that stays at first and in
    the end; numbers of its holes; why no further hole was put where more stays than may ("" where none was needed)."""

    where_mm: Triple
    volume_mm3: float
    closed: bool
    held_mm3: float
    stays_mm3: float
    allowed_mm3: float
    air_mm3: float
    holes: tuple[int, ...]
    given_up: str = ""

    @property
    def drains(self) -> bool:
        """Whether no more stays than may; a closed void without a hole never drains."""
        return self.stays_mm3 <= self.allowed_mm3 and (bool(self.holes) or not self.closed)


@dataclass(frozen=True, kw_only=True)
class AutoRecord:
    """How drains were found: the direction up while it drains, rounds of cutting and flooding, a pixel of columns."""

    up: Triple
    pixel_mm: float
    rounds: int
    rooms: tuple[RoomDrained, ...]

    @property
    def stays_mm3(self) -> float:
        """What stays in all rooms."""
        return sum(r.stays_mm3 for r in self.rooms)


@dataclass(frozen=True, kw_only=True)
class BoreRecord:
    """One hole that was cut."""

    at_mm: Triple
    direction: Triple
    diameter_mm: float
    wall_min_mm: float
    wall_max_mm: float
    blind: bool


@dataclass(frozen=True, kw_only=True)
class DrainRecord(Worded):
    """What drilling did: the holes, triangles gone and made, volume taken out, moves needed; how the places were found,
    where they were (auto)."""

    holes: tuple[BoreRecord, ...]
    triangles_before: int
    triangles_after: int
    volume_removed_mm3: float
    retries: int = field(default=0)
    auto: AutoRecord | None = None

    WORDS = ("done", "liquid stays")

    def then(self, later: "DrainRecord") -> "DrainRecord":
        """What both cuts did, one after the other."""
        return replace(
            later,
            holes=(*self.holes, *later.holes),
            triangles_before=self.triangles_before,
            volume_removed_mm3=self.volume_removed_mm3 + later.volume_removed_mm3,
            retries=self.retries + later.retries,
        )

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """A fault a room that keeps more than it may."""
        rooms = self.auto.rooms if self.auto is not None else ()
        return tuple(Finding("liquid_stays", "fault", 1, _stays_text(r), r.where_mm) for r in rooms if not r.drains)


def _stays_text(r: RoomDrained) -> str:
    room = f"{volume_text(r.volume_mm3)} around {point_text(r.where_mm)}"
    why = r.given_up or "no further hole"
    if r.closed and not r.holes:
        return f"a closed void of {room} gets no hole: {why}"
    return f"{volume_text(r.stays_mm3)} of liquid stay in the room of {room}, {volume_text(r.allowed_mm3)} may: {why}"
