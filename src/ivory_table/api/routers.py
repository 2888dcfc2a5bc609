"""The routes: the bench, runs, and one router for each station."""

import asyncio
from collections.abc import AsyncIterator, Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Annotated, Literal

from fastapi import APIRouter, Body, Path, Query, Request, Response
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import PlainTextResponse, StreamingResponse
from pydantic import BeforeValidator

from ivory_table.core.bead import Swatch
from ivory_table.core.entries import RunFile, Station, What
from ivory_table.core.gauge import Gauge
from ivory_table.core.offset import StoredChange
from ivory_table.core.plate import Filament, Nozzle, Person
from ivory_table.core.proof import ZoneCount
from ivory_table.core.value import Id, Value
from ivory_table.core.walk import Walk
from ivory_table.stations import bench, extras, first_layer, mesh, offset, on_line, prepare, setup, sign_off, tram
from ivory_table.stations.desk import Desk, Keep, OpenRun, StartRun
from ivory_table.stations.head import RunHead, head_of
from ivory_table.stations.lines import Connect, Leave, Lines, LineStatus

from .bodies import described, file_body

RunId = Annotated[Id, Path(description="The run's id.")]
Zones = Annotated[Literal[5, 9], BeforeValidator(int), Query(description="Zones of the next proof.")]


class Ask(Value):
    """Ask the practice plate for the answer to the step at hand."""

    id: Id
    seen_seq: Annotated[int, Body(ge=0)]


class Started(Value):
    id: Id


class Imported(Value):
    id: Id
    new: bool


def desk(request: Request) -> Desk:
    found: Desk = request.app.state.desk
    return found


def lines(request: Request) -> Lines:
    found: Lines = request.app.state.lines
    return found


the_bench = APIRouter(prefix="/api", tags=["bench"])


@the_bench.get("/bench")
def get_bench(request: Request) -> bench.BenchView:
    return bench.view(desk(request))


@the_bench.post("/runs", status_code=201)
def start_run(request: Request, wanted: StartRun) -> Started:
    return Started(id=desk(request).start(wanted).id)


@the_bench.post("/runs/import", openapi_extra=described(RunFile))
async def import_run(request: Request) -> Imported:
    file = await file_body(request, RunFile)
    new = await run_in_threadpool(sign_off.import_run, desk(request).workshop, file)
    return Imported(new=new, id=file.setup.id)


the_setup = APIRouter(prefix="/api/setup", tags=["setup"])
SetupId = Annotated[Id, Path(description="The id of what is kept.")]


@the_setup.get("")
def get_setup(request: Request) -> setup.SetupView:
    return setup.view(desk(request).workshop)


@the_setup.get("/file")
def get_setup_file(request: Request, response: Response, machine: Id | None = None) -> setup.SetupFile:
    response.headers["content-disposition"] = f'attachment; filename="setup{f"-{machine}" if machine else ""}.json"'
    return setup.setup_file(desk(request).workshop, machine)


@the_setup.post("/import", openapi_extra=described(setup.SetupFile))
async def import_setup(request: Request) -> setup.Brought:
    file = await file_body(request, setup.SetupFile)
    return await run_in_threadpool(setup.bring, desk(request).workshop, file)


@the_setup.post("/symmetric")
def symmetric_screws(wanted: setup.Symmetric) -> setup.Screws:
    return setup.symmetric(wanted)


@the_setup.put("/machines/{kept_id}")
def keep_machine(request: Request, kept_id: SetupId, wanted: setup.KeepMachine) -> setup.SetupView:
    return setup.keep_machine(desk(request), kept_id, wanted)


@the_setup.post("/machines/{kept_id}/copy")
def copy_machine(request: Request, kept_id: SetupId, wanted: setup.CopyMachine) -> setup.SetupView:
    return setup.copy_machine(desk(request), kept_id, wanted)


@the_setup.put("/gauges")
def keep_gauge(request: Request, wanted: Gauge) -> setup.SetupView:
    return setup.keep_gauge(desk(request).workshop, wanted)


@the_setup.put("/nozzles")
def keep_nozzle(request: Request, wanted: Nozzle) -> setup.SetupView:
    return setup.keep_nozzle(desk(request).workshop, wanted)


@the_setup.put("/filaments")
def keep_filament(request: Request, wanted: Filament) -> setup.SetupView:
    return setup.keep_filament(desk(request).workshop, wanted)


