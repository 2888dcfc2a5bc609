"""Z offset: stored = sign * shift + constant, under four conventions."""

from typing import Literal

from pydantic import Field

from .defaults import CONVENTIONS
from .manner import Manner, OffsetLines, shipped
from .plate import ConventionId
from .value import Value


class Convention(Value):
    """How a machine writes down where its zero is. `sign` of stored against shift."""

    id: ConventionId
    name: str
    sign: Literal[-1, 1]
    rule: str
    read: str
    set: str
    store: str
    stores: bool

    def lines(self, stored_mm: float) -> tuple[str, ...]:
        """What to send so that a value is set and, where the machine can, stored."""
        return tuple(line.format(stored=stored_mm + 0.0) for line in (self.set, self.store) if line)


class StoredChange(Value):
    """A change of the stored value, in numbers and in words."""

    old_mm: float
    new_mm: float
    shift_mm: float = Field(description="Change of where the nozzle runs; positive is further from the plate.")
    words: str
    lines: tuple[str, ...]


def convention(convention_id: ConventionId, manner: Manner | None = None) -> Convention:
    """A convention with the lines of one manner; of the first shipped when only its sign matters."""
    lines: OffsetLines = getattr((manner or shipped("harbour")).offset, convention_id)
    return Convention(id=convention_id, **CONVENTIONS[convention_id], read=lines.read, set=lines.set, store=lines.store)


def direction_words(shift_mm: float) -> str:
    """'0.05 mm closer', by the sign of a shift."""
    if abs(shift_mm) < 5e-4:
        return "no change"
    size = f"{abs(shift_mm):.3f}".rstrip("0")
    size = size + "0" * max(0, 2 - len(size.split(".")[1]))
    return f"{size} mm {'further' if shift_mm > 0 else 'closer'}"


def stored_after(old_mm: float, shift_mm: float, how: Convention, step_mm: float) -> StoredChange:
    """The value to store so that the nozzle runs `shift_mm` further, rounded to the machine's step.

    stored = sign * shift + constant, so new = old + sign * shift.
    """
    steps = round(how.sign * shift_mm / step_mm)
    new = round(old_mm + steps * step_mm, 6)
    return change(old_mm, new, how)


def shift_of(old_mm: float, new_mm: float, how: Convention) -> float:
    """How much further from the plate the nozzle runs after storing `new_mm`."""
    return how.sign * (new_mm - old_mm)


def change(old_mm: float, new_mm: float, how: Convention) -> StoredChange:
    """Storing `new_mm` instead of `old_mm`: the shift it makes, in words, and the lines to send."""
    shift_mm = round(shift_of(old_mm, new_mm, how), 6)
    words = direction_words(shift_mm)
    return StoredChange(old_mm=old_mm, new_mm=new_mm, shift_mm=shift_mm, words=words, lines=how.lines(new_mm))


def readback_agrees(meant_mm: float, reported_mm: float, step_mm: float) -> bool:
    """What the machine reports must be what was meant, to half its own step."""
    return abs(meant_mm - reported_mm) <= step_mm / 2 + 1e-9
