"""What stands in a job that would spoil its first layer, or surprise the next job: each with its line, and what to write instead."""

from collections import Counter
from collections.abc import Iterator
from itertools import islice

from ivory_table.core.defaults import HEAT, JOB_CHECK
from ivory_table.core.face import grip_on
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import ThermalStudy

from .feet import of_feet
from .finding import ORDER, Finding
from .heard import SoFar, hear
from .heat_moves import of_heat
from .job import MOST_NAMED, Job, lays, move_length
from .laid import of_moves, of_the_layer
from .meant import Meanings


def find(
    job: Job,
    machine: Machine,
    plate: Plate,
    filament: Filament,
    manner: Manner,
    *,
    mesh_on: bool,
    study: ThermalStudy | None = None,
    surface: Surface | None = None,
) -> tuple[Finding, ...]:
    """Everything found, worst first, then by line.

    `mesh_on`: the machine is meant to follow a mesh now. `study`, `surface`: how this plate moves with heat, if it is known.
    """
    known = SoFar()
    meant = Meanings(manner, machine.convention)
    first = next((m for m in job.moves if lays(m)), None)
    begin = first.line if first else job.lines + 1
    unknown: Counter[str] = Counter()
    where: dict[str, int] = {}
    laying = False
    heard = [(said, meant.of(said)) for said in job.said]
    for said, meaning in heard:
        if not laying and said.line > begin:
            laying = True
            known.found += _at_the_start(known, job, machine, filament, manner, mesh_on, begin)
        if meaning is None:
            unknown[said.command] += 1
            where.setdefault(said.command, said.line)
        hear(known, said, meaning, filament, manner, started=laying)
    if not laying:
        known.found += _at_the_start(known, job, machine, filament, manner, mesh_on, begin)
    found = [*known.found, *_at_the_end(known, job, manner)]
    found += of_moves(job, plate, machine)
    found += of_the_layer(job, machine, filament)
    grip = grip_on(plate, filament.material)
    if grip is not None and grip.words:
        found.append(Finding(code=f"holds_{grip.holds}", level="warning", line=None, text=f"{grip.words}."))
    found += of_feet(job, filament, grip.times if grip else 1.0)
    found += of_heat(job, heard, manner, study, surface)
    for word, count in islice(unknown.most_common(), MOST_NAMED):
        found.append(
            Finding(
                code="unknown_word",
                level="note",
                line=where[word],
                text=f"{word} is not known here ({count} times); it is passed over.",
            )
        )
    for line, why in job.bad_lines:
        found.append(Finding(code="unreadable", level="warning", line=line, text=f"This line cannot be read: {why}."))
    if job.unreadable > len(job.bad_lines):
        found.append(
            Finding(
                code="unreadable", level="warning", line=None, text=f"{job.unreadable} lines in all cannot be read."
            )
        )
    if job.comes_back is not None:
        found.append(
            Finding(
                code="comes_back",
                level="note",
                line=job.comes_back,
                text="It comes back to the first layer here, and cannot be followed. What is laid from here on was not looked at.",
            )
        )
    if first is None:
        found.append(
            Finding(
                code="lays_nothing",
                level="warning",
                line=None,
                text="It lays nothing along the plate: is it the right file?",
            )
        )
    return tuple(sorted(found, key=lambda f: (ORDER[f.level], f.line or 0)))


def _at_the_start(
    known: SoFar, job: Job, machine: Machine, filament: Filament, manner: Manner, mesh_on: bool, begin: int
) -> Iterator[Finding]:
    """What must be so when the first plastic is laid."""
    laid = begin if begin <= job.lines else None
    if known.homed is None:
        yield Finding(
            code="not_homed",
            level="stop",
            line=laid,
            text="It lays before it has homed: the height is anywhere.",
            instead=(manner.send("home"),),
        )
    if known.tip_c < HEAT.oozes_c:
        yield Finding(
            code="cold_tip",
            level="stop",
            line=laid,
            text="It lays with a cold tip: nothing heats it before.",
            instead=(manner.send("heat_tip_wait", celsius=filament.nozzle_c),),
        )
    elif not known.tip_waited:
        yield Finding(
            code="tip_not_waited",
            level="warning",
            line=known.tip_line,
            text="It does not wait for the tip to be hot.",
            instead=(manner.send("heat_tip_wait", celsius=known.tip_c),),
        )
    if filament.bed_c >= 40 and known.bed_c < 30:
        yield Finding(
            code="cold_plate",
            level="warning",
            line=laid,
            text=f"It lays on a cold plate; {filament.name} was judged at {filament.bed_c:.0f} °C.",
            instead=(manner.send("heat_bed_wait", celsius=filament.bed_c),),
        )
    elif known.bed_c >= 30 and not known.bed_waited:
        yield Finding(
            code="plate_not_waited",
            level="warning",
            line=known.bed_line,
            text="It does not wait for the plate to be warm.",
            instead=(manner.send("heat_bed_wait", celsius=known.bed_c),),
        )
    if mesh_on or known.mesh is not None:
        yield from _mesh(known, manner, mesh_on, laid)
    if known.inches is not None:
        yield Finding(code="inches", level="note", line=known.inches, text="It is written in inches.")
    missing = [
        words
        for said, words in (
            (known.units_said, "units (G21)"),
            (known.places_said, "absolute places (G90)"),
            (known.filament_said, "how filament counts (M82 or M83)"),
        )
        if not said
    ]
    if missing and job.moves:
        yield Finding(
            code="modes_not_said",
            level="note",
            line=1,
            text=f"It does not say {', '.join(missing)}: what the job before has left counts.",
        )
    yield from _first_travel(known, job)


