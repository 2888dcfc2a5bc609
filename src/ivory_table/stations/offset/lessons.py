"""What the Z offset teaches: the person's feel on this gauge, where a feel check was kept."""

from typing import Any

from ivory_table.runs.lessons import FeelLesson, teaches
from ivory_table.runs.run import OpenRun

from .entries import FeelKept


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    told = [(e.at, e.what.scale) for e in run.kept if isinstance(e.what, FeelKept)]
    if not told:
        return {}
    at, scale = told[-1]
    return {"feel": FeelLesson(at=at, gauge_id=run.setup.gauge.id, scale=scale)}
