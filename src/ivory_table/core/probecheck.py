"""Whether a probe can be relied on: how well it repeats, cold and hot, and how high its sensor must sit.

The scatter of n touches has a chi-squared law, so what is known of it is a chance, not a number (Cochran 1934). Touches made
at different temperatures, or after it was parked low over the hot plate, also tell how far the trigger wanders, by least squares.
"""

from typing import Literal

import numpy as np
from scipy.stats import chi2
from scipy.stats import t as student

from .defaults import PROBE
from .tram import tolerance_mm
from .value import Array, Value
from .words import way_words


class Touch(Value):
    """One touch at one place: the height at which the probe triggered, and the plate's temperature where it is known."""

    z_mm: float
    bed_c: float | None = None
    #: How long the probe was parked low over the hot plate before, minutes.
    parked_min: float | None = None


class Repeats(Value):
    """What some touches of one place tell of a probe. Lengths in mm; intervals hold nine times in ten."""

    touches: int
    sd_mm: float | None
    sd_between_mm: tuple[float, float] | None
    #: How far the trigger wanders with heat, mm for each °C, with one sd; None where the temperature was not changed.
    per_c_mm: float | None
    per_c_sd_mm: float | None
    #: The same for each minute that it was parked low over the hot plate.
    per_min_mm: float | None
    per_min_sd_mm: float | None
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
    told = {
        "per_c": (_told_of_all([t.bed_c for t in touches]), PROBE.heat_range_c),
        "per_min": (_told_of_all([t.parked_min for t in touches]), PROBE.parked_range_min),
    }
    by = {name: v for name, (v, least) in told.items() if v is not None and n >= 4 and np.ptp(v) >= least}
    rows = np.column_stack([np.ones(n), *(v - v.mean() for v in by.values())])
    if np.linalg.matrix_rank(rows) < rows.shape[1]:
        # Heat and time went together: which of them it was nobody can tell.
        by = {}
        rows = np.ones((n, 1))
    found, *_ = np.linalg.lstsq(rows, z, rcond=None)
    residual, parameters = z - rows @ found, rows.shape[1]
    free = n - parameters
    sds = np.sqrt(float(residual @ residual) / max(free, 1) * np.diag(np.linalg.pinv(rows.T @ rows)))
    wanders: dict[str, tuple[float, float] | tuple[None, None]] = dict.fromkeys(told, (None, None)) | {
        name: (float(s), float(sd)) for name, s, sd in zip(by, found[1:], sds[1:], strict=True)
    }
    slopes = {f"{name}{what}": v for name, of in wanders.items() for what, v in zip(("_mm", "_sd_mm"), of, strict=True)}
    if free < PROBE.least_free:
        more = PROBE.least_free + parameters - n
        return Repeats(
            touches=n,
            sd_mm=None,
            sd_between_mm=None,
            **slopes,
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

    def plain(name: str) -> float | None:
        """The slope, where it is none by chance."""
        slope, slope_sd = wanders[name]
        sure = slope is not None and slope_sd is not None and abs(slope) > float(student.ppf(0.975, free)) * slope_sd
        return slope if sure else None

    if (slope := plain("per_c")) is not None:
        words += f" Heat moves its trigger by {1000 * slope:+.1f} µm for each °C: take the mesh at printing heat."
    if (slope := plain("per_min")) is not None:
        words += (
            f" Parked low over the hot plate it wanders by {1000 * slope:+.1f} µm a minute: park it well above while the plate "
            f"heats. Ten minutes are {10 * abs(slope):.3f} mm in a mesh."
        )
    return Repeats(
        touches=n,
        sd_mm=sd,
        sd_between_mm=(low, high),
        **slopes,
        limit_mm=limit,
        p_good=p_good,
        verdict=verdict,
        words=words,
    )


def _told_of_all(values: list[float | None]) -> Array | None:
    """(n,) what was told with every touch; None where it was not."""
    told = [v for v in values if v is not None]
    return np.array(told) if told and len(told) == len(values) else None


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
