"""A farm: work handed to the workers of a Dask scheduler that somebody has started, on one machine or on fifty.

Every worker is asked first who it is; one that would not give the same bytes is refused by name. A piece of work whose
worker ends, or no longer answers, begins again on another, so often as `MOST_BEGUN` says. All that comes back comes
from the scheduler named; nothing is fetched from a worker beside it.
"""

import contextlib
import hashlib
import importlib.metadata
import logging
import platform
import queue
import socket
import threading
import time
import uuid
import warnings
from collections import deque
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import bolvek
from bolvek.errors import BolvekError, WorkError

MOST_BEGUN = 3
"""A piece of work begins at most so often: it goes to another worker twice."""

CONNECT_S, LOOK_EVERY_S, WAIT_S, RESULT_S = 5.0, 1.0, 60.0, 60.0
"""How long a scheduler may take to answer, how often it is asked who is there, how long a farm may be without a worker,
and how long a result may take to come."""

_PACKAGES = ("numba", "numpy", "scipy")


@dataclass(frozen=True)
class Card:
    """What a worker says of itself. name: given to it, or its address; packages: what the bytes depend on, by name;
    missing: modules of kernels that its machine has not compiled; sees: whether it reads the first file just where the
    caller does."""

    name: str
    machine: str
    cores: int
    packages: dict[str, str]
    missing: tuple[str, ...]
    cache: str
    sees: bool


@dataclass
class Worker:
    """One worker process: its address; card: None until it has answered; ready: work may go to it."""

    address: str
    card: Card | None = None
    ready: bool = False
    refused: bool = False


@dataclass
class _Work:
    """A piece of work that was handed out. name: of this handing out; among: workers that it may go to; begun: names of
    those that began it, since at: how many did before it was handed out this time."""

    future: Any
    name: str
    among: frozenset[str]
    begun: list[str]
    at: int


def packages() -> dict[str, str]:
    """What decides which bytes come out: versions, and a hash of Bolvek's own source."""
    root = Path(bolvek.__file__).parent
    digest = hashlib.sha256()
    for path in sorted(root.rglob("*.py")):
        digest.update(path.read_bytes())
    found = {name: importlib.metadata.version(name) for name in _PACKAGES}
    return {"bolvek": bolvek.__version__, "its source": digest.hexdigest()[:12], **found, "python": _python()}


def _python() -> str:
    return ".".join(platform.python_version_tuple()[:2])


def greet(place: str, digest: str, modules: tuple[str, ...]) -> Card:
    """On a worker: who it is."""
    from distributed import get_worker

    from bolvek.jobs.ledger import sha256
    from bolvek.kernels.cache import cache_folder
    from bolvek.kernels.warm import missing
    from bolvek.spatial.parallel import thread_count

    return Card(
        name=str(get_worker().name),
        machine=socket.gethostname(),
        cores=thread_count(),
        packages=packages(),
        missing=tuple(missing(modules)),
        cache=str(cache_folder()),
        sees=sha256(Path(place)) == digest,
    )


def prepare(modules: tuple[str, ...]) -> bool:
    """On a worker: compile kernels, once for all workers of its machine."""
    from bolvek.kernels.warm import warm_up

    warm_up(modules)
    return True


def _begin(topic: str, name: str, work: Callable[[Any], Any], given: Any) -> Any:
    """On a worker: say so, and work. One process works on one thing at a time."""
    from distributed import get_worker

    with _ONE:
        get_worker().log_event(topic, {"begun": name, "on": str(get_worker().name)})
        return work(given)


_ONE = threading.Lock()


