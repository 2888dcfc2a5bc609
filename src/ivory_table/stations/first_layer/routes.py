"""The first layer's own addresses: the proof's program, and a printed patch as it looks."""

from typing import Annotated

from fastapi import APIRouter, Path, Request
from fastapi.responses import PlainTextResponse

from ivory_table.core.bead import Swatch
from ivory_table.runs.doubts import Refused

from ..http import RunId, Zones, desk, download
from .files import proof_file

routes = APIRouter()


@routes.get("/proof.gcode", response_class=PlainTextResponse)
def get_proof(request: Request, run_id: RunId, zones: Zones = 5) -> PlainTextResponse:
    name, text = proof_file(desk(request).open(run_id), zones)
    return download(text, name, "text/plain")


@routes.get("/practice/patch/{zone}")
def see_patch(request: Request, run_id: RunId, zone: Annotated[int, Path(ge=0, le=8)]) -> Swatch:
    """One patch of the newest proof as a drawing, for an eye that wants to judge for itself."""
    run = desk(request).open(run_id)
    proof = run.state.proofs[-1] if run.state.proofs else None
    if proof is None or zone >= len(proof.plan.zones if proof.printed is None else range(proof.printed)):
        raise Refused("not_printed", "That zone has not been printed yet.")
    return desk(request).hands(run).see_zone(proof.plan, zone, run.setup.filament.light_mm)
