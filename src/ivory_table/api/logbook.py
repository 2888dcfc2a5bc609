"""The logbook of each machine, as a page, a table, and a calendar of what is due."""

from datetime import UTC, datetime
from typing import Annotated

from fastapi import APIRouter, Query, Request
from fastapi.responses import PlainTextResponse

from ivory_table.core.value import Id
from ivory_table.stations import logbook
from ivory_table.stations.http import desk, download

from .line import MachineId

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


@due_routes.get("/calendar", response_class=PlainTextResponse)
def get_calendar(request: Request) -> PlainTextResponse:
    """Due days as ICS: subscribe to this address, or save it as a file."""
    return download(
        logbook.as_calendar(desk(request).workshop, datetime.now(UTC)), "ivory-table-due.ics", "text/calendar"
    )
