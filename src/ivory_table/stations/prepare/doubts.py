"""What Prepare refuses."""

from ivory_table.runs.doubts import doubt, refuse_unknown_change
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun

from .entries import ChangeTold


@doubt.register
def _change_told(what: ChangeTold, run: OpenRun, source: Source) -> None:
    refuse_unknown_change(what.change)
