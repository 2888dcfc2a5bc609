"""A job made elsewhere, checked against a machine before it is printed."""

import tempfile
from asyncio import create_task, wait
from threading import Event
from typing import Annotated, Any, BinaryIO

from fastapi import APIRouter, Path, Query, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import StreamingResponse
from pydantic import Field
from starlette.background import BackgroundTask

from ivory_table.core.value import Id, Value
from ivory_table.program.job import Cancelled
from ivory_table.program.job_copy import Mend
from ivory_table.runs.doubts import Refused
from ivory_table.stations.http import desk
from ivory_table.stations.job.check import check
from ivory_table.stations.job.compared import compare
from ivory_table.stations.job.copy import copy
from ivory_table.stations.job.report import CheckWanted, JobReport, JobsCompared
from ivory_table.store.checked import checked, checked_job

from .line import MachineId

job_routes = APIRouter(prefix="/api/machines/{machine_id}/jobs", tags=["jobs"])
JobId = Annotated[Id, Path(description="A check that is kept of the machine.")]


class CheckedJobs(Value):
    """The last checks of a machine, newest first, without their maps."""

    jobs: tuple[JobReport, ...]


@job_routes.get("")
def get_jobs(request: Request, machine_id: MachineId) -> CheckedJobs:
    desk(request).workshop.machine(machine_id)
    reports = (JobReport.model_validate_json(body) for body in checked(machine_id))
    return CheckedJobs(jobs=tuple(r.model_copy(update={"cells": ()}) for r in reports))


@job_routes.get("/compare")
def compare_jobs(
    request: Request,
    machine_id: MachineId,
    before: Annotated[Id, Query(description="A check that is kept of the machine.")],
    after: Annotated[Id, Query(description="Another one.")],
) -> JobsCompared:
    """What differs in start, first layer and end of two jobs that were checked."""
    one, two = (JobReport.model_validate_json(checked_job(machine_id, job)) for job in (before, after))
    return compare(one, two)


class ReadSoFar(Value):
    """How far a job that is being read has come; 0 of 0 where none is."""

    bytes: int
    whole: int


#: By machine and name, while they are read: single steps of a dict, so that threads need no lock.
_reading: dict[tuple[str, str], ReadSoFar] = {}


@job_routes.get("/reading/{reading}")
def get_reading(machine_id: MachineId, reading: Id) -> ReadSoFar:
    return _reading.get((machine_id, reading), ReadSoFar(bytes=0, whole=0))


@job_routes.get("/{job_id}")
def get_job(request: Request, machine_id: MachineId, job_id: JobId) -> JobReport:
    return JobReport.model_validate_json(checked_job(machine_id, job_id))


class CopyWanted(Mend):
    """What is to be done otherwise; the plate, left out, is that of its newest run."""

    name: Annotated[str, Field(max_length=200)] = "job"
    plate: Id | None = None


_TEXT: dict[str, Any] = {"requestBody": {"content": {"text/plain": {"schema": {"type": "string"}}}, "required": True}}


async def _received(request: Request, into: BinaryIO) -> None:
    async for part in request.stream():
        into.write(part)
    into.seek(0)


@job_routes.post(
    "/copy", response_class=StreamingResponse, responses={200: {"content": {"text/plain": {}}}}, openapi_extra=_TEXT
)
async def copy_job(
    request: Request,
    machine_id: MachineId,
    wanted: Annotated[CopyWanted, Query()],
) -> StreamingResponse:
    """The same program, mended as asked: moved on the plate, or its first layer laid otherwise. Every other byte stays."""
    out = tempfile.TemporaryFile()  # noqa: SIM115  closed when it has been sent
    try:
        with tempfile.TemporaryFile() as file:
            await _received(request, file)
            await run_in_threadpool(copy, desk(request), machine_id, file, out, wanted, wanted.name, wanted.plate)
    except BaseException:
        out.close()
        raise
    pieces = iter(lambda: out.read(1 << 16), b"")
    head = {"content-disposition": "attachment"}
    return StreamingResponse(pieces, media_type="text/plain", headers=head, background=BackgroundTask(out.close))


@job_routes.post(
    "",
    status_code=201,
    openapi_extra=_TEXT,
)
async def check_job(
    request: Request,
    machine_id: MachineId,
    name: Annotated[str, Query(max_length=200)] = "job",
    plate: Annotated[Id | None, Query(description="Left out, that of its newest run.")] = None,
    filament: Annotated[Id | None, Query(description="Left out, that of its newest run.")] = None,
    reading: Annotated[Id | None, Query(description="A name under which how far it is read can be asked.")] = None,
) -> JobReport:
    """The program as it would be sent, as it comes: it is read as a stream, and nothing of it is kept but the report.

    Whoever hangs up stops it.
    """
    gone = Event()
    with tempfile.TemporaryFile() as file:
        await _received(request, file)
        whole = file.seek(0, 2)
        file.seek(0)

        def told(bytes_read: int) -> None:
            if gone.is_set():
                raise Cancelled
            if reading is not None:
                _reading[machine_id, reading] = ReadSoFar(bytes=bytes_read, whole=whole)

        wanted = CheckWanted(name=name, plate_id=plate, filament_id=filament)
        checking = create_task(run_in_threadpool(check, desk(request), machine_id, file, wanted, told))
        try:
            while not (await wait({checking}, timeout=0.2))[0]:
                if await request.is_disconnected():
                    gone.set()
            return await checking
        except Cancelled:
            raise Refused("stopped", "Stopped. Nothing was kept.") from None
        finally:
            _reading.pop((machine_id, reading or ""), None)
