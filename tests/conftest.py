"""Shared fixtures: the installed program and a few models that take time to make."""

import io
import os
import subprocess
import sys
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path
from types import SimpleNamespace

import pytest
from hypothesis import settings

if "PYTEST_XDIST_WORKER" in os.environ:  # the processes share the cores already
    os.environ.setdefault("BOLVEK_THREADS", "1")
settings.register_profile("bolvek", deadline=None, max_examples=40, derandomize=True)
settings.load_profile("bolvek")


@pytest.hookimpl(tryfirst=True)  # before xdist reads the marks
def pytest_collection_modifyitems(items):
    """Tests that look at the demo run in one process, so that it is made once; those in a browser too."""
    for item in items:
        for fixture, group in (("demo_folder", "demo"), ("chromium", "browser")):
            if fixture in getattr(item, "fixturenames", ()):
                item.add_marker(pytest.mark.xdist_group(group))


def _check(done, expect):
    """The run, unless it ended otherwise than expected: everything it said comes with a surprise."""
    assert done.returncode == expect, f"exit {done.returncode}\n{done.stdout}\n{done.stderr}"
    assert "Traceback" not in done.stderr
    return done


@pytest.fixture
def bolvek(tmp_path, monkeypatch):
    """Run a command line in this process, in a temporary folder."""
    from bolvek.cli.main import run as run_here

    def run(*args, expect=0, **environment):
        out, err = io.StringIO(), io.StringIO()
        with monkeypatch.context() as patch, redirect_stdout(out), redirect_stderr(err):
            patch.chdir(tmp_path)
            for name, value in environment.items():
                patch.setenv(name, value)
            code = run_here([str(a) for a in args])
        return _check(SimpleNamespace(returncode=code, stdout=out.getvalue(), stderr=err.getvalue()), expect)

    return run


@pytest.fixture
def installed(tmp_path):
    """Run the installed program in a temporary folder."""
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
        return _check(done, expect)

    return run


@pytest.fixture(scope="session")
def demo_folder(tmp_path_factory):
    """What `bolvek demo` of the installed program leaves, and what it said."""
    folder = tmp_path_factory.mktemp("demo") / "out"
    program = Path(sys.executable).with_name("bolvek")
    done = subprocess.run([program, "demo", folder], capture_output=True, text=True, timeout=600)
    return _check(done, 0), folder
