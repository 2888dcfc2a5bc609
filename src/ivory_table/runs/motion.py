"""What a machine may be told to do above a plate: lift first, stay on the plate, come down from above.

Every target is judged here, before a line is made of it; the page may say the same earlier,
but this is where it is refused.
"""

import numpy as np
from numpy.typing import ArrayLike

from ivory_table.core.approach import Approach
from ivory_table.core.defaults import MOTION, OFFSET
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Machine, Plate
from ivory_table.core.proof import ProofPlan
from ivory_table.core.value import Array, Value
from ivory_table.core.words import signed
from ivory_table.runs.searching import safe_mm
from ivory_table.runs.state import RunState


class Step(Value):
    """One line to send, and what it will move, in words."""

    line: str
    words: str


def refuse_place(machine: Machine, plate: Plate, x_mm: float, y_mm: float) -> None:
    """Raise ValueError when the tip must not come down at a place."""
    plate.refuse_outside(x_mm, y_mm)
    if name := plate.kept_out(x_mm, y_mm, MOTION.clear_mm + machine.nozzle_mm):
        raise ValueError(f"({x_mm:g}, {y_mm:g}) is in the keep-out '{name}' or within {MOTION.clear_mm:g} mm of it.")


def lowest_mm(state: RunState, x_mm: float, y_mm: float, approach: Approach | None = None) -> float:
    """The lowest commanded z in mm that is proven at a place, with the gauge under the tip.

    drag + 3 sd - `OFFSET.deepest_press_mm`: even at 3 sd the gauge is never pressed deeper. Where the tip comes down
    answer by answer, what `approach` allows.
    """
    if approach is not None:
        return approach.lowest_mm
    return max(safe_mm(state, x_mm, y_mm), OFFSET.floor_mm)


def travel_height_mm(state: RunState) -> float:
    """The z at which the tip crosses the plate: above every clip and the highest place it may have."""
    surface = state.belief.surface
    corners = state.setup.plate.bounds
    heights, sds = state.belief.height([*surface.anchors, (corners[0], corners[1]), (corners[2], corners[3])])
    return round(max(MOTION.lift_mm, float((heights + 3 * sds).max()) + MOTION.lift_mm), 2)


def lift(state: RunState, manner: Manner) -> Step:
    z = travel_height_mm(state)
    return Step(line=manner.send("height", z=z, feed=MOTION.lift_mm_s * 60), words=f"the tip lifts to {z:g} mm")


def go(state: RunState, manner: Manner, x_mm: float, y_mm: float, name: str) -> tuple[Step, ...]:
    """Lift, then across to a place. Raises ValueError for one that must not be visited."""
    refuse_place(state.setup.machine, state.setup.plate, x_mm, y_mm)
    line = manner.send("move", x=x_mm, y=y_mm, feed=MOTION.travel_mm_s * 60)
    return (lift(state, manner), Step(line=line, words=f"the tip goes over {name}, x {x_mm:g}, y {y_mm:g}"))


def come_down(
    state: RunState,
    manner: Manner,
    x_mm: float,
    y_mm: float,
    z_mm: float,
    now_mm: float,
    approach: Approach | None = None,
) -> tuple[Step, ...]:
    """To a height from above: a move that ends higher than it began goes past it and comes back.

    Raises ValueError below the proven height.
    """
    floor = lowest_mm(state, x_mm, y_mm, approach)
    if z_mm < floor - 1e-6:
        raise ValueError(
            f"z {signed(z_mm, 3)} at ({x_mm:g}, {y_mm:g}) is below {signed(floor, 3)}, the lowest height that is proven there."
        )

    def to(z: float, speed: float) -> Step:
        return Step(line=manner.send("height", z=z, feed=speed * 60), words=f"the tip comes to z {signed(z, 3)}")

    steps: tuple[Step, ...] = ()
    if z_mm > now_mm - 1e-9:
        steps = (to(z_mm + MOTION.from_above_mm, MOTION.lift_mm_s),)
    elif now_mm > z_mm + 2:
        # Fast while there is nothing to meet, slow for the last of it.
        steps = (to(z_mm + 1.0, MOTION.lift_mm_s),)
    return (*steps, to(z_mm, MOTION.down_mm_s))


def refuse_low_zones(state: RunState, laid: ProofPlan) -> None:
    """Raise ValueError when the tip might meet the plate while it prints a proof: gap - 2 sd below zero."""
    refuse_low(
        state,
        laid.places,
        [z.name for z in laid.zones],
        # A ladder's later steps are laid only where the ones before did not hold.
        laid.layer_mm
        + state.machine_believes(laid.places)
        + (float(laid.away_mm.max()) if laid.kind == "ladder" else laid.away_mm),
        "Tram, measure a mesh or set the Z offset first.",
    )


def refuse_low(state: RunState, places: Array, names: list[str], tip_mm: ArrayLike, instead: str) -> None:
    """Raise ValueError when the tip, running at `tip_mm` over (n, 2) places, might meet the plate: gap - 2 sd below zero."""
    height, sd = state.belief.height(places)
    gap = np.asarray(tip_mm) - height
    worst = int((gap - 2 * sd).argmin())
    if gap[worst] - 2 * sd[worst] < 0:
        raise ValueError(
            f"At {names[worst]} the tip would run {gap[worst]:.2f} ± {sd[worst]:.2f} mm above the plate, by what "
            f"is known: it might scrape. {instead}"
        )


def probe_reaches(state: RunState, x_mm: float, y_mm: float) -> bool:
    """Whether the probe can come down over a place with the tip still over the plate."""
    probe = state.setup.machine.probe
    if probe is None:
        return False
    return state.setup.plate.holds(x_mm - probe.beside.x_mm, y_mm - probe.beside.y_mm, -MOTION.over_edge_mm)


def probe_at(state: RunState, manner: Manner, x_mm: float, y_mm: float, name: str) -> tuple[Step, ...]:
    """The probe, not the tip, over a place: lift, across, and down until it triggers.

    Raises ValueError when the place is kept out, or the tip would leave the plate for it.
    """
    setup = state.setup
    probe = setup.machine.probe
    if probe is None:
        raise ValueError(f"{setup.machine.name} has no probe.")
    refuse_place(setup.machine, setup.plate, x_mm, y_mm)
    x, y = x_mm - probe.beside.x_mm, y_mm - probe.beside.y_mm
    if not probe_reaches(state, x_mm, y_mm):
        raise ValueError(f"The probe cannot reach {name}: the tip would have to go to ({x:g}, {y:g}), off the plate.")
    if (clip := setup.plate.kept_out(x, y, MOTION.clear_mm)) is not None:
        raise ValueError(f"With the probe over {name} the tip would come down on {clip}.")
    return (
        lift(state, manner),
        Step(line=manner.send("probe", x=x, y=y), words=f"the probe goes over {name} and comes down until it triggers"),
    )
