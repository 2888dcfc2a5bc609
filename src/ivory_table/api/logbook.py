"""The logbook of each machine, as a page, a table, and a calendar of what is due."""

from datetime import UTC, datetime
from typing import Annotated

from fastapi import APIRouter, Query, Request
from fastapi.responses import PlainTextResponse

from ivory_table.core.gone_bad import Look
from ivory_table.core.value import Id
from ivory_table.stations import after_change, logbook, what_changed
from ivory_table.stations.http import desk, download

from .line import MachineId, at_line, lines

logbook_routes = APIRouter(prefix="/api/machines/{machine_id}/logbook", tags=["logbook"])
due_routes = APIRouter(prefix="/api/due", tags=["logbook"])
PlateId = Annotated[Id | None, Query(description="A plate of the machine; left out, that of its newest run.")]


@logbook_routes.get("")
def get_logbook(request: Request, machine_id: MachineId, plate: PlateId = None) -> logbook.LogbookView:
    return logbook.view(desk(request).workshop, machine_id, plate)


@logbook_routes.post("")
def tell_log(request: Request, machine_id: MachineId, told: logbook.TellLog) -> logbook.LogbookView:
    """Something happened: an incident, prints done, a note. For people, and for programs that count prints."""
    logbook.tell(desk(request).workshop, machine_id, told)
    return logbook.view(desk(request).workshop, machine_id)


@logbook_routes.get("/csv", response_class=PlainTextResponse)
def get_logbook_csv(request: Request, machine_id: MachineId, plate: PlateId = None) -> PlainTextResponse:
    found = logbook.view(desk(request).workshop, machine_id, plate)
    return download(logbook.as_csv(found), f"logbook-{machine_id}.csv", "text/csv")


@logbook_routes.get("/gone-bad")
def get_what_changed(
    request: Request,
    machine_id: MachineId,
    plate: PlateId = None,
    look: Annotated[Look | None, Query(description="How the layer looks.")] = None,
    filament: Annotated[Id | None, Query(description="The filament it went bad with.")] = None,
) -> what_changed.WhatChanged:
    """A first layer went bad: what is likeliest, the shortest way back, and the value that worked."""
    return what_changed.view(desk(request).workshop, machine_id, plate, look, filament)


change_routes = APIRouter(prefix="/api/machines/{machine_id}/after-change", tags=["logbook"])
SnapshotId = Annotated[Id, Query(description="A report that is kept of the machine.")]


@change_routes.get("")
def get_after_change(request: Request, machine_id: MachineId) -> after_change.AfterChange:
    return after_change.view(lines(request), machine_id)


@change_routes.post("/snapshots", status_code=201)
def take_snapshot(
    request: Request, machine_id: MachineId, wanted: after_change.TakeSnapshot
) -> after_change.AfterChange:
    """Keep what the machine reports of its settings: pasted, or asked for on its line."""
    at = lines(request) if wanted.text.strip() else at_line(request, machine_id, "asked for its settings")
    return after_change.take(at, machine_id, wanted)


@change_routes.get("/compare")
def compare_snapshots(
    request: Request, machine_id: MachineId, before: SnapshotId, after: SnapshotId
) -> after_change.Compared:
    return after_change.compare(desk(request).workshop, machine_id, before, after)


@due_routes.get("/calendar", response_class=PlainTextResponse)
def get_calendar(request: Request) -> PlainTextResponse:
    """Due days as ICS: subscribe to this address, or save it as a file."""
    return download(
        logbook.as_calendar(desk(request).workshop, datetime.now(UTC)), "ivory-table-due.ics", "text/calendar"
    )
