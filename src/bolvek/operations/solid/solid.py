"""From any file to a sound solid: what the model needs, and nothing more."""

from dataclasses import dataclass, replace
from functools import partial

from bolvek.analyses.deviation import CompareRecord
from bolvek.analyses.finding import Finding, Worded
from bolvek.analyses.likeness import Likeness
from bolvek.analyses.shells import EITHER, standing
from bolvek.analyses.soundness import find_defects
from bolvek.errors import WorkError
from bolvek.mesh import Mesh
from bolvek.operations.fuse import fuse_parts, parts_of
from bolvek.operations.mend import MendRecord
from bolvek.operations.places import LocalRecord, recast_places
from bolvek.operations.recast import RecastRecord, recast
from bolvek.operations.slim import SlimRecord
from bolvek.operations.solid.anew import Finished, as_asked, capped_by, finished, made_anew, recast_whole
from bolvek.operations.solid.plan import lidless_shells, plan_solid
from bolvek.operations.solid.settings import Step, just_do
from bolvek.operations.thicken import ThickenRecord, thicken
from bolvek.settings import remedy
from bolvek.settings.repairs import SolidSettings, ThickenSettings
from bolvek.settings.ways_on import SPLITS
from bolvek.units import length_text, point_text

MADE = ("thickened", "thickened and fused", "recast")
"""Ways that make walls of their own."""
THIN_ENOUGH = 0.97
"""A skin made thick is taken when so much of its area is as thick as asked; else it is recast."""
_MOST_TRIMMED = 0.1  # of a skin's area
_MOST_SKINS = 60


@dataclass(frozen=True, kw_only=True)
class SolidRecord(Worded):
    """The way that was taken (see `SolidPlan`); why, in words; given_up: ways that were tried and did not do, and why;
    cavities: closed voids of the model that were filled; parts: bodies put together; remade: those of them that were
    recast in places, or as a whole; local: what was recast in places of the model, recast: the same, or of all of it;
    apart: bodies that came out; guessed: what was taken for something that the file does not tell; changes: how far the
    surface moved, None where nothing did; likeness: whether it is what the file shows, None where nothing was done."""

    way: str
    why: str
    given_up: tuple[str, ...] = ()
    cavities: int
    parts: int = 0
    remade: int = 0
    mend: MendRecord
    thicken: ThickenRecord | None = None
    recast: RecastRecord | None = None
    local: LocalRecord | None = None
    slim: SlimRecord | None = None
    changes: CompareRecord | None = None
    apart: int = 1
    guessed: str = ""
    likeness: Likeness | None = None

    WORDS = ("sound", "not as the file")

    @property
    def findings(self) -> tuple[Finding, ...]:  # type: ignore[override]
        """What is not as in the file, what was guessed, and parts that stay apart."""
        found = list(self.likeness.findings) if self.likeness is not None else []
        if self.guessed:
            ways = (
                remedy("solid", "shows both ways", anew=True, try_=True),
                remedy("solid", "closes it", SolidSettings(taken_as="solid"), anew=True),
            )
            found.append(Finding("guessed", "note", 1, self.guessed, remedies=ways))
        if self.apart > 1:
            text = f"{self.apart:,} parts stay apart and print apart"
            found.append(Finding("apart", "note", self.apart, text, remedies=(SPLITS,)))
        return tuple(found)


def make_solid(mesh: Mesh, settings: SolidSettings, step: Step = just_do) -> tuple[Mesh, SolidRecord]:
    """The shortest way to a sound solid without voids: mending, which keeps the faces; then thickness for skins and one
    body of closed parts, which keep them too; where that does not do, recasting, with a bridge that closes what leaks.
    Raises WorkError where nothing is left, or the skin asked for is thicker than the model is wide."""
    found, plan = plan_solid(mesh, settings, step)
    _check_skin(found, plan.way, settings.skin_mm)
    way, given_up, parts, remade, thickened = plan.way, list[str](), 0, 0, None
    done: Finished | None = None
    if way in ("as it is", "mended"):
        done = finished(mesh, found, settings, step, made=way != "as it is")
    elif way in ("thickened", "thickened and fused", "fused"):
        try:
            built = _built(found, settings, step)
            thickened, parts, remade = built.thicken, built.parts, built.remade
            done = finished(mesh, built.solid, settings, step, recast=built.recast)
        except WorkError as error:
            given_up.append(f"{way}: {error}")
    if done is None:
        way, done = made_anew(mesh, found, settings, step, given_up)
    elif done.faults and way in ("mended", "fused"):
        # what keeps the faces and is not what the file shows is worth no more than what does not keep them (of a skin
        # that may be a solid nothing is decided here: it stays a guess that is told)
        other = _otherwise(mesh, found, settings, step, given_up)
        if other is not None and other[1].faults < done.faults:
            given_up.append(f"{way}: it is not what the file shows")
            (way, done), thickened, parts, remade = other, None, 0, 0
    guessed = ""
    if way.startswith("thickened") and settings.taken_as is None:
        guessed = _guess(found)
    return done.solid, SolidRecord(
        way=way,
        why=plan.why,
        given_up=tuple(given_up),
        cavities=done.cavities,
        parts=parts,
        remade=remade,
        mend=plan.mend,
        thicken=thickened,
        recast=done.recast,
        local=done.local,
        slim=done.slim,
        changes=done.changes,
        apart=int((done.solid.shell_volumes > 0).sum()),
        guessed=guessed,
        likeness=done.likeness,
    )


