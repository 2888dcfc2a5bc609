"""The addresses of a run: its head, and one set of the same shape for each station."""

from collections.abc import Callable
from functools import reduce
from operator import or_
from typing import Annotated, Any

from fastapi import APIRouter, Request, Response
from pydantic import Field, create_model

from ivory_table.core.value import StationName
from ivory_table.desk.desk import Ask, Desk, Keep
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations import STATIONS
from ivory_table.stations.head import RunHead, head_of
from ivory_table.stations.http import RunId, Zones, desk
from ivory_table.stations.station import Station

runs = APIRouter(prefix="/api/runs/{run_id}", tags=["runs"])


@runs.get("/head", response_model=RunHead)
def get_head(request: Request, run_id: RunId) -> Response:
    kept = desk(request).workshop.figures.page(run_id, "head")
    return _json(kept or head_of(desk(request).open(run_id)).model_dump_json())


def _json(text: str) -> Response:
    # Written out at once: it is a checked model already, and a reading should not wait.
    return Response(text, media_type="application/json")


def rows_taken(station: StationName) -> Any:
    """The kinds of row that a station's address takes: its own and those about the run, told apart by `kind`."""
    kinds = [kind for kind in Row.kinds.values() if station in kind.stations]
    return Annotated[reduce(or_, kinds), Field(discriminator="kind")]


def routes_of(station: Station) -> APIRouter:
    """What every station offers: its view, keeping a row, asking the practice plate; then what it alone has."""
    name = station.name
    router = APIRouter(prefix=f"/api/runs/{{run_id}}/{name}", tags=[name])
    title = "".join(part.title() for part in name.split("_"))
    keeps: Any = create_model(f"Keep{title}", __base__=Keep, what=(rows_taken(name), ...))

    def answer(run: OpenRun, zones: Any) -> Response:
        return _json(station.view(run, zones).model_dump_json())

    def get_view(request: Request, run_id: RunId, zones: Zones = "advised") -> Response:
        kept = desk(request).workshop.figures.page(run_id, name)
        return _json(kept) if kept else answer(desk(request).open(run_id), zones)

    def keep(request: Request, run_id: RunId, wanted: keeps, zones: Zones = "advised") -> Response:
        return answer(desk(request).keep(run_id, name, wanted), zones)

    def practise(request: Request, run_id: RunId, ask: Ask, zones: Zones = "advised") -> Response:
        at = desk(request)
        return answer(at.ask_hands(run_id, name, ask.id, ask.seen_seq, _asking(station, at, zones)), zones)

    router.add_api_route("", get_view, response_model=station.shows, operation_id=f"{name}_view")
    router.add_api_route("", keep, methods=["POST"], response_model=station.shows, operation_id=f"{name}_keep")
    if station.practice is not None:
        router.add_api_route(
            "/practice", practise, methods=["POST"], response_model=station.shows, operation_id=f"{name}_practice"
        )
    return router


def _asking(station: Station, desk: Desk, zones: Any) -> Callable[[OpenRun], Row]:
    practice = station.practice
    assert practice is not None
    return lambda run: practice(desk, run, zones)


for _station in STATIONS:
    if _station.routes is not None:
        runs.include_router(_station.routes)

STATION_ROUTES = tuple(routes_of(station) for station in STATIONS)
