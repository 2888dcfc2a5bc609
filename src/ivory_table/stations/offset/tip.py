"""The tip's heat: how much longer a hot tip is, and what is counted in of it."""

from ivory_table.core.defaults import OFFSET
from ivory_table.core.plate import TipHeat
from ivory_table.core.tip_heat import TipFelt, TipHeatFound, tip_heat_found
from ivory_table.core.value import Value
from ivory_table.core.words import signed
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState
from ivory_table.stations.offset.state import Offset


class TipHeatView(Value):
    felt: tuple[TipFelt, ...]
    found: TipHeatFound
    counted_in: TipHeat | None
    prints_c: float
    #: How hot the tip is held while it is felt; None where nobody has noted it.
    held_c: float | None


@once_per_state
def tip_heat_view(run: OpenRun) -> TipHeatView:
    state, prints_c = run.state, run.setup.filament.nozzle_c
    felt = Offset.of(state).tip_felt
    return TipHeatView(
        felt=felt,
        found=tip_heat_found(felt, prints_c, run.setup.feel.drag_sd_mm),
        counted_in=state.tip_heat,
        prints_c=prints_c,
        held_c=state.heated.nozzle_c if state.heated else None,
    )


def tip_words(run: RunState) -> str:
    """What the tip's heat makes of a drag that was felt; empty where it is felt as hot as it prints."""
    prints_c = run.setup.filament.nozzle_c
    if run.heated is None:
        return "How hot the tip is was not noted at Prepare: its growth is not counted in." if run.tip_heat else ""
    held_c = run.heated.nozzle_c
    if abs(prints_c - held_c) < OFFSET.tip_alike_c:
        return ""
    if run.tip_heat is None:
        return (
            f"Felt with the tip at {held_c:.0f} °C, printed at {prints_c:.0f} °C: a hotter tip is some hundredths longer. "
            "Feel it at both to have that counted in."
        )
    return f"At {prints_c:.0f} °C the tip is {signed(run.tip_shorter_mm, 3)} mm longer than at {held_c:.0f} °C: counted in."
