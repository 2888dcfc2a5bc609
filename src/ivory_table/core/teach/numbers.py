"""Numbers as they stand in a line, and which value in which unit one of them may be."""

import re
from collections.abc import Mapping
from typing import NamedTuple

from ivory_table.core.units import UNITS, place_of, theirs

_NUMBER = re.compile(r"[+-]?(?:\d+(?:\.\d+)?|\.\d+)")
#: A number that stands for a value differs from it by its last digit's rounding, and by no more than this share.
_SHARE = 0.02


class Number(NamedTuple):
    """A number in a text: from `start` to `end`, with its sign."""

    start: int
    end: int
    text: str

    @property
    def value(self) -> float:
        """The number as it is written, in its own unit."""
        return float(self.text)

    @property
    def decimals(self) -> int:
        """How many places stand after its point."""
        return len(self.text.partition(".")[2])

    @property
    def unsigned(self) -> "Number":
        """The same number without its sign: a hyphen may be what parts two numbers."""
        return Number(self.start + 1, self.end, self.text[1:]) if self.text[:1] in "+-" else self


def numbers(text: str) -> tuple[Number, ...]:
    """Every number in a text, in its order."""
    return tuple(Number(m.start(), m.end(), m[0]) for m in _NUMBER.finditer(text))


def is_value(number: Number, place: str, value: float) -> bool:
    """Whether a number is a value of ours in the unit of a place, rounded as it is written."""
    wanted = theirs(place, value)
    off = abs(number.value - wanted)
    return off <= 0.5 * 10.0**-number.decimals + 1e-9 and off <= max(_SHARE * abs(wanted), 1e-9)


def is_exact(number: Number, place: str, value: float) -> bool:
    """Whether nothing was rounded off: more digits would all be noughts."""
    return abs(number.value - theirs(place, value)) < 1e-9


class Reading(NamedTuple):
    """One way to read a number: as a field in a unit, with or without the sign before it."""

    place: str
    signed: bool


def readings(number: Number, values: Mapping[str, float]) -> tuple[tuple[str, Reading], ...]:
    """(field, reading) of everything that a number may stand for among the values it was made from."""
    ways = [(number, True)] if number.unsigned is number else [(number, True), (number.unsigned, False)]
    return tuple(
        (field, Reading(place, signed))
        for field, value in values.items()
        for place in (place_of(field, unit) for unit in UNITS.get(field, {"": None}))
        for n, signed in ways
        if is_value(n, place, value)
    )
