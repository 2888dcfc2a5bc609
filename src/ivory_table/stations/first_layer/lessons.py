"""What a first layer teaches: how far this person's grades scatter, and what a caliper is off by on this plate."""

from typing import Any

from ivory_table.runs.lessons import CaliperLesson, EyeLesson, teaches
from ivory_table.runs.run import OpenRun


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    if not run.state.signed_off:
        return {}
    known, setup, at = run.state.with_marks(), run.setup, run.kept[-1].at
    found: dict[str, Any] = {}
    if known.eye.marks > setup.eye.marks:
        found["eye"] = EyeLesson(at=at, eye=known.eye)
    if known.caliper_off.values > setup.caliper.values:
        found["caliper"] = CaliperLesson(at=at, filament_id=setup.filament.id, off=known.caliper_off)
    return found
