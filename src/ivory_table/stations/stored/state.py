"""What storing a value does to a run."""

from dataclasses import replace

from ivory_table.core.offset import convention, shift_of
from ivory_table.runs.entry import Entry
from ivory_table.runs.state import RunState, fold
from ivory_table.stations.stored.entries import NudgeMerged, OffsetSet, Readback


@fold.register
def _offset_set(what: OffsetSet, run: RunState, entry: Entry) -> RunState:
    shift = shift_of(run.stored_mm, what.stored_mm, convention(run.convention_id))
    return replace(
        run,
        belief=run.belief.nozzle_moved(shift),
        stored_mm=what.stored_mm,
        stored_changes=(*run.stored_changes, (run.stored_mm, what.stored_mm)),
        mesh_since_offset=False,
        readback_due=True,
        step_shift_mm=run.step_shift_mm + shift,
    )


@fold.register
def _readback(what: Readback, run: RunState, entry: Entry) -> RunState:
    return replace(run, readback_due=False)


@fold.register
def _nudge_merged(what: NudgeMerged, run: RunState, entry: Entry) -> RunState:
    return replace(
        run,
        stored_mm=what.stored_mm,
        nudged_mm=0.0,
        stored_changes=(*run.stored_changes, (run.stored_mm, what.stored_mm)),
        readback_due=True,
    )
