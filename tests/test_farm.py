"""Jobs on a farm: a real scheduler and real workers on the loopback address, some of which end or hang meanwhile."""

import json
import os
import shutil
import signal
import subprocess
import sys
import time
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

import bolvek
import farm_work
from bolvek.demo.pieces import globe
from bolvek.errors import BolvekError, WorkError
from bolvek.formats import write_model
from bolvek.jobs import farm as farms

pytestmark = [pytest.mark.xdist_group("farm"), pytest.mark.filterwarnings("ignore")]  # those of the engine
PROGRAM = Path(sys.executable).with_name("bolvek")
HERE = Path(__file__).parent

WEEK = """bolvek = 1
models = ["in/*.stl"]
output = "OUT/"
table = "OUT.jsonl"
record = "OUT.json"

[[step]]
verb = "scale"
longest = "14mm"

[[step]]
verb = "hollow"
wall = "2mm"
when = "sound"

[[step]]
verb = "walls"
printer = "our-own"
"""
PRINTER = """[printer.our-own]
title = "Ours"
kind = "resin"
build_mm = [99, 99, 99]
pixel_mm = 0.035
layer_mm = 0.05
min_wall_mm = 1.5
min_hole_mm = 0.6
min_drain_mm = 2.5
overhang_deg = 30
exposure_s = 2
first_exposure_s = 28
first_layers = 5
lift_s = 7
"""


class Farm:
    """A scheduler with workers of its own; more: what their environment has besides."""

    def __init__(self, folder, scheme="tcp", **more):
        self.folder, self.environment = folder, {**os.environ, "PYTHONPATH": str(HERE), **more}
        self.environment["DASK_DISTRIBUTED__SCHEDULER__WORKER_TTL"] = "4s"
        self.processes = []
        told = folder / "scheduler.json"
        self.start("scheduler", "--host", f"{scheme}://127.0.0.1", "--port", "0", "--scheduler-file", told)
        end = time.monotonic() + 60
        # it is there before it is written
        while not (told.exists() and told.read_text().endswith("}")) and time.monotonic() < end:
            time.sleep(0.05)
        self.address = json.loads(told.read_text())["address"]

    def start(self, what, *options, **more):
        with (self.folder / "engine.log").open("a") as log:
            process = subprocess.Popen(
                [sys.executable, "-m", "dask", what, *map(str, options), "--no-dashboard"],
                cwd=self.folder, env={**self.environment, **more}, stdout=log, stderr=log, start_new_session=True,
            )  # fmt: skip
        self.processes.append(process)
        return process

    def worker(self, name, *options, **more):
        return self.start("worker", self.address, "--nthreads", 1, "--name", name, *options, **more)

    @contextmanager
    def asked(self):
        """A client of the test's own."""
        from distributed import Client

        with Client(self.address, set_as_default=False) as client:
            yield client

    def pids(self, count):
        """The processes of so many workers, by name."""
        with self.asked() as client:
            client.wait_for_workers(count, timeout=60)
            found = client.run(lambda dask_worker: (dask_worker.name, os.getpid()))
        return dict(found.values())

    def close(self):
        for process in self.processes[::-1]:
            with_children = os.getpgid(process.pid) if process.poll() is None else None
            if with_children is not None:
                os.killpg(with_children, signal.SIGKILL)
            process.wait()


@pytest.fixture(scope="module")
def farm(tmp_path_factory):
    made = Farm(tmp_path_factory.mktemp("farm"))
    made.worker("alpha")
    made.worker("beta")
    yield made
    made.close()


@pytest.fixture
def week(tmp_path, monkeypatch):
    for k in range(4):
        write_model(tmp_path / f"in/m{k}.stl", globe(5 + k, (0, 0, 0), 48))
    write_model(tmp_path / "in/open.stl", globe(6, (0, 0, 0), 30).picked(slice(60, None)))
    (tmp_path / "in/none.stl").write_bytes(b"nothing")
    (tmp_path / "own/profiles").mkdir(parents=True)
    (tmp_path / "own/profiles/our.toml").write_text(PRINTER)
    monkeypatch.setenv("BOLVEK_CONFIG", str(tmp_path / "own"))
    for out in ("here", "there", "sent"):
        (tmp_path / f"{out}.toml").write_text(WEEK.replace("OUT", out))
    return tmp_path


def made(folder):
    return {path.name: path.read_bytes() for path in sorted(folder.iterdir()) if path.suffix == ".stl"}


