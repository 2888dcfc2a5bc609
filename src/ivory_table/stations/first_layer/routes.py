"""The first layer's own addresses: the proof's program, and a printed patch as it looks."""

from typing import Annotated

from fastapi import APIRouter, Path, Query, Request, Response
from fastapi.responses import PlainTextResponse

from ivory_table.core.action import ActionKind
from ivory_table.core.bead import Swatch
from ivory_table.core.defaults import LAYER
from ivory_table.core.placing import Footprint
from ivory_table.core.proof import MOST_ZONES
from ivory_table.runs.doubts import Refused

from ..http import RunId, Zones, desk, download, download_bytes
from .files import proof_file, proof_shapes
from .proposals import OtherProof, other_proof
from .settings import PlacingView, RecipeView, placing_view, recipe_view

routes = APIRouter()


Only = Annotated[
    tuple[Annotated[int, Query(ge=0, lt=MOST_ZONES)], ...],
    Query(description="Some zones alone, by their numbers from 0."),
]
Step = Annotated[
    ActionKind | None, Query(description="As advised: what this kind of next step prints, not the best one.")
]


@routes.get("/proof.gcode", response_class=PlainTextResponse)
def get_proof(
    request: Request, run_id: RunId, zones: Zones = "advised", only: Only = (), step: Step = None
) -> PlainTextResponse:
    name, text = proof_file(desk(request).open(run_id), zones, only, step)
    return download(text, name, "text/plain")


@routes.get("/proof.stl", response_class=Response)
def get_stl(request: Request, run_id: RunId, zones: Zones = "advised", only: Only = (), step: Step = None) -> Response:
    return download_bytes(*proof_shapes(desk(request).open(run_id), zones, "stl", only, step), "model/stl")


@routes.get("/proof.3mf", response_class=Response)
def get_3mf(request: Request, run_id: RunId, zones: Zones = "advised", only: Only = (), step: Step = None) -> Response:
    return download_bytes(*proof_shapes(desk(request).open(run_id), zones, "3mf", only, step), "model/3mf")


@routes.get("/other_proof")
def get_other_proof(request: Request, run_id: RunId, zones: Zones = 5) -> OtherProof:
    """Another proof than the next step prints: what it takes and tells, beside every other kind."""
    return other_proof(desk(request).open(run_id), zones)


@routes.get("/recipe")
def get_recipe(request: Request, run_id: RunId) -> RecipeView:
    """First-layer settings that forgive more, each with what it buys."""
    return recipe_view(desk(request).open(run_id))


@routes.get("/placing")
def get_placing(
    request: Request,
    run_id: RunId,
    width_mm: Annotated[float, Query(gt=0, le=1000, allow_inf_nan=False)],
    depth_mm: Annotated[float, Query(gt=0, le=1000, allow_inf_nan=False)],
    count: Annotated[int, Query(ge=1, le=LAYER.placing.most)] = 1,
    height_mm: Annotated[float, Query(gt=0, le=2000, allow_inf_nan=False)] = 20.0,
    enclosed: bool = False,
) -> PlacingView:
    """The best places on the plate for so many parts of this footprint, and whether they stay on it."""
    footprint = Footprint(width_mm=width_mm, depth_mm=depth_mm, count=count, height_mm=height_mm)
    return placing_view(desk(request).open(run_id), footprint, enclosed=enclosed)


@routes.get("/practice/patch/{zone}")
def see_patch(request: Request, run_id: RunId, zone: Annotated[int, Path(ge=0, lt=MOST_ZONES)]) -> Swatch:
    """One patch of the newest proof as a drawing, for an eye that wants to judge for itself."""
    run = desk(request).open(run_id)
    proof = run.state.proofs[-1] if run.state.proofs else None
    if proof is None or zone >= proof.zones_laid:
        raise Refused("not_printed", "That zone has not been printed yet.")
    return desk(request).hands(run).see_zone(proof.plan, zone, run.setup.filament.light_mm)
