"""One line a record, in the preparer's words. Numbers come from the records, none is computed here
beyond a change of unit."""

from pathlib import Path

from bolvek.analyses.proof import ProofRecord
from bolvek.formats.registry import Model
from bolvek.formats.safe import Written
from bolvek.mesh import Mesh
from bolvek.operations.drain import DrainRecord, GivenUp, Placed
from bolvek.operations.hollow import HollowRecord
from bolvek.operations.pose import PoseRecord
from bolvek.operations.scale import ScaleRecord
from bolvek.units import length_text, point_text, size_text, volume_text


def plural(n: int, word: str) -> str:
    """The number with its word."""
    return f"{n:,} {word}{'' if n == 1 else 's'}"


def model_text(model: Model) -> str:
    """What was read."""
    text = f"{plural(len(model.mesh.faces), 'triangle')}, {size_text(model.mesh.size)}, {model.megabytes:.1f} MB"
    if model.format != "STL":
        text += f", {model.format}"
    if model.unit != "mm":
        text += f", numbers taken as {model.unit}"
    if model.parts is not None:
        text += f", {plural(len(model.parts.names), 'named part')}"
    return "; ".join([text, *model.warnings])


def check_text(checked: tuple[Mesh, int]) -> str:
    """That a model may be hollowed."""
    mesh, turned = checked
    text = f"sound, {plural(mesh.topology.shells, 'part')}"
    return text + (f"; {plural(turned, 'part')} inside out, turned" if turned else "")


def scale_text(record: ScaleRecord) -> str:
    """The factor and the sizes."""
    factors = f"{record.factor:.6g}" if record.factor is not None else " x ".join(f"{f:.6g}" for f in record.factors)
    text = f"by {factors}: {size_text(record.before_mm)} becomes {size_text(record.after_mm)}"
    if record.volume_before_mm3 is not None and record.volume_after_mm3 is not None:
        text += f", {volume_text(record.volume_before_mm3)} becomes {volume_text(record.volume_after_mm3)}"
    return text


def pose_text(record: PoseRecord) -> str:
    """Sizes, where it stands now and on how much."""
    text = (
        f"{size_text(record.before_mm)} becomes {size_text(record.after_mm)}, lowest at z = {record.lowest_mm:.2f} mm"
    )
    text += f", {record.bed_mm2 / 100:.2f} cm2 on the bed" if record.bed_mm2 else ", standing on no flat side"
    if record.laid_above_mm is not None and record.laid_above_mm > record.flat_mm:
        text += f"; the face laid is {length_text(record.laid_above_mm)} above the bed: something else reaches lower"
    return text


def hollow_text(record: HollowRecord) -> str:
    """Cavities, inner shell and wall."""
    text = (
        f"wall {length_text(record.wall_mm)}, grid {length_text(record.grid_mm)}: "
        f"{record.cavities} {'cavity' if record.cavities == 1 else 'cavities'}, "
        f"{record.cavity_volume_mm3 / 1000:.2f} cm3; inner shell {record.inner_triangles_before_slim:,} slimmed to "
        f"{record.inner_triangles:,} triangles (moved {length_text(record.slim_deviation_mm)} at most)"
    )
    if record.pockets_left_solid:
        text += (
            f"; {plural(record.pockets_left_solid, 'small pocket')} of {record.pocket_volume_mm3 / 1000:.2f} cm3 "
            "in all left solid"
        )
    if record.solid_for_room_mm3 >= 1:
        text += (
            f"; {volume_text(record.solid_for_room_mm3)} left solid where it would be narrower than "
            f"{length_text(record.room_mm)}"
        )
    if record.thickened:
        text += f"; fins made as thick as the wall in {plural(record.thickened, 'place')}"
    if record.turned_shells:
        text += f"; {plural(record.turned_shells, 'part')} inside out, turned"
    return text


_MOST_HOLES = 4


def placed_text(placed: list[Placed], given_up: list[GivenUp]) -> str:
    """Where drains go."""
    texts = []
    for p in placed[:_MOST_HOLES]:
        end = "lowest" if p.role == "drain" else "highest"
        off = length_text(p.above_extreme_mm)
        texts.append(f"{p.role} at {point_text(p.bore.mouth)}, {off} from the cavity's {end} point")
    if len(placed) > _MOST_HOLES:
        texts.append(f"{len(placed) - _MOST_HOLES:,} more")
    if given_up:
        n = len(given_up)
        which = "cavity that no hole reaches stays" if n == 1 else "cavities that no hole reaches stay"
        texts.append(f"{n:,} {which} solid")
    return "; ".join(texts)


def drain_text(record: DrainRecord) -> str:
    """The holes that were cut."""
    holes = [
        f"{h.diameter_mm:.2f} mm {'blind hole' if h.blind else 'hole'}, "
        + (
            f"{length_text(h.wall_max_mm)} deep"
            if h.blind
            else f"through {length_text(h.wall_min_mm)} to {length_text(h.wall_max_mm)} of wall"
        )
        for h in record.holes[:_MOST_HOLES]
    ]
    if len(record.holes) > _MOST_HOLES:
        holes.append(f"{len(record.holes) - _MOST_HOLES:,} more")
    return f"{'; '.join(holes)}; {record.volume_removed_mm3:.1f} mm3 taken out"


