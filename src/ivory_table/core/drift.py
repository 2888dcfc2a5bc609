"""How a plate drifts between runs, as its runs tell.

What a run leaves and what the next one finds are readings of the same plate some days apart. Between them its common height,
each support and its form walk at random, with rates in mm per square root of a day that are not known: each choice of rates
is weighed by its evidence, and whether it goes by days, by prints or by removals of the sheet as well (`wear.py`). A support
that wanders on its own has a rate of its own. A change or an incident is a jump.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Annotated, Self

import numpy as np
from pydantic import Field, model_validator

from .defaults import DRIFT
from .value import Array, Value
from .wear import BY_DAYS, LN_SHARES, SHARES, Pace, Use

#: A machine's history counts back so many stretches; older ones tell of another life of it.
MOST_STRETCHES = 40


class PlateSeen(Value):
    """The first layer's gap at a plate's places and its covariance, mm: the centre first, then each support (or corner)."""

    places: Annotated[tuple[str, ...], Field(min_length=2, max_length=14)]
    gap_mm: tuple[float, ...]
    cov: tuple[tuple[float, ...], ...]
    #: The gap to aim at, and within which the layer is sound.
    target_mm: float
    low_mm: float
    high_mm: float

    @model_validator(mode="after")
    def _fits(self) -> Self:
        n = len(self.places)
        if len(self.gap_mm) != n or len(self.cov) != n or any(len(row) != n for row in self.cov):
            raise ValueError("Each place needs its gap and its row of the covariance.")
        return self

    @property
    def off(self) -> Array:
        """(n,) how much too large each gap is, mm."""
        return np.array(self.gap_mm) - self.target_mm

    @property
    def covariance(self) -> Array:
        """(z, z) mm^2 of the gaps as they were left."""
        return np.array(self.cov)

    @property
    def sds(self) -> Array:
        """(z,) mm of the gaps as they were left."""
        return np.sqrt(np.maximum(np.diag(self.covariance), 0.0))


@dataclass(frozen=True)
class Stretch:
    """From what one run left to what the next one found: its use, the change (n,) and its covariance, and whether it jumped."""

    use: Use
    change: Array
    cov: Array
    jumped: bool = False


def stretch(
    left: PlateSeen, found: PlateSeen, use: Use, *, jumped: bool = False, moved: Sequence[tuple[Array, Array]] = ()
) -> Stretch | None:
    """None where the two are not of the same places. `moved`: what was corrected in between is no drift, with its sd."""
    if left.places != found.places:
        return None
    change, cov = found.off - left.off, left.covariance + found.covariance
    for by, sd in moved:
        change, cov = change - by, cov + np.diag(sd**2)
    return Stretch(use, change, cov, jumped)


def modes(places: int) -> tuple[Array, Array, Array]:
    """(n,) common, (n, m) each support with its share of the centre, (n,) the centre alone."""
    m = places - 1
    own = np.vstack([np.full(m, 1 / m), np.eye(m)])
    return np.ones(places), own, np.eye(places)[0]


@dataclass(frozen=True)
class Rates:
    """Choices of rates with their weights: common (k,), each support and the form (k,), mm per square root of a day.

    `weight` (k, m + 1): by choice, and by which support goes its own way, the first: none. It then goes by `slope` (k, m)
    mm a day, give or take `slope_sd`. `shares` (k, 3): what each choice goes by, in days of the usual `pace`.
    """

    weight: Array
    common: Array
    own: Array
    form: Array
    slope: Array
    slope_sd: Array
    shares: Array = field(default_factory=lambda: BY_DAYS)
    pace: Pace = field(default_factory=Pace)

    def worn(self, use: Use) -> Array:
        """(k,) by choice, the days of usual use that a plate has been through."""
        return np.broadcast_to(self.shares @ self.pace.usual_days(use), self.common.shape)

    @property
    def goes_by(self) -> Array:
        """(3,) how much of the drift goes by days, by prints and by removals, as believed."""
        return np.asarray(self.weight.sum(axis=1) @ np.broadcast_to(self.shares, (len(self.common), 3)))

    @property
    def wanders(self) -> Array:
        """(m,) the chance that a support goes its own way."""
        return np.asarray(self.weight[:, 1:].sum(axis=0))

    @property
    def trend(self) -> Array:
        """(m,) mm a day that it goes, if it does."""
        weight = self.weight[:, 1:]
        return np.asarray((weight * self.slope).sum(axis=0) / np.maximum(weight.sum(axis=0), 1e-12))

    def gone(self, use: Use, *, jumped: bool = False) -> "Gone":
        """How far a plate is expected to have gone by then, with all choices of rates mixed."""
        days = self.worn(use)
        of, each = self.weight.sum(axis=1) * days, self.weight[:, 1:]
        # A support that goes its own way is a mean and a variance; where it is not sure that it does, more of the latter.
        trend = (each * days[:, None] * self.slope).sum(axis=0)
        square = (each * days[:, None] ** 2 * (self.slope**2 + self.slope_sd**2)).sum(axis=0)
        m = each.shape[1]
        jump = DRIFT.jump_each_mm**2 if jumped else 0.0
        return Gone(
            common=float(of @ self.common**2) + (DRIFT.jump_common_mm**2 if jumped else 0.0),
            supports=np.full(m, float(of @ self.own**2) + jump) + square - trend**2,
            form=float(of @ self.form**2) + jump / 4,
            trend=trend,
        )

    @property
    def usual(self) -> tuple[float, float]:
        """Mean ln of the common rate and of a support's own: what a workshop's other machines are told."""
        of = self.weight.sum(axis=1)
        return float(of @ np.log(self.common)), float(of @ np.log(self.own))


@dataclass(frozen=True)
class Gone:
    """Since a plate was left: variances in mm^2 of its common height, each support (m,) and its middle; mm each support's gap grew."""

    common: float
    supports: Array
    form: float
    trend: Array


