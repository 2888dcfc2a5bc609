"""The plate's surface as a field: what readings at some places say of every other place.

A Gaussian process (Rasmussen and Williams 2006): the trend is what the run believes already (heights at the screws,
forms, zero), the rest a Matern 5/2 process. How large and how smooth that rest is, and how much readings scatter beyond
what was assumed, nobody knows beforehand: a small grid of each is weighed by how likely it makes the readings
(marginal likelihood), and everything is averaged over it. Lengths in mm, plate high positive.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike
from scipy.linalg import cho_factor, cho_solve

from .defaults import FIELD
from .normals import normalised
from .surface import Surface, apart, matern
from .value import Array


@dataclass(frozen=True)
class PlaceRead:
    """One reading: where, what, with which sd in mm, and when.

    `at`: by order, from 0 to 1 over the survey; what drifts, drifts along it. `sitting`: readings of one go share a zero;
    after a pause it may be another. `doubted`: it may be grossly wrong, and counts hardly.
    """

    x_mm: float
    y_mm: float
    value_mm: float
    sd_mm: float
    at: float = 0.0
    sitting: int = 0
    doubted: bool = False


@dataclass(frozen=True, eq=False)
class Trend:
    """What was believed before the readings: `mean` (d,) and `cov` (d, d) of the run's state, and what of it a reading shows.

    A reading at a place shows rows(place) + `extra` of the state, plus `base_mm`.
    """

    surface: Surface
    mean: Array
    cov: Array
    extra: Array
    base_mm: float = 0.0

    def rows(self, places: Array) -> Array:
        """(n, 2) places in mm -> (n, k) rows of the trend's terms."""
        return self.surface.rows(places) + self.extra


@dataclass(frozen=True, eq=False)
class _Fit:
    """The readings under one choice of hyper-parameters."""

    sigma_mm: float
    length_mm: float
    alpha: Array  # (n,)
    inverse: Array  # (n, n)


