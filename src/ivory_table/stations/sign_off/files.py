"""The run as files, and a run from elsewhere."""

import csv
import io

from ivory_table.core.plate import Machine
from ivory_table.runs.entry import Entry, RunFile, kept
from ivory_table.runs.run import OpenRun


def run_file(run: OpenRun) -> RunFile:
    """The whole run, to be read by another installation."""
    return RunFile(setup=run.setup, entries=run.entries)


def readings_csv(run: OpenRun) -> str:
    """Every kept row as CSV: when, by whom, from where, what."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(["seq", "at", "by", "source", "station", "kind", "words", "taken_back"])
    alive = {e.id for e in kept(run.entries)}
    for e in run.entries:
        table.writerow([*_row(e, run.setup.machine), "" if e.id in alive else "yes"])
    return out.getvalue()


def _row(e: Entry, machine: Machine) -> list[object]:
    return [e.seq, e.at.isoformat(), _plain(e.by), e.source, e.station, e.what.kind, _plain(e.what.words(machine))]


def _plain(text: str) -> str:
    """A cell that no spreadsheet takes for a formula."""
    return "'" + text if text[:1] in "=+-@" else text