def shape_of_a_day(common: Array, own: Array, form: Array, places: int) -> Array:
    """(k, n, n) covariance that comes over one day."""
    one, each, centre = modes(places)
    return np.asarray(
        common[:, None, None] ** 2 * np.outer(one, one)
        + own[:, None, None] ** 2 * (each @ each.T)
        + form[:, None, None] ** 2 * np.outer(centre, centre)
    )


def jump_cov(places: int) -> Array:
    """(z, z) mm^2 by which so many places may have moved in one jump."""
    one, each, centre = modes(places)
    return (
        DRIFT.jump_common_mm**2 * np.outer(one, one)
        + DRIFT.jump_each_mm**2 * each @ each.T
        + DRIFT.jump_each_mm**2 / 4 * np.outer(centre, centre)
    )


def rates(stretches: Sequence[Stretch], places: int, usual: tuple[float, float] | None = None) -> Rates:
    """The rates of one plate by its stretches; `usual`: ln of a workshop's usual rates, where others have taught them.

    A support that goes its own way by mu mm a day, mu ~ N(0, s^2), makes the evidence
    (1 + s^2 A)^(-1/2) exp(s^2 B^2 / 2 (1 + s^2 A)) times as large, A = sum days^2 h' S^-1 h, B = sum days h' S^-1 d.
    """
    m = places - 1
    stretches = list(stretches)[-MOST_STRETCHES:]
    pace = Pace.of([s.use for s in stretches])
    by, ln_by = (SHARES, LN_SHARES) if pace.known else (BY_DAYS, np.zeros(1))
    mid = usual or (float(np.log(DRIFT.common_rate)), float(np.log(DRIFT.own_rate)))
    ln_sd = DRIFT.ln_sd if usual is None else DRIFT.ln_sd_known
    steps = np.linspace(-2, 2, 7)
    which, a, b = (g.ravel() for g in np.meshgrid(np.arange(len(by)), steps, steps, indexing="ij"))
    shares = by[which]
    common, own = np.exp(mid[0] + ln_sd * a), np.exp(mid[1] + ln_sd * b)
    form = DRIFT.form_share * own
    shape = shape_of_a_day(common, own, form, places)
    log_w = ln_by[which] - 0.5 * (a**2 + b**2)
    _, each, _ = modes(places)
    on, along = np.zeros((len(a), m)), np.zeros((len(a), m))
    for s in stretches:
        days = (shares @ pace.usual_days(s.use))[:, None, None]
        cov = days * shape + s.cov + (jump_cov(places) if s.jumped else 0.0) + DRIFT.floor_mm**2 * np.eye(places)
        half = np.linalg.cholesky(cov)
        z = np.linalg.solve(half, np.broadcast_to(s.change[:, None], (len(cov), places, 1)))
        h = np.linalg.solve(half, days * each)
        log_w += -0.5 * (z[..., 0] ** 2).sum(axis=1) - np.log(np.diagonal(half, axis1=1, axis2=2)).sum(axis=1)
        on += (h**2).sum(axis=1)
        along += (h * z).sum(axis=1)
    s2 = DRIFT.slope_mm_day**2
    gain = -0.5 * np.log1p(s2 * on) + 0.5 * s2 * along**2 / (1 + s2 * on)
    joint = np.column_stack([log_w + np.log(1 - DRIFT.wanders), log_w[:, None] + gain + np.log(DRIFT.wanders / m)])
    weight = np.exp(joint - joint.max())
    slope = s2 * along / (1 + s2 * on)
    return Rates(weight / weight.sum(), common, own, form, slope, np.sqrt(s2 / (1 + s2 * on)), shares, pace)
