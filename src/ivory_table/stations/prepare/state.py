"""What the rows of Prepare do to a run. All of it is asked for by other stations, so Prepare keeps nothing to itself."""

from dataclasses import replace

from ivory_table.core.changes import change
from ivory_table.core.thermal import CENTRE
from ivory_table.runs.entry import Entry
from ivory_table.runs.record import Heat
from ivory_table.runs.state import RunState, fold

from .entries import ChangeTold, CheckDone, Heated, SchoolChosen, ThermalRead


@fold.register
def _check_done(what: CheckDone, run: RunState, entry: Entry) -> RunState:
    return replace(run, checks={**run.checks, what.check: what.outcome})


@fold.register
def _heated(what: Heated, run: RunState, entry: Entry) -> RunState:
    # Under a tip of another length the drag is looked for anew.
    search = None if run.tip_heat else run.search
    return replace(run, heated=Heat(what.bed_c, what.nozzle_c, what.held_since), search=search)


@fold.register
def _school_chosen(what: SchoolChosen, run: RunState, entry: Entry) -> RunState:
    return replace(run, school=what.school)


@fold.register
def _change_told(what: ChangeTold, run: RunState, entry: Entry) -> RunState:
    forgets = change(what.change).forgets and bool(run.screws)
    belief = run.belief.with_nothing_learnt() if forgets else run.belief
    return replace(run.with_changes((what.change,)), belief=belief)


@fold.register
def _thermal_read(what: ThermalRead, run: RunState, entry: Entry) -> RunState:
    """A study reads the centre and the screws: the place's own coordinates are the plate's, not typed ones."""
    reading = what.reading
    at = {s.name: (s.x_mm, s.y_mm) for s in run.screws} | {CENTRE: run.setup.plate.centre}
    if reading.place not in at:
        raise ValueError(f"A thermal study reads the centre and the screws; there is no '{reading.place}' here.")
    x, y = at[reading.place]
    return replace(run, thermal=(*run.thermal, reading.model_copy(update={"x_mm": x, "y_mm": y})))
