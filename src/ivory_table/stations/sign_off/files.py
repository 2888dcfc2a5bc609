"""The run as files, and a run from elsewhere."""

from ivory_table.core.plate import Machine
from ivory_table.runs.entry import Entry, RunFile, kept
from ivory_table.runs.run import OpenRun
from ivory_table.stations.table import as_table


def run_file(run: OpenRun) -> RunFile:
    """The whole run, to be read by another installation."""
    return RunFile(setup=run.setup, entries=run.entries)


def readings_csv(run: OpenRun) -> str:
    """Every kept row as CSV: when, by whom, from where, what."""
    alive = {e.id for e in kept(run.entries)}
    rows = ((*_row(e, run.setup.machine), "" if e.id in alive else "yes") for e in run.entries)
    return as_table(("seq", "at", "by", "source", "station", "kind", "words", "taken_back"), rows)


def _row(e: Entry, machine: Machine) -> list[object]:
    return [e.seq, e.at.isoformat(), e.by, e.source, e.station, e.what.kind, e.what.words(machine)]
