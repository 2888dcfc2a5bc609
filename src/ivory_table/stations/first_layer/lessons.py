"""What a first layer teaches: the person's eye, what a caliper is off by on this plate, what is fed, and which layer was chosen."""

from typing import Any

from ivory_table.runs.lessons import CaliperLesson, EyeLesson, FeedLesson, LayerLesson, teaches
from ivory_table.runs.run import OpenRun

from .entries import FeedMeasured, LayerChosen


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    found: dict[str, Any] = {}
    fed = [(e.at, e.what.off[1]) for e in run.kept if isinstance(e.what, FeedMeasured)]
    if fed:
        # Measured with a rule it is true of the machine, whatever becomes of the run.
        at, sd = fed[-1]
        found["feed"] = FeedLesson(at=at, filament_id=run.setup.filament.id, off=run.state.feed_off, sd=sd)
    layers = [(e.at, e.what) for e in run.kept if isinstance(e.what, LayerChosen)]
    if layers:
        # Jobs are printed so since, whatever becomes of the run.
        at, chosen = layers[-1]
        found["layer"] = LayerLesson(
            at=at, nozzle_mm=run.setup.machine.nozzle_mm, layer_mm=chosen.layer_mm, line_mm=chosen.line_mm
        )
    if not run.state.signed_off:
        return found
    known, setup, at = run.state.with_marks(), run.setup, run.kept[-1].at
    if known.eye.marks > setup.eye.marks:
        found["eye"] = EyeLesson(at=at, eye=known.eye)
    if known.caliper_off.values > setup.caliper.values:
        found["caliper"] = CaliperLesson(at=at, filament_id=setup.filament.id, off=known.caliper_off)
    return found
