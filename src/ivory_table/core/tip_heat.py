"""How much longer a tip is when it is hotter: the gauge drags higher under it, and the same value stands nearer at printing heat.

Felt at two heats or more over one place, the plate's own heat unchanged: z = a + k c. What k is differs from one hot end to
the next, so nothing is taken off before it was felt on this machine.
"""

import numpy as np

from .defaults import OFFSET
from .plate import TipHeat
from .value import FineMm, TipC, Value


class TipFelt(Value):
    """The gauge dragged at this height with the tip at this heat."""

    tip_c: TipC
    drag_z_mm: FineMm


class TipHeatFound(Value):
    """What some tries tell: mm for 1 °C, and how far that goes from the coldest try to the heat it prints at."""

    tries: int
    heat: TipHeat | None
    over_mm: float | None
    #: It grows, as surely as is said of anything here, and by enough to be counted in.
    counts: bool
    words: str


def shorter_mm(heat: TipHeat | None, felt_c: float | None, prints_c: float) -> float:
    """By how many mm the tip is shorter as it is felt than as it prints; 0 where either is not known."""
    return 0.0 if heat is None or felt_c is None else heat.mm_per_c * (prints_c - felt_c)


def tip_heat_found(tries: tuple[TipFelt, ...], prints_c: float, sd_mm: float) -> TipHeatFound:
    """The growth by least squares, each drag known to `sd_mm` mm or as well as they agree."""
    heats = np.array([t.tip_c for t in tries])
    if len(tries) < 2 or np.ptp(heats) < OFFSET.tip_apart_c:
        if not len(tries):
            more = "Feel the drag at two heats of the tip"
        else:
            more = f"Feel it again with the tip {OFFSET.tip_apart_c:.0f} °C or more away from {heats[0]:.0f} °C"
        words = f"{more}: over one place, the plate's heat as it is."
        return TipHeatFound(tries=len(tries), heat=None, over_mm=None, counts=False, words=words)
    rows = np.column_stack([np.ones(len(tries)), heats])
    drags = np.array([t.drag_z_mm for t in tries])
    found, *_ = np.linalg.lstsq(rows, drags, rcond=None)
    left = drags - rows @ found
    scatter = max(sd_mm, float(np.sqrt(left @ left / max(len(tries) - 2, 1))))
    sd = float(scatter * np.sqrt(np.linalg.inv(rows.T @ rows)[1, 1]))
    k = float(found[1])
    over = k * max(prints_c - float(heats.min()), float(np.ptp(heats)))
    sure = abs(k) > OFFSET.tip_sure_sd * sd
    counts = sure and k > 0 and over >= OFFSET.tip_from_mm
    said = f"{1000 * k:.2f} ±{1000 * sd:.2f} µm for 1 °C".replace("-", "−")
    if counts:
        words = (
            f"The tip grows by {said}: {over:.3f} mm from {heats.min():.0f} °C to the {prints_c:.0f} °C it prints at."
        )
    elif sure and k < 0:
        words = f"It drags lower under the hotter tip, by {said}. A tip does not shrink: plastic under the cold one, or a plate that moved?"
    elif sure or over < OFFSET.tip_from_mm:
        words = f"The tip grows by {said}: too little to matter here."
    else:
        words = f"It may grow by {said}, but the hand may do that: feel it again at both heats."
    heat = TipHeat(mm_per_c=round(k, 7), sd_mm_per_c=round(sd, 7)) if 0 <= k <= OFFSET.tip_most_mm_c else None
    return TipHeatFound(tries=len(tries), heat=heat, over_mm=over, counts=counts and heat is not None, words=words)
