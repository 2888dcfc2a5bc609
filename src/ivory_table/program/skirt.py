"""The skirt that runs while the knobs are turned: loops round the plate, past every outer screw."""

from functools import lru_cache
from math import cos, pi, sin

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import PROOF
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.program.check import Points, is_clear
from ivory_table.program.laying import Program, Writer, ascii_only


def loop(plate: Plate, inset_mm: float) -> Points:
    """A closed loop as far inside the plate's edge everywhere; from the middle of the left side, counter-clockwise."""
    cx, cy = plate.centre
    half_x, half_y = plate.width_mm / 2 - inset_mm, plate.depth_mm / 2 - inset_mm
    # A round plate is all corner.
    r = min(half_x, half_y) if plate.shape == "round" else min(PROOF.tram_corner_mm, half_x, half_y)
    points: Points = [(cx - half_x, cy)]
    for corner, (i, j) in enumerate(((-1, -1), (1, -1), (1, 1), (-1, 1))):
        for a in np.linspace(pi + corner * pi / 2, 1.5 * pi + corner * pi / 2, 25 if r > PROOF.tram_corner_mm else 7):
            points.append((cx + i * (half_x - r) + r * cos(a), cy + j * (half_y - r) + r * sin(a)))
    points.append(points[0])
    return [(round(x, 3), round(y, 3)) for x, y in points]


@lru_cache(maxsize=16)
def loops(plate: Plate, line_mm: float) -> list[Points]:
    """The loops from the outermost in, as far out as the plate and its keep-outs let them lie.

    Two lines' width apart, so that each can be judged by itself; the first one primes.
    Raises ValueError where keep-outs leave no room for them.
    """
    deepest = 0.3 * min(plate.width_mm, plate.depth_mm)
    for outermost in np.arange(PROOF.tram_inset_mm, deepest, 1.0):
        found = [loop(plate, float(outermost) + 2 * line_mm * k) for k in range(PROOF.tram_loops)]
        if all(is_clear(plate, points, 2) for points in found):
            return found
    raise ValueError("The keep-outs leave no room for a skirt round the plate.")


@lru_cache(maxsize=16)
def skirt_program(machine: Machine, plate: Plate, filament: Filament, bead: Bead, manner: Manner) -> Program:
    """The skirt as a complete program: heat, home, mesh off, loops, lifted and warm.

    The mesh is switched off: with it the tip would follow the plate, and no turn of a knob would show.
    Raises ValueError as `loops` does.
    """
    out, found = Writer(machine, filament, bead, manner), loops(plate, bead.line_mm)
    out.begin(
        f"Skirt for {ascii_only(machine.name)}, {ascii_only(plate.name)}, {ascii_only(filament.name)}",
        f"{len(found)} loops, line {bead.line_mm:g} mm, layer {bead.layer_mm:g} mm",
        "keep a hand near the stop; turn a knob only while the tip is elsewhere",
        bed_c=filament.bed_c,
        nozzle_c=filament.nozzle_c,
        mesh="mesh_off",
    )
    for number, points in enumerate(found, 1):
        out.say(f"; loop {number} of {len(found)}" + (", primes, not graded" if number == 1 else ""))
        if manner.can("message"):
            out.say(manner.send("message", text=f"loop {number} of {len(found)}"))
        if number == 1:
            out.path(points, bead.layer_mm)
        else:
            for x, y in points:
                out.line(x, y)
    out.end()
    return out.program(plate, bead.layer_mm)
