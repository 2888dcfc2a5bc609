"""Where the Z offset stands, and what it adds to the record."""

from ivory_table.core.words import signed
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, Standing, records, stands

from .state import Offset


@stands("offset")
def standing(run: OpenRun) -> Standing:
    state, offset = run.state, Offset.of(run.state)
    return Standing(
        begun=bool(offset.moves or offset.looks or state.stored_changes),
        done=bool(state.stored_changes) and not state.readback_due and not state.limit_open_mm,
        figure=f"{signed(state.stored_mm, 3)} mm"
        + (", read it back" if state.readback_due else ", close the limit" if state.limit_open_mm else ""),
    )


@records("offset")
def record(run: OpenRun) -> tuple[RecordLine, ...]:
    changes = run.state.stored_changes
    if not changes:
        return ()
    return (RecordLine(name="Z offset stored", before=signed(changes[0][0], 3), after=signed(run.state.stored_mm, 3)),)
