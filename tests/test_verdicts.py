"""One truth a result: text, record, table, picture and exit code say the same, and advice follows from it."""

import json

import numpy as np
import pytest

from bolvek.analyses.finding import CODES, VERDICTS, Finding, agree
from bolvek.demo.pieces import turned
from bolvek.formats import Parts, write_model
from bolvek.report.pictures import plain
from fool import brick, hollow_block, without
from support import box, shell_box


def ring(thick):
    mesh = turned([(10, 0), (10 + thick, 0), (10 + thick, 8), (10, 8)], 24, ring=True)
    return mesh if mesh.volume > 0 else mesh.turned()


def tower():
    """Leans out beyond its foot, by steps that hold themselves."""
    return without(box((0, 0, 0), (40, 10, 60)), *(brick((4, -1, -1), (41, 11, 3)),))


MODELS = {
    "cube": box((0, 0, 0), (20, 20, 20)),
    "ring": ring(0.5),
    "gap": box((0, 0, 0), (10, 10, 10)).joined(box((10.2, 0, 0), (20, 10, 10))),
    "bridge": without(box((0, 0, 0), (9, 60, 10)), brick((3, -1, -1), (6, 61, 5))),
    "open": box((0, 0, 0), (20, 20, 20)).picked(np.arange(12) > 1),
    "crossing": box((0, 0, 0), (20, 20, 20)).joined(box((10, 10, 10), (30, 30, 30))),
    "void": shell_box(2.0, 20.0),
    "hollow": hollow_block(2.5),
    "tower": tower(),
}
RUNS = [
    *((("survey",), name) for name in MODELS),
    *((("walls", "--least-wall", "1mm", "--gap", "0.5mm"), name) for name in ("cube", "ring", "gap", "open", "void")),
    *((("overhangs",), name) for name in ("cube", "bridge", "tower", "gap")),
    *((("layers", "--layer", "0.5mm"), name) for name in ("cube", "void", "bridge")),
    *((("proof", "--wall", "2mm"), name) for name in ("cube", "ring", "crossing", "void")),
    (("mend",), "open"),
    (("mend",), "crossing"),
    (("thicken", "--least-wall", "0.6mm"), "ring"),
    (("drain", "--auto"), "hollow"),
    (("solid",), "crossing"),
    (("recast", "--grid", "1mm"), "open"),
    (("compare", "cube.stl", "--within", "1mm"), "void"),
    (("compare", "cube.stl", "--within", "1mm"), "bridge"),
]


@pytest.mark.parametrize("words, name", RUNS, ids=lambda x: x if isinstance(x, str) else x[0])
def test_text_record_table_picture_and_exit_code_agree(bolvek, tmp_path, monkeypatch, words, name):
    for each in {name, "cube"}:
        write_model(tmp_path / f"{each}.stl", MODELS[each])
    captions = []
    monkeypatch.setattr(plain, "Caption", lambda *a: captions.append(a) or _caption(*a))
    verb, *rest = words
    told = ["--json", "r.json", "--picture", "p.png", *(["--table", "t.jsonl"] if verb != "compare" else [])]
    given = [*rest[:1], f"{name}.stl", *rest[1:]] if verb == "compare" else [f"{name}.stl", *rest]
    code = _code(bolvek, verb, *given, *told)
    said = code.stdout
    record = json.loads((tmp_path / "r.json").read_text())
    findings = [Finding(f["code"], f["severity"], f["count"], f["text"]) for f in record["findings"]]
    agree(record["verdict"], record["ok"], findings)
    assert code.returncode == (0 if record["ok"] else 1)
    assert record["verdict"] == record["models"][0]["verdict"]
    shown = next((line for line in said.splitlines() if line.startswith("verdict")), None)
    assert shown is None or shown.split(maxsplit=1)[1].startswith(record["verdict"]), shown
    if verb not in ("scale", "pose"):
        assert all(f.text.split(":")[0] in said.replace("\n", " ") for f in findings if f.severity == "fault"), said
    if captions and len(captions[-1]) > 2:
        assert captions[-1][2:] == (record["verdict"], record["ok"])
    # advice never is to do once more what was just done
    again = sorted(["bolvek", verb, *given])
    assert not any(sorted(way["command"].split()) == again for way in record["models"][0]["next"])
    if verb == "compare":
        return
    (row,) = (json.loads(line) for line in (tmp_path / "t.jsonl").read_text().splitlines())
    assert (row["exit_code"], row["verdict"]) == (code.returncode, record["verdict"])
    assert row["faults"] == {f.code: f.count for f in findings if f.severity == "fault"}
    assert [f.code for f in findings if f.severity == "note"] == row["notes"]
    for column, text in (("weight_g", "{:.1f} g"), ("wall_least_mm", "{:.3f} mm"), ("triangles", "{:,} triangle")):
        if row[column] is not None and verb in ("survey", "layers", "walls", "proof") and 1 <= row[column] < 1e4:
            assert text.format(row[column]) in said or f"{row[column]:.2f} mm" in said, (column, row[column], said)


