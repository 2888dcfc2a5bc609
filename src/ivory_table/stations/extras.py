"""What the tram and the offset offer beside their steps: a shim plan, a walk file, a feel check."""

from typing import Literal
from zlib import crc32

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import PREPARE
from ivory_table.core.entries import FeelTried, What
from ivory_table.core.feelcheck import FeelTry, fit, heights, sentence
from ivory_table.core.gauge import FeelScale
from ivory_table.core.laying import every
from ivory_table.core.motion import refuse_low
from ivory_table.core.shim import ShimPlan, shim_plan
from ivory_table.core.skirt import loops, skirt_program
from ivory_table.core.value import Value
from ivory_table.core.walk import Walk, walk
from ivory_table.paper.shim_sheet import shim_pdf, shim_svg

from .desk import Desk, OpenRun, Refused

WalkWay = Literal["ring", "diagonal", "pairs"]


class ShimView(Value):
    plan: ShimPlan
    caution: str


def shim(run: OpenRun, sheet_mm: float) -> ShimView:
    try:
        plan = shim_plan(run.state.belief, run.setup.plate, sheet_mm)
    except ValueError as wrong:
        raise Refused("no_shim_plan", str(wrong), "sheet_mm") from None
    return ShimView(plan=plan, caution=_heat_caution(run))


def _heat_caution(run: OpenRun) -> str:
    bed = run.setup.filament.bed_c
    text: str = next(c["text"] for c in PREPARE["cautions"] if c["id"] == "shim_heat")
    return f"{run.setup.filament.name} is printed at {bed:g} °C. {text}"


def shim_file(run: OpenRun, sheet_mm: float, kind: Literal["svg", "pdf"]) -> tuple[str, bytes]:
    """Name and content of the plan as a 1:1 drawing."""
    view, plate = shim(run, sheet_mm), run.setup.plate
    title = f"Shim plan for {run.setup.machine.name}, {plate.name}, {sheet_mm:g} mm each"
    name = f"shim-{run.setup.machine.id}-{plate.id}.{kind}"
    if kind == "svg":
        return name, shim_svg(view.plan, plate, title, view.caution).encode()
    return name, shim_pdf(view.plan, plate, title, view.caution)


def walk_for(run: OpenRun, rounds: int, way: WalkWay) -> Walk:
    try:
        return walk(run.state, run.manner, rounds, way)
    except ValueError as wrong:
        raise Refused("no_walk", str(wrong), "rounds") from None


class SkirtView(Value):
    """The program of a skirt that runs while the knobs are turned."""

    loops: int
    minutes: float
    filament_mm: float


def skirt_for(run: OpenRun) -> tuple[SkirtView, str]:
    """The skirt and its program. Raises Refused where the tip might scrape, or nothing fits."""
    state, setup = run.state, run.setup
    if not state.screws:
        raise Refused("no_skirt", f"{setup.machine.name} has no knobs to turn beside a skirt.")
    bead = Bead(round(state.bead.line_mm, 3), round(state.bead.layer_mm, 3))
    try:
        laid = loops(setup.plate, bead.line_mm)
        at = np.array([place for points in laid for place in every(points, 20.0)])
        nearest = np.linalg.norm(at[:, None] - state.belief.surface.screws[None], axis=2).argmin(axis=1)
        names = [f"the skirt near {state.screws[j].name}" for j in nearest]
        refuse_low(state, at, names, bead.layer_mm, "Bring every screw to the gauge first, by counting.")
        found = skirt_program(state.machine_now, setup.plate, setup.filament, bead, run.manner)
    except ValueError as wrong:
        raise Refused("no_skirt", str(wrong)) from None
    return SkirtView(loops=len(laid), minutes=found.minutes, filament_mm=found.filament_mm), found.text


class FeelCheck(Value):
    """Where a feel check stands: the next height, and what the tries so far tell."""

    #: Commanded z at which the gauge is believed to drag at the plate's centre, and how well it is known.
    drag_z_mm: float
    drag_sd_mm: float
    #: Heights still to try come in an order nobody can foretell; None when all are through.
    next_above_mm: float | None
    next_z_mm: float | None
    done: int
    of: int
    scale: FeelScale | None
    words: str
    #: Why it cannot begin yet; empty when it can.
    why_not: str


def feel_check(run: OpenRun) -> FeelCheck:
    state = run.state
    step = run.setup.machine.z_step_mm
    order = heights(crc32(run.setup.id.encode()), step)
    tries = state.feel_tries
    x, y = run.setup.plate.centre
    drag, sd = state.drag_height(x, y)
    above = order[len(tries)] if len(tries) < len(order) else None
    scale = fit(tries) if len(tries) >= 9 else None
    ready = sd <= 0.012
    return FeelCheck(
        drag_z_mm=round(drag, 3),
        drag_sd_mm=sd,
        next_above_mm=above,
        next_z_mm=None if above is None else round(round((drag + above) / step) * step, 4),
        done=len(tries),
        of=len(order),
        scale=scale,
        words=sentence(scale) if scale else (sentence(state.feel) if state.feel.tries else "No check yet: the shipped scale is used."),
        why_not="" if ready else "First step down to the drag at the centre (Z offset): the check needs to know where it is to 0.01 mm.",
    )  # fmt: skip


def feel_by_practice(desk: Desk, run: OpenRun) -> What:
    """The practice person's feel at the next height."""
    now = feel_check(run)
    if now.why_not:
        raise Refused("not_yet", now.why_not)
    if now.next_z_mm is None or now.next_above_mm is None:
        raise Refused("nothing_to_read", "All heights of the check have been tried.")
    x, y = run.setup.plate.centre
    feel = desk.hands(run).slide_gauge(x, y, now.next_z_mm)
    return FeelTried(feel_try=FeelTry(above_mm=now.next_above_mm, feel=feel))
