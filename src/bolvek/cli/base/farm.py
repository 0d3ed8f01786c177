"""A job on a farm: what is sent, what is written of what comes back, and what is said."""

from collections.abc import Callable, Sequence
from typing import Any

from bolvek.cli.base.console import Talk
from bolvek.cli.base.done import ModelDone
from bolvek.cli.base.job import Job
from bolvek.cli.base.kernels import needed_modules
from bolvek.cli.base.outcome import Engine
from bolvek.cli.base.parcel import Parcel, Returned, Sent, work_there
from bolvek.cli.base.progress import Progress
from bolvek.cli.base.workers import Part, Task
from bolvek.errors import BolvekError, FileError
from bolvek.formats.registry import file_bytes
from bolvek.formats.safe import write_bytes
from bolvek.jobs.farm import Farm
from bolvek.jobs.ledger import digest, sha256
from bolvek.units import count_text


class Farmed(Engine):
    """The workers of a scheduler. send: models travel even where the workers see their files.

    Whatever comes back is written here and put into the ledger here, by this process alone: nothing can be half, and
    nothing twice.
    """

    def __init__(self, address: str, job: Job, *, send: bool) -> None:
        self._address, self._job, self._send = address, job, send

    def hand_out(self, tasks: Sequence[Task], tell: Callable[[int, Any], None], progress: Progress) -> None:
        """See `Engine`."""
        parcels: list[Parcel] = [task.given[0] for task in tasks]
        talk = Talk(parcels[0].asked.json_target)
        files = [parcel.file for parcel in parcels]
        pages = ["picture"] if parcels[0].asked.page_target is not None else []
        modules = needed_modules("run", files, [*self._job.kernels, *pages], [p.target for p in parcels])
        first = next((file for file in files if file.is_file()), files[0])
        ends: dict[int, Any] = {}
        told = 0
        with Farm(self._address, (str(first.absolute()), sha256(first)), modules, talk.row) as farm:
            farm.wait()
            self._send = self._send or not farm.sees
            talk.row("farm", self._farm_text(farm))

            def item(number: int) -> Sent:
                parcel = parcels[number]
                data = file_bytes(parcel.file)
                return Sent(
                    parcel=parcel,
                    digest=digest(data),
                    data=data if self._send else None,
                    place=str(parcel.file.absolute()),
                    profiles=self._job.profiles,
                    threads=farm.threads(),
                )

            def came(number: int, result: Returned | BolvekError) -> bool:
                nonlocal told
                if isinstance(result, Returned) and result.part is None:
                    self._send = True  # some worker does not see what others do
                    return True
                ends[number] = self._received(parcels[number], result)
                progress.ended(number)
                while told in ends:
                    tell(told, ends.pop(told))
                    told += 1
                return False

            farm.each(len(tasks), work_there, item, came, progress.begun)

    def _received(self, parcel: Parcel, result: Returned | BolvekError) -> Part | BolvekError:
        """Write what came back; what it is now to be told of."""
        if isinstance(result, BolvekError):
            return result
        part = result.part
        assert part is not None
        done = part.end
        if not isinstance(done, ModelDone):
            return part
        if digest(result.data) != result.digest:
            return FileError(f"{parcel.file}: what came back from the farm is not what was sent")
        try:
            write_bytes(
                parcel.target,
                result.data,
                replace=parcel.asked.replace,
                announce=lambda data: self._job.ledger.add(
                    self._job.entry(parcel.file, parcel.target, result.read, data, done)
                ),
            )
        except FileError as error:
            return error
        return part

    def _farm_text(self, farm: Farm) -> str:
        machines = {worker.card.machine for worker in farm.ready if worker.card is not None}
        way = "models travel to them" if self._send else "they read models where they lie"
        text = f"{count_text(len(farm.ready), 'worker')} on {count_text(len(machines), 'machine')} at {self._address}"
        return f"{text}; {way}; what comes back is written here"
