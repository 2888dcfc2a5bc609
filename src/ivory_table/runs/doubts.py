"""What is asked about or refused before a row is kept. Each station says it for its own kinds, in its `doubts.py`."""

from functools import singledispatch

from ivory_table.core.changes import change
from ivory_table.core.gauge import Feel, feel_interval
from ivory_table.core.words import signed
from ivory_table.runs.state import RunState

from .common import Resumed, TakenBack
from .entry import Source
from .row import Row
from .run import OpenRun


class Refused(ValueError):
    """An input that cannot be kept: a stable code, the field it stands in, and a sentence.

    `insist`: it is kept all the same when it is sent again with `sure`.
    """

    def __init__(self, code: str, sentence: str, field: str | None = None, *, insist: bool = False) -> None:
        super().__init__(sentence)
        self.code, self.field, self.insist = code, field, insist


@singledispatch
def doubt(what: Row, run: OpenRun, source: Source) -> None:
    """Raise Refused for a row that must not be kept in this run as it stands."""


@singledispatch
def disagrees(what: Row, earlier: Row, clock: str, run: OpenRun) -> str:
    """Why an earlier row cannot be true together with this one where nothing moved between; empty when it can."""
    return ""


def refuse_contradiction(what: Row, run: OpenRun, field: str) -> None:
    """Raise Refused for a reading that cannot be true together with one before it, when nothing was changed between."""
    for earlier in reversed(run.kept):
        if earlier.what.moves:
            return
        if sentence := disagrees(what, earlier.what, earlier.at.strftime("%H:%M"), run):
            raise Refused(
                "readings_contradict",
                f"{sentence} Nothing was turned or set since. Take the earlier one back, type this one again, "
                "or keep it as it is.",
                field,
                insist=True,
            )


@doubt.register
def _taken_back(what: TakenBack, run: OpenRun, source: Source) -> None:
    if what.entry_id not in {e.id for e in run.kept}:
        raise Refused("nothing_to_take_back", "That row is not there, or was taken back already.", "entry_id")


@doubt.register
def _resumed(what: Resumed, run: OpenRun, source: Source) -> None:
    for told in what.changes:
        refuse_unknown_change(told)


def refuse_unknown_change(told: str) -> None:
    try:
        change(told)
    except ValueError as wrong:
        raise Refused("unknown_change", str(wrong), "change") from None


def feels_disagree(run: RunState, feel: Feel, z_mm: float, earlier: Feel, earlier_z_mm: float, clock: str) -> str:
    """Why two feels at one place cannot both be true while nothing moved; empty when they can."""
    slack = 3 * run.feel.scatter_mm
    (low, high), (low_now, high_now) = (feel_interval(f, run.drag_gap_mm, run.feel) for f in (earlier, feel))
    # The plate's height by each, less the place's own zero: they must overlap.
    cannot = f"The gauge cannot be {feel} at z {signed(z_mm, 3)} when it was {earlier} at z {signed(earlier_z_mm, 3)} at {clock}."
    if z_mm - high_now - slack > earlier_z_mm - low + slack:
        return (
            f"{cannot} The tip meets something higher up: plastic that has oozed onto it, or the gauge has caught on an edge or a "
            "crumb. Wipe the tip, pull the gauge out and slide it in afresh, then try again."
        )
    if earlier_z_mm - high - slack > z_mm - low_now + slack:
        return (
            f"{cannot} What the gauge met before is gone: plastic on the tip, a crumb, a fold of the gauge. If the tip is clean "
            "now, the earlier one was wrong."
        )
    return ""
