"""The routes: the bench, runs, and one router for each station."""

from collections.abc import Callable
from typing import Annotated, Literal

from fastapi import APIRouter, Body, Path, Query, Request, Response
from fastapi.responses import PlainTextResponse
from pydantic import BeforeValidator

from ivory_table.core.entries import RunFile, Station, What
from ivory_table.core.offset import StoredChange
from ivory_table.core.proof import ZoneCount
from ivory_table.core.value import Id, Value
from ivory_table.stations import bench, first_layer, mesh, offset, prepare, sign_off, tram
from ivory_table.stations.desk import Desk, Keep, OpenRun, StartRun
from ivory_table.stations.head import RunHead, head_of

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


the_bench = APIRouter(prefix="/api", tags=["bench"])


@the_bench.get("/bench")
def get_bench(request: Request) -> bench.BenchView:
    return bench.view(desk(request))


@the_bench.post("/runs", status_code=201)
def start_run(request: Request, wanted: StartRun) -> Started:
    return Started(id=desk(request).start(wanted).id)


@the_bench.post("/runs/import")
def import_run(request: Request, file: RunFile) -> Imported:
    return Imported(new=sign_off.import_run(desk(request).workshop, file), id=file.setup.id)


runs = APIRouter(prefix="/api/runs/{run_id}", tags=["runs"])


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


ROUTERS = (
    the_bench,
    runs,
    _station("prepare", prepare.PrepareView, lambda run, _: prepare.view(run)),
    _station("tram", tram.TramView, lambda run, _: tram.view(run), lambda at, run, _: tram.practice(at, run)),
    _station("mesh", mesh.MeshView, lambda run, _: mesh.view(run), lambda at, run, _: mesh.practice(at, run)),
    _station("offset", offset.OffsetView, lambda run, _: offset.view(run), lambda at, run, _: offset.practice(at, run)),
    _station("first_layer", first_layer.FirstLayerView, first_layer.view, first_layer.practice),
    _station("sign_off", sign_off.SignOffView, lambda run, _: sign_off.view(run)),
)