@the_setup.put("/people")
def keep_person(request: Request, wanted: Person) -> setup.SetupView:
    return setup.keep_person(desk(request).workshop, wanted)


runs = APIRouter(prefix="/api/runs/{run_id}", tags=["runs"])
SheetMm = Annotated[float, Query(description="Thickness of one shim sheet, mm.")]
Rounds = Annotated[int, Query(description="Rounds of the screws.")]


@runs.get("/shim")
def get_shim(request: Request, run_id: RunId, sheet_mm: SheetMm = 0.1) -> extras.ShimView:
    return extras.shim(desk(request).open(run_id), sheet_mm)


@runs.get("/shim.svg", response_class=Response)
def get_shim_svg(request: Request, run_id: RunId, sheet_mm: SheetMm = 0.1) -> Response:
    return _file(*extras.shim_file(desk(request).open(run_id), sheet_mm, "svg"), "image/svg+xml")


@runs.get("/shim.pdf", response_class=Response)
def get_shim_pdf(request: Request, run_id: RunId, sheet_mm: SheetMm = 0.1) -> Response:
    return _file(*extras.shim_file(desk(request).open(run_id), sheet_mm, "pdf"), "application/pdf")


@runs.get("/walk")
def get_walk(request: Request, run_id: RunId, rounds: Rounds = 2, way: extras.WalkWay = "ring") -> Walk:
    return extras.walk_for(desk(request).open(run_id), rounds, way)


@runs.get("/walk.gcode", response_class=PlainTextResponse)
def get_walk_file(
    request: Request, run_id: RunId, rounds: Rounds = 2, way: extras.WalkWay = "ring"
) -> PlainTextResponse:
    run = desk(request).open(run_id)
    return _download(extras.walk_for(run, rounds, way).text, f"walk-{run.setup.machine.id}.gcode", "text/plain")


@runs.get("/feel")
def get_feel(request: Request, run_id: RunId) -> extras.FeelCheck:
    return extras.feel_check(desk(request).open(run_id))


@runs.post("/feel/practice")
def feel_practice(request: Request, run_id: RunId, ask: Ask) -> extras.FeelCheck:
    at = desk(request)
    run = at.ask_hands(run_id, "offset", ask.id, ask.seen_seq, lambda run: extras.feel_by_practice(at, run))
    return extras.feel_check(run)


def _file(name: str, body: bytes, kind: str) -> Response:
    return Response(body, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})


@runs.get("/head")
def get_head(request: Request, run_id: RunId) -> RunHead:
    return head_of(desk(request).open(run_id))


@runs.get("/file")
def get_file(request: Request, response: Response, run_id: RunId) -> RunFile:
    response.headers["content-disposition"] = f'attachment; filename="run-{run_id}.json"'
    return sign_off.run_file(desk(request).open(run_id))


@runs.get("/readings.csv", response_class=PlainTextResponse)
def get_readings(request: Request, run_id: RunId) -> PlainTextResponse:
    return _download(sign_off.readings_csv(desk(request).open(run_id)), f"readings-{run_id}.csv", "text/csv")


@runs.get("/mesh.csv", response_class=PlainTextResponse)
def get_mesh_csv(request: Request, run_id: RunId) -> PlainTextResponse:
    return _download(sign_off.mesh_csv(desk(request).open(run_id)), f"mesh-{run_id}.csv", "text/csv")


@runs.get("/skirt")
def get_skirt(request: Request, run_id: RunId) -> extras.SkirtView:
    return extras.skirt_for(desk(request).open(run_id))[0]


@runs.get("/skirt.gcode", response_class=PlainTextResponse)
def get_skirt_file(request: Request, run_id: RunId) -> PlainTextResponse:
    run = desk(request).open(run_id)
    return _download(extras.skirt_for(run)[1], f"skirt-{run.setup.machine.id}.gcode", "text/plain")


@runs.get("/proof.gcode", response_class=PlainTextResponse)
def get_proof(request: Request, run_id: RunId, zones: Zones = 5) -> PlainTextResponse:
    name, text = first_layer.proof_file(desk(request).open(run_id), zones)
    return _download(text, name, "text/plain")


@runs.post("/mesh/preview")
def preview_mesh(request: Request, run_id: RunId, paste: mesh.MeshPaste) -> mesh.Shown:
    return mesh.preview(desk(request).open(run_id), paste)


