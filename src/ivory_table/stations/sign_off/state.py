"""What signing off does to a run."""

from dataclasses import replace

from ivory_table.runs.entry import Entry
from ivory_table.runs.state import RunState, fold

from .entries import SignedOff


@fold.register
def _signed_off(what: SignedOff, run: RunState, entry: Entry) -> RunState:
    return replace(run, signed_off=True, note=what.note)
