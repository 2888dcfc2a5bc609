"""A feel check: this person's own scale on this gauge."""

from zlib import crc32

from ivory_table.core.feelcheck import FeelTry, fit, heights, sentence
from ivory_table.core.gauge import FeelScale
from ivory_table.core.value import Value
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.stations.offset.entries import FeelTried
from ivory_table.stations.offset.state import Offset


class FeelCheck(Value):
    """Where a feel check stands: the next height, and what the tries so far tell."""

    #: Commanded z at which the gauge is believed to drag at the plate's centre, and how well it is known.
    drag_z_mm: float
    drag_sd_mm: float
    #: Heights still to try come in an order nobody can foretell; None when all are through.
    next_above_mm: float | None
    next_z_mm: float | None
    done: int
    of: int
    scale: FeelScale | None
    words: str
    #: Why it cannot begin yet; empty when it can.
    why_not: str


@once_per_state
def feel_check(run: OpenRun) -> FeelCheck:
    state = run.state
    step = run.setup.machine.z_step_mm
    order = heights(crc32(run.setup.id.encode()), step)
    tries = Offset.of(state).feel_tries
    x, y = run.setup.plate.centre
    drag, sd = state.drag_height(x, y)
    above = order[len(tries)] if len(tries) < len(order) else None
    scale = fit(tries) if len(tries) >= 9 else None
    ready = sd <= 0.012
    return FeelCheck(
        drag_z_mm=round(drag, 3),
        drag_sd_mm=sd,
        next_above_mm=above,
        next_z_mm=None if above is None else round(round((drag + above) / step) * step, 4),
        done=len(tries),
        of=len(order),
        scale=scale,
        words=sentence(scale) if scale else (sentence(state.feel) if state.feel.tries else "No check yet: the shipped scale is used."),
        why_not="" if ready else "First step down to the drag at the centre (Z offset): the check needs to know where it is to 0.01 mm.",
    )  # fmt: skip


def feel_by_practice(desk: Desk, run: OpenRun) -> Row:
    """The practice person's feel at the next height."""
    now = feel_check(run)
    if now.why_not:
        raise Refused("not_yet", now.why_not)
    if now.next_z_mm is None or now.next_above_mm is None:
        raise Refused("nothing_to_read", "All heights of the check have been tried.")
    x, y = run.setup.plate.centre
    feel = desk.hands(run).slide_gauge(x, y, now.next_z_mm)
    return FeelTried(feel_try=FeelTry(above_mm=now.next_above_mm, feel=feel))
