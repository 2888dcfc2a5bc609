"""The program of a skirt that runs while the knobs are turned."""

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.value import Value
from ivory_table.program.check import every
from ivory_table.program.skirt import loops, skirt_program
from ivory_table.runs.doubts import Refused
from ivory_table.runs.motion import refuse_low
from ivory_table.runs.run import OpenRun


class SkirtView(Value):
    """The program of a skirt that runs while the knobs are turned."""

    loops: int
    minutes: float
    filament_mm: float


def skirt_for(run: OpenRun) -> tuple[SkirtView, str]:
    """The skirt and its program. Raises Refused where the tip might scrape, or nothing fits."""
    state, setup = run.state, run.setup
    if not state.screws:
        raise Refused("no_skirt", f"{setup.machine.name} has no knobs to turn beside a skirt.")
    bead = Bead(round(state.bead.line_mm, 3), round(state.bead.layer_mm, 3))
    try:
        laid = loops(setup.plate, bead.line_mm)
        at = np.array([place for points in laid for place in every(points, 20.0)])
        nearest = np.linalg.norm(at[:, None] - state.belief.surface.screws[None], axis=2).argmin(axis=1)
        names = [f"the skirt near {state.screws[j].name}" for j in nearest]
        refuse_low(state, at, names, bead.layer_mm, "Bring every screw to the gauge first, by counting.")
        found = skirt_program(state.machine_now, setup.plate, setup.filament, bead, run.manner)
    except ValueError as wrong:
        raise Refused("no_skirt", str(wrong)) from None
    return SkirtView(loops=len(laid), minutes=found.minutes, filament_mm=found.filament_mm), found.text
