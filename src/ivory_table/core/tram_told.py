"""What a tram's turns, counts and feels tell the belief."""

from typing import Literal

import numpy as np

from .belief import Belief
from .defaults import TRAM
from .gauge import Feel, FeelScale, feel_interval
from .plate import Screw
from .steps import CountFound, SaidBefore
from .tram import hand_error_mm


def counted(belief: Belief, screws: tuple[Screw, ...], j: int, marks: float, drag_gap_mm: float) -> Belief:
    """A knob was turned until the gauge dragged, and the marks counted.

    A turn known to its rounding, then a reading of the height there, then what the hand's error
    makes of it: the same error is not counted twice, so that the count tells all it can of what was before.

    What was found is the count, not the height: that it came out as it did is as likely as the height it
    stands for, times the lever from marks to height. Without the lever, a knob that hardly moves the plate
    would explain every count best.
    """
    screw = screws[j]
    up = marks * screw.mm_per_mark * screw.sense
    at_drag = dragged(belief.turned(j, up, screw.mm_per_mark / 12**0.5), screw.x_mm, screw.y_mm, drag_gap_mm)
    weighed = at_drag.after(CountFound(j))
    return weighed.turned(j, 0.0, float(hand_error_mm(up)))


def felt(
    belief: Belief, x_mm: float, y_mm: float, at_mm: float, feel: Feel, drag_gap_mm: float, scale: FeelScale
) -> Belief:
    """The gauge slid under the tip at a height of `at_mm` in the belief's frame: at - height - bias lies between two cuts."""
    low, high = feel_interval(feel, drag_gap_mm, scale)
    row = belief.drag_row(x_mm, y_mm)
    return belief.felt(row, at_mm - high, at_mm - low, scale.scatter_mm, own=True)


def not_reached(
    belief: Belief,
    screws: tuple[Screw, ...],
    j: int,
    marks: float,
    still: Literal["tight", "loose"],
    drag_gap_mm: float,
    *,
    dragged_before: bool,
) -> Belief:
    """A knob turned by `marks`, as far as is sensible, did not bring the gauge to drag, and was turned back.

    On which side of the drag the plate still was tells how little this knob does. Where the gauge has never
    dragged, the plate may as well be further off than anybody expected: as far as a knob may have been set wrongly.
    """
    screw = screws[j]
    if not dragged_before:
        belief = belief.turned(j, 0.0, TRAM.far_sd_mm)
    there = turned(belief, screws, j, marks)
    row = belief.drag_row(screw.x_mm, screw.y_mm)
    drag = belief.shift_mm - drag_gap_mm
    low, high = (drag, np.inf) if still == "tight" else (-np.inf, drag)
    return turned(there.felt(row, low, high, 0.0, own=True), screws, j, -marks)


def dragged(belief: Belief, x_mm: float, y_mm: float, drag_gap_mm: float) -> Belief:
    """The gauge drags at a place with the tip at z 0: shift - height = thickness + bias."""
    row = belief.drag_row(x_mm, y_mm)
    return belief.read(row, belief.shift_mm - drag_gap_mm, 0.0, dragged=True)


def turned(belief: Belief, screws: tuple[Screw, ...], j: int, marks: float) -> Belief:
    """A knob was turned by a known number of marks."""
    up = marks * screws[j].mm_per_mark * screws[j].sense
    return belief.turned(j, up, float(hand_error_mm(up)))


def felt_before(
    belief: Belief, screws: tuple[Screw, ...], j: int, marks: float, before: Literal["tight", "loose"]
) -> Belief:
    """What the gauge said before a counted turn: a knob that loosened a loose gauge works the other way.

    By hypothesis the turn moved the plate here by its lever; a loose gauge wanted it up.
    """
    up = marks * screws[j].mm_per_mark * screws[j].sense
    return belief.after(SaidBefore(j, up, float(hand_error_mm(up)), loose=before == "loose"))


def drag_height(belief: Belief, drag_gap_mm: float) -> float:
    """The height in mm, in the belief's frame, at which a gauge is believed to drag with the tip at z 0."""
    return float(belief.shift_mm - drag_gap_mm - belief.collapsed[0][belief.surface.bias])
