"""The skirt that runs while the knobs are turned: loops round the plate, past every outer screw."""

from functools import lru_cache
from math import cos, pi, sin
from typing import Annotated

import numpy as np
from pydantic import Field

from .bead import Bead
from .defaults import PROOF
from .laying import Points, Program, Writer, ascii_only, every
from .manner import Manner
from .plate import Filament, Machine, Plate
from .value import Value


class SkirtPlan(Value):
    """Loops side by side with a gap between them, so that each line can be judged by itself; the first one primes."""

    loops: Annotated[int, Field(ge=2, le=40)] = PROOF.tram_loops
    line_mm: Annotated[float, Field(ge=0.1, le=3)]
    layer_mm: Annotated[float, Field(ge=0.05, le=1.5)]

    @property
    def apart_mm(self) -> float:
        return 2 * self.line_mm


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


def loops(plate: Plate, skirt: SkirtPlan) -> list[Points]:
    """The loops from the outermost in, as far out as the plate and its keep-outs let them lie.

    Raises ValueError where keep-outs leave no room for them.
    """
    deepest = 0.3 * min(plate.width_mm, plate.depth_mm)
    for outermost in np.arange(PROOF.tram_inset_mm, deepest, 1.0):
        found = [loop(plate, float(outermost) + k * skirt.apart_mm) for k in range(skirt.loops)]
        if all(plate.holds(x, y, 2) and not plate.kept_out(x, y, 2) for points in found for x, y in every(points, 2.0)):
            return found
    raise ValueError("The keep-outs leave no room for a skirt round the plate.")


@lru_cache(maxsize=16)
def skirt_program(machine: Machine, plate: Plate, filament: Filament, skirt: SkirtPlan, manner: Manner) -> Program:
    """The skirt as a complete program: heat, home, mesh off, loops, lifted and warm.

    The mesh is switched off: with it the tip would follow the plate, and no turn of a knob would show.
    Raises ValueError as `loops` does.
    """
    out = Writer(machine, filament, Bead(skirt.line_mm, skirt.layer_mm))
    out.begin(
        f"Skirt for {ascii_only(machine.name)}, {ascii_only(plate.name)}, {ascii_only(filament.name)}",
        f"{skirt.loops} loops, line {skirt.line_mm:g} mm, layer {skirt.layer_mm:g} mm",
        "keep a hand near the stop; turn a knob only while the tip is elsewhere",
        manner=manner,
        bed_c=filament.bed_c,
        nozzle_c=filament.nozzle_c,
        mesh="mesh_off",
    )
    for number, points in enumerate(loops(plate, skirt), 1):
        out.say(f"; loop {number} of {skirt.loops}" + (", primes, not graded" if number == 1 else ""))
        if manner.can("message"):
            out.say(manner.send("message", text=f"loop {number} of {skirt.loops}"))
        if number == 1:
            out.path(points, skirt.layer_mm)
        else:
            for x, y in points:
                out.line(x, y)
    out.end()
    return out.program(plate, skirt.layer_mm)
