"""Short looks at a plate between two runs, what is corrected right after them, and what is known of the plate then.

Given the rates, all of it is normal: a walk, readings of one place, moves by a known amount. Each choice of rates has its
own Kalman filter, weighed by how well it foretold what was read. How one patch held is an interval, by its moments.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, Self

import numpy as np
from numpy.typing import NDArray

from .defaults import DRIFT
from .drift import PlateSeen, Rates, jump_cov, modes, shape_of_a_day
from .moves import resampled
from .normals import truncated_moments
from .value import Array
from .wear import Use

#: How one patch held: it was sound, laid too far from the plate, or too close.
Verdict = Literal["sound", "loose", "scraped"]


@dataclass(frozen=True)
class Check:
    """A short look at one place so many days after a plate was left: what was read there, or how a patch held.

    `off_mm`: how much too large the gap is, with its sd; or the `verdict` of a patch: its gap is known by that alone.
    `moved_mm`: how much larger every gap was made right after it. `put_right`: the knob there was turned at once, until the
    gauge was as it should be; the places beside it then follow by what nobody has seen.
    """

    day: float
    place: int
    off_mm: float | None = None
    verdict: Verdict | None = None
    sd_mm: float = DRIFT.check_sd_mm
    moved_mm: float = 0.0
    put_right: bool = False

    @classmethod
    def correction(cls, day: float, away_mm: float, *, after_check: bool) -> Self:
        """Whoever corrects a height has seen it off by about so much; after a short check that check has said so already."""
        seen = None if after_check else -away_mm
        return cls(day=day, place=0, off_mm=seen, sd_mm=DRIFT.correction_sd_mm, moved_mm=away_mm)

    def moves(self, places: int) -> tuple[Array, Array]:
        """(n,) how much larger each gap was made, as far as is known, and one sd of that."""
        by = np.full(places, self.moved_mm)
        sd = np.zeros(places)
        if self.put_right and self.place and self.off_mm is not None:
            by = by - self.off_mm * self.follows(places)
            sd = np.full(places, DRIFT.turn_beside * abs(self.off_mm))
            sd[self.place] = 2**0.5 * self.sd_mm
        return by, sd

    def follows(self, places: int) -> Array:
        """(n,) by how much each place follows the knob: its own wholly, the centre by its share."""
        _, each, _ = modes(places)
        return np.asarray(each[:, self.place - 1])

    def bounds(self, low: float, high: float) -> tuple[float, float]:
        """Between which gaps about the one aimed at the place lies, as the patch held."""
        return {"loose": (high, np.inf), "scraped": (-np.inf, low), "sound": (low, high)}[self.verdict or "sound"]


@dataclass
class _Filter:
    """What is believed of a plate on its way: by choice of rates (k,), gaps and the slope of the support that wanders, (k, n + 1)."""

    log_weight: Array
    mean: Array
    cov: Array
    #: (k, n, n) what comes in a day, and (k, n) how the places follow the slope.
    shape: Array
    follows: Array
    #: (k,) which of the rates each choice takes.
    of_rates: NDArray[np.int_]

    @classmethod
    def of(cls, mean: Array, cov: Array, known: Rates) -> "_Filter":
        """Every choice of rates with every support that may go its own way, from gaps (n,) and their covariance."""
        n, k = len(mean), len(known.common)
        _, each, _ = modes(n)
        of = np.repeat(np.arange(k), n)
        who = np.tile(np.arange(n), k)
        slope = np.column_stack([np.zeros(k), known.slope]).ravel()
        slope_var = np.column_stack([np.zeros(k), np.broadcast_to(known.slope_sd, known.slope.shape) ** 2]).ravel()
        start = np.column_stack([np.broadcast_to(mean, (len(of), n)), slope])
        full = np.zeros((len(of), n + 1, n + 1))
        full[:, :n, :n] = cov
        full[:, n, n] = slope_var
        shape = shape_of_a_day(known.common, known.own, known.form, n)[of]
        follows = np.column_stack([np.zeros(n), each]).T[who]
        kept = known.weight.ravel() > 1e-6 * known.weight.max()
        log_weight = np.log(known.weight.ravel()[kept])
        return cls(log_weight, start[kept], full[kept], shape[kept], follows[kept], of[kept])

    def goes_on(self, worn: Array) -> None:
        """(rates,) days of usual use go by, by each of the rates."""
        n, worn = self.follows.shape[1], worn[self.of_rates]
        step = np.zeros_like(self.cov)
        step[:] = np.eye(n + 1)
        step[:, :n, n] = worn[:, None] * self.follows
        self.mean = (step @ self.mean[:, :, None])[:, :, 0]
        self.cov = step @ self.cov @ step.transpose(0, 2, 1)
        self.cov[:, :n, :n] += worn[:, None, None] * self.shape

    def told(self, check: Check, low: float, high: float) -> None:
        """What was read at one place, or between which gaps it lies."""
        j, along = check.place, self.cov[:, :, check.place]
        s = along[:, j] + check.sd_mm**2
        if check.off_mm is not None:
            miss = check.off_mm - self.mean[:, j]
            self.log_weight = self.log_weight - 0.5 * (np.log(s) + miss**2 / s)
            shift, shrink = miss, s
        elif check.verdict is not None:
            log_p, shift, shrink = truncated_moments(self.mean[:, j], s, *check.bounds(low, high))
            self.log_weight = self.log_weight + log_p
        else:
            return
        self.mean = self.mean + along * (shift / s)[:, None]
        self.cov = self.cov - (shrink / s**2)[:, None, None] * along[:, :, None] * along[:, None, :]

    def corrected(self, check: Check) -> None:
        """What was done right after it."""
        n, j = self.follows.shape[1], check.place
        self.mean[:, :n] += check.moved_mm
        if not (check.put_right and j):
            return
        turned = self.mean[:, j] ** 2 + self.cov[:, j, j] + check.sd_mm**2
        follows = np.append(check.follows(n), 0.0)
        step = np.eye(n + 1) - np.outer(follows, np.eye(n + 1)[j])
        self.mean = self.mean @ step.T
        self.cov = step @ self.cov @ step.T + check.sd_mm**2 * np.outer(follows, follows)
        beside = np.flatnonzero(np.arange(n) != j)
        self.cov[:, beside, beside] += DRIFT.turn_beside**2 * turned[:, None]

    def drawn(self, z: Array, picks: int) -> Array:
        """(picks * draws, n) gaps, by draws z (draws, n) of standard normals for each of some choices, as often as they weigh."""
        n = self.follows.shape[1]
        weight = np.exp(self.log_weight - self.log_weight.max())
        chosen = resampled(weight, picks)
        root = np.linalg.cholesky(self.cov[chosen, :n, :n] + 1e-12 * np.eye(n))
        return np.asarray((self.mean[chosen, None, :n] + z @ root.transpose(0, 2, 1)).reshape(-1, n))


def gaps_since_checks(
    days: Sequence[float],
    left: PlateSeen,
    start: tuple[Array, Array],
    known: Rates,
    done: Use,
    checks: Sequence[Check],
    draws: Array,
    picks: int,
    *,
    jumped: bool,
) -> dict[float, Array]:
    """(draws, n) gaps about the one aimed at on each day, by what short checks on the way have shown.

    `start`: mean (n,) and covariance of the gaps as they were left. A jump is taken to have come before the first check.
    """
    n = len(left.places)
    mean, cov = start
    now = _Filter.of(mean, cov + jump_cov(n) if jumped else cov, known)
    low, high = left.low_mm - left.target_mm, left.high_mm - left.target_mm
    at: dict[float, Array] = {}
    before = np.zeros(len(known.common))
    for day in sorted({*days, *(c.day for c in checks)}):
        worn = known.worn(known.pace.later(done, day))
        now.goes_on(worn - before)
        before = worn
        for check in (c for c in checks if c.day == day):
            now.told(check, low, high)
            now.corrected(check)
        if day in days:
            at[day] = now.drawn(draws, picks)
    return at
