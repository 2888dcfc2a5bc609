"""Where a probe sits beside the tip, found by marks on the plate: the head is brought over each mark twice, with the tip and with the probe.

A probe that sits elsewhere than the set-up says reads a mesh elsewhere than it is taken to: where the plate is steep, a wrong height.
"""

import numpy as np
from scipy.stats import chi2

from .belief import Belief
from .defaults import PROBE
from .plate import Plate, ProbePlace
from .value import Array, PlaceMm, Value


class MarkSeen(Value):
    """One mark: where the head stood with the tip right over it, and where with the probe over it, mm."""

    tip_x_mm: PlaceMm
    tip_y_mm: PlaceMm
    probe_x_mm: PlaceMm
    probe_y_mm: PlaceMm


class PlaceFound(Value):
    """What some marks tell. `place`: the probe to the right of the tip and behind it, mm, each with the same sd."""

    marks: int
    words: str
    place: ProbePlace | None = None
    sd_mm: float | None = None
    #: By how much a mesh is wrong somewhere for it, at most, by what is known of this plate; mm.
    mesh_mm: float | None = None
    #: It sits elsewhere than was taken, for sure and by enough to matter.
    elsewhere: bool = False


def place_found(marks: tuple[MarkSeen, ...], taken: ProbePlace, belief: Belief, plate: Plate) -> PlaceFound:
    """The mean over the marks, each sighted to `PROBE.sight_mm` twice, or as well as they agree."""
    n = len(marks)
    if n < PROBE.marks:
        more = "Sight another mark, far from the first." if n else "Sight two marks, far from each other."
        return PlaceFound(marks=n, words=more)
    beside = np.array([(m.tip_x_mm - m.probe_x_mm, m.tip_y_mm - m.probe_y_mm) for m in marks])
    one = PROBE.sight_mm * 2**0.5
    apart = float(np.ptp(beside, axis=0).max())
    if apart > 4 * 2**0.5 * one:
        told = " and ".join(beside_words(ProbePlace(x_mm=float(x), y_mm=float(y))) for x, y in beside)
        words = f"The marks disagree by {apart:.1f} mm ({told}). Sight them again, and take back what was misread."
        return PlaceFound(marks=n, words=words)
    scatter = max(one, float(np.sqrt(beside.var(axis=0, ddof=1).mean())))
    sd = scatter / n**0.5
    x, y = (round(float(v), 2) for v in beside.mean(axis=0))
    place = ProbePlace(x_mm=x, y_mm=y)
    off = np.array([x - taken.x_mm, y - taken.y_mm])
    by = float(np.hypot(*off))
    elsewhere = float(chi2.cdf(float(off @ off) / sd**2, 2)) >= PROBE.sure and by >= PROBE.place_from_mm
    wrong = mesh_wrong_mm(place, taken, belief, plate)
    says = f"The probe sits {beside_words(place)} of the tip, ±{sd:.1f} mm"
    if elsewhere:
        matters = wrong >= PROBE.place_matters_mm
        words = (
            f"{says}; it was taken to sit {beside_words(taken)}. A mesh is read {by:.1f} mm from where it is taken to be: wrong by up "
            f"to {max(wrong, 0.001):.3f} mm on this plate. Set it in the machine as well"
            f"{', and measure the mesh anew' if matters else '; the mesh may stay as it is'}."
        )
    else:
        words = (
            f"{says}: where it was taken to sit. A mesh is not wrong by more than {max(wrong, 0.001):.3f} mm for it."
        )
    return PlaceFound(marks=n, words=words, place=place, sd_mm=sd, mesh_mm=wrong, elsewhere=elsewhere)


def mesh_wrong_mm(place: ProbePlace, taken: ProbePlace, belief: Belief, plate: Plate) -> float:
    """By how much a mesh is wrong where it is wrong most (root mean square by the belief), mm; the common part is the offset's.

    Read at p + d and taken for p, a height is wrong by the plate's rise over d.
    """
    d = np.array([place.x_mm - taken.x_mm, place.y_mm - taken.y_mm])
    x0, y0, x1, y1 = plate.bounds
    grid = np.array([(x, y) for x in np.linspace(x0, x1, 9) for y in np.linspace(y0, y1, 9)])
    at: Array = np.array([p for p in grid if plate.holds(*p) and plate.holds(*(p + d))])
    if len(at) < 2:
        return 0.0
    rise = belief.surface.rows(at + d) - belief.surface.rows(at)
    mean, sd = belief.of(rise - rise.mean(axis=0))
    return float(np.hypot(mean, sd).max())


def beside_words(place: ProbePlace) -> str:
    """Such as "41.0 mm left and 9.2 mm in front"."""
    sides = ((place.x_mm, "right", "left"), (place.y_mm, "behind", "in front"))
    return " and ".join(f"{abs(v):.1f} mm {far if v >= 0 else near}" for v, far, near in sides)
