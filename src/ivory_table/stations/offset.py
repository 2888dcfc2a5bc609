"""Z offset: bracketing by feel or a number, the stored value, and reading it back."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from pydantic import Field

from ivory_table.core.entries import Felt, OffsetSet, Readback
from ivory_table.core.offset import StoredChange, change, convention, stored_after
from ivory_table.core.run import RunState
from ivory_table.core.value import StoredMm, Value

from .desk import Desk, OpenRun, Refused
from .head import Caution, RunHead, cautions, head_of
from .sheet import Figure, Sheet, Spot, height_field, sheet_of, signed


class Move(Value):
    """One height that was tried: how the gauge slid there, or how large the gap looked."""

    z_mm: float
    feel: str | None = None
    gap_mm: float | None = None


class OffsetView(Value):
    head: RunHead
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Literal["feel", "set", "read_back", "done"]
    place_mm: tuple[float, float]
    next_z_mm: float | None
    #: Far from the plate an eye tells more than a gauge: how large the gap under the tip looks.
    look_helps: bool
    drag_z_mm: float
    drag_sd_mm: float
    moves: tuple[Move, ...]
    wanted: StoredChange
    #: The value if the gauge's thickness is left out: drag is zero.
    drag_is_zero: StoredChange
    gauge_words: str
    stored_mm: float
    last_change: StoredChange | None
    read_line: str
    mesh_owns_zero: bool
    reasons: tuple[str, ...]


class OffsetTry(Value):
    """A number somebody thinks of storing."""

    stored_mm: StoredMm = Field(description="The value to look at, under the machine's convention.")


@dataclass(frozen=True)
class Now:
    """The step at hand: where to try next, or what to store."""

    step: Literal["feel", "set", "read_back", "done"]
    next_z_mm: float | None
    look_helps: bool
    drag_z_mm: float
    sd_mm: float
    wanted: StoredChange


def now_at(run: OpenRun) -> Now:
    """What is to be done next, without the drawing around it."""
    state, machine = run.state, run.setup.machine
    how = convention(machine.convention, run.manner)
    cx, cy = run.setup.plate.centre
    drag_z, sd = state.drag_height(cx, cy)
    approach = state.approach_at(cx, cy)
    next_z = approach.next_mm()
    if state.moves or state.looks:
        drag_z, sd = approach.drag
    wanted = stored_after(state.stored_mm, _shift_wanted(state, cx, cy), how, machine.z_step_mm)
    step: Literal["feel", "set", "read_back", "done"]
    if state.readback_due:
        step = "read_back"
    elif state.moves or state.looks:
        step = "set" if next_z is None else "feel"
    elif not state.offset_changes:
        step = "feel"
    else:
        # A mesh that came after the offset moved the zero: what is known already says by how much.
        moved = state.mesh_since_offset and abs(wanted.shift_mm) > max(2 * machine.z_step_mm, 2 * sd)
        step = "set" if moved else "done"
    return Now(step, next_z, step == "feel" and approach.look_helps, drag_z, sd, wanted)


def view(run: OpenRun) -> OffsetView:
    state, machine = run.state, run.setup.machine
    how = convention(machine.convention, run.manner)
    cx, cy = run.setup.plate.centre
    now = now_at(run)
    drag_z, sd, next_z, wanted, step = now.drag_z_mm, now.sd_mm, now.next_z_mm, now.wanted, now.step
    at_drag = stored_after(state.stored_mm, drag_z, how, machine.z_step_mm)
    changed = state.offset_changes[-1] if state.offset_changes else None
    last_change = change(*changed, how) if changed else None
    height, height_sd = state.belief.height([(cx, cy)])
    field = height_field(
        state, after_mesh=state.mesh_on, level_mm=0.0, tol_mm=state.tol_mm, against="the nozzle's zero"
    )
    gauge = run.setup.gauge
    mesh_owns = state.mesh is not None and state.mesh_on and state.mesh.owns_zero
    return OffsetView(
        head=head_of(run),
        sheet=sheet_of(
            state,
            field,
            spots=(Spot(x_mm=cx, y_mm=cy, kind="next" if step == "feel" else "measured", value_mm=float(height[0])),),
            figures=(
                Figure(name="Stored", value=signed(state.stored_mm, 3), unit="mm"),
                Figure(name="Drag known to", value=f"{sd:.3f}", unit="mm"),
            ),
        ),
        cautions=cautions(run, "offset"),
        step=step,
        place_mm=(cx, cy),
        next_z_mm=next_z,
        drag_z_mm=drag_z,
        drag_sd_mm=sd,
        look_helps=now.look_helps,
        moves=(
            *(Move(z_mm=m.z_mm, gap_mm=m.gap_mm) for m in state.looks),
            *(Move(z_mm=m.z_mm, feel=m.feel) for m in state.moves),
        ),
        wanted=wanted,
        drag_is_zero=at_drag,
        gauge_words=f"{gauge.name}, measured {gauge.thickness_mm:.2f} mm: taken off"
        if gauge.measured
        else f"{gauge.name}, not measured: drag counts as zero, ±{gauge.sd_mm:.2f} mm",
        stored_mm=state.stored_mm,
        last_change=last_change,
        read_line=how.read,
        mesh_owns_zero=mesh_owns,
        reasons=(
            f"The gauge drags at z {signed(drag_z, 3)} ± {sd:.3f} mm.",
            f"The plate is believed {signed(float(height[0]), 3)} ± {float(height_sd[0]):.3f} mm above the zero.",
            f"stored = {'+' if how.sign > 0 else '−'} shift + constant ({how.rule}).",
        )
        + (("The mesh was felt by hand: its zero is in the mesh and is not counted again.",) if mesh_owns else ()),
    )


def _shift_wanted(state: RunState, cx: float, cy: float) -> float:
    """How much further the nozzle must run so that its zero lies on the plate at its centre."""
    height, _ = state.belief.height([(cx, cy)])
    lift = state.machine_believes(np.array([[cx, cy]]))
    return float(height[0] - lift[0])


def preview(run: OpenRun, wanted: OffsetTry) -> StoredChange:
    """What storing a number would do, in words, before anything is sent."""
    how = convention(run.setup.machine.convention, run.manner)
    return change(run.state.stored_mm, wanted.stored_mm, how)


def practice(desk: Desk, run: OpenRun) -> Felt | OffsetSet | Readback:
    """The practice plate's answer to the step at hand."""
    now, hands = now_at(run), desk.hands(run)
    if now.step == "feel" and now.next_z_mm is not None:
        x, y = run.setup.plate.centre
        return Felt(x_mm=x, y_mm=y, z_mm=now.next_z_mm, feel=hands.slide_gauge(x, y, now.next_z_mm))
    if now.step == "set":
        hands.move_nozzle(now.wanted.shift_mm)
        return OffsetSet(stored_mm=now.wanted.new_mm)
    if now.step == "read_back":
        stores = convention(run.setup.machine.convention).stores
        return Readback(reported_mm=run.state.stored_mm) if stores else Readback(confirmed=True)
    raise Refused("nothing_to_read", "The offset is set and read back.")
