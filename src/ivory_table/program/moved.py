"""A job turned and moved on the plate, line by line: what is laid and the ways to it; the start and the end stay where they are."""

import re
from math import cos, radians, sin

import numpy as np

from ivory_table.core.manner import checksum
from ivory_table.core.plate import Plate
from ivory_table.core.value import Value

from .job import Job, lays
from .reader import Tip, words

_MOVE = re.compile(r"^\s*(?:[Nn]\s*\d+\s*)?[Gg]0*[0-3](?![0-9.])")
_PLACE = re.compile(r"\s*([XxYyIiJj])\s*([+-]?(?:\d+\.?\d*|\.\d+))")


class CannotMend(ValueError):
    """Why a copy would not do what is asked; the sentence says which line."""


class Turn(Value):
    """How a job is moved: turned about a place, then shifted."""

    about_x_mm: float
    about_y_mm: float
    degrees: float
    dx_mm: float
    dy_mm: float

    def vector(self, x: float, y: float) -> tuple[float, float]:
        c, s = cos(radians(self.degrees)), sin(radians(self.degrees))
        return c * x - s * y, s * x + c * y

    def place(self, x: float, y: float) -> tuple[float, float]:
        tx, ty = self.vector(x - self.about_x_mm, y - self.about_y_mm)
        return tx + self.about_x_mm + self.dx_mm, ty + self.about_y_mm + self.dy_mm


def middle_of(job: Job) -> tuple[float, float]:
    """The middle of what the first layer covers, about which a job is turned."""
    ends = np.array([p for m in job.first_layer for p in (m.start[:2], m.end[:2])])
    x, y = (ends.min(axis=0) + ends.max(axis=0)) / 2
    return round(float(x), 3), round(float(y), 3)


class Moved:
    """Takes a job's lines one after the other and gives each back as it is to be."""

    def __init__(self, job: Job, plate: Plate, dx_mm: float, dy_mm: float, degrees: float) -> None:
        """Raises CannotMend for a job that lays nothing, or none that could be moved."""
        if not job.first_spans:
            raise CannotMend("Nothing is laid in this job: there is nothing to move.")
        x, y = middle_of(job)
        self.turn = Turn(about_x_mm=x, about_y_mm=y, degrees=degrees, dx_mm=dx_mm, dy_mm=dy_mm)
        self.plate, self.tip = plate, Tip()
        self.begin, self.end = _way_in(job), job.last_laid
        # After a place that is left alone, the next one is written whole.
        self.whole = degrees != 0

    def line(self, raw: bytes, number: int) -> bytes:
        """One line; anything but a move to a place stays as it is. Raises CannotMend."""
        text = raw.decode("latin-1")
        try:
            found = words(text.strip())
        except ValueError:
            return raw
        if found is None:
            return raw
        command, values = found
        if command == "G92" and ({"X", "Y"} & set(values)):
            raise CannotMend(f"Line {number} sets a zero of its own: a copy of this job cannot be moved.")
        before = tuple(self.tip.at[:2])
        try:
            self.tip.take(number, command, values)
        except ValueError:
            return raw
        head = _MOVE.match(text)
        inside = self.begin <= number <= self.end
        if head is None or not inside or not {"X", "Y", "I", "J"} & set(values):
            return raw
        places = self._relative(values, number) if not self.tip.absolute else self._absolute(values, before)
        return raw if places is None else self._written(text, head.end(), places)

    def _absolute(self, values: dict[str, float], before: tuple[float, ...]) -> dict[str, float] | None:
        x, y = self.tip.at[:2]
        if not self.plate.holds(x, y) and "E" not in values:
            # Off the plate is something of the machine's own: it stays where it is.
            self.whole = True
            return None
        tx, ty = self.turn.place(x, y)
        named = {"X", "Y"} & set(values)
        if self.whole and named:
            named = {"X", "Y"}
        elif not self.whole:
            named -= {a for a, by in (("X", self.turn.dx_mm), ("Y", self.turn.dy_mm)) if not by}
        self.whole = self.turn.degrees != 0
        return {k: v for k, v in (("X", tx), ("Y", ty)) if k in named} | self._middle(values)

    def _relative(self, values: dict[str, float], number: int) -> dict[str, float] | None:
        if number == self.begin:
            raise CannotMend(f"Line {number} goes to the first layer in relative places: this job cannot be moved.")
        if not self.turn.degrees:
            return None
        u = self.tip.unit
        tx, ty = self.turn.vector(values.get("X", 0.0) * u, values.get("Y", 0.0) * u)
        places = {"X": tx, "Y": ty} if {"X", "Y"} & set(values) else {}
        return places | self._middle(values)

    def _middle(self, values: dict[str, float]) -> dict[str, float]:
        """The middle of an arc, from where it begins."""
        if not self.turn.degrees or not {"I", "J"} & set(values):
            return {}
        u = self.tip.unit
        i, j = self.turn.vector(values.get("I", 0.0) * u, values.get("J", 0.0) * u)
        return {"I": i, "J": j}

    def _written(self, text: str, head: int, places: dict[str, float]) -> bytes:
        """The line with these places, mm, instead of its own; its other words, its comment and its sum as they were."""
        body, comment, rest = text.partition(";")
        sealed = re.search(r"\*\s*\d+\s*$", body)
        code = body[: sealed.start()] if sealed else body
        small = code[head - 2 : head].islower()

        def number(letter: str, digits: int) -> str:
            return f"{places[letter] / self.tip.unit:.{max(digits, 3)}f}"

        written: set[str] = set()

        def other(found: re.Match[str]) -> str:
            letter = found[1].upper()
            if letter not in places:
                return found[0]
            written.add(letter)
            begin = found[0][: found[0].index(found[2])]
            return begin + number(letter, len(found[2].partition(".")[2]))

        commented = code.partition("(")
        told = _PLACE.sub(other, commented[0][head:])
        missing = "".join(f" {k.lower() if small else k}{number(k, 3)}" for k in places if k not in written)
        code = commented[0][:head] + missing + told + commented[1] + commented[2]
        if sealed:
            # The line's own sum, made anew.
            code = f"{code}*{checksum(code.lstrip())}" + text[len(body.rstrip()) : len(body)]
        return f"{code}{comment}{rest}".encode("latin-1")


def _way_in(job: Job) -> int:
    """The first line on the way to the first layer, after anything that was laid before it."""
    first = job.first_spans[0][0]
    begin: int | None = None
    for move in job.moves:
        if move.line >= first:
            break
        if lays(move):
            begin = None
        elif begin is None and move.start[:2] != move.end[:2]:
            begin = move.line
    if begin is None:
        raise CannotMend(f"Line {first} lays from where the tip happens to be: this job cannot be moved.")
    return begin
