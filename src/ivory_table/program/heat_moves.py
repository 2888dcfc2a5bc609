"""What heat does to a plate while a job's first layers are laid: by the plate's thermal study, where there is one."""

from collections.abc import Iterator, Sequence

import numpy as np

from ivory_table.core.defaults import HEAT, JOB_CHECK
from ivory_table.core.manner import Manner
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import ThermalStudy, settling, warp
from ivory_table.core.value import Array

from .finding import Finding
from .job import Job, Said
from .meant import Meaning

#: A command, and what it means on the machine.
Heard = tuple[Said, Meaning | None]


def of_heat(
    job: Job, heard: Sequence[Heard], manner: Manner, study: ThermalStudy | None, surface: Surface | None
) -> Iterator[Finding]:
    """Whether the plate still moves under the first layer, and what it does between the first and the second.

    `heard`: every command of the job with what it means.
    """
    if job.first_z is None or not job.first_spans:
        return
    began, second = job.first_spans[0]
    heats = _heats(heard)
    before = [(line, c) for line, c, _ in heats if line < began]
    if not before:
        return
    at_first = before[-1][1]
    if study is not None:
        yield from _still_moving(heard, manner, study, began, heats)
    if second is None or job.second_z is None:
        return
    changed = [(line, c) for line, c, _ in heats if began < line < second]
    if not changed or abs(changed[-1][1] - at_first) < JOB_CHECK.same_heat_c:
        return
    line, then = changed[-1]
    said = f"From the second layer on the plate is {then:.0f} instead of {at_first:.0f} °C"
    places = np.array([m.end[:2] for m in job.first_layer])
    try:
        if study is None or surface is None:
            raise ValueError
        rise = warp(study, surface, at_first, then, places)
    except ValueError:
        text = f"{said}. Its middle moves with heat, by how much nobody has measured there: a thermal study tells."
        yield Finding(code="heat_between_layers", level="note", line=line, text=text)
        return
    yield _between(said, line, rise, places, job.second_z - job.first_z)


def _between(said: str, line: int, rise: Array, places: Array, layer_mm: float) -> Finding:
    k = int(np.argmax(np.abs(rise)))
    most, (x, y) = float(rise[k]), places[k]
    how = "higher and presses the second layer" if most > 0 else "lower and the second layer is laid thick"
    much = abs(most) > JOB_CHECK.layer_share * layer_mm
    text = f"{said}: by the thermal study it comes to stand up to {abs(most):.3f} mm {how}, most at ({x:.0f}, {y:.0f})."
    if much:
        text += " Leave its heat as it is for some layers more."
    return Finding(code="heat_between_layers", level="warning" if much else "note", line=line, text=text)


def _still_moving(
    heard: Sequence[Heard],
    manner: Manner,
    study: ThermalStudy,
    began: int,
    heats: list[tuple[int, float, bool]],
) -> Iterator[Finding]:
    found = settling(study)
    waited = next((line for line, _, waits in reversed(heats) if waits and line < began), None)
    if found is None or waited is None:
        return
    minutes = 0.0
    for said, meaning in heard:
        name, values = meaning or ("", {})
        if name == "dwell" and waited < said.line < began:
            minutes += values.get("seconds", 0.0) / 60
    to_come = found.still_to_come_mm(minutes)
    if abs(to_come) < HEAT.still_moves_mm:
        return
    more = found.settled_after_min - minutes
    how = "rises" if to_come > 0 else "sinks"
    yield Finding(
        code="plate_still_moves",
        level="note",
        line=waited,
        text=f"Once it is hot the plate's middle still {how} by {abs(to_come):.3f} mm, by the thermal study; let it stand for {more:.0f} minutes.",
        instead=(manner.send("dwell", seconds=round(60 * more)),) if manner.can("dwell") else (),
    )


def _heats(heard: Sequence[Heard]) -> list[tuple[int, float, bool]]:
    """Line, heat of the plate in °C, and whether it is waited for."""
    out = []
    for said, meaning in heard:
        name, values = meaning or ("", {})
        if name in ("heat_bed", "heat_bed_wait"):
            out.append((said.line, values.get("celsius", 0.0), name == "heat_bed_wait"))
    return out
