"""What a stored value teaches, once it was read back."""

from typing import Any

from ivory_table.runs.lessons import StoredLesson, teaches
from ivory_table.runs.run import OpenRun

from .entries import NudgeMerged, OffsetSet, Readback


@teaches
def lessons(run: OpenRun) -> dict[str, Any]:
    found: dict[str, Any] = {}
    stored = run.setup.machine.stored_mm
    for entry in run.kept:
        if isinstance(entry.what, OffsetSet | NudgeMerged):
            stored = entry.what.stored_mm
        elif isinstance(entry.what, Readback):
            found["stored"] = StoredLesson(
                at=entry.at,
                stored_mm=stored,
                plate_id=run.setup.plate_id,
                nozzle_mm=run.setup.machine.nozzle_mm,
                convention=run.state.convention_id,
            )
    return found
