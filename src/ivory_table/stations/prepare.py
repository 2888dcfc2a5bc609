"""Prepare: the checks that fit this machine and plate, the heat, and how long it was held."""

from datetime import UTC, datetime

from ivory_table.core.defaults import PREPARE
from ivory_table.core.value import Value

from .desk import OpenRun
from .head import Caution, RunHead, cautions, checks_for, head_of
from .sheet import Figure, Sheet, height_field, sheet_of


class Check(Value):
    id: str
    text: str
    why: str
    outcome: str | None


class PrepareView(Value):
    head: RunHead
    sheet: Sheet
    cautions: tuple[Caution, ...]
    checks: tuple[Check, ...]
    bed_target_c: float
    nozzle_target_c: float
    held_since: datetime | None
    held_minutes: float | None
    hold_wanted_minutes: float
    ready: bool


def view(run: OpenRun) -> PrepareView:
    state, setup = run.state, run.setup
    rows = checks_for(setup.machine, setup.plate)
    held = state.heated.held_since if state.heated else None
    minutes = (datetime.now(UTC) - held).total_seconds() / 60 if held else None
    ticked = sum(1 for c in rows if c["id"] in state.checks)
    wanted = float(PREPARE["held_minutes"])
    field = height_field(state, after_mesh=False, level_mm=None, tol_mm=state.tol_mm, against="the common height")
    figures = (
        Figure(name="Checks", value=f"{ticked}", unit=f"of {len(rows)}"),
        Figure(name="Held", value=f"{max(minutes, 0):.0f}" if minutes is not None else "–", unit="min"),
    )
    return PrepareView(
        head=head_of(run),
        sheet=sheet_of(state, field, figures=figures),
        cautions=cautions(run, "prepare"),
        checks=tuple(Check(id=c["id"], text=c["text"], why=c["why"], outcome=state.checks.get(c["id"])) for c in rows),
        bed_target_c=setup.filament.bed_c,
        # Warm, below oozing: a dripping tip falsifies the reading.
        nozzle_target_c=min(setup.filament.nozzle_c, 150.0),
        held_since=held,
        held_minutes=minutes,
        hold_wanted_minutes=wanted,
        ready=ticked == len(rows) and minutes is not None and minutes >= wanted,
    )
