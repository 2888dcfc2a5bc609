"""A run from elsewhere: replayed before it is kept, and what it teaches added to what is known."""

from ivory_table.core.changes import change
from ivory_table.core.manner import shipped
from ivory_table.core.words import first_sentence
from ivory_table.runs.doubts import Refused
from ivory_table.runs.entry import RUN_VERSION, RunFile, kept
from ivory_table.runs.lessons import lessons
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.runs.summary import shown_of
from ivory_table.store.trouble import Unknown
from ivory_table.store.workshop import Workshop

from .knowledge import keep_lessons


def import_run(workshop: Workshop, file: RunFile) -> bool:
    """Keep a run from elsewhere, after replaying it. False when the very same is here already.

    Its machine, gauge and filament come with it where they are not known here.
    """
    run = _replayed(file)
    taught, shown = lessons(run), shown_of(run)
    with workshop.writing():
        if not workshop.import_run(file):
            return False
        _meet(workshop, file)
        workshop.figures.keep(shown)
        keep_lessons(workshop, file.setup, taught)
    return True


def _replayed(file: RunFile) -> OpenRun:
    """The run its rows add up to. Raises Refused for a file that cannot be true."""
    if file.version != RUN_VERSION:
        raise Refused(
            "other_version",
            f"This file is of version {file.version}; this Ivory Table reads version {RUN_VERSION}. Export it again there.",
            "version",
        )
    if [e.seq for e in file.entries] != list(range(1, len(file.entries) + 1)):
        raise Refused("rows_missing", "Rows are missing or out of order in this file. Export it again.", "entries")
    if len({e.id for e in file.entries}) < len(file.entries):
        raise Refused("rows_twice", "A row stands twice in this file. Export it again.", "entries")
    try:
        for told in file.setup.changes:
            change(told)
        state = RunState.start(file.setup)
    except ValueError as wrong:
        raise Refused("cannot_replay", f"Its set-up cannot be true: {first_sentence(wrong)}", "setup") from None
    try:
        for entry in kept(file.entries):
            state = state.apply(entry)
    except ValueError as wrong:
        raise Refused("cannot_replay", f"Row {entry.seq} cannot be true: {first_sentence(wrong)}", "entries") from None
    return OpenRun(file.setup, file.entries, state, shipped("harbour"))


def _meet(workshop: Workshop, file: RunFile) -> None:
    """Whatever of the run's set-up is not known here becomes known, as it was when the run began."""
    setup = file.setup
    try:
        workshop.machine(setup.machine.id)
    except Unknown:
        # A line belongs to the other installation, not to the machine.
        alone = setup.machine.model_copy(update={"line_url": None, "practice": False})
        workshop.keep_machine(alone, setup.started_at)
    if setup.gauge.id not in {g.id for g in workshop.gauges()}:
        workshop.keep_gauge(setup.gauge)
    if setup.filament.id not in {f.id for f in workshop.filaments()}:
        workshop.keep_filament(setup.filament)