@runs.post("/offset/preview")
def preview_offset(request: Request, run_id: RunId, wanted: offset.OffsetTry) -> StoredChange:
    return offset.preview(desk(request).open(run_id), wanted)


def _download(text: str, name: str, kind: str) -> PlainTextResponse:
    return PlainTextResponse(text, media_type=kind, headers={"content-disposition": f'attachment; filename="{name}"'})


def _station(
    station: Station,
    model: type[Value],
    view: Callable[[OpenRun, ZoneCount], Value],
    practice: Callable[[Desk, OpenRun, ZoneCount], What] | None = None,
) -> APIRouter:
    """What every station offers: its view, keeping an entry, and asking the practice plate."""
    router = APIRouter(prefix=f"/api/runs/{{run_id}}/{station}", tags=[station])

    def answer(run: OpenRun, zones: ZoneCount) -> Response:
        # Written out at once: the view is a checked model already, and a reading should not wait.
        return Response(view(run, zones).model_dump_json(), media_type="application/json")

    def get_view(request: Request, run_id: RunId, zones: Zones = 5) -> Response:
        return answer(desk(request).open(run_id), zones)

    def keep(request: Request, run_id: RunId, wanted: Keep, zones: Zones = 5) -> Response:
        return answer(desk(request).keep(run_id, station, wanted), zones)

    def read_for_me(request: Request, run_id: RunId, ask: Ask, zones: Zones = 5) -> Response:
        at = desk(request)
        return answer(at.ask_hands(run_id, station, ask.id, ask.seen_seq, lambda run: _ask(at, run, zones)), zones)

    def _ask(at: Desk, run: OpenRun, zones: ZoneCount) -> What:
        assert practice is not None
        return practice(at, run, zones)

    router.add_api_route("", get_view, response_model=model, operation_id=f"{station}_view")
    router.add_api_route("", keep, methods=["POST"], response_model=model, operation_id=f"{station}_keep")
    if practice is not None:
        router.add_api_route(
            "/practice", read_for_me, methods=["POST"], response_model=model, operation_id=f"{station}_practice"
        )
    return router


MachineId = Annotated[Id, Path(description="The machine's id.")]
line = APIRouter(prefix="/api/machines/{machine_id}/line", tags=["line"])


class Answer(Value):
    """An answer to one question; a second press is not taken for the next one."""

    text: Annotated[str, Body(max_length=40)]
    question: Annotated[str, Body(max_length=400)] | None = None


class StartJob(Value):
    """Start one of the jobs a station offers. Asking twice under one id starts it once."""

    id: Id
    station: Station
    job: Id
    zones: Literal[5, 9] = 5


class Nudge(Value):
    away_mm: Annotated[float, Body(ge=-0.5, le=0.5)]


class Speed(Value):
    percent: Annotated[float, Body(ge=10, le=300)]


class Fault(Value):
    name: Annotated[Id, Body()]
    after: Annotated[int, Body(ge=1, le=10_000)] = 1


class Crashes(Value):
    crashes: tuple[str, ...]


@line.get("")
def get_line(request: Request, machine_id: MachineId) -> LineStatus:
    return lines(request).status(machine_id)


@line.post("/connect")
def connect(request: Request, machine_id: MachineId, wanted: Connect) -> LineStatus:
    return lines(request).connect(machine_id, wanted)


@line.post("/disconnect")
def disconnect(request: Request, machine_id: MachineId, wanted: Leave | None = None) -> LineStatus:
    return lines(request).leave(machine_id, wanted or Leave())


@line.post("/cool")
def cool_down(request: Request, machine_id: MachineId) -> LineStatus:
    return lines(request).cool(machine_id)


#: Stop has threads of its own: it never waits behind whatever else the server is doing.
_STOPPING = ThreadPoolExecutor(max_workers=8, thread_name_prefix="stop")


@line.post("/stop")
async def stop(request: Request, machine_id: MachineId) -> LineStatus:
    return await asyncio.get_running_loop().run_in_executor(_STOPPING, lines(request).stop, machine_id)


@line.post("/recover")
def recover(request: Request, machine_id: MachineId) -> LineStatus:
    return lines(request).recover(machine_id)


@line.post("/cancel")
def cancel(request: Request, machine_id: MachineId) -> LineStatus:
    return lines(request).cancel(machine_id)


@line.post("/answer")
def answer(request: Request, machine_id: MachineId, given: Answer) -> LineStatus:
    return lines(request).answer(machine_id, given.text, given.question)


