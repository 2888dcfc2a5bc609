"""What a practice machine answers at the Z offset, and what a stored value does to it."""

from ivory_table.core.offset import convention
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.offset.entries import Felt
from ivory_table.stations.offset.step import now_at
from ivory_table.stations.stored.entries import OffsetSet, Readback


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
        stores = convention(run.state.convention_id).stores
        return Readback(reported_mm=run.state.stored_mm) if stores else Readback(confirmed=True)
    raise Refused("nothing_to_read", "The offset is set and read back.")