@dataclass(frozen=True, eq=False)
class SurfaceField:
    """The believed surface after some readings, as they would be read without error at the survey's beginning."""

    trend: Trend
    readings: tuple[PlaceRead, ...]
    #: Whether the zero drifts while it is read, as far as visits to the base point can tell.
    drifts: bool = False

    @cached_property
    def _places(self) -> Array:
        return np.array([(r.x_mm, r.y_mm) for r in self.readings]).reshape(-1, 2)

    @cached_property
    def _rows(self) -> Array:
        return self.trend.rows(self._places)

    @cached_property
    def _off(self) -> Array:
        """(n,) readings less what was expected of them."""
        values = np.array([r.value_mm for r in self.readings])
        return values - self._rows @ self.trend.mean - self.trend.base_mm

    @cached_property
    def _fits(self) -> tuple[tuple[_Fit, ...], Array]:
        """The choices of hyper-parameters that count, and their weights."""
        n = len(self.readings)
        sds = np.array([r.sd_mm for r in self.readings])
        doubted = np.array([r.doubted for r in self.readings])
        shared = self._rows @ self.trend.cov @ self._rows.T + self._zero_cov()
        distance = apart(self._places, self._places)
        tried: list[tuple[float, float, tuple[Array, bool], Array]] = []
        logs: list[float] = []
        for length in self._lengths:
            form = matern(distance / length)
            for noise in FIELD.noise_factors:
                own = np.square(noise * sds) + doubted * FIELD.gross_mm**2
                for sigma in FIELD.sigmas_mm:
                    cov = shared + sigma**2 * form
                    cov[np.diag_indices(n)] += own
                    factor = cho_factor(cov, lower=True, overwrite_a=True, check_finite=False)
                    alpha = cho_solve(factor, self._off, check_finite=False)
                    evidence = -0.5 * float(self._off @ alpha) - float(np.log(np.diag(factor[0])).sum())
                    prior = -0.5 * (np.log(sigma / FIELD.sigma_mm) / FIELD.sigma_ln_sd) ** 2
                    prior -= 0.5 * (np.log(noise) / FIELD.noise_ln_sd) ** 2
                    tried.append((sigma, length, factor, alpha))
                    logs.append(evidence + float(prior))
        weights = np.exp(normalised(np.array(logs)))
        # What hardly counts is not worth its time.
        kept = np.flatnonzero(weights >= FIELD.least_weight * weights.max())
        fits = tuple(
            _Fit(sigma, length, alpha, cho_solve(factor, np.eye(n), check_finite=False))
            for sigma, length, factor, alpha in (tried[k] for k in kept)
        )
        return fits, weights[kept] / weights[kept].sum()

    @property
    def roughness(self) -> tuple[float, float]:
        """Size and length in mm of what is local, as the readings make them likeliest."""
        fits, weights = self._fits
        best = fits[int(weights.argmax())]
        return best.sigma_mm, best.length_mm

    @property
    def _lengths(self) -> tuple[float, ...]:
        size = max(self.trend.surface.plate.width_mm, self.trend.surface.plate.depth_mm)
        return tuple(share * size for share in FIELD.lengths)

    def _zero_cov(self) -> Array:
        """(n, n) what readings share beside the plate: a zero that drifts, and another one after each pause."""
        n = len(self.readings)
        sitting = np.array([r.sitting for r in self.readings])
        later = (sitting[:, None] == sitting[None]) & (sitting[:, None] > 0)
        shared = later * FIELD.sitting_mm**2
        if not self.drifts or n == 0:
            return np.asarray(shared, dtype=float)
        at = np.array([r.at for r in self.readings])
        slope = FIELD.drift_mm**2 * np.outer(at, at)
        wander = FIELD.wander_mm**2 * np.minimum.outer(at, at)
        return np.asarray(shared + slope + wander)

    # What is believed

    def at(self, places: ArrayLike) -> tuple[Array, Array]:
        """Mean and sd in mm, (n,) each, of what would be read without error at (n, 2) places."""
        mean, cov = self.joint(places, diagonal=True)
        return mean, np.sqrt(np.maximum(cov, 0.0))

    def joint(self, places: ArrayLike, *, diagonal: bool = False) -> tuple[Array, Array]:
        """Mean (n,) and covariance (n, n) at (n, 2) places; with `diagonal` only the variances (n,)."""
        at = np.atleast_2d(np.asarray(places, dtype=float))
        rows = self.trend.rows(at)
        before = rows @ self.trend.mean + self.trend.base_mm
        told = rows @ self.trend.cov
        prior = (told * rows).sum(axis=1) if diagonal else told @ rows.T
        own = np.zeros((1, 1)) if diagonal else apart(at, at)
        if not self.readings:
            sigma, length = FIELD.sigma_mm, self._lengths[len(self._lengths) // 2]
            return before, np.asarray(prior + sigma**2 * (1.0 if diagonal else matern(own / length)))
        cross = told @ self._rows.T
        fits, weights = self._fits
        to_reads = apart(at, self._places)
        means, covs = [], []
        lengths = {fit.length_mm for fit in fits}
        near = {length: matern(to_reads / length) for length in lengths}
        alike = {length: matern(own / length) for length in lengths}
        for fit in fits:
            k = cross + fit.sigma_mm**2 * near[fit.length_mm]
            means.append(k @ fit.alpha)
            solved = k @ fit.inverse
            if diagonal:
                covs.append(prior + fit.sigma_mm**2 - (solved * k).sum(axis=1))
            else:
                covs.append(prior + fit.sigma_mm**2 * alike[fit.length_mm] - solved @ k.T)
        mean = np.tensordot(weights, np.array(means), axes=1)
        off = np.array(means) - mean
        cov = np.tensordot(weights, np.array(covs), axes=1)
        cov += weights @ off**2 if diagonal else (weights[:, None] * off).T @ off
        return before + mean, cov

    def gains(self, candidates: ArrayLike, used: ArrayLike, sd_mm: float) -> Array:
        """(c,) by how much a reading with this sd at each candidate lowers the mean variance over the places used, mm^2."""
        maybe, places = np.atleast_2d(np.asarray(candidates, float)), np.atleast_2d(np.asarray(used, float))
        if not self.readings:
            _, cov = self.joint(np.vstack([maybe, places]))
            c = len(maybe)
            shared, variance = cov[c:, :c], np.diag(cov)[:c]
            return np.asarray(np.square(shared).mean(axis=0) / (variance + sd_mm**2))
        fits, weights = self._fits
        cov, rows_c, rows_u = self.trend.cov, self.trend.rows(maybe), self.trend.rows(places)
        trend_c, trend_u = rows_c @ cov @ self._rows.T, rows_u @ cov @ self._rows.T
        prior_uc, prior_c = rows_u @ cov @ rows_c.T, ((rows_c @ cov) * rows_c).sum(axis=1)
        to_c, to_u, between = (
            apart(maybe, self._places),
            apart(places, self._places),
            apart(places, maybe),
        )
        near = {x: (matern(to_c / x), matern(to_u / x), matern(between / x)) for x in {f.length_mm for f in fits}}
        shared, variance = np.zeros((len(places), len(maybe))), np.zeros(len(maybe))
        means_c, means_u = [], []
        for weight, fit in zip(weights, fits, strict=True):
            like_c, like_u, like = near[fit.length_mm]
            k_c, k_u = trend_c + fit.sigma_mm**2 * like_c, trend_u + fit.sigma_mm**2 * like_u
            solved = k_c @ fit.inverse
            shared += weight * (prior_uc + fit.sigma_mm**2 * like - k_u @ solved.T)
            variance += weight * (prior_c + fit.sigma_mm**2 - (solved * k_c).sum(axis=1))
            means_c.append(k_c @ fit.alpha)
            means_u.append(k_u @ fit.alpha)
        # What the choices of hyper-parameters differ by is doubt as well.
        off_c, off_u = np.array(means_c), np.array(means_u)
        off_c, off_u = off_c - weights @ off_c, off_u - weights @ off_u
        shared += (weights[:, None] * off_u).T @ off_c
        variance += weights @ off_c**2
        return np.asarray(np.square(shared).mean(axis=0) / (variance + sd_mm**2))

    # Which reading is to be doubted

    def gross(self) -> Array:
        """(n,) the chance that each reading, by itself, is grossly wrong (a slip of the hand, a wrong digit, a crumb).

        Odds of its own error being wide against its usual one, everything else as it is (a rank-one change of the inverse).
        """
        if len(self.readings) < FIELD.least_to_doubt:
            return np.zeros(len(self.readings))
        fits, weights = self._fits
        size = np.square(FIELD.gross_sizes_mm)[:, None, None]
        inverse, alpha = np.array([np.diag(f.inverse) for f in fits]), np.array([f.alpha for f in fits])
        # (sizes, fits, readings)
        s = 1 + size * inverse
        wide = -0.5 * np.log(s) + 0.5 * size * alpha**2 / s
        share = FIELD.gross_share / (1 - FIELD.gross_share) / len(size)
        odds = np.logaddexp.reduce(wide + np.log(weights[:, None] * share), axis=(0, 1))
        return np.asarray(np.where([r.doubted for r in self.readings], 0.0, 1 / (1 + np.exp(-odds))))

    def without(self, index: int) -> tuple[float, float]:
        """What all the other readings say of one: mean and sd in mm of what would be read there (leave one out)."""
        fits, weights = self._fits
        value = self.readings[index].value_mm
        means = np.array([value - f.alpha[index] / f.inverse[index, index] for f in fits])
        variances = np.array([1 / f.inverse[index, index] for f in fits])
        mean = float(weights @ means)
        return mean, float(np.sqrt(weights @ (variances + (means - mean) ** 2)))

    def doubting(self, kept: Sequence[int] = ()) -> "SurfaceField":
        """The field with every reading doubted that is likelier wrong than not, the worst first; those `kept` never are."""
        now = self
        for _ in range(max(1, len(self.readings) // FIELD.doubted_one_in)):
            p = now.gross()
            p[list(kept)] = 0.0
            if len(p) == 0 or p.max() < FIELD.doubt_at:
                break
            worst = int(p.argmax())
            now = replace(
                now, readings=tuple(replace(r, doubted=r.doubted or k == worst) for k, r in enumerate(now.readings))
            )
        return now

    def to_repeat(self, kept: Sequence[int] = ()) -> Array:
        """(n,) whether each reading is worth another one: reading a place again costs less than printing over a wrong one."""
        worth = (self.gross() >= FIELD.repeat_at) | np.array([r.doubted for r in self.readings], dtype=bool)
        worth[list(kept)] = False
        return np.asarray(worth)
