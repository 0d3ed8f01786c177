"""One model of every kind made to fool the proof; `make fool` proves many of each."""

import pytest

import fool_walls
from bolvek.analyses.thickness import measure_walls
from bolvek.settings.measures import WallSettings
from fool import KINDS, composed, judged


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
    else:
        assert record.verdict == "unfit" and any(c.state == "fails" for c in record.clauses)


@pytest.mark.parametrize("name", [name for name in KINDS if hasattr(fool_walls, name)])
@pytest.mark.parametrize("seed", (2, 3))
def test_walls_and_proof_agree(name, seed):
    case = composed(name, seed)
    record, faults = judged(case)
    walls, _ = measure_walls(case.mesh, WallSettings(min_mm=case.wall))
    assert ("wall_thin" in faults) == ("wall_thin" in case.faults) == (not walls.ok), (record.wall, walls.zones)
