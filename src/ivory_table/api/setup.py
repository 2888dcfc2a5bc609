"""Machines, gauges, nozzles, filaments and people: kept, copied, carried away and brought."""

import shutil
import tempfile
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

from fastapi import APIRouter, BackgroundTasks, Request, Response
from fastapi import Path as PathParam
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse

from ivory_table.api.bodies import described, file_body
from ivory_table.core.gauge import Gauge
from ivory_table.core.plate import Filament, Nozzle, Person
from ivory_table.core.value import Id
from ivory_table.stations import setup
from ivory_table.stations.first_use import FirstMachine, furnish_first
from ivory_table.stations.http import desk
from ivory_table.store import copies

setup_routes = APIRouter(prefix="/api/setup", tags=["setup"])
SetupId = Annotated[Id, PathParam(description="The id of what is kept.")]


@setup_routes.get("")
def get_setup(request: Request) -> setup.SetupView:
    return setup.view(desk(request).workshop)


@setup_routes.post("/first", status_code=201)
def first_machine(request: Request, wanted: FirstMachine) -> setup.SetupView:
    furnish_first(desk(request), wanted)
    return setup.view(desk(request).workshop)


@setup_routes.post("/practice", status_code=201)
def practice_machines(request: Request) -> setup.SetupView:
    """Put the practice machines of the demo workshop on the bench, beside whatever stands there."""
    request.app.state.practise()
    return setup.view(desk(request).workshop)


@setup_routes.get("/backup", response_class=FileResponse, responses={200: {"content": {"application/zip": {}}}})
def get_backup(request: Request, background: BackgroundTasks) -> FileResponse:
    """Everything, as one file: a copy made while others work, checked."""
    data = desk(request).workshop.file.parent
    folder = Path(tempfile.mkdtemp())
    background.add_task(shutil.rmtree, folder, ignore_errors=True)
    name = copies.name_of(datetime.now(UTC))
    copies.backup(data, folder / name)
    return FileResponse(folder / name, media_type="application/zip", filename=name)


@setup_routes.get("/file")
def get_setup_file(request: Request, response: Response, machine: Id | None = None) -> setup.SetupFile:
    response.headers["content-disposition"] = f'attachment; filename="setup{f"-{machine}" if machine else ""}.json"'
    return setup.setup_file(desk(request).workshop, machine)


@setup_routes.post("/import", openapi_extra=described(setup.SetupFile))
async def import_setup(request: Request) -> setup.Brought:
    file = await file_body(request, setup.SetupFile)
    return await run_in_threadpool(setup.bring, desk(request).workshop, file)


@setup_routes.post("/symmetric")
def symmetric_screws(wanted: setup.Symmetric) -> setup.Screws:
    return setup.symmetric(wanted)


@setup_routes.put("/machines/{kept_id}")
def keep_machine(request: Request, kept_id: SetupId, wanted: setup.KeepMachine) -> setup.SetupView:
    return setup.keep_machine(desk(request), kept_id, wanted)


@setup_routes.post("/machines/{kept_id}/copy")
def copy_machine(request: Request, kept_id: SetupId, wanted: setup.CopyMachine) -> setup.SetupView:
    return setup.copy_machine(desk(request), kept_id, wanted)


@setup_routes.put("/gauges")
def keep_gauge(request: Request, wanted: Gauge) -> setup.SetupView:
    return setup.keep_gauge(desk(request).workshop, wanted)


@setup_routes.put("/nozzles")
def keep_nozzle(request: Request, wanted: Nozzle) -> setup.SetupView:
    return setup.keep_nozzle(desk(request).workshop, wanted)


@setup_routes.put("/filaments")
def keep_filament(request: Request, wanted: Filament) -> setup.SetupView:
    return setup.keep_filament(desk(request).workshop, wanted)


@setup_routes.put("/people")
def keep_person(request: Request, wanted: Person) -> setup.SetupView:
    return setup.keep_person(desk(request).workshop, wanted)