class Farm:
    """The workers of a scheduler. first: a file with its hash, which workers are asked whether they see; modules: of
    kernels that the work needs; tell(name, text): what whoever asked should know."""

    def __init__(
        self, address: str, first: tuple[str, str], modules: Sequence[str], tell: Callable[[str, str], None]
    ) -> None:
        self.address = address
        self._first, self._modules, self._tell = first, tuple(modules), tell
        self._topic = f"bolvek-{uuid.uuid4().hex}"
        self._workers: dict[str, Worker] = {}
        self._preparing: dict[str, str] = {}  # machines, each with the worker that compiles there
        self._prepared: set[str] = set()
        self._asked: list[Any] = []
        self._news: queue.Queue[tuple[Any, ...]] = queue.Queue()
        self._own = packages()
        self._client = self._connected()
        self._client.subscribe_topic(self._topic, lambda event: self._news.put(("begun", event[1])))

    def _connected(self) -> Any:
        try:
            import distributed
        except ImportError:
            raise WorkError("a farm needs Dask's distributed: install bolvek[farm]") from None
        for name in ("distributed", "tornado", "asyncio"):
            logging.getLogger(name).setLevel(logging.CRITICAL)
        warnings.filterwarnings("ignore", module="distributed")
        try:
            return distributed.Client(
                self.address, timeout=CONNECT_S, set_as_default=False, direct_to_workers=False, name="bolvek"
            )
        except Exception as error:  # whatever the engine raises here: there is no farm
            told = str(error).splitlines()
            why = f" ({told[0]})" if told and not isinstance(error, TimeoutError) else ""
            raise WorkError(
                f"no scheduler answers at {self.address}{why}; start one with 'dask scheduler', or leave out --on"
            ) from None

    def __enter__(self) -> "Farm":
        return self

    def __exit__(self, *_: object) -> None:
        with contextlib.suppress(Exception):  # what is closed already cannot be closed once more
            self._client.close(timeout=2)

    @property
    def ready(self) -> list[Worker]:
        """Workers that work may go to."""
        return [worker for worker in self._workers.values() if worker.ready]

    @property
    def sees(self) -> bool:
        """Whether all of them see the first file."""
        return all(worker.card is not None and worker.card.sees for worker in self.ready)

    def threads(self) -> dict[str, int]:
        """How many threads a process should use, by the name of its machine."""
        cards = [worker.card for worker in self.ready if worker.card is not None]
        return {one.machine: max(1, one.cores // sum(c.machine == one.machine for c in cards)) for one in cards}

    def wait(self) -> None:
        """Until every worker that is there has answered, and one at least may be given work. Raises WorkError where
        there is none."""
        end = time.monotonic() + WAIT_S
        while True:
            self._look()
            unanswered = [w for w in self._workers.values() if not (w.ready or w.refused)]
            if self.ready and (not unanswered or time.monotonic() > end - WAIT_S / 2) and not self._preparing:
                return
            if self._workers and not unanswered and not self.ready:
                raise WorkError(f"none of the {len(self._workers)} workers at {self.address} can be used")
            if time.monotonic() > end and not self._preparing:
                said = "none of its workers answers" if self._workers else "it has no worker"
                raise WorkError(f"there is a scheduler at {self.address}, but {said}; start some with 'dask worker'")
            self._hear(0.2)

    def each(
        self,
        count: int,
        work: Callable[[Any], Any],
        item: Callable[[int], Any],
        came: Callable[[int, Any], bool],
        begun: Callable[[int, str], None],
    ) -> None:
        """Have `work(item(number))` done for every number; `came` gets what came of it, or a BolvekError, as it comes,
        and says whether that has to be handed out once more; `begun` hears of every beginning.

        Raises WorkError where the scheduler goes away, or no worker is left.
        """
        waiting, out = deque(range(count)), dict[int, _Work]()
        begins: list[list[str]] = [[] for _ in range(count)]
        names: dict[str, int] = {}
        seen = looked = time.monotonic()
        try:
            while waiting or out:
                now = time.monotonic()
                if now - looked >= LOOK_EVERY_S:
                    looked = now
                    self._look()
                    for number in self._movable(out):
                        self._drop([out.pop(number).future])
                        waiting.appendleft(number)
                ready = frozenset(worker.address for worker in self.ready)
                seen = now if ready else seen
                if now - seen > WAIT_S:
                    raise WorkError(f"no worker is left at {self.address}; started again the job goes on from here")
                while waiting and len(out) < 2 * len(ready):  # one at work and one at hand for each
                    number = waiting.popleft()
                    try:
                        given = item(number)
                    except BolvekError as error:
                        came(number, error)
                        continue
                    name = f"{self._topic}-{number}-{uuid.uuid4().hex[:8]}"
                    future = self._submit(name, -number, work, given, ready)
                    names[name] = number
                    out[number] = _Work(future, name, ready, begins[number], len(begins[number]))
                for kind, what in self._hear(LOOK_EVERY_S):
                    name = what["begun"] if kind == "begun" else what[0]
                    number = names.get(name, -1)
                    one = out.get(number)
                    if one is None or one.name != name:
                        continue  # it was taken back
                    if kind == "begun":
                        one.begun.append(what["on"])
                        begun(number, what["on"])
                        if len(one.begun) > MOST_BEGUN:
                            del out[number]
                            self._drop([one.future])
                            came(number, _lost(one.begun[:MOST_BEGUN]))
                    else:
                        del out[number]
                        result = self._result(one)
                        if result is _AGAIN or came(number, result):
                            waiting.appendleft(number)
        finally:
            self._drop([one.future for one in out.values()])

    def _submit(self, name: str, priority: int, work: Callable[[Any], Any], given: Any, among: frozenset[str]) -> Any:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # a model may be large; so be it
            future = self._client.submit(
                _begin,
                *(self._topic, name, work, given),
                key=name,
                pure=False,
                workers=sorted(among),
                priority=priority,
            )
        future.add_done_callback(lambda done: self._news.put(("ended", (name, done))))
        return future

    def _result(self, one: _Work) -> Any:
        """What came of a piece of work, or a BolvekError; `_AGAIN` where it was lost on the way."""
        from distributed import CancelledError, KilledWorker

        try:
            return one.future.result(timeout=RESULT_S)
        except BolvekError as error:
            return error
        except KilledWorker:
            return _lost(one.begun)
        except (CancelledError, TimeoutError, OSError):
            self._drop([one.future])
            return _AGAIN if len(one.begun) < MOST_BEGUN else _lost(one.begun)
        except Exception as error:
            return WorkError(f"a bug on a worker: {type(error).__name__}: {error}")

    def _movable(self, out: dict[int, _Work]) -> list[int]:
        """Work whose workers have all gone, or that nobody has begun and that others could take as well; the last
        first."""
        ready = {worker.address for worker in self.ready}
        return [
            number
            for number, one in sorted(out.items(), reverse=True)
            if ready and (not one.among & ready or (len(one.begun) == one.at and ready - one.among))
        ]

    def _drop(self, futures: Sequence[Any]) -> None:
        with contextlib.suppress(Exception):  # where the scheduler is gone there is nothing to take back
            self._client.cancel(list(futures), force=True)

    def _hear(self, seconds: float) -> list[tuple[str, Any]]:
        """News of the work, all that came meanwhile; what workers say of themselves is seen to here."""
        heard: list[tuple[str, Any]] = []
        with contextlib.suppress(queue.Empty):
            news = self._news.get(timeout=seconds)
            while True:
                kind, what = news
                if kind == "greeted":
                    self._greeted(*what)
                elif kind == "prepared":
                    self._preparing.pop(what, None)
                    self._prepared.add(what)
                    self._admit_all()
                else:
                    heard.append((kind, what))
                news = self._news.get_nowait()
        return heard

    def _look(self) -> None:
        """Who has come, who has gone. Raises WorkError where the scheduler does not answer."""
        try:
            if self._client.status != "running":
                raise OSError
            there = set(self._client.nthreads())
        except (OSError, RuntimeError, ValueError, AttributeError):
            raise WorkError(
                f"the scheduler at {self.address} has gone; what is done is written, started again the job goes on"
            ) from None
        for address in self._workers.keys() - there:
            del self._workers[address]
        for machine, address in list(self._preparing.items()):
            if address not in there:
                del self._preparing[machine]
                self._admit_all()  # another of that machine compiles
        for address in sorted(there - self._workers.keys()):
            self._workers[address] = Worker(address)
            self._ask("greeted", address, greet, (*self._first, self._modules), address)

    def _ask(self, kind: str, address: str, question: Callable[..., Any], given: tuple[Any, ...], about: str) -> None:
        future = self._client.submit(question, *given, pure=False, workers=[address], priority=1000)
        self._asked.append(future)  # a question that nobody holds is taken back
        future.add_done_callback(lambda done: self._news.put((kind, (about, done) if kind == "greeted" else about)))

    def _greeted(self, address: str, future: Any) -> None:
        """What a worker answers; it is refused, or its machine is made ready, or it is."""
        worker = self._workers.get(address)
        if worker is None or future.cancelled():
            return
        try:
            worker.card = future.result(timeout=RESULT_S)
        except Exception as error:  # whatever keeps it from answering: it has no Bolvek, or another one
            self._refuse(worker, f"it has no Bolvek that answers ({type(error).__name__}: {error})")
            return
        assert worker.card is not None
        other = [
            f"{name} {theirs} where this is {own}"
            for name, own in self._own.items()
            if (theirs := worker.card.packages.get(name, "missing")) != own
        ]
        if other:
            self._refuse(worker, f"it has {', '.join(other)}")
        else:
            self._admit(worker)

    def _refuse(self, worker: Worker, why: str) -> None:
        worker.refused = True
        name = f"{worker.card.name} on {worker.card.machine}" if worker.card else f"the worker at {worker.address}"
        self._tell("refused", f"{name}: {why}; the bytes might differ")

    def _admit_all(self) -> None:
        for worker in self._workers.values():
            self._admit(worker)

    def _admit(self, worker: Worker) -> None:
        """Let work go to a worker as soon as its machine has the kernels."""
        card = worker.card
        if card is None or worker.ready or worker.refused:
            return
        machine = f"{card.machine}:{card.cache}"
        if not card.missing or machine in self._prepared:
            worker.ready = True
        elif machine not in self._preparing:
            self._preparing[machine] = worker.address
            self._tell("kernels", f"compiled on {card.machine}, once (some seconds)")
            self._ask("prepared", worker.address, prepare, (card.missing,), machine)


_AGAIN = object()


def _lost(begun: Sequence[str]) -> WorkError:
    """Why a piece of work was given up."""
    times = {1: "once", 2: "twice"}.get(len(begun), f"{len(begun)} times")
    named = f" (on {', '.join(begun)})" if begun else ""
    return WorkError(
        f"its worker ended or no longer answered, {times}{named}; most likely there was not enough memory for it"
    )
