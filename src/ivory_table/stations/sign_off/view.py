"""Sign off: what was found, changed and set; and the run as a file."""

from typing import Literal

from ivory_table.core.offset import StoredChange, change, convention
from ivory_table.core.words import signed
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, kept_when_signed, record_lines, station_lines
from ivory_table.stations.asked import Caution, cautions
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.sheet import Figure, Sheet, height_field, sheet_of


class SignOffView(StationView):
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Literal["open", "signed"]
    lines: tuple[RecordLine, ...]
    offset: StoredChange | None
    skipped: tuple[str, ...]
    missing: tuple[str, ...]
    look_again: str
    note: str


@kept_when_signed("sign_off")
def view(run: OpenRun) -> SignOffView:
    state = run.state
    how = convention(run.state.convention_id, run.manner)
    offset = None
    if state.stored_changes:
        first, last = state.stored_changes[0][0], state.stored_changes[-1][1]
        offset = change(first, last, how)
    field = height_field(
        state, after_mesh=state.mesh_on, level_mm=None, tol_mm=state.tol_mm, against="the common height"
    )
    stations = station_lines(run)
    missing = [line.name for line in stations if line.state in ("open", "begun") and line.station != "sign_off"]
    if state.readback_due:
        missing.append("Z offset readback")
    return SignOffView(
        **so_far(run),
        sheet=sheet_of(
            state,
            field,
            figures=(
                Figure(name="Spread", value=f"{state.belief.spread()[0]:.2f}", unit="mm"),
                Figure(name="Stored", value=signed(state.stored_mm, 3), unit="mm"),
            ),
        ),
        cautions=cautions(run, "sign_off"),
        step="signed" if state.signed_off else "open",
        lines=record_lines(run),
        offset=offset,
        skipped=tuple(line.name for line in stations if line.state == "skipped"),
        missing=tuple(missing),
        look_again="after any change of plate, nozzle, spring, probe or firmware; and when the first layer changes its look",
        note=state.note,
    )
