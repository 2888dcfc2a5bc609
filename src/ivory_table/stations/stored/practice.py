"""What a stored value does to a practice machine."""

from ivory_table.core.hands import Hands
from ivory_table.core.offset import convention, shift_of
from ivory_table.runs.by_hand import by_hand
from ivory_table.runs.run import OpenRun
from ivory_table.stations.stored.entries import OffsetSet


@by_hand.register
def _offset_set(what: OffsetSet, hands: Hands, before: OpenRun) -> None:
    how = convention(before.state.convention_id)
    hands.move_nozzle(shift_of(before.state.stored_mm, what.stored_mm, how))
