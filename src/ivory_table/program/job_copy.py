"""A copy of a job, mended: moved on the plate, or with its first layer laid otherwise. Every other byte is as it was."""

import re
from collections.abc import Sequence
from typing import Annotated, BinaryIO

from pydantic import Field

from ivory_table.core.manner import Manner, checksum
from ivory_table.core.value import Value

from .job import LONGEST_LINE, Job
from .laying import ascii_only
from .reader import Tip, words

_MOVE = re.compile(r"^(\s*(?:[Nn]\s*\d+\s*)?[Gg]0*[0-3])(?![0-9.])")
_PLACE = re.compile(r"([XxYy])(\s*)([+-]?(?:\d+\.?\d*|\.\d+))")


class Mend(Value):
    """What is to be done otherwise in a copy; what is left out stays."""

    dx_mm: Annotated[float, Field(ge=-500, le=500)] = 0.0
    dy_mm: Annotated[float, Field(ge=-500, le=500)] = 0.0
    #: Of the first layer alone: its speed in percent, the tip's and the plate's heat, the part fan's share.
    speed_percent: Annotated[float, Field(ge=10, le=200)] | None = None
    tip_c: Annotated[float, Field(ge=150, le=350)] | None = None
    plate_c: Annotated[float, Field(ge=0, le=150)] | None = None
    fan: Annotated[float, Field(ge=0, le=1)] | None = None

    @property
    def words(self) -> str:
        parts = [f"moved by X{self.dx_mm:+g} Y{self.dy_mm:+g}"] if self.dx_mm or self.dy_mm else []
        for value, text in (
            (self.speed_percent, "speed {:g} percent"),
            (self.tip_c, "tip {:g} C"),
            (self.plate_c, "plate {:g} C"),
        ):
            if value is not None:
                parts.append("first layer " + text.format(value))
        if self.fan is not None:
            parts.append(f"first layer fan {100 * self.fan:g} percent")
        return ", ".join(parts) or "nothing changed"


class CannotMend(ValueError):
    """Why a copy would not do what is asked; the sentence says which line."""


def write_copy(stream: BinaryIO, out: BinaryIO, job: Job, manner: Manner, mend: Mend, name: str) -> None:
    """Copy a job that was read as `job`. Raises CannotMend for what cannot be done to it."""
    first, second = (next((m.line for m in layer), None) for layer in (job.first_layer, job.second_layer))
    before: dict[int, list[str]] = {1: [f"; {ascii_only(name)}: a copy made by Ivory Table, {mend.words}"]}
    begins, ends = _first_layer_lines(job, manner, mend)
    if begins:
        if first is None:
            raise CannotMend("Nothing is laid in this job: there is no first layer to change.")
        before.setdefault(first, []).extend(["; Ivory Table: first layer", *begins])
        if second is not None:
            before.setdefault(second, []).extend(["; Ivory Table: as it was from here on", *ends])
    tip, number = Tip(), 0
    while raw := stream.readline(LONGEST_LINE):
        number += 1
        for line in before.get(number, []):
            out.write(line.encode() + b"\n")
        out.write(_shifted(raw, tip, number, mend) if mend.dx_mm or mend.dy_mm else raw)


def _first_layer_lines(job: Job, manner: Manner, mend: Mend) -> tuple[list[str], list[str]]:
    """Lines before the first layer, and those that undo them before the second. Raises CannotMend."""
    begins: list[str] = []
    ends: list[str] = []
    if mend.speed_percent is not None:
        if not manner.can("speed"):
            raise CannotMend("This machine knows no line for the speed in percent. Teach it one, or leave the speed.")
        begins.append(manner.send("speed", percent=mend.speed_percent))
        ends.append(manner.send("speed", percent=100.0))
    for value, heat, wait, letter in (
        (mend.tip_c, "heat_tip", "heat_tip_wait", ("M104", "M109")),
        (mend.plate_c, "heat_bed", "heat_bed_wait", ("M140", "M190")),
    ):
        if value is None:
            continue
        was = _last_value(job, letter)
        begins.append(manner.send(wait, celsius=value))
        if was is not None:
            ends.append(manner.send(heat, celsius=was))
    if mend.fan is not None:
        if not manner.can("fan"):
            raise CannotMend("This machine knows no line for its part fan.")
        was = _last_value(job, ("M106",))
        begins.append(manner.send("fan", share=255 * mend.fan))
        ends.append(manner.send("fan", share=was or 0.0))
    return begins, ends


def _last_value(job: Job, commands: Sequence[str]) -> float | None:
    """What was last said by one of some commands before the second layer."""
    end = next((m.line for m in job.second_layer), job.lines + 1)
    said = [s.values["S"] for s in job.said if s.command in commands and "S" in s.values and s.line < end]
    return said[-1] if said else None


def _shifted(raw: bytes, tip: Tip, number: int, mend: Mend) -> bytes:
    """One line moved on the plate; anything but a move to a place stays as it is."""
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
    if not _MOVE.match(text):
        tip.take(number, command, values)
        return raw
    if not tip.absolute:
        return raw
    body, comment, rest = text.partition(";")
    sealed = re.search(r"\*\s*\d+\s*$", body)
    code = body[: sealed.start()] if sealed else body

    def moved(place: re.Match[str]) -> str:
        by = mend.dx_mm if place[1] in "Xx" else mend.dy_mm
        if not by:
            return place[0]
        digits = len(place[3].partition(".")[2])
        return f"{place[1]}{place[2]}{float(place[3]) + by / tip.unit:.{max(digits, 3)}f}"

    code = _PLACE.sub(moved, code)
    if sealed:
        # The line's own sum, made anew.
        code = f"{code}*{checksum(code.lstrip())}" + text[len(body.rstrip()) : len(body)]
    return f"{code}{comment}{rest}".encode("latin-1")
