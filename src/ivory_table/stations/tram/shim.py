"""A shim plan where knobs cannot help."""

from typing import Literal

from ivory_table.core.defaults import PREPARE
from ivory_table.core.shim import ShimPlan, shim_plan
from ivory_table.core.value import Value
from ivory_table.paper.shim_sheet import shim_pdf, shim_svg
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun


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
