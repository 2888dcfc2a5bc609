"""The Z offset's own addresses: a number looked at before it is stored, and the feel check."""

from typing import Annotated

from fastapi import APIRouter, Request
from fastapi.responses import PlainTextResponse
from pydantic import Field

from ivory_table.core.offset import StoredChange
from ivory_table.core.value import Value
from ivory_table.core.z_steps import PrintedHeight, ZSteps, z_steps
from ivory_table.desk.desk import Ask
from ivory_table.runs.doubts import Refused

from ..http import RunId, desk, download
from .feel import FeelCheck, feel_by_practice, feel_check
from .probe import ProbeCheck, probe_check
from .second import SecondView, pads_program, second_by_practice, second_view
from .step import OffsetTry, preview
from .tip import TipHeatView, tip_heat_view

routes = APIRouter()


@routes.post("/offset/preview")
def preview_offset(request: Request, run_id: RunId, wanted: OffsetTry) -> StoredChange:
    return preview(desk(request).open(run_id), wanted)


@routes.get("/probe")
def get_probe(request: Request, run_id: RunId) -> ProbeCheck:
    """How well the probe repeats, and how its sensor is to be set."""
    return probe_check(desk(request).open(run_id))


@routes.get("/tip-heat")
def get_tip_heat(request: Request, run_id: RunId) -> TipHeatView:
    """How much longer the tip is when it is hot, and what is counted in of it."""
    return tip_heat_view(desk(request).open(run_id))


@routes.get("/second")
def get_second(request: Request, run_id: RunId) -> SecondView:
    """A second tip beside the first: where it is believed to hang, and what is next."""
    return second_view(desk(request).open(run_id))


@routes.post("/second/practice")
def second_practice(request: Request, run_id: RunId, ask: Ask) -> SecondView:
    at = desk(request)
    run = at.ask_hands(run_id, "offset", ask.id, ask.seen_seq, lambda run: second_by_practice(at, run))
    return second_view(run)


@routes.get("/second/pads.gcode", response_class=PlainTextResponse)
def get_pads(request: Request, run_id: RunId) -> PlainTextResponse:
    run = desk(request).open(run_id)
    return download(pads_program(run).text, f"pads-{run.setup.machine.id}.gcode", "text/plain")


class ZStepsWanted(Value):
    """Heights of one printed block, and the steps per mm as the machine has them."""

    heights: Annotated[tuple[PrintedHeight, ...], Field(max_length=20)]
    steps_per_mm: Annotated[float, Field(gt=0, le=100_000)] | None = None


@routes.post("/z-steps")
def look_at_z_steps(request: Request, run_id: RunId, wanted: ZStepsWanted) -> ZSteps:
    """What printed heights tell of the steps per mm in Z; nothing is kept."""
    material = desk(request).open(run_id).setup.filament.material
    try:
        return z_steps(wanted.heights, material, wanted.steps_per_mm)
    except ValueError as wrong:
        raise Refused("too_few_heights", str(wrong), "heights") from None


@routes.get("/feel")
def get_feel(request: Request, run_id: RunId) -> FeelCheck:
    return feel_check(desk(request).open(run_id))


@routes.post("/feel/practice")
def feel_practice(request: Request, run_id: RunId, ask: Ask) -> FeelCheck:
    at = desk(request)
    run = at.ask_hands(run_id, "offset", ask.id, ask.seen_seq, lambda run: feel_by_practice(at, run))
    return feel_check(run)
