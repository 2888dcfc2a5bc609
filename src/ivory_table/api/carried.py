"""Everything carried away as one file, and brought; every run, found; and a person's initials erased."""

import shutil
import tempfile
from pathlib import Path
from typing import Annotated, Any

from fastapi import APIRouter, BackgroundTasks, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import FileResponse, PlainTextResponse

from ivory_table.core.value import Id, Initials, Value
from ivory_table.runs.doubts import Refused
from ivory_table.stations import bench, carried, papers
from ivory_table.stations.http import RunId, desk, download, download_bytes
from ivory_table.stations.table import as_table
from ivory_table.store.erasing import ERASED, erase
from ivory_table.store.finding import Cursor, Page, find_runs

from .line import MachineId
from .network import base_of, did

carried_routes = APIRouter(prefix="/api/carried", tags=["carried"])
found_routes = APIRouter(prefix="/api", tags=["bench"])
OfMachine = Annotated[Id | None, Query(description="One machine alone.")]


class RunsFound(Value):
    runs: tuple[bench.RunLine, ...]
    next: Cursor | None


class Erase(Value):
    initials: Initials


class Erased(Value):
    rows: int
    words: str


@carried_routes.get("", response_class=FileResponse, responses={200: {"content": {"application/zip": {}}}})
def carry(request: Request, background: BackgroundTasks, machine: OfMachine = None) -> FileResponse:
    """Set-up, runs, logbook and taught manners as JSON in one zip file."""
    folder = Path(tempfile.mkdtemp())
    background.add_task(shutil.rmtree, folder, ignore_errors=True)
    name = f"ivory-table-{machine or 'workshop'}.zip"
    carried.carry(desk(request).workshop, folder / name, machine)
    return FileResponse(folder / name, media_type="application/zip", filename=name)


@carried_routes.post(
    "",
    openapi_extra={
        "requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}
    },
)
async def bring(request: Request, by: Initials = "–") -> carried.BroughtAll:
    """Add what another workshop carried away. Nothing that is here is changed, and no run comes twice."""
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "brought.zip"
        with file.open("wb") as out:
            async for part in request.stream():
                out.write(part)
        found = await run_in_threadpool(carried.bring_all, desk(request).workshop, file, by)
    did(request, f"brought {found.runs_new} runs from another installation")
    return found


@carried_routes.post("/erase")
def erase_initials(request: Request, wanted: Erase) -> Erased:
    """Take somebody's initials out of everything that is kept, on their request."""
    if wanted.initials == ERASED:
        raise Refused("nobody", "That sign stands for somebody who was erased already.", "initials")
    at = desk(request)
    rows = erase(at.workshop, wanted.initials)
    if not rows:
        raise Refused("nobody", f"Nothing here was signed {wanted.initials}. Look at the letters.", "initials")
    at.forget_open()
    did(request, "erased somebody's initials")
    return Erased(
        rows=rows,
        words=f"{wanted.initials} is gone from {rows} rows. Notes in free words, files carried away and the daily copies "
        "of the last days still hold what they held.",
    )


@found_routes.get("/found")
def find(
    request: Request,
    text: Annotated[str, Query(max_length=200, description="Words that stand in a run's line.")] = "",
    machine: OfMachine = None,
    started_at: Annotated[str | None, Query(max_length=40, description="Of the run that was last on the page.")] = None,
    run_id: Annotated[Id | None, Query(description="Of the run that was last on the page.")] = None,
    most: Annotated[int, Query(ge=1, le=200)] = 50,
) -> RunsFound:
    """Every run there is, newest first, a page at a time."""
    before = Cursor(started_at=started_at, run_id=run_id) if started_at and run_id else None
    page: Page = find_runs(text, machine, before, most)
    return RunsFound(runs=tuple(bench.run_line(s) for s in page.runs), next=page.next)


_PDF: dict[int | str, dict[str, Any]] = {200: {"content": {"application/pdf": {}}}}


@found_routes.get("/machines/{machine_id}/card", response_class=Response, responses=_PDF)
def get_machine_card(request: Request, machine_id: MachineId) -> Response:
    """To hang at the machine, with a code that leads to its logbook."""
    body = papers.machine_card(desk(request).workshop, machine_id, base_of(request))
    return download_bytes(f"{machine_id}-card.pdf", body, "application/pdf")


@found_routes.get("/runs/{run_id}/record.pdf", response_class=Response, responses=_PDF)
def get_record(request: Request, run_id: RunId) -> Response:
    """What a run found and left, to file."""
    body = papers.record(desk(request).workshop, run_id, base_of(request))
    return download_bytes(f"record-{run_id}.pdf", body, "application/pdf")


@found_routes.get("/bench/csv", response_class=PlainTextResponse)
def get_bench_csv(request: Request) -> PlainTextResponse:
    """One row for each machine: state, chance, due, last value, who."""
    view = bench.view(desk(request), request.app.state.lines)
    rows = (
        (
            m.machine.id, m.machine.name, m.words,
            "" if m.expected is None else round(m.expected.p_today, 3),
            "" if m.expected is None or m.expected.due_at is None else m.expected.due_at.date().isoformat(),
            m.machine.stored_mm, m.convention_name,
            m.last_run.initials if m.last_run else "", m.last_run.started_at.isoformat() if m.last_run else "",
        )
        for m in view.machines
    )  # fmt: skip
    head = ("machine_id", "machine", "state", "chance_sound", "due", "stored_mm", "convention", "last_by", "last_run")
    return download(as_table(head, rows), "bench.csv", "text/csv")


@found_routes.get("/found/csv", response_class=PlainTextResponse)
def get_runs_csv(request: Request, text: Annotated[str, Query(max_length=200)] = "") -> PlainTextResponse:
    """One row for each run that is found, newest first."""
    rows = []
    before: Cursor | None = None
    while True:
        page = find_runs(text, None, before, 200)
        rows += [
            (s.run_id, s.machine_name, s.plate_name, s.filament_name, s.initials, s.started_at.isoformat(),
             s.last_at.isoformat(), s.signed_off, s.words, s.stored_mm)
            for s in page.runs
        ]  # fmt: skip
        before = page.next
        if before is None:
            break
    head = ("run_id", "machine", "plate", "filament", "by", "started_at", "last_at", "signed_off", "state", "stored_mm")
    return download(as_table(head, rows), "runs.csv", "text/csv")
