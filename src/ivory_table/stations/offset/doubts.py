"""What the Z offset asks about or refuses: feels that contradict, values that run into the plate, values not stored as meant."""

from ivory_table.runs.doubts import disagrees, doubt, feels_disagree, refuse_contradiction
from ivory_table.runs.entry import Source
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations.offset.entries import Felt


@doubt.register
def _felt(what: Felt, run: OpenRun, source: Source) -> None:
    if source == "hand" and not what.sure:
        refuse_contradiction(what, run, "feel")


@disagrees.register
def _feels_disagree(what: Felt, earlier: Row, clock: str, run: OpenRun) -> str:
    if not isinstance(earlier, Felt) or (earlier.x_mm, earlier.y_mm) != (what.x_mm, what.y_mm):
        return ""
    return feels_disagree(run.state, what.feel, what.z_mm, earlier.feel, earlier.z_mm, clock)
