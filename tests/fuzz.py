"""Mutated files of every format against the readers and the survey: no surprise, no hang, bounded memory.

    python tests/fuzz.py --count 10000 --seed 1

Memory is limited to 20 times the file plus 300 MB above what the idle process needs; a case over five
seconds ends the run with its stack, and its file stays in the temporary folder that is named at the
start. Exit 1 when anything went wrong.
"""

import argparse
import faulthandler
import random
import resource
import sys
import tempfile
import time
from collections import Counter
from pathlib import Path

import numpy as np

from bolvek.analyses.survey import survey
from bolvek.analyses.survey.judgement import judge
from bolvek.demo.pieces import block, globe
from bolvek.errors import BolvekError
from bolvek.formats import Parts, read_model
from bolvek.formats.obj import obj_bytes
from bolvek.formats.off import off_bytes
from bolvek.formats.ply import ply_bytes
from bolvek.formats.stl import stl_bytes, stl_text
from bolvek.formats.threemf import threemf_bytes

SECONDS, BASE_MB, TIMES = 5, 300, 20

NUMBERS = (b"9" * 12, b"9" * 1000, b"-1", b"1e999", b"nan", b"0", b"1e-320", b"99999")
TEXTS = (b"\r\n", b"\xff\xfe", b"\0" * 9, b"\\\n", b"<!DOCTYPE x [<!ENTITY a 'b'>]>", b"inf ", b"/" * 50)

QUADS = b"""o quad
v 0 0 0
v 10 0 0 1.0
v 10 10 0
v 0 10 0
v 5 5 8
f -5/1/1 -4/2/1 -3//1 -2
g roof
f 1 2 \\
 5
f 2 3 5
f 3 4 5
f 4 1 5
"""
PLY_TEXT = b"""ply
format ascii 1.0
comment lantern
element vertex 4
property float x
property list uchar int more
property float y
property float z
element face 4
property uchar red
property list uchar int vertex_indices
element edge 1
property int a
end_header
0 2 7 7 0 0
1 0 0 0
0 1 3 1 0
0 0 0 1
9 3 0 2 1
9 3 0 1 3
9 3 1 2 3
9 3 2 0 3
1
"""


def seeds() -> list[tuple[str, bytes]]:
    """Good files, small and various."""
    mesh = block((0, 0, 0), (10, 8, 6)).joined(globe(3, (20, 0, 0), 8))
    parts = Parts(("box", "ball"), np.repeat(np.array([0, 1], np.int32), [12, len(mesh.faces) - 12]))
    binary = PLY_TEXT.replace(b"ascii", b"binary_big_endian").split(b"end_header")[0] + b"end_header\n"
    floats = [np.array([x], ">f4").tobytes() for x in (0, 1, 0, 0)]
    body = b"".join(f + b"\1" + np.array([5], ">i4").tobytes() + f + f for f in floats)
    body += (b"\x09\3" + np.array([0, 2, 1], ">i4").tobytes()) * 4 + np.array([1], ">i4").tobytes()
    return [
        ("a.stl", stl_bytes(mesh)),
        ("b.stl", stl_text(mesh, parts)),
        ("c.obj", obj_bytes(mesh, parts)),
        ("d.obj", QUADS),
        ("e.ply", ply_bytes(mesh, None)),
        ("f.ply", PLY_TEXT),
        ("g.ply", binary + body),
        ("h.off", off_bytes(mesh, None)),
        ("i.3mf", threemf_bytes(mesh, parts)),
        ("j.obj", QUADS.decode().encode("utf-16")),
    ]


