"""What Prepare teaches: how the plate moves as it warms, and that a change of hardware voids what was learnt."""

from typing import Any

from ivory_table.core.changes import change
from ivory_table.runs.lessons import teaches
from ivory_table.runs.run import OpenRun

from .entries import ChangeTold


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    before = len(run.setup.study.readings) if run.setup.study else 0
    found: dict[str, Any] = {"readings": run.state.thermal[before:]}
    forgotten = [e.at for e in run.kept if isinstance(e.what, ChangeTold) and change(e.what.change).forgets]
    return found | ({"forgets_at": forgotten[-1]} if forgotten else {})
