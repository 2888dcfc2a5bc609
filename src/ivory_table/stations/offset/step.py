"""Where the Z offset stands: where to try next, or what to store."""

from dataclasses import dataclass
from typing import Literal

from pydantic import Field

from ivory_table.core.offset import StoredChange, change, convention, stored_after
from ivory_table.core.value import StoredMm, Value
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.searching import approach_at
from ivory_table.stations.offset.state import Offset
from ivory_table.stations.stored.wanted import shift_wanted


class OffsetTry(Value):
    """A number somebody thinks of storing."""

    stored_mm: StoredMm = Field(description="The value to look at, under the machine's convention.")


@dataclass(frozen=True)
class Now:
    """The step at hand: where to try next, or what to store."""

    step: Literal["feel", "set", "read_back", "done"]
    next_z_mm: float | None
    look_helps: bool
    thick_helps: bool
    drag_z_mm: float
    sd_mm: float
    wanted: StoredChange


@once_per_state
def now_at(run: OpenRun) -> Now:
    """What is to be done next, without the drawing around it."""
    state, machine = run.state, run.setup.machine
    how = convention(state.convention_id, run.manner)
    cx, cy = run.setup.plate.centre
    drag_z, sd = state.drag_height(cx, cy)
    approach = approach_at(state, cx, cy)
    next_z = approach.next_mm()
    if Offset.of(state).moves or Offset.of(state).looks:
        drag_z, sd = approach.drag
    wanted = stored_after(state.stored_mm, shift_wanted(state), how, machine.z_step_mm)
    step: Literal["feel", "set", "read_back", "done"]
    if state.readback_due:
        step = "read_back"
    elif Offset.of(state).moves or Offset.of(state).looks:
        step = "set" if next_z is None else "feel"
    elif not state.stored_changes:
        step = "feel"
    else:
        # A mesh that came after the offset moved the zero: what is known already says by how much.
        moved = state.mesh_since_offset and abs(wanted.shift_mm) > max(2 * machine.z_step_mm, 2 * sd)
        step = "set" if moved else "done"
    return Now(
        step,
        next_z,
        step == "feel" and approach.look_helps,
        step == "feel" and approach.thick_helps,
        drag_z,
        sd,
        wanted,
    )


def preview(run: OpenRun, wanted: OffsetTry) -> StoredChange:
    """What storing a number would do, in words, before anything is sent."""
    how = convention(run.state.convention_id, run.manner)
    return change(run.state.stored_mm, wanted.stored_mm, how)
