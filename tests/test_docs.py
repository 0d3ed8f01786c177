"""What the documentation promises runs: the examples of the library, the manual pages."""

import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest

from bolvek.cli.verbs import VERBS

DOCS = Path(__file__).parent.parent / "docs"


def test_the_examples_of_the_library_run(tmp_path, monkeypatch, capsys):
    monkeypatch.chdir(tmp_path)
    code = re.findall(r"```python\n(.*?)```", (DOCS / "library.md").read_text(), re.DOTALL)
    assert len(code) == 6
    exec(compile("\n".join(code), "library.md", "exec"), {})
    said = capsys.readouterr().out
    assert "'hollows, drains and proves it'" in said and "2 pieces" in said and "cm3 of cavity" in said


def test_manual_pages_of_every_verb(tmp_path):
    subprocess.run([sys.executable, DOCS / "man.py", tmp_path], check=True)
    assert sorted(p.name for p in tmp_path.iterdir()) == sorted(["bolvek.1", *(f"bolvek-{v}.1" for v in VERBS)])
    page = (tmp_path / "bolvek-thicken.1").read_text()
    assert r"\-\-least\-wall LENGTH" in page and ".SH SYNOPSIS" in page
    if not (groff := shutil.which("groff")):
        pytest.skip("groff is not here: the pages are not set")
    for path in tmp_path.iterdir():
        done = subprocess.run([groff, "-man", "-Tutf8", "-ww", path], capture_output=True, text=True)
        assert done.returncode == 0 and not done.stderr, (path, done.stderr)
