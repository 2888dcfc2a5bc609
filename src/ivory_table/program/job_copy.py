"""A copy of a job, mended: turned and moved on the plate, begun as our own programs are, or with its first layer laid otherwise.

Every other byte is as it was.
"""

from collections.abc import Sequence
from typing import Annotated, BinaryIO

from pydantic import Field

from ivory_table.core.bead import Bead
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.value import Value

from .job import LONGEST_LINE, Job, lays
from .laying import Writer, ascii_only
from .meant import Meanings
from .moved import CannotMend, Moved


class Mend(Value):
    """What is to be done otherwise in a copy; what is left out stays."""

    dx_mm: Annotated[float, Field(ge=-500, le=500)] = 0.0
    dy_mm: Annotated[float, Field(ge=-500, le=500)] = 0.0
    #: Turned about the middle of its first layer, counter-clockwise from above, before it is moved.
    turn_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    #: The start of our own programs in place of its own.
    our_start: bool = False
    #: Of the first layer alone: its speed in percent, the tip's and the plate's heat, the part fan's share.
    speed_percent: Annotated[float, Field(ge=10, le=200)] | None = None
    tip_c: Annotated[float, Field(ge=150, le=350)] | None = None
    plate_c: Annotated[float, Field(ge=0, le=150)] | None = None
    fan: Annotated[float, Field(ge=0, le=1)] | None = None

    @property
    def moves(self) -> bool:
        return bool(self.dx_mm or self.dy_mm or self.turn_deg)

    @property
    def words(self) -> str:
        parts = ["this machine's own start"] if self.our_start else []
        parts += [f"turned by {self.turn_deg:g} degrees"] if self.turn_deg else []
        parts += [f"moved by X{self.dx_mm:+g} Y{self.dy_mm:+g}"] if self.dx_mm or self.dy_mm else []
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


class Start(Value):
    """What goes in place of a job's own start, and the lines of it that are left out."""

    lines: tuple[str, ...]
    instead_of: frozenset[int]


def write_copy(
    stream: BinaryIO,
    out: BinaryIO,
    job: Job,
    manner: Manner,
    plate: Plate,
    mend: Mend,
    name: str,
    start: Start | None = None,
) -> None:
    """Copy a job that was read as `job`; `start` goes in place of its own. Raises CannotMend for what cannot be done to it."""
    before: dict[int, list[str]] = {1: [f"; {ascii_only(name)}: a copy made by Ivory Table, {mend.words}"]}
    if start is not None:
        before[1] += ["; Ivory Table: this machine's own start", *start.lines, "; Ivory Table: the job's own lines"]
    begins, ends = _first_layer_lines(job, manner, mend)
    if begins and not job.first_spans:
        raise CannotMend("Nothing is laid in this job: there is no first layer to change.")
    for began, then in job.first_spans if begins else ():
        before.setdefault(began, []).extend(["; Ivory Table: first layer", *begins])
        if then is not None:
            before.setdefault(then, []).extend(["; Ivory Table: as it was from here on", *ends])
    moved = Moved(job, plate, mend.dx_mm, mend.dy_mm, mend.turn_deg) if mend.moves else None
    left_out = start.instead_of if start is not None else frozenset[int]()
    number, whole = 0, True
    while raw := stream.readline(LONGEST_LINE):
        number += whole
        whole = raw.endswith(b"\n")
        for added in before.pop(number, []):
            out.write(added.encode() + b"\n")
        line = raw if moved is None else moved.line(raw, number)
        out.write(b"; left out: " + raw if number in left_out else line)


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


#: What our start does itself.
_OURS = frozenset(
    ["home", "heat_tip", "heat_tip_wait", "heat_bed", "heat_bed_wait", "mesh_on", "mesh_off", "fan", "offset_set"]
)


def our_start(
    job: Job, machine: Machine, filament: Filament, bead: Bead | None, manner: Manner, *, mesh_on: bool
) -> Start:
    """The start of our own programs, with the heat the job asks for, or the filament's. Raises CannotMend."""
    first = next((m.line for m in job.moves if lays(m)), None)
    if first is None or bead is None:
        raise CannotMend("Nothing is laid in this job: there is no start to put in its place.")
    meant = Meanings(manner, machine.convention)
    bed_c, nozzle_c, left_out = filament.bed_c, filament.nozzle_c, set[int]()
    for said in job.said:
        name, values = meant.of(said) or ("", {})
        if said.line >= first or name not in _OURS:
            continue
        left_out.add(said.line)
        if name.startswith("heat_bed"):
            bed_c = values.get("celsius", bed_c)
        elif name.startswith("heat_tip"):
            nozzle_c = values.get("celsius", nozzle_c)
    writer = Writer(machine, filament, bead, manner)
    writer.begin(bed_c=bed_c, nozzle_c=nozzle_c, mesh="mesh_on" if mesh_on else None)
    lines = [line for line in writer.lines if not line.startswith(("M82", "M83"))]
    # The job's own lines are taken as it was read: absolute until it says otherwise.
    return Start(lines=(*lines, "M82 ; absolute filament until the job says otherwise"), instead_of=frozenset(left_out))
