"""The stored value of every plate: what one needs is foretold from what it needed beside the others before.

Each plate sits a little higher or lower than another, by the same amount each time it is mounted but for how it seats;
what the machine's own zero wanders they share. So the difference of two plates is what is kept.
"""

from datetime import datetime
from itertools import pairwise

import numpy as np

from .defaults import OFFSET
from .value import Value


class PlateValue(Value):
    """A value that was stored and read back with one plate mounted."""

    at: datetime
    plate_id: str
    stored_mm: float


class PlateForetold(Value):
    """What a plate will need, with one sd, and from how many changes of plate that is known."""

    stored_mm: float
    sd_mm: float
    changes: int


def foretold_for(plate_id: str, values: tuple[PlateValue, ...], now_mm: float) -> PlateForetold | None:
    """What `plate_id` will need when it is mounted now, the value of the plate before it being `now_mm`.

    The mean difference to whatever was mounted before it, over its earlier changes. The scatter of a difference is learnt
    from them over a prior (scaled inverse chi-squared, `OFFSET.swap_prior_n` changes of sd `OFFSET.swap_sd_mm`), and the sd
    is that of the next one. None where the plate was never mounted after another, or is mounted now.
    """
    in_time = sorted(values, key=lambda v: v.at)
    if not in_time or in_time[-1].plate_id == plate_id:
        return None
    differences: list[float] = []
    for before, after in pairwise(in_time):
        if after.plate_id == plate_id and before.plate_id == in_time[-1].plate_id:
            differences.append(after.stored_mm - before.stored_mm)
        elif before.plate_id == plate_id and after.plate_id == in_time[-1].plate_id:
            differences.append(before.stored_mm - after.stored_mm)
    if not differences:
        return None
    d, n = np.array(differences), len(differences)
    mean = float(d.mean())
    spread = OFFSET.swap_prior_n * OFFSET.swap_sd_mm**2 + float(((d - mean) ** 2).sum())
    sd = (spread / (OFFSET.swap_prior_n + n - 1) * (1 + 1 / n)) ** 0.5
    return PlateForetold(stored_mm=round(now_mm + mean, 4), sd_mm=round(sd, 4), changes=n)
