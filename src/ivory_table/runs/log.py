"""What happens to a machine beside its runs: an incident, prints done, a note."""

from collections.abc import Iterable
from typing import Annotated, Literal

from pydantic import AwareDatetime, Field

from ivory_table.core.defaults import DRIFT
from ivory_table.core.short_check import Verdict
from ivory_table.core.value import Id, Initials, Label, Note, Value
from ivory_table.core.wear import Use

LogKind = Literal[
    "failed_print",
    "knock",
    "torn_off",
    "moved",
    "firmware",
    "part",
    "heater",
    "check",
    "correction",
    "prints",
    "removals",
    "note",
]
#: What may have moved the plate or the nozzle at once.
JUMPS: frozenset[LogKind] = frozenset({"knock", "torn_off", "moved", "firmware", "part"})
KIND_WORDS: dict[LogKind, str] = {
    "failed_print": "a print failed",
    "knock": "a knock or a crash",
    "torn_off": "a part torn off the mounted plate",
    "moved": "the machine was moved",
    "firmware": "its firmware was changed",
    "part": "a part was changed: spring, sensor, stop, nozzle",
    "heater": "a heater was tuned",
    "check": "a short check",
    "correction": "a quick correction of the stored value",
    "prints": "prints done",
    "removals": "the sheet taken off and put back",
    "note": "a note",
}


class HeaterTuned(Value):
    """How far a temperature swung about its target before and after its heater was tuned, °C either way."""

    which: Literal["plate", "tip"]
    at_c: Annotated[float, Field(ge=0, le=500)]
    swing_before_c: Annotated[float, Field(ge=0, le=100)] | None = None
    swing_after_c: Annotated[float, Field(ge=0, le=100)]


class ShortCheck(Value):
    """A look at one place of a plate: how much too large its gap was, or how one patch held.

    `put_right`: the knob there was turned at once until the gauge was as it should be.
    """

    plate_id: Id
    place: Label
    off_mm: Annotated[float, Field(ge=-2, le=2)] | None = None
    verdict: Verdict | None = None
    put_right: bool = False


class Correction(Value):
    """The stored value changed without a run: with which plate, and how much larger every gap became."""

    plate_id: Id
    away_mm: Annotated[float, Field(ge=-2, le=2)]


class LogEntry(Value):
    """One thing that happened. `count`: prints or removals, where it is about those; `heater`, `check`, `correction`: what those were."""

    id: Id
    machine_id: Id
    at: AwareDatetime
    by: Initials
    kind: LogKind
    note: Note = ""
    count: Annotated[int, Field(ge=1, le=100_000)] | None = None
    hours: Annotated[float, Field(gt=0, le=100_000)] | None = None
    heater: HeaterTuned | None = None
    check: ShortCheck | None = None
    correction: Correction | None = None
    #: How many prints the machine has made by its own count, where it was asked.
    counter: Annotated[int, Field(ge=0)] | None = None

    @property
    def prints(self) -> int:
        """Prints that it tells of."""
        if self.kind == "failed_print":
            return 1
        return (self.count or max(round((self.hours or 0.0) / DRIFT.hours_a_print), 1)) if self.kind == "prints" else 0

    @property
    def removals(self) -> int:
        """How often, as it tells, the sheet was taken off."""
        return (self.count or 1) if self.kind == "removals" else 0


def used(entries: Iterable[LogEntry], days: float) -> Use:
    """What a plate has been through in some days, by what was written down in them; what nobody has written down is not known."""
    entries = tuple(entries)
    told = {e.kind for e in entries}
    return Use(
        days=max(days, 0.0),
        # One that failed is told of where the others are not.
        prints=sum(e.prints for e in entries) if "prints" in told else None,
        removals=sum(e.removals for e in entries) if "removals" in told else None,
    )