def _mesh(known: SoFar, manner: Manner, mesh_on: bool, laid: int | None) -> Iterator[Finding]:
    on = manner.send("mesh_on") if manner.can("mesh_on") else ""
    if known.mesh is None:
        if mesh_on and manner.line.homing_ends_mesh and on:
            yield Finding(
                code="mesh_missing",
                level="warning",
                line=known.homed,
                text="Homing switches the mesh off on this machine, and nothing switches it on again.",
                instead=(on,),
            )
        return
    name, line = known.mesh
    if name == "mesh_off" and mesh_on:
        yield Finding(
            code="mesh_off",
            level="warning",
            line=line,
            text="It switches off the mesh that this plate needs.",
            instead=(on,) if on else (),
        )
    elif name == "mesh_on" and known.homed is not None and known.homed > line and manner.line.homing_ends_mesh:
        yield Finding(
            code="mesh_before_home",
            level="warning",
            line=line,
            text=f"It switches the mesh on before homing (line {known.homed}), which switches it off again.",
            instead=(manner.send("home"), on),
        )
    elif name == "mesh_on" and not mesh_on:
        yield Finding(
            code="mesh_unjudged",
            level="warning",
            line=line,
            text="It switches a mesh on; the plate was judged without one, or with one that is gone.",
        )


def _first_travel(known: SoFar, job: Job) -> Iterator[Finding]:
    """Over the plate after homing: the tip stands low until something lifts it."""
    if known.homed is None:
        return
    lifted = False
    for move in job.moves:
        if move.line < known.homed:
            continue
        lifted |= max(move.start[2], move.end[2]) >= JOB_CHECK.low_travel_mm
        if lifted or lays(move):
            return
        if move_length(move) > 5.0:
            yield Finding(
                code="low_travel",
                level="warning",
                line=move.line,
                text=f"It travels over the plate at z {move.end[2]:g} after homing, before it is lifted.",
                instead=("G1 Z5 F600",),
            )
            return


def _at_the_end(known: SoFar, job: Job, manner: Manner) -> Iterator[Finding]:
    """What stays when it is over."""
    off = manner.send
    if not job.moves:
        return
    if known.tip_c > 0:
        yield Finding(
            code="tip_left_hot",
            level="warning",
            line=known.tip_line,
            text="The tip stays hot when it is over.",
            instead=(off("heat_tip", celsius=0.0),),
        )
    if known.bed_c > 0:
        yield Finding(
            code="plate_left_hot",
            level="warning",
            line=known.bed_line,
            text="The plate stays hot when it is over.",
            instead=(off("heat_bed", celsius=0.0),),
        )
    if known.fan is not None and known.fan[0] > 0:
        yield Finding(code="fan_left_on", level="note", line=known.fan[1], text="The fan stays on when it is over.")
    for name, value in (("speed", known.percent), ("flow", known.flow)):
        if value is not None and abs(value[0] - 100) > 0.5:
            yield Finding(
                code=f"{name}_left",
                level="warning",
                line=value[1],
                text=f"The {name} is left at {value[0]:g} %: the next job starts with it.",
            )
    if not known.motors_off and manner.can("motors_off"):
        yield Finding(
            code="motors_left_on",
            level="note",
            line=None,
            text="The motors stay on when it is over.",
            instead=(off("motors_off"),),
        )
    if known.limit is not None:
        yield Finding(
            code="limit_left_open",
            level="warning",
            line=known.limit,
            text="The soft limit below zero is opened and not closed again.",
            instead=(off("limit_close"),) if manner.can("limit_close") else (),
        )
    if not job.ends_absolute:
        yield Finding(
            code="left_relative",
            level="note",
            line=None,
            text="It ends in relative places: the next job must say G90.",
            instead=("G90",),
        )
    if job.highest is not None and job.first_z is not None and job.last_z < job.highest + 0.5:
        yield Finding(
            code="not_lifted",
            level="note",
            line=None,
            text="The tip is not lifted off the part at the end.",
            instead=("G91", "G1 Z10 F600", "G90"),
        )
