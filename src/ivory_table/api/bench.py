"""The bench: all machines, starting a run, a run from elsewhere."""

from fastapi import APIRouter, Request
from fastapi.concurrency import run_in_threadpool

from ivory_table.api.bodies import described, file_body
from ivory_table.core.value import Id, Value
from ivory_table.desk.bring import import_run as import_run_file
from ivory_table.desk.desk import StartRun
from ivory_table.runs.entry import RunFile
from ivory_table.stations.bench import BenchView, RunLine, runs_of, view
from ivory_table.stations.http import desk
from ivory_table.stations.stored.quick import CloserMm, Corrected, QuickChange, correct, quick_change


class Started(Value):
    id: Id


class RunLines(Value):
    runs: tuple[RunLine, ...]


class Imported(Value):
    id: Id
    new: bool


bench_routes = APIRouter(prefix="/api", tags=["bench"])


@bench_routes.get("/bench")
def get_bench(request: Request) -> BenchView:
    return view(desk(request), request.app.state.lines)


@bench_routes.post("/runs", status_code=201)
def start_run(request: Request, wanted: StartRun) -> Started:
    return Started(id=desk(request).start(wanted).id)


@bench_routes.post("/runs/import", openapi_extra=described(RunFile))
async def import_run(request: Request) -> Imported:
    file = await file_body(request, RunFile)
    new = await run_in_threadpool(import_run_file, desk(request).workshop, file)
    return Imported(new=new, id=file.setup.id)


@bench_routes.get("/machines/{machine_id}/correction")
def look_at_correction(request: Request, machine_id: Id, closer_mm: CloserMm) -> QuickChange:
    """What bringing the tip a little closer would store, before anything is sent."""
    return quick_change(desk(request), machine_id, closer_mm)


@bench_routes.post("/machines/{machine_id}/correction")
def keep_correction(request: Request, machine_id: Id, what: Corrected) -> QuickChange:
    """A correction that was sent and read back; the machine's stored value is the new one."""
    at = desk(request)
    correct(at, machine_id, what)
    return quick_change(at, machine_id, 0.0)


@bench_routes.get("/machines/{machine_id}/runs")
def get_runs(request: Request, machine_id: Id) -> RunLines:
    return RunLines(runs=runs_of(desk(request), machine_id))
