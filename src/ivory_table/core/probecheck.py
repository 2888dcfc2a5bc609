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
    n = len(touches)
    slopes, residual, parameters = _fitted(touches)
    by_heat, by_minutes = (slopes.get(name, (None, None)) for name in ("bed_c", "parked_min"))
    wanders = {
        "per_c_mm": by_heat[0],
        "per_c_sd_mm": by_heat[1],
        "per_min_mm": by_minutes[0],
        "per_min_sd_mm": by_minutes[1],
    }
    free = n - parameters
    if free < PROBE.least_free:
        more = PROBE.least_free + parameters - n
        return Repeats(
            touches=n,
            sd_mm=None,
            sd_between_mm=None,
            **wanders,
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

    # What is none by chance.
    plain = {name: v for name, (v, v_sd) in slopes.items() if abs(v) > float(student.ppf(0.975, free)) * v_sd}
    if (slope := plain.get("bed_c")) is not None:
        words += f" Heat moves its trigger by {1000 * slope:+.1f} µm for each °C: take the mesh at printing heat."
    if (slope := plain.get("parked_min")) is not None:
        words += (
            f" Parked low over the hot plate it wanders by {1000 * slope:+.1f} µm a minute: park it well above while the plate "
            f"heats. Ten minutes are {10 * abs(slope):.3f} mm in a mesh."
        )
    return Repeats(
        touches=n,
        sd_mm=sd,
        sd_between_mm=(low, high),
        **wanders,
        limit_mm=limit,
        p_good=p_good,
        verdict=verdict,
        words=words,
    )


def _fitted(touches: tuple[Touch, ...]) -> tuple[dict[str, tuple[float, float]], Array, int]:
    """How the trigger wanders, by least squares: slopes with their sds in mm, by name; residuals (n,); how many parameters.

    A slope is fitted where it was told of every touch and differed by enough; none where heat and time went together.
    """
    z = np.array([touch.z_mm for touch in touches])
    by: dict[str, Array] = {}
    for name, least in (("bed_c", PROBE.heat_range_c), ("parked_min", PROBE.parked_range_min)):
        told = [v for touch in touches if (v := getattr(touch, name)) is not None]
        if len(told) == len(touches) >= 4 and np.ptp(told) >= least:
            by[name] = np.array(told) - np.mean(told)
    rows = np.column_stack([np.ones(len(z)), *by.values()])
    if np.linalg.matrix_rank(rows) < rows.shape[1]:
        by, rows = {}, rows[:, :1]
    found, *_ = np.linalg.lstsq(rows, z, rcond=None)
    residual, parameters = z - rows @ found, rows.shape[1]
    sds = np.sqrt(float(residual @ residual) / max(len(z) - parameters, 1) * np.diag(np.linalg.pinv(rows.T @ rows)))
    slopes = {name: (float(v), float(sd)) for name, v, sd in zip(by, found[1:], sds[1:], strict=True)}
    return slopes, residual, parameters


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
