"""What happens to a machine beside its runs: an incident, prints done, a note."""

from typing import Annotated, Literal

from pydantic import AwareDatetime, Field

from ivory_table.core.value import Id, Initials, Note, Value

LogKind = Literal["failed_print", "knock", "torn_off", "moved", "firmware", "part", "heater", "prints", "note"]
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
    "prints": "prints done",
    "note": "a note",
}


class HeaterTuned(Value):
    """How far a temperature swung about its target before and after its heater was tuned, °C either way."""

    which: Literal["plate", "tip"]
    at_c: Annotated[float, Field(ge=0, le=500)]
    swing_before_c: Annotated[float, Field(ge=0, le=100)] | None = None
    swing_after_c: Annotated[float, Field(ge=0, le=100)]


class LogEntry(Value):
    """One thing that happened. `count`: prints, where it is about those; `heater`: where one was tuned."""

    id: Id
    machine_id: Id
    at: AwareDatetime
    by: Initials
    kind: LogKind
    note: Note = ""
    count: Annotated[int, Field(ge=1, le=100_000)] | None = None
    hours: Annotated[float, Field(gt=0, le=100_000)] | None = None
    heater: HeaterTuned | None = None