def written_text(path: Path, written: Written) -> str:
    """What was written where, and what the format could not hold."""
    rounded = f"; float32 moved a coordinate by {written.rounded_mm:.2g} mm at most" if written.rounded_mm else ""
    lost = (
        f"; {path.suffix} holds no names: {plural(written.names_lost, 'part')} lost theirs"
        if written.names_lost
        else ""
    )
    return f"{path} ({written.bytes / 1e6:.1f} MB), read back and compared{rounded}{lost}"


def proof_line(record: ProofRecord) -> str:
    """The proof in one line."""
    crossing = {d.code: d.count for d in (*record.defects, *record.defects_as_stored)}.get("self_intersections", 0)
    rooms = [c for c in record.cavities if not c.pocket]
    parts = [
        "sound" if record.sound and record.sound_as_stored else "not sound",
        f"{crossing:,} self-intersections",
        f"{len(rooms)} {'cavity' if len(rooms) == 1 else 'cavities'}",
        plural(record.drains, "opening"),
    ]
    if record.wall:
        parts.append(f"wall {record.wall.min_mm:.3f} mm at least")
    return ", ".join(parts)


CLAUSES = {
    "sound": "sound",
    "material": "counted once",
    "voids": "voids open",
    "ways": "ways out",
    "wall": "wall",
}
"""Clauses of the proof as they are called in the text."""
_MOST_CAVITIES = 12


def proof_text(record: ProofRecord) -> list[tuple[str, str]]:
    """The proof as rows of (what, figures)."""
    rows = [(CLAUSES[c.name], c.text if c.state != "fails" else "no, see the fault below") for c in record.clauses]
    rows.append(
        (
            "solid",
            f"{plural(record.bodies, 'part')}, {plural(record.triangles, 'triangle')}, "
            f"{record.volume_mm3 / 1000:.2f} cm3 of material",
        )
    )
    rooms = [c for c in record.cavities if not c.pocket]
    for cavity in rooms[:_MOST_CAVITIES]:
        ways = "; ".join(f"{o.width_mm:.1f} mm at {point_text(o.where_mm)}" for o in cavity.openings)
        if not ways:
            ways = "no way out" if cavity.closed else "none wide enough to be seen"
        size = volume_text(cavity.volume_mm3)
        rows.append(("cavity", f"{size} near {point_text(cavity.where_mm)}, openings: {ways}"))
    if len(rooms) > _MOST_CAVITIES:
        rest = rooms[_MOST_CAVITIES:]
        rows.append(("cavity", f"{len(rest):,} more, {volume_text(sum(c.volume_mm3 for c in rest))} in all"))
    if record.kept:
        k = record.kept
        rows.append(
            (
                "outer surface",
                f"{k.faces:,} of {k.of:,} faces of the original bit for bit, {k.cut:,} cut by holes "
                f"({k.taken_out_mm2:.1f} mm2 taken out)",
            )
        )
    if record.wall:
        w = record.wall
        asked = f", asked {w.asked_mm:.3f} mm within {w.tolerance_mm:.3f} mm" if w.asked_mm else ""
        tapers = f"; {w.tapering_mm2:.1f} mm2 taper to an edge" if w.tapering_mm2 >= 0.05 else ""
        rows.append(
            (
                "measured",
                f"min {w.min_mm:.3f} mm at {point_text(w.where_mm)}, 1% {w.p1_mm:.3f} mm, "
                f"median {w.median_mm:.3f} mm{asked}, on {w.of}; {w.samples:,} samples {w.spacing_mm:.2f} mm apart, "
                f"a round pit under {w.smallest_hidden_mm:.2f} mm could hide{tapers}",
            )
        )
    if record.voxel_mm is not None:
        rows.append(
            (
                "method",
                f"rooms told on {record.voxel_mm:.2f} mm voxels: what a ball of {record.ball_mm:.1f} mm cannot roll "
                "into from outside; ways out and walls measured on the surface",
            )
        )
    return rows


def proof_verdict(record: ProofRecord) -> str:
    """The last line: the verdict, and what it does not cover."""
    if record.verdict == "fit":
        return "fit to print"
    if record.verdict == "unfit":
        unjudged = [CLAUSES[c.name] for c in record.clauses if c.state == "not judged"]
        more = f" (not judged: {', '.join(unjudged)})" if unjudged else ""
        return f"unfit, see above{more}"
    rooms = sum(not c.pocket for c in record.cavities)
    cavities = "no cavity" if not rooms else f"{rooms} {'cavity' if rooms == 1 else 'cavities'}"
    return f"sound, {plural(record.bodies, 'part')}, {cavities}; wall not judged: name one with --wall"