@line.get("/log", response_class=PlainTextResponse)
def get_log(request: Request, machine_id: MachineId) -> PlainTextResponse:
    return _download(lines(request).log(machine_id), f"line-{machine_id}.log", "text/plain")


@line.get("/events", response_class=StreamingResponse, responses={200: {"content": {"text/event-stream": {}}}})
async def events(request: Request, machine_id: MachineId) -> StreamingResponse:
    """The line's status now and whenever it changes, as server-sent events."""
    found = lines(request)
    await run_in_threadpool(found.status, machine_id)

    async def told() -> AsyncIterator[str]:
        seen, quiet = "", 0.0
        while not await request.is_disconnected():
            version = found.version  # before the look: a change in between is then seen at once
            status = (await run_in_threadpool(found.status, machine_id)).model_dump_json()
            if status != seen or quiet > 10:
                seen, quiet = status, 0.0
                yield f"data: {status}\n\n"
            while found.version == version and quiet <= 10:
                await asyncio.sleep(0.1)
                quiet += 0.1
                if found.closing or await request.is_disconnected():
                    return

    return StreamingResponse(told(), media_type="text/event-stream", headers={"cache-control": "no-store"})


run_line = APIRouter(prefix="/api/runs/{run_id}/line", tags=["line"])


@run_line.get("")
def get_run_line(request: Request, run_id: RunId, station: Station = "prepare") -> on_line.LineView:
    return on_line.view(lines(request), desk(request).open(run_id), station)


@run_line.post("/start")
def start_job(request: Request, run_id: RunId, wanted: StartJob) -> on_line.LineView:
    on_line.start(lines(request), run_id, wanted.station, wanted.job, wanted.id, wanted.zones)
    return on_line.view(lines(request), desk(request).open(run_id), wanted.station)


@run_line.post("/nudge")
def nudge(request: Request, run_id: RunId, wanted: Nudge) -> on_line.LineView:
    on_line.aside(lines(request), run_id, "nudge", wanted.away_mm)
    return on_line.view(lines(request), desk(request).open(run_id), "first_layer")


@run_line.post("/speed")
def speed(request: Request, run_id: RunId, wanted: Speed) -> on_line.LineView:
    on_line.aside(lines(request), run_id, "speed", wanted.percent)
    return on_line.view(lines(request), desk(request).open(run_id), "first_layer")


@run_line.post("/practice")
def practice_answer(request: Request, run_id: RunId) -> LineStatus:
    on_line.practice_answer(lines(request), run_id)
    return lines(request).status(desk(request).open(run_id).setup.machine.id)


trainer = APIRouter(prefix="/api/runs/{run_id}/practice", tags=["practice"])


@trainer.get("/crashes")
def get_crashes(request: Request, run_id: RunId) -> Crashes:
    return Crashes(crashes=on_line.train(desk(request), run_id))


@trainer.post("/disturb")
def disturb(request: Request, run_id: RunId) -> Crashes:
    return Crashes(crashes=on_line.train(desk(request), run_id, lambda hands: hands.disturb()))


@trainer.post("/fault")
def fault(request: Request, run_id: RunId, wanted: Fault) -> Crashes:
    told = on_line.train(desk(request), run_id, lambda hands: hands.fault(wanted.name, wanted.after))
    return Crashes(crashes=told)


@trainer.get("/patch/{zone}")
def see_patch(request: Request, run_id: RunId, zone: Annotated[int, Path(ge=0, le=8)]) -> Swatch:
    return on_line.seen_patch(desk(request), run_id, zone)


ROUTERS = (
    the_bench,
    the_setup,
    runs,
    line,
    run_line,
    trainer,
    _station("prepare", prepare.PrepareView, lambda run, _: prepare.view(run)),
    _station("tram", tram.TramView, lambda run, _: tram.view(run), lambda at, run, _: tram.practice(at, run)),
    _station("mesh", mesh.MeshView, lambda run, _: mesh.view(run), lambda at, run, _: mesh.practice(at, run)),
    _station("offset", offset.OffsetView, lambda run, _: offset.view(run), lambda at, run, _: offset.practice(at, run)),
    _station("first_layer", first_layer.FirstLayerView, first_layer.view, first_layer.practice),
    _station("sign_off", sign_off.SignOffView, lambda run, _: sign_off.view(run)),
)
