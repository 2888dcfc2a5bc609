"""How much further to turn the screw that now drags. Lengths in mm, turns in marks, positive clockwise seen from above."""

from dataclasses import dataclass
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from .advice import Ahead, ends_at_mm, fewest
from .belief import Belief
from .defaults import TRAM
from .normals import range_sd
from .plate import Screw
from .tram import hand_error_mm
from .tram_told import drag_height
from .value import Array


@dataclass(frozen=True)
class Further:
    """The turn to make beyond the drag, and what it is expected to bring. Half marks where they pay."""

    marks: float
    up_mm: float
    p_within: float
    spread_mm: float
    spread_sd_mm: float
    #: What the screws not yet at rest will take back from this one.
    others_mm: tuple[float, ...]


@lru_cache
def _further_marks(marks_per_turn: int) -> tuple[Array, NDArray[np.bool_]]:
    """Extra turns that are worth looking at after a count, up to a quarter turn, in marks; and which are whole ones."""
    whole = np.round(np.arange(-4, 5) * marks_per_turn / 16)
    half = np.round(np.arange(-8, 9) * marks_per_turn / 16) / 2
    marks = np.union1d(whole, half)
    return marks, np.isin(marks, whole)


def further(belief: Belief, screws: tuple[Screw, ...], j: int, tol_mm: float, drag_gap_mm: float) -> Further:
    """How much further to turn the screw that now drags.

    If a turn makes it likely enough that all is within, the likeliest; else the one that
    leaves least after the best next visits.
    """
    screw = screws[j]
    options, whole = _further_marks(screw.marks_per_turn)
    up = options * screw.mm_per_mark * screw.sense
    ranges = belief.ranges_after(j, up, hand_error_mm(up))
    likely = (ranges <= 2 * tol_mm).mean(axis=1)
    smallest_first = np.argsort(np.abs(options), kind="stable")
    best = int(smallest_first[np.argmax(likely[smallest_first])])
    if likely[best] < TRAM.done_at:
        value = _left_after(belief, screws, j, up, tol_mm, drag_gap_mm)
        # Half marks only to end it: on the way there a hand's error is as large.
        value[~whole] = np.inf
        best = int(smallest_first[np.argmin(value[smallest_first])])
    own = belief.weight @ belief.passes[:, :, j]
    return Further(
        marks=float(options[best]),
        up_mm=float(up[best]),
        p_within=float(likely[best]),
        spread_mm=float(ranges[best].mean()),
        spread_sd_mm=range_sd(ranges[best]),
        others_mm=tuple(float(v) for v in own * up[best]),
    )


def _left_after(
    belief: Belief, screws: tuple[Screw, ...], j: int, up: Array, tol_mm: float, drag_gap_mm: float
) -> Array:
    """(options,) what turning knob j by each of `up` (mm) leaves to do: visits first, then what they leave."""
    ahead = Ahead.of(belief, screws)
    costs = ahead.costs(belief, drag_height(belief, drag_gap_mm), j, up)
    costs[:, j] = np.inf
    ends_at = ends_at_mm(len(screws), tol_mm)
    ends = fewest(ahead, costs, ends_at)
    return np.asarray(ahead.size[ends] * ends_at + costs[np.arange(len(ends)), ends])