def _otherwise(
    mesh: Mesh, found: Mesh, settings: SolidSettings, step: Step, given_up: list[str]
) -> tuple[str, Finished] | None:
    """The model made anew; None where nothing comes of it."""
    try:
        return made_anew(mesh, found, settings, step, given_up)
    except WorkError as error:
        given_up.append(f"recast: {error}")
        return None


def _check_skin(found: Mesh, way: str, skin: float) -> None:
    """Raise WorkError where a skin would be thicker than the model it is of: a file in metres, mostly."""
    longest = float(found.size.max())
    if way in MADE and skin > longest:
        raise WorkError(
            f"a skin of {length_text(skin)} would be thicker than the whole model, {length_text(longest)} at its "
            "longest: scale it first, or name the unit of the file"
        )


@dataclass(frozen=True, kw_only=True)
class _Built:
    """What closed parts and skins were put together to, from so many parts, some of them remade."""

    solid: Mesh
    parts: int
    remade: int
    thicken: ThickenRecord | None
    recast: RecastRecord | None


def _built(found: Mesh, settings: SolidSettings, step: Step) -> _Built:
    """Skins made thick, solids with a hole that no lid closes and bodies that cross themselves recast alone, where they
    are at fault, and everything put together. Raises WorkError."""
    topology = found.topology
    is_open = topology.open_shells
    places, remade = as_asked(found, settings), 0

    def anew(body: Mesh) -> Mesh:
        nonlocal remade
        remade += 1
        try:
            return step("recast in places", partial(recast_places, body, places))[0]
        except WorkError:
            pass
        try:
            return step("recast", partial(recast, body, places))[0]
        except WorkError:
            # a blade or a leaf: it gets the thickness that skins get
            return step("recast", partial(recast, body, replace(places, grow_closed_mm=None)))[0]

    record, recasted, bodies = None, None, list[Mesh]()
    lidless = lidless_shells(found, settings)
    if lidless.any():
        lidded = capped_by(found.picked(lidless[topology.shell]), settings, step, ends=True)
        try:
            body, local = step("recast in places", partial(recast_places, lidded, places))
            recasted = local.recast
        except WorkError:
            body, recasted = recast_whole(lidded, settings, step)
        bodies += parts_of(body)
    if (is_open & ~lidless).any():
        skin = found.picked((is_open & ~lidless)[topology.shell])
        made, record = step("thicken", partial(_thick, skin, settings))
        bodies += [body for one in made for body in parts_of(one)]
    if not is_open.all():
        bodies += parts_of(found.picked(~is_open[topology.shell]), anew)
    parts = len(bodies)
    solid = bodies[0] if parts == 1 else step("fuse", lambda: fuse_parts(bodies, anew)).as_stored()
    if find_defects(solid):
        raise WorkError("the parts did not make a sound body")
    return _Built(solid=solid, parts=parts, remade=remade, thicken=record, recast=recasted)


def _thick(skin: Mesh, settings: SolidSettings) -> tuple[list[Mesh], ThickenRecord]:
    """Skins made thick: all together, or where they cross each other one by one; and the record, that of the one which
    came out thinnest. Raises WorkError."""
    asked = ThickenSettings(by_mm=settings.skin_mm, trim=True, least_mm=settings.least_mm)
    count = skin.topology.shells
    try:
        done = [thicken(skin, asked, _MOST_TRIMMED)]
    except WorkError:
        if not 1 < count <= _MOST_SKINS:
            raise
        one_by_one = (skin.picked(skin.topology.shell == number) for number in range(count))
        done = [thicken(one, asked, _MOST_TRIMMED * skin.area / one.area) for one in one_by_one]
    gone = sum(record.trimmed_mm2 for _, record in done)
    if gone > _MOST_TRIMMED * skin.area:
        raise WorkError(f"{100 * gone / skin.area:.0f}% of the skin would be trimmed away")
    _, worst = min(done, key=lambda one: one[1].share_full or 0.0)
    if (worst.share_full or 0.0) < THIN_ENOUGH:
        raise WorkError(f"only {100 * (worst.share_full or 0.0):.0f}% of the skin would be as thick as asked")
    return [mesh for mesh, _ in done], worst


def _guess(found: Mesh) -> str:
    """What is taken for skins although it may have been solid, in words; empty where the file tells."""
    ends = [o for o in standing(found).openings.found if o.kind == EITHER]
    if not ends:
        return ""
    return (
        f"a guess: nothing tells whether a lid is missing at {point_text(ends[0].where_mm)}"
        f"{f' and {len(ends) - 1:,} more' if len(ends) > 1 else ''}; it was taken for a skin"
    )
