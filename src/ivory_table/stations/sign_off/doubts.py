"""What signing off refuses."""

from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Source
from ivory_table.runs.run import OpenRun
from ivory_table.stations.asked import refuse_open_limit

from .entries import SignedOff


@doubt.register
def _signed_off(what: SignedOff, run: OpenRun, source: Source) -> None:
    if run.state.readback_due:
        raise Refused(
            "readback_missing",
            "The new Z offset was not read back. Do that at the Z offset station first: a value that was "
            "never stored is lost at power-off.",
            "what",
        )
    refuse_open_limit(run, "what")
