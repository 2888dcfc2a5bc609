"""The drag looked for at one place, from above: what was felt and seen there, and what it tells the belief."""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import numpy as np

from ivory_table.core.approach import Approach
from ivory_table.core.belief import Belief
from ivory_table.core.defaults import OFFSET

if TYPE_CHECKING:
    from ivory_table.runs.state import RunState


@dataclass(frozen=True, eq=False)
class Search:
    """The drag looked for at one place, from above, and what was believed before the first answer there."""

    place_mm: tuple[float, float]
    approach: Approach
    before: Belief
    #: The belief that the answers made: where it is another now, something else was told meanwhile.
    after: Belief


def approach_at(run: "RunState", x_mm: float, y_mm: float) -> Approach:
    """Where the gauge may drag at a place, with what was felt and seen there so far."""
    if (found := search_at(run, x_mm, y_mm)) is not None:
        return found.approach
    drag, sd = run.drag_height(x_mm, y_mm)
    return Approach.over(
        drag,
        sd,
        scale=run.feel,
        gauge_mm=run.drag_gap_mm,
        folds_doubt=run.setup.gauge.folds_doubt(usual=run.setup.usual_gauge),
        step_mm=min(run.setup.machine.z_presses_mm, default=run.setup.machine.z_step_mm),
        seen_above="done" in (run.checks.get("rough_zero"), run.checks.get("rough_stop_up")),
    )


def search_at(run: "RunState", x_mm: float, y_mm: float) -> Search | None:
    found = run.search
    if found is None or found.place_mm != (x_mm, y_mm) or found.after is not run.belief:
        return None
    return found


def searched(run: "RunState", x_mm: float, y_mm: float, approach: Approach, rise_mm: float = 0.0) -> "RunState":
    """The belief with all that was felt and seen on the way down to one place, told once and not answer by answer.

    Once the drag was met, or plainly seen, what the answers say of it beside the belief from before (the posterior
    divided by its prior, both taken for normal); until then only between which heights it lies.
    """
    search = search_at(run, x_mm, y_mm)
    before = search.before if search is not None else run.belief
    start = replace(run, belief=before, search=None)
    row = before.drag_row(x_mm, y_mm)
    lift = float(run.machine_believes(np.array([[x_mm, y_mm]]))[0])
    zero = before.shift_mm + lift + rise_mm - run.drag_gap_at(x_mm, y_mm)
    was, was_sd = start.drag_height(x_mm, y_mm)
    mean, sd = approach.drag
    if (approach.touched or approach.looks or approach.thick) and sd < OFFSET.searched_below * was_sd:
        tau = 1 / sd**2 - 1 / was_sd**2
        told = before.read(row, zero + (mean / sd**2 - was / was_sd**2) / tau, tau**-0.5)
    else:
        free = min((z for z, feel in approach.felt if feel == "free"), default=np.inf)
        low = max((z for z, feel in approach.felt if feel != "free"), default=-np.inf)
        told = before.felt(row, zero + low, zero + free, run.feel.scatter_mm) if approach.felt else before
    return replace(start, belief=told, search=Search((x_mm, y_mm), approach, before, told))


def first_try_mm(run: "RunState", x_mm: float, y_mm: float) -> float:
    """Where the gauge is tried first when drag at z 0 is expected: there, or as low as is safe."""
    return round(max(0.0, safe_mm(run, x_mm, y_mm)), 2)


def safe_mm(run: "RunState", x_mm: float, y_mm: float) -> float:
    """Commanded z in mm at which the gauge is pressed by at most `deepest_press_mm`, to 3 sd of what is known."""
    drag, sd = run.drag_height(x_mm, y_mm)
    return drag + OFFSET.start_above_sd * sd - OFFSET.deepest_press_mm
