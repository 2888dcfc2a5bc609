"""The tram's own addresses: a shim plan, a walk file, a skirt."""

from typing import Annotated

from fastapi import APIRouter, Query, Request, Response
from fastapi.responses import PlainTextResponse

from ..http import RunId, desk, download, download_bytes
from .shim import ShimView, shim, shim_file
from .skirt import SkirtView, skirt_for
from .walk import Walk
from .walk_file import WalkWay, walk_for

routes = APIRouter()
SheetMm = Annotated[float, Query(description="Thickness of one shim sheet, mm.")]
Rounds = Annotated[int, Query(description="Rounds of the screws.")]
PrintAfter = Annotated[bool, Query(description="Whether the file goes on into the first proof.")]


@routes.get("/shim")
def get_shim(request: Request, run_id: RunId, sheet_mm: SheetMm = 0.1) -> ShimView:
    return shim(desk(request).open(run_id), sheet_mm)


@routes.get("/shim.svg", response_class=Response)
def get_shim_svg(request: Request, run_id: RunId, sheet_mm: SheetMm = 0.1) -> Response:
    return download_bytes(*shim_file(desk(request).open(run_id), sheet_mm, "svg"), "image/svg+xml")


@routes.get("/shim.pdf", response_class=Response)
def get_shim_pdf(request: Request, run_id: RunId, sheet_mm: SheetMm = 0.1) -> Response:
    return download_bytes(*shim_file(desk(request).open(run_id), sheet_mm, "pdf"), "application/pdf")


@routes.get("/walk")
def get_walk(
    request: Request, run_id: RunId, rounds: Rounds = 2, way: WalkWay = "ring", print_after: PrintAfter = False
) -> Walk:
    return walk_for(desk(request).open(run_id), rounds, way, print_after)


@routes.get("/walk.gcode", response_class=PlainTextResponse)
def get_walk_file(
    request: Request, run_id: RunId, rounds: Rounds = 2, way: WalkWay = "ring", print_after: PrintAfter = False
) -> PlainTextResponse:
    run = desk(request).open(run_id)
    name = f"walk-{'and-print-' if print_after else ''}{run.setup.machine.id}.gcode"
    return download(walk_for(run, rounds, way, print_after).text, name, "text/plain")


@routes.get("/skirt")
def get_skirt(request: Request, run_id: RunId) -> SkirtView:
    return skirt_for(desk(request).open(run_id))[0]


@routes.get("/skirt.gcode", response_class=PlainTextResponse)
def get_skirt_file(request: Request, run_id: RunId) -> PlainTextResponse:
    run = desk(request).open(run_id)
    return download(skirt_for(run)[1], f"skirt-{run.setup.machine.id}.gcode", "text/plain")