def mutate(data: bytes, others: list[bytes], rng: random.Random) -> bytes:
    """Flip, cut, splice, repeat, or lie about lengths; one to six times."""
    out = bytearray(data)
    for _ in range(rng.choice((1, 1, 1, 2, 3, 6))):
        kind = rng.randrange(9)
        at = rng.randrange(len(out)) if out else 0
        if kind == 0:
            for _ in range(rng.choice((1, 4, 40))):
                if out:
                    out[rng.randrange(len(out))] = rng.randrange(256)
        elif kind == 1:
            del out[at:]
        elif kind == 2:
            del out[at : at + rng.randrange(1, 200)]
        elif kind == 3:
            other = rng.choice(others)
            start = rng.randrange(len(other))
            out[at:at] = other[start : start + rng.randrange(1, 400)]
        elif kind == 4:
            out[at:at] = out[at : at + rng.randrange(1, 300)] * rng.choice((1, 3, 30))
        elif kind == 5:  # a length that lies
            lie = rng.choice((0, 1, 2**31 - 1, 2**31, 2**32 - 1, len(out), 10**6))
            out[at : at + 4] = lie.to_bytes(4, rng.choice(("little", "big")))
        elif kind == 6:  # a number that lies
            digits = [i for i, c in enumerate(out) if 48 <= c <= 57]
            if digits:
                i = rng.choice(digits)
                out[i : i + 1] = rng.choice(NUMBERS)
        elif kind == 7:
            out += bytes(rng.randrange(256) for _ in range(rng.randrange(1, 100)))
        else:
            out[at:at] = rng.choice(TEXTS)
    return bytes(out)


def inner(data: bytes, rng: random.Random) -> bytes:
    """For archives: mutate what is inside and pack it again."""
    import io
    import zipfile

    source = zipfile.ZipFile(io.BytesIO(data))
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in source.namelist():
            content = source.read(name)
            archive.writestr(name, mutate(content, [content], rng) if rng.random() < 0.6 else content)
    return out.getvalue()


def run_case(path: Path) -> str:
    """Read and survey one file: what came of it."""
    try:
        model = read_model(path)
        found, _ = survey(model.mesh, parts=model.parts)
        return "read, " + judge(found, model.polygons).verdict
    except BolvekError as error:
        text = str(error)
        assert "\n" not in text and len(text) < 1500, f"not one clear sentence: {text[:300]!r}"
        assert path.name in text or "no faces" in text, f"names no file: {text[:300]!r}"
        return f"refused, exit {error.exit_code}"


def main() -> int:
    """Run the cases and print the counts."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--count", type=int, default=1000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--keep", type=Path, help="folder for the files that went wrong")
    asked = parser.parse_args()

    good = seeds()
    others = [data for _, data in good]
    counts: Counter[str] = Counter()
    wrong = 0
    slowest = 0.0
    with tempfile.TemporaryDirectory() as folder:
        for name, data in good:  # warm: compiled kernels and imports are not the file's memory
            path = Path(folder) / name
            path.write_bytes(data)
            assert run_case(path).startswith("read"), name
        print(f"files in {folder}", file=sys.stderr)
        idle = _virtual_bytes()
        for case in range(asked.count):
            rng = random.Random(asked.seed * 1_000_003 + case)
            name, data = good[case % len(good)]
            bad = inner(data, rng) if name.endswith("3mf") and rng.random() < 0.7 else mutate(data, others, rng)
            path = Path(folder) / f"{case}-{name}"
            path.write_bytes(bad)
            limit = idle + BASE_MB * 10**6 + TIMES * len(bad)
            resource.setrlimit(resource.RLIMIT_AS, (limit, resource.RLIM_INFINITY))
            begin = time.perf_counter()
            faulthandler.dump_traceback_later(SECONDS, exit=True)  # also stops a compiled loop
            try:
                result = run_case(path)
            except BaseException as error:  # noqa: BLE001 - everything else is what we are looking for
                if isinstance(error, KeyboardInterrupt):
                    raise
                result = f"WRONG {type(error).__name__}"
                wrong += 1
                print(f"case {case} ({path.name}, {len(bad)} bytes): {type(error).__name__}: {error}", file=sys.stderr)
                if asked.keep:
                    asked.keep.mkdir(parents=True, exist_ok=True)
                    (asked.keep / path.name).write_bytes(bad)
            finally:
                faulthandler.cancel_dump_traceback_later()
                resource.setrlimit(resource.RLIMIT_AS, (resource.RLIM_INFINITY, resource.RLIM_INFINITY))
            slowest = max(slowest, time.perf_counter() - begin)
            counts[f"{name.split('.')[1]}: {result}"] += 1
            path.unlink()
    for what, n in sorted(counts.items()):
        print(f"{n:7,}  {what}")
    print(f"{asked.count:,} files, {wrong} wrong, slowest {slowest:.2f} s")
    return 1 if wrong else 0


def _virtual_bytes() -> int:
    """Address space this process has now."""
    pages = int(Path("/proc/self/statm").read_text().split()[0])
    return pages * resource.getpagesize()


if __name__ == "__main__":
    sys.exit(main())
