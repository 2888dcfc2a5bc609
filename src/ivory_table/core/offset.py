"""Z offset: stored = sign * shift + constant, under four conventions."""

from typing import Literal, get_args

import numpy as np
from pydantic import Field

from .defaults import CONVENTIONS
from .manner import Manner, OffsetLines, plain_lines
from .plate import ConventionId
from .units import filled
from .value import Value

_IDS: tuple[ConventionId, ...] = get_args(ConventionId)


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
        return tuple(filled(line, stored=stored_mm + 0.0) for line in (self.set, self.store) if line)


class StoredChange(Value):
    """A change of the stored value, in numbers and in words."""

    old_mm: float
    new_mm: float
    shift_mm: float = Field(description="Change of where the nozzle runs; positive is further from the plate.")
    words: str
    lines: tuple[str, ...]


def convention(convention_id: ConventionId, manner: Manner | None = None) -> Convention:
    """A convention with the lines of one manner; with none where only its sign matters."""
    lines: OffsetLines = getattr((manner or plain_lines()).offset, convention_id)
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


def conventions_of(sign: int) -> tuple[ConventionId, ...]:
    """Those under which a larger stored number brings the tip further (+1), or closer (-1)."""
    return tuple(c for c in _IDS if CONVENTIONS[c]["sign"] == sign)


class Press(Value):
    """One of the machine's height buttons, so many times."""

    mm: float
    times: int
    up: bool


def presses(from_mm: float, to_mm: float, by_mm: tuple[float, ...], lowest_mm: float) -> tuple[Press, ...]:
    """The button presses from one height to another, large ones first, always ending downwards.

    One press too many must not go below `lowest_mm`: only then is a large one used; the smallest is used wherever none
    other is left. Empty where the machine has no buttons, or the heights are no multiple of the smallest.
    """
    sizes = sorted(by_mm, reverse=True)
    if not sizes:
        return ()
    out: list[Press] = []
    at = from_mm
    if to_mm > at - 1e-9:
        # From above, so that backlash stays on one side: past it by one press of the size that reaches over it.
        size = next((s for s in reversed(sizes) if s >= to_mm - at - 1e-9), sizes[0])
        times = max(int(np.ceil((to_mm - at) / size - 1e-9)), 1)
        out.append(Press(mm=size, times=times, up=True))
        at += times * size
        if at - to_mm < sizes[-1] / 2:
            out[-1] = Press(mm=size, times=times + 1, up=True)
            at += size
    for size in sizes:
        left = at - to_mm
        times = int(np.floor(left / size + 1e-6))
        if size > sizes[-1]:
            # So many that one more would still be safe.
            times = min(times, int(np.floor((at - lowest_mm) / size + 1e-6)) - 1)
        if times > 0:
            out.append(Press(mm=size, times=times, up=False))
            at -= times * size
    return tuple(out) if abs(at - to_mm) < sizes[-1] / 10 else ()


def slipped(
    old_mm: float, typed_mm: float, wanted_mm: float, gauge_mm: float, near_mm: float
) -> tuple[str, float] | None:
    """What a typed value that is far from the wanted one may have been meant as: why, and the likely value.

    A sign, a decimal point, microns or inches, the gauge's thickness counted twice or forgotten.
    """
    # A gauge is so thin that only a close hit is more than chance.
    guesses = (
        ("the sign is turned round", -typed_mm, near_mm),
        ("the decimal point slipped", typed_mm / 10, near_mm),
        ("the decimal point slipped", typed_mm * 10, near_mm),
        ("it was typed in thousandths", typed_mm / 1000, near_mm),
        ("it was typed in inches", typed_mm * 25.4, near_mm),
        ("the gauge's thickness is in it", typed_mm + gauge_mm, near_mm / 3),
        ("the gauge's thickness is in it", typed_mm - gauge_mm, near_mm / 3),
        ("it is the change, not the new value", old_mm + typed_mm, near_mm),
    )
    if abs(typed_mm - wanted_mm) <= near_mm:
        return None
    return next(((why, round(mm, 4)) for why, mm, near in guesses if abs(mm - wanted_mm) <= near), None)


def readback_agrees(meant_mm: float, reported_mm: float, step_mm: float) -> bool:
    """What the machine reports must be what was meant, to half its own step."""
    return abs(meant_mm - reported_mm) <= step_mm / 2 + 1e-9
