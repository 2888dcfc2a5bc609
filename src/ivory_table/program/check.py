"""A program read back over the plate it is for."""

import itertools
from math import hypot

import numpy as np

from ivory_table.core.plate import Machine, Plate
from ivory_table.program.reader import read_program

Points = list[tuple[float, float]]


def check_program(text: str, machine: Machine, plate: Plate, lowest_z_mm: float) -> None:
    """Read a program back and refuse what leaves the plate, enters a keep-out or goes too low.

    Raises ValueError with the line.
    """
    for move in read_program(text, own_words=True).moves:
        x, y, z = move.end
        if move.filament_mm <= 0:
            continue
        for px, py in every([move.start[:2], (x, y)], 2.0):
            if not plate.holds(px, py, 0.5):
                raise ValueError(f"Line {move.line} would print off the plate at ({px:.1f}, {py:.1f}).")
            if name := plate.kept_out(px, py, machine.nozzle_mm):
                raise ValueError(f"Line {move.line} would print into the keep-out '{name}' at ({px:.1f}, {py:.1f}).")
        if z < lowest_z_mm - 1e-6:
            raise ValueError(f"Line {move.line} goes to z {z:g}, below the first layer's {lowest_z_mm:g} mm.")


def is_clear(plate: Plate, points: Points, edge_mm: float) -> bool:
    """Whether a path stays so far inside the plate's edge, and out of every keep-out."""
    return all(plate.holds(x, y, edge_mm) and not plate.kept_out(x, y, 2) for x, y in every(points, 2.0))


def every(points: Points, step_mm: float) -> Points:
    """The corners of a path and places between them, a step or a little more apart, never two."""
    out: Points = []
    for (x0, y0), (x1, y1) in itertools.pairwise(points):
        n = max(int(hypot(x1 - x0, y1 - y0) / step_mm), 1)
        out += [(x0 + (x1 - x0) * t, y0 + (y1 - y0) * t) for t in np.linspace(0, 1, n + 1)]
    return out
