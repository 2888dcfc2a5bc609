"""What a first layer teaches: how far this person's grades scatter."""

from typing import Any

from ivory_table.runs.lessons import EyeLesson, teaches
from ivory_table.runs.run import OpenRun


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    if not run.state.signed_off:
        return {}
    eye = run.state.with_marks().eye
    return {"eye": EyeLesson(at=run.kept[-1].at, eye=eye)} if eye.marks > run.setup.eye.marks else {}
