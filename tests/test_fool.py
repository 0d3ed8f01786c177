"""One model of every kind made to fool the proof, and walls; `make fool` proves many of each."""

import pytest

import fool_features
import fool_parts  # noqa: F401
import fool_walls
from bolvek.analyses.thickness import measure_walls
from bolvek.settings.measures import WallSettings
from fool import KINDS, composed, judged, told_thin


@pytest.mark.parametrize("name", KINDS)
def test_the_proof_is_not_fooled(name):
    case = composed(name, 1)
    record, faults = judged(case)
    assert faults == case.faults, [f.text for f in record.findings]
    assert record.ok == (not case.faults)
    assert [c.name for c in record.clauses] == ["sound", "material", "voids", "ways", "liquid", "wall"]
    if record.ok:
        assert record.verdict == ("fit" if case.wall else "wall not judged")
        assert all(c.state == "holds" for c in record.clauses if c.name != "wall" or case.wall)
        assert not hasattr(fool_features, name) or told_thin(record) == case.notes
    else:
        assert record.verdict == "unfit" and any(c.state == "fails" for c in record.clauses)
    if hasattr(fool_walls, name):  # walls say of it what the proof says
        walls, _ = measure_walls(case.mesh, WallSettings(min_mm=case.wall))
        assert ("wall_thin" in case.faults) == (not walls.ok), (record.wall, walls.zones)