def told(folder, name):
    """Rows and record, without what takes time and memory, named alike."""
    rows = [json.loads(line) for line in (folder / f"{name}.jsonl").read_text().splitlines()]
    record = json.loads((folder / f"{name}.json").read_text())
    for one in [*rows, record, *(m["proof"] for m in record["models"] if "proof" in m)]:
        one.pop("seconds", None), one.pop("memory_mb", None)
    return json.dumps([rows, record]).replace(f"{name}/", "out/").replace(f"{name}.", "out.")


def words(done, name):
    lines = [line for line in done.stdout.splitlines() if not line.startswith(("farm", "total"))]
    return "\n".join(lines).replace(f"{name}/", "out/").replace(f"{name}.", "out.")


def called(week, farm):
    """The job, on its way."""
    ask = [PROGRAM, "run", "there.toml", "--on", farm.address]
    return subprocess.Popen(ask, cwd=week, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def wait_until(true, seconds=120):
    end = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < end, "nothing came of it in time"
        time.sleep(0.02)


def test_a_farm_gives_the_words_records_and_bytes_of_one_process_while_a_worker_is_killed(bolvek, farm, week):
    here = bolvek("run", "here.toml", expect=3)
    job = called(week, farm)
    ledger = week / "there/ledger.jsonl"
    wait_until(lambda: ledger.exists() or job.poll() is not None)
    killed = farm.pids(1)
    os.kill(next(iter(killed.values())), signal.SIGKILL)
    said, wrong = job.communicate(timeout=300)
    assert job.returncode == 3, said + wrong
    there = type(here)(stdout=said)
    assert "2 workers on 1 machine" in said and "read models where they lie" in said
    assert made(week / "there") == made(week / "here") and len(made(week / "here")) == 5
    assert words(there, "there") == words(here, "here") and told(week, "there") == told(week, "here")
    sent = bolvek("run", "sent.toml", "--on", farm.address, "--send", expect=3)
    assert "models travel" in sent.stdout and made(week / "sent") == made(week / "here")
    assert told(week, "sent") == told(week, "here")
    again = bolvek("run", "sent.toml", "--on", farm.address, expect=3)
    assert again.stdout.count("up to date") == 5  # what failed is tried again
    assert not [path for path in week.rglob("*.part")]


def test_who_called_is_killed_and_goes_on_from_there(bolvek, farm, week):
    bolvek("run", "here.toml", expect=3)
    job = called(week, farm)
    ledger = week / "there/ledger.jsonl"
    wait_until(lambda: job.poll() is not None or (ledger.exists() and ledger.read_text().count("\n") >= 3))
    job.kill()
    job.communicate()
    # as if it had been killed between the line and the file that it announces
    last = sorted(made(week / "there"))[-1]
    (week / "there" / last).unlink()
    again = bolvek("run", "there.toml", "--on", farm.address, expect=3)
    assert again.stdout.count("up to date") >= 1 and "was not made by this job" not in again.stdout
    assert made(week / "there") == made(week / "here") and told(week, "there") == told(week, "here")


def hand_out(address, work, count, item=lambda k: k, heard=lambda number, on: None):
    """What came of numbers on a farm, and who began each."""
    ends, begun = {}, {}
    with farms.Farm(address, (__file__, ""), (), lambda *_: None) as at:
        at.wait()

        def came(number, result):
            ends[number] = result
            return False

        def began(number, on):
            begun.setdefault(number, []).append(on)
            heard(number, on)

        at.each(count, work, item, came, began)
    return ends, begun


def test_a_worker_that_hangs_is_done_without_and_one_that_comes_back_changes_nothing(farm):
    pids = farm.pids(2)
    stopped = []

    def heard(number, on):
        if on == "alpha" and not stopped:
            stopped.append(number)
            os.kill(pids["alpha"], signal.SIGSTOP)

    try:
        ends, begun = hand_out(farm.address, farm_work.slow_square, 8, heard=heard)
    finally:
        with suppress(ProcessLookupError):
            os.kill(pids["alpha"], signal.SIGCONT)
    assert ends == {k: k * k for k in range(8)}
    assert begun[stopped[0]] == ["alpha", "beta"]


def test_what_ends_its_worker_is_begun_three_times_at_most_and_stops_nothing_else(farm):
    farm.pids(2)
    numbers = [1, 2, 13, 4, 5, 6, 7, 8]
    ends, begun = hand_out(farm.address, farm_work.double_or_die, len(numbers), lambda k: numbers[k])
    assert isinstance(ends[2], WorkError) and "3 times (on " in str(ends[2])
    assert {k: end for k, end in ends.items() if k != 2} == {k: 2 * n for k, n in enumerate(numbers) if n != 13}
    assert len(begun[2]) in (3, 4)


def test_a_worker_with_another_bolvek_is_refused_by_name(farm, tmp_path):
    other = tmp_path / "other/bolvek"
    shutil.copytree(Path(bolvek.__file__).parent, other, ignore=shutil.ignore_patterns("__pycache__"))
    changed = other / "units.py"
    changed.write_text(changed.read_text() + "\n# changed\n")
    own = Farm(tmp_path)
    try:
        own.worker("gamma", "--no-nanny", PYTHONPATH=f"{other.parent}:{HERE}")
        own.pids(1)
        said = []
        with farms.Farm(own.address, (__file__, ""), (), lambda *words: said.append(words)) as at:
            with pytest.raises(WorkError, match="none of the 1 workers"):
                at.wait()
        assert said[0][0] == "refused" and "its source" in said[0][1] and "gamma" in said[0][1]
        # beside it two that are as they should be, on a machine that has compiled nothing
        for name in ("delta", "eps"):
            own.worker(name, "--no-nanny", BOLVEK_CACHE=str(tmp_path / "cache"))
        own.pids(3)
        said.clear()
        with farms.Farm(own.address, (__file__, ""), ("files.text",), lambda *words: said.append(words)) as at:
            at.wait()
            assert sorted(worker.card.name for worker in at.ready) == ["delta", "eps"]
        assert sorted(kind for kind, _ in said) == ["kernels", "refused"]
    finally:
        own.close()


def test_a_farm_that_is_not_there_is_one_sentence(bolvek, week, tmp_path, monkeypatch):
    done = bolvek("run", "here.toml", "--on", "tcp://127.0.0.1:9", expect=4)
    assert "no scheduler answers at tcp://127.0.0.1:9" in done.stderr and done.stderr.count("\n") == 1
    bolvek("run", "here.toml", "--on", "nonsense://1", expect=4)
    bolvek("run", "here.toml", "--on", "tcp://127.0.0.1:9", "--jobs", 2, expect=2)
    bolvek("run", "here.toml", "--send", expect=2)
    monkeypatch.setattr(farms, "WAIT_S", 1.0)
    empty = Farm(tmp_path)
    try:
        done = bolvek("run", "here.toml", "--on", empty.address, expect=4)
        assert "it has no worker" in done.stderr
        monkeypatch.setattr(farms, "WAIT_S", 60.0)
        worker = empty.worker("alone", "--no-nanny")
        empty.pids(1)

        def item(number):
            if number == 2:
                worker.kill()
                monkeypatch.setattr(farms, "WAIT_S", 2.0)
            return number

        with pytest.raises(BolvekError, match="no worker is left"):
            hand_out(empty.address, farm_work.slow_square, 4, item)
        monkeypatch.setattr(farms, "WAIT_S", 60.0)
        empty.worker("next", "--no-nanny")
        empty.pids(1)

        def last(number):
            if number == 2:
                empty.processes[0].kill()
            return number

        with pytest.raises(BolvekError, match="has gone"):
            hand_out(empty.address, farm_work.slow_square, 4, last)
    finally:
        empty.close()
    assert not (week / "here").exists()


@pytest.mark.skipif(shutil.which("openssl") is None, reason="needs openssl to make certificates")
def test_settings_of_tls_are_passed_through(bolvek, week, tmp_path, monkeypatch):
    subprocess.run(
        ["openssl", "req", "-x509", "-newkey", "rsa:2048", "-nodes", "-days", "2", "-subj", "/CN=workshop",
         "-keyout", tmp_path / "key.pem", "-out", tmp_path / "cert.pem"],
        check=True, capture_output=True,
    )  # fmt: skip
    prefix = "DASK_DISTRIBUTED__COMM__TLS__"
    settings = {f"{prefix}CA_FILE": str(tmp_path / "cert.pem"), "DASK_DISTRIBUTED__COMM__REQUIRE_ENCRYPTION": "true"}
    for who in ("SCHEDULER", "WORKER", "CLIENT"):
        settings |= {
            f"{prefix}{who}__CERT": str(tmp_path / "cert.pem"),
            f"{prefix}{who}__KEY": str(tmp_path / "key.pem"),
        }
    own = Farm(tmp_path, "tls", **settings)
    try:
        assert own.address.startswith("tls://")
        own.worker("alpha")
        done = bolvek("run", "here.toml", "--on", own.address, expect=4)
        assert "no scheduler answers" in done.stderr and "Traceback" not in done.stderr
        environment = {**os.environ, **settings}
        done = subprocess.run(
            [PROGRAM, "run", "here.toml", "--only", "m0", "--on", own.address],
            cwd=week, env=environment, capture_output=True, text=True, timeout=240,
        )  # fmt: skip
        assert done.returncode in (0, 1), done.stderr
        assert "1 worker on 1 machine" in done.stdout and list(made(week / "here")) == ["m0.run.stl"]
    finally:
        own.close()
