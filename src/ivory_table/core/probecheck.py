"""Whether a probe can be relied on: how well it repeats, cold and hot, and how high its sensor must sit.

The scatter of n touches has a chi-squared law, so what is known of it is a chance, not a number (Cochran 1934). Touches made
at different temperatures also tell how far the trigger wanders with heat, by least squares.
"""

from typing import Literal

import numpy as np
from scipy.stats import chi2, t

from .defaults import PROBE
from .tram import tolerance_mm
from .value import Value
from .words import way_words


class Touch(Value):
    """One touch at one place: the height at which the probe triggered, and the plate's temperature where it is known."""

    z_mm: float
    bed_c: float | None = None


class Repeats(Value):
    """What some touches of one place tell of a probe. Lengths in mm; intervals hold nine times in ten."""

    touches: int
    sd_mm: float | None
    sd_between_mm: tuple[float, float] | None
    #: How far the trigger wanders with heat, mm for each °C, with one sd; None where the temperature was not changed.
    per_c_mm: float | None
    per_c_sd_mm: float | None
    #: The most it may scatter here, and the chance that it scatters less.
    limit_mm: float
    p_good: float | None
    verdict: Literal["good", "poor", "touch_more"]
    words: str


def repeats(touches: tuple[Touch, ...], layer_mm: float) -> Repeats:
    """The verdict on a probe by its touches of one place, for a first layer of `layer_mm`."""
    limit = PROBE.share_of_tol * tolerance_mm(layer_mm)
    z = np.array([touch.z_mm for touch in touches])
    n = len(z)
    known = [touch.bed_c for touch in touches if touch.bed_c is not None]
    slope = slope_sd = None
    parameters = 1
    residual = z - z.mean() if n else z
    if n >= 4 and len(known) == n and np.ptp(known) >= PROBE.heat_range_c:
        c = np.array(known) - np.mean(known)
        slope = float((c @ z) / (c @ c))
        residual, parameters = z - z.mean() - slope * c, 2
        left = float(residual @ residual) / (n - 2)
        slope_sd = float((left / (c @ c)) ** 0.5)
    free = n - parameters
    if free < PROBE.least_free:
        more = PROBE.least_free + parameters - n
        return Repeats(
            touches=n,
            sd_mm=None,
            sd_between_mm=None,
            per_c_mm=slope,
            per_c_sd_mm=slope_sd,
            limit_mm=limit,
            p_good=None,
            verdict="touch_more",
            words=f"Touch the same place {more} times more.",
        )
    squares = max(float(residual @ residual), 1e-12)
    sd = (squares / free) ** 0.5
    low, high = (float((squares / chi2.ppf(p, free)) ** 0.5) for p in (0.95, 0.05))
    p_good = float(chi2.sf(squares / limit**2, free))
    verdict: Literal["good", "poor", "touch_more"] = (
        "good" if p_good >= PROBE.sure else "poor" if p_good <= 1 - PROBE.sure else "touch_more"
    )
    words = {
        "good": f"It repeats to {sd:.4f} mm: good enough for a mesh.",
        "poor": f"It scatters by {sd:.3f} mm; {limit:.3f} is the most that a mesh stands. Clean it, look at its mount, or touch "
        "every point several times.",
        "touch_more": f"So far {sd:.4f} mm, between {low:.4f} and {high:.4f}: touch it again, it is not sure yet.",
    }[verdict]
    if slope is not None and slope_sd is not None and abs(slope) > float(t.ppf(0.975, free)) * slope_sd:
        words += f" Heat moves its trigger by {1000 * slope:+.1f} µm for each °C: take the mesh at printing heat."
    return Repeats(
        touches=n,
        sd_mm=sd,
        sd_between_mm=(low, high),
        per_c_mm=slope,
        per_c_sd_mm=slope_sd,
        limit_mm=limit,
        p_good=p_good,
        verdict=verdict,
        words=words,
    )


class SensorTurn(Value):
    """How a sensor's adjuster is to be turned so that it triggers with the tip as high as is wanted."""

    margin_mm: float
    wanted_mm: float
    within_mm: float
    #: Turns of the adjuster, positive clockwise seen from above; 0 where it is right.
    turns: float
    right: bool
    words: str


def sensor_turn(margin_mm: float, pitch_mm: float, *, clockwise_raises: bool) -> SensorTurn:
    """From the height of the tip at which the sensor triggers to the turn that brings it to `PROBE.margin_mm`.

    A sensor that is raised by d triggers with the tip d lower. Raises ValueError for a thread that is none.
    """
    if not pitch_mm > 0:
        raise ValueError("The adjuster's thread must be more than 0 mm per turn.")
    off = margin_mm - PROBE.margin_mm
    right = abs(off) <= PROBE.margin_within_mm
    turns = 0.0 if right else off / pitch_mm * (1 if clockwise_raises else -1)
    way = way_words(turns, "above")
    if right:
        words = f"It triggers with the tip {margin_mm:.2f} mm above the plate: right."
    elif margin_mm <= 0:
        words = (
            f"The tip touches before it triggers. Lower the sensor: {abs(turns):.2f} turns {way}, then measure again."
        )
    else:
        does = "Raise" if off > 0 else "Lower"
        words = f"{does} the sensor by {abs(off):.2f} mm: {abs(turns):.2f} turns {way}, then measure again."
    return SensorTurn(
        margin_mm=margin_mm,
        wanted_mm=PROBE.margin_mm,
        within_mm=PROBE.margin_within_mm,
        turns=round(turns, 2),
        right=right,
        words=words,
    )
