"""How a plate moves as it warms: a study by dial gauge, and what it says to those who tram cold."""

from itertools import combinations
from typing import Annotated, Literal

import numpy as np
from pydantic import Field
from scipy.optimize import curve_fit

from .defaults import HEAT, TRAM
from .surface import Surface
from .value import Array, FineMm, Id, Label, PlaceMm, Value

CENTRE = "centre"
#: Whether a plate is trammed at print temperature, warm but touchable, or cold.
School = Literal["hot", "warm", "cold"]


class ThermalReading(Value):
    """The plate's height at one place, by a dial whose zero stays, at one temperature of the plate."""

    place: Label
    x_mm: PlaceMm
    y_mm: PlaceMm
    bed_c: Annotated[float, Field(ge=0, le=150)]
    height_mm: FineMm
    #: How long that temperature had been held.
    held_min: Annotated[float, Field(ge=0, le=600)]


class ThermalStudy(Value):
    """Readings of one plate on one machine, in the order they were taken."""

    plate_id: Id
    readings: tuple[ThermalReading, ...] = ()

    @property
    def places(self) -> tuple[str, ...]:
        """Where it was read."""
        return tuple(dict.fromkeys(r.place for r in self.readings))

    def settled(self, place: str) -> tuple[Array, Array]:
        """Temperatures (n,), rising, and heights (n,) in mm of a place, each after its longest hold."""
        longest: dict[float, ThermalReading] = {}
        for r in self.readings:
            if r.place == place and (r.bed_c not in longest or r.held_min >= longest[r.bed_c].held_min):
                longest[r.bed_c] = r
        found = sorted(longest.values(), key=lambda r: r.bed_c)
        return np.array([r.bed_c for r in found]), np.array([r.height_mm for r in found])


def moves(study: ThermalStudy, place: str, from_c: float, to_c: float) -> tuple[float, float]:
    """How far a place rises from one temperature to another, in mm with one sd.

    Straight lines between what was read. Raises ValueError outside the temperatures read, or with fewer than two.
    """
    at, heights = study.settled(place)
    if len(at) < 2:
        raise ValueError(f"The thermal study has no two temperatures at {place} yet.")
    for c in (from_c, to_c):
        if not at[0] - HEAT.study_beyond_c <= c <= at[-1] + HEAT.study_beyond_c:
            raise ValueError(
                f"The thermal study of {place} reaches from {at[0]:.0f} to {at[-1]:.0f} °C; {c:.0f} °C lies outside."
            )
    rise = float(np.interp(to_c, at, heights) - np.interp(from_c, at, heights))
    return rise, 0.0 if from_c == to_c else TRAM.dial_sd_mm * 2**0.5


def still_range(study: ThermalStudy) -> tuple[float, float] | None:
    """The widest range of temperatures over which no place moves by more than the dial can tell."""
    curves = [study.settled(p) for p in study.places]
    if not curves or any(len(t) < 2 for t, _ in curves):
        return None
    every = np.unique(np.concatenate([t for t, _ in curves]))
    best: tuple[float, float] | None = None
    for low, high in combinations(every, 2):
        inside = np.linspace(low, high, 21)
        ranges = [float(np.ptp(np.interp(inside, t, h))) for t, h in curves]
        if max(ranges) <= HEAT.still_mm and (best is None or high - low > best[1] - best[0]):
            best = (float(low), float(high))
    return best


class Settling(Value):
    """The middle follows its temperature by an exponential: how much it moves in all, and how fast."""

    rise_mm: float
    minutes: float

    def still_to_come_mm(self, held_min: float) -> float:
        """How many mm the plate's middle still moves after it was held for so many minutes."""
        return float(self.rise_mm * np.exp(-held_min / self.minutes))

    @property
    def settled_after_min(self) -> float:
        """When less than `HEAT.still_mm` is still to come."""
        if abs(self.rise_mm) <= HEAT.still_mm:
            return 0.0
        return float(self.minutes * np.log(abs(self.rise_mm) / HEAT.still_mm))


def settling(study: ThermalStudy) -> Settling | None:
    """From readings of the centre at one temperature after different holds, h(t) = a - b exp(-t / tau).

    Needs three holds at one temperature that differ by a minute or more; None until then.
    """
    by_c: dict[float, list[ThermalReading]] = {}
    for r in study.readings:
        if r.place == CENTRE:
            by_c.setdefault(r.bed_c, []).append(r)
    most = max(by_c.values(), key=len, default=[])
    t = np.array([r.held_min for r in most])
    h = np.array([r.height_mm for r in most])
    if len(t) < 3 or np.ptp(t) < 1 or len(np.unique(t)) < 3:
        return None
    try:
        (_, fall, tau), _ = curve_fit(
            lambda t, a, b, tau: a - b * np.exp(-t / tau),
            t,
            h,
            p0=(h[np.argmax(t)], h[np.argmax(t)] - h[np.argmin(t)], max(np.ptp(t) / 2, 1.0)),
            bounds=([-10, -10, 0.2], [10, 10, 120]),
        )
    except (RuntimeError, ValueError):
        return None
    return Settling(rise_mm=float(fall), minutes=float(tau))


def warp(study: ThermalStudy, surface: Surface, from_c: float, to_c: float, xy: Array) -> Array:
    """(n, 2) places -> (n,) mm that the plate rises between two temperatures: screws as read, the middle as a bow.

    A plate without screws, or screws that were not read, rise with the centre alone as a bow.
    """
    names = [p for p in study.places if p != CENTRE]
    at = {r.place: (r.x_mm, r.y_mm) for r in study.readings}
    rise = np.zeros(len(xy))
    if len(names) >= 3:
        nodes = np.array([at[n] for n in names])
        values = np.array([moves(study, n, from_c, to_c)[0] for n in names])
        flat = Surface(surface.plate, nodes)
        rise = flat.weights(xy) @ values
        centre_flat = float((flat.weights([surface.plate.centre]) @ values)[0])
    else:
        centre_flat = float(np.mean([moves(study, n, from_c, to_c)[0] for n in names])) if names else 0.0
        rise = rise + centre_flat
    if CENTRE in study.places and surface.bow([surface.plate.centre]).any():
        rise = rise + (moves(study, CENTRE, from_c, to_c)[0] - centre_flat) * surface.bow(xy)
    return np.asarray(rise)
