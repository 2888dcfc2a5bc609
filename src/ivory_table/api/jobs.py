"""A job made elsewhere, checked against a machine before it is printed."""

import tempfile
from typing import Annotated

from fastapi import APIRouter, Path, Query, Request
from fastapi.concurrency import run_in_threadpool

from ivory_table.core.value import Id, Value
from ivory_table.stations.http import desk
from ivory_table.stations.job_check import CheckWanted, JobReport, check
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


@job_routes.get("/{job_id}")
def get_job(request: Request, machine_id: MachineId, job_id: JobId) -> JobReport:
    return JobReport.model_validate_json(checked_job(machine_id, job_id))


@job_routes.post(
    "",
    status_code=201,
    openapi_extra={"requestBody": {"content": {"text/plain": {"schema": {"type": "string"}}}, "required": True}},
)
async def check_job(
    request: Request,
    machine_id: MachineId,
    name: Annotated[str, Query(max_length=200)] = "job",
    plate: Annotated[Id | None, Query(description="Left out, that of its newest run.")] = None,
    filament: Annotated[Id | None, Query(description="Left out, that of its newest run.")] = None,
) -> JobReport:
    """The program as it would be sent, as it comes: it is read as a stream, and nothing of it is kept but the report."""
    with tempfile.TemporaryFile() as file:
        async for part in request.stream():
            file.write(part)
        file.seek(0)
        wanted = CheckWanted(name=name, plate_id=plate, filament_id=filament)
        return await run_in_threadpool(check, desk(request), machine_id, file, wanted)
