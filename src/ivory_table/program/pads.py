"""Pads of graded height in a row, laid by the first tip for a second one to pass over."""

from math import ceil, pi

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.second_tip import Pads
from ivory_table.core.value import Value
from ivory_table.program.check import Points, is_clear
from ivory_table.program.laying import Program, Writer, ascii_only

PAD_MM, GAP_MM = 8.0, 4.0
#: No layer above the first is thicker than this share of the line, so that it is pressed onto the one below.
_THICKEST = 0.6


class Row(Value):
    """Where the pads stand: their middles along x, all at one y, mm."""

    xs_mm: tuple[float, ...]
    y_mm: float


def row(plate: Plate, count: int) -> Row:
    """Room for so many pads, as near the plate's middle as keep-outs allow. Raises ValueError where there is none."""
    cx, cy = plate.centre
    xs = [cx + (k - (count - 1) / 2) * (PAD_MM + GAP_MM) for k in range(count)]
    for off in sorted(np.arange(-0.3, 0.31, 0.02) * plate.depth_mm, key=abs):
        y = cy + float(off)
        reach = [(xs[0] - PAD_MM, y), (xs[-1] + PAD_MM, y)]
        if all(is_clear(plate, [(x, y + dy) for x, y in reach], 3) for dy in (-PAD_MM / 2, PAD_MM / 2)):
            return Row(xs_mm=tuple(round(x, 3) for x in xs), y_mm=round(y, 3))
    raise ValueError(
        f"There is no room for a row of {count} pads, {count * (PAD_MM + GAP_MM):.0f} mm long, on {plate.name}."
    )


def program(
    machine: Machine, plate: Plate, filament: Filament, bead: Bead, pads: Pads, manner: Manner, *, mesh_on: bool
) -> Program:
    """Heat, home, lay every pad to its height, end lifted and warm. Raises ValueError where the row does not fit."""
    at = row(plate, len(pads.tops_mm))
    out = Writer(machine, filament, bead, manner)
    base = bead.layer_mm
    out.begin(
        f"Pads for a second tip of {ascii_only(machine.name)}, {ascii_only(plate.name)}",
        f"{len(pads.tops_mm)} pads, tops {pads.tops_mm[0]:g} to {pads.tops_mm[-1]:g} mm, low to high from left to right",
        bed_c=filament.bed_c,
        nozzle_c=filament.nozzle_c,
        mesh="mesh_on" if mesh_on else None,
    )
    for number, (x, top) in enumerate(zip(at.xs_mm, pads.tops_mm, strict=True), 1):
        if top <= base:
            raise ValueError(f"A pad of {top:g} mm is no higher than the first layer of {base:g} mm.")
        out.say(f"; pad {number}, top {top:g}")
        layers = max(ceil((top - base) / (_THICKEST * bead.line_mm)), 1)
        each = (top - base) / layers
        for k in range(layers + 1):
            laid = bead if k == 0 else Bead(bead.line_mm, each)
            out.per_mm = laid.area_mm2 / (pi / 4 * filament.diameter_mm**2)
            out.path(_square(x, at.y_mm, laid.pitch_mm, across=k % 2 == 1), base + k * each)
    out.end()
    return out.program(plate, base)


def _square(x: float, y: float, pitch: float, *, across: bool) -> Points:
    """Lines to and fro over one pad; each layer across the one below."""
    count, half = int(PAD_MM / pitch), PAD_MM / 2
    points: Points = []
    for k in range(count):
        side = -half + (k + 0.5) * PAD_MM / count
        ends = (-half, half) if k % 2 == 0 else (half, -half)
        points += [(x + side, y + end) if across else (x + end, y + side) for end in ends]
    return points
