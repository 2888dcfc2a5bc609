"""Whether a probe reads higher on one side of the plate than on the other.

A carriage that twists on its way holds the probe, which sits beside the tip, higher or lower against it. The probe and a gauge
under the tip at the same places tell: the difference is the same everywhere, or it leans. A mesh would have it as a slope of its own.
"""

import numpy as np
from numpy.typing import ArrayLike
from scipy.stats import chi2

from .defaults import PROBE
from .plate import Plate, ProbeTilt
from .value import Array, FineMm, PlaceMm, Value


class PlaceCompared(Value):
    """One place where the probe triggered at one height and the gauge dragged at another, mm."""

    x_mm: PlaceMm
    y_mm: PlaceMm
    probe_z_mm: FineMm
    drag_z_mm: FineMm


class TiltFound(Value):
    """What some places tell. `tilt`: mm for 100 mm to the right and to the back that the probe reads too high, with their sds."""

    places: int
    tilt: ProbeTilt | None
    sd: tuple[float, float] | None
    #: By how much it falsifies the plate from one edge to another, at most.
    over_plate_mm: float | None
    #: It leans, as surely as is said of anything here, and by enough to be counted in.
    leans: bool
    words: str


def reads_high_mm(tilt: ProbeTilt | None, plate: Plate, places: ArrayLike) -> Array:
    """(n,) mm that a probe reads too high at places (n, 2), against the plate's middle."""
    at = np.atleast_2d(np.asarray(places, dtype=float)) - np.array(plate.centre)
    return np.zeros(len(at)) if tilt is None else np.asarray(at @ np.array([tilt.right, tilt.back]) / 100)


def tilt_found(pairs: tuple[PlaceCompared, ...], plate: Plate, sd_mm: float) -> TiltFound:
    """The tilt by least squares over the places, each difference known to `sd_mm` or as well as they agree."""
    least = PROBE.tilt_places
    at = np.array([(p.x_mm, p.y_mm) for p in pairs]).reshape(-1, 2) - np.array(plate.centre)
    reach = np.ptp(at, axis=0) if len(at) else np.zeros(2)
    size = np.array([plate.width_mm, plate.depth_mm])
    rows = np.column_stack([np.ones(len(at)), at / 100])
    spans = bool((reach >= PROBE.tilt_reach * size).all()) and np.linalg.matrix_rank(rows) == 3
    if len(pairs) < least or not spans:
        more = f"Compare {least - len(pairs)} places more" if len(pairs) < least else "Compare places further apart"
        return TiltFound(
            places=len(pairs),
            tilt=None,
            sd=None,
            over_plate_mm=None,
            leans=False,
            words=f"{more}, at the edges as well as in the middle.",
        )
    differ = np.array([p.probe_z_mm - p.drag_z_mm for p in pairs])
    found, *_ = np.linalg.lstsq(rows, differ, rcond=None)
    left = differ - rows @ found
    scatter = max(sd_mm, float(np.sqrt(left @ left / max(len(pairs) - 3, 1))))
    cov = scatter**2 * np.linalg.inv(rows.T @ rows)[1:, 1:]
    slope = found[1:]
    sure = float(chi2.cdf(slope @ np.linalg.solve(cov, slope), 2))
    over = float(np.abs(slope) @ size / 100)
    leans = sure >= PROBE.sure and over >= PROBE.tilt_from_mm
    sds = np.sqrt(np.diag(cov))
    sides = (("right", "left"), ("back", "front"))
    told = " and ".join(
        f"{abs(s):.3f} ±{sd:.3f} mm for 100 mm to the {side[0] if s > 0 else side[1]}"
        for s, sd, side in zip(slope, sds, sides, strict=True)
        if abs(s) > sd
    )
    if leans:
        words = (
            f"The probe reads higher by {told}: {over:.3f} mm over the plate, which a mesh would take for the plate."
        )
    elif over < PROBE.tilt_from_mm and sure < PROBE.sure:
        words = f"Probe and tip agree from edge to edge to {over:.3f} mm: nothing to count in."
    elif sure >= PROBE.sure:
        words = f"The probe reads higher by {told}: {over:.3f} mm over the plate, too little to matter."
    else:
        words = f"It may lean by {over:.3f} mm over the plate, but chance may do that: compare more places."
    return TiltFound(
        places=len(pairs),
        tilt=ProbeTilt(right=round(float(slope[0]), 5), back=round(float(slope[1]), 5)),
        sd=(float(sds[0]), float(sds[1])),
        over_plate_mm=over,
        leans=leans,
        words=words,
    )
