"""Shared fixtures: the installed program and a few models that take time to make."""

import os
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import settings

from bolvek.formats import write_model

settings.register_profile("bolvek", deadline=None, max_examples=40, derandomize=True)
settings.load_profile("bolvek")


@pytest.fixture
def bolvek(tmp_path):
    """Run the installed program in a temporary folder; everything it said comes with a surprise."""
    program = Path(sys.executable).with_name("bolvek")

    def run(*args, expect=0, **environment):
        done = subprocess.run(
            [program, *map(str, args)],
            cwd=tmp_path,
            capture_output=True,
            text=True,
            timeout=300,
            env={**os.environ, **environment},
        )
        assert done.returncode == expect, f"exit {done.returncode}\n{done.stdout}\n{done.stderr}"
        assert "Traceback" not in done.stderr
        return done

    return run


@pytest.fixture(scope="session")
def carp_file(tmp_path_factory):
    """The demo's carp as a file."""
    from bolvek.demo.carp import carp

    path = tmp_path_factory.mktemp("workshop") / "carp.stl"
    write_model(path, carp())
    return path