def _code(bolvek, *words):
    try:
        return bolvek(*words)
    except AssertionError as error:
        if not str(error).startswith("exit 1\n"):
            raise
        return bolvek(*words, "--replace", expect=1)


_caption = plain.Caption


def test_codes_and_words_are_closed():
    with pytest.raises(ValueError, match="no finding is a fault 'bridges'"):
        Finding("bridges", "fault", 1, "")
    with pytest.raises(ValueError, match="no finding is a note 'nonsense'"):
        Finding("nonsense", "note", 1, "")
    thin = Finding("wall_thin", "fault", 1, "thin")
    for verdict, ok, findings in (
        ("fit", True, [thin]),
        ("unfit", False, []),
        ("fit", False, [thin]),
        ("fine", True, []),
    ):
        with pytest.raises(ValueError):
            agree(verdict, ok, findings)
    agree("fit", True, [Finding("slender_features", "note", 1, "")])
    assert {"fault", "note"} == {kind for kinds, _ in CODES.values() for kind in kinds}
    assert all(isinstance(ok, bool) and text for ok, text in VERDICTS.values())


def test_a_bridge_that_holds_needs_no_support(bolvek, tmp_path):
    write_model(tmp_path / "bridge.stl", MODELS["bridge"])
    said = bolvek("overhangs", "bridge.stl", "--json", "r.json").stdout
    told = json.loads((tmp_path / "r.json").read_text())["models"][0]["overhangs"]
    assert told["support_volume_mm3"] == 0 and "prints as it stands" in said
    assert [z["span_mm"] for z in told["zones"]] == [pytest.approx(3.0)]


def test_named_parts_that_touch_are_one_wall(bolvek, tmp_path):
    plates = box((0, 0, 0), (20, 20, 0.6)).joined(box((0, 0, 0.6), (20, 20, 1.2)))
    write_model(tmp_path / "two.3mf", plates, parts=Parts(["lower", "upper"], np.repeat([0, 1], 12).astype(np.int32)))
    said = bolvek("proof", "two.3mf", "--wall", "1mm").stdout
    assert "fit to print" in said and "touch each other" in said and "1.200 mm at least" in said
    for name, mesh in {"apart": plates, "welded": plates.as_stored()}.items():
        write_model(tmp_path / f"{name}.stl", mesh)
        assert "thick enough" in bolvek("walls", f"{name}.stl", "--least-wall", "1mm").stdout
    thin = json.loads(bolvek("walls", "apart.stl", "--least-wall", "1.3mm", "--json", "-", expect=1).stdout)
    assert thin["models"][0]["walls"]["zones"][0]["min_mm"] == pytest.approx(1.2, abs=1e-5)


def test_ways_tried_that_all_leave_it_unsound_say_so(bolvek, tmp_path):
    write_model(tmp_path / "both.stl", MODELS["crossing"].picked(np.arange(24) > 1))
    bolvek("mend", "both.stl", "--try", "flat,curved", "--json", "r.json", expect=1)
    record = json.loads((tmp_path / "r.json").read_text())
    assert record["verdict"] == "closed but crossing" and not record["ok"]
    assert [f["code"] for f in record["findings"]] == ["self_intersections"]
