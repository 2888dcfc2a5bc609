"""The one state of belief that every station reads and updates.

Gaussian over the surface, the feel bias, the probe's zero and the extrusion error, given
the supports' compliance; a weighted set of hypotheses for that compliance, each with its
own Kalman filter (a static multiple-model filter, Magill 1965). Exact for linear readings;
for feels the moments of the truncated Gaussian are matched (Opper 1998).
"""

from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import ArrayLike
from scipy.special import log_ndtr, ndtri
from scipy.stats import qmc

from .defaults import TRAM
from .surface import FORMS, Array, Surface, bending_energy
from .tram import coupling, twist_passed


@dataclass(frozen=True, eq=False)
class Belief:
    """Weights (n,), compliances (n, m), couplings (n, m, m), means (n, d), covariances (n, d, d)."""

    surface: Surface
    lam: Array
    passes: Array
    log_weight: Array
    mean: Array
    cov: Array
    #: Where the nozzle runs now, against where it ran when the run began (mm, away is positive).
    shift_mm: float = 0.0

    @classmethod
    def prior(
        cls,
        surface: Surface,
        *,
        bias_sd_mm: float,
        lam_known: tuple[Array, Array] | None = None,
        hypotheses: int = TRAM.hypotheses,
    ) -> "Belief":
        """What is believed before the first reading.

        `lam_known`: mean (m,) and covariance (m, m) of ln(lam) taught by earlier runs.
        """
        m, d = surface.knobs, surface.size
        bends = m > 3
        n = hypotheses if bends else 1
        if not bends:
            lam = np.zeros((1, m))
        elif lam_known is None:
            z = normal_points(n, m + 1)
            lam = np.exp(np.log(TRAM.lam_median) + TRAM.lam_common_ln_sd * z[:, :1] + TRAM.lam_own_ln_sd * z[:, 1:])
        else:
            mean_ln, cov_ln = lam_known
            root = np.linalg.cholesky(cov_ln + 1e-9 * np.eye(m))
            lam = np.exp(mean_ln + normal_points(n, m + 1)[:, 1:] @ root.T)
        passes = coupling(lam, bending_energy(surface.screws)) if m else np.zeros((n, 0, 0))
        cov = np.zeros((n, d, d))
        a = len(surface.anchors)
        own = passes @ passes.transpose(0, 2, 1) if m else np.eye(a)
        cov[:, :a, :a] = TRAM.knob_prior_sd_mm**2 * own + TRAM.common_prior_sd_mm**2
        cov[:, :a, :a] += (TRAM.hand_floor_mm**2) * np.eye(a)
        tail = [TRAM.form_prior_sd_mm] * len(FORMS)
        tail += [bias_sd_mm, TRAM.probe_zero_sd_mm, TRAM.extrusion_prior_sd]
        tail += [TRAM.local_sd_mm] * len(surface.locals_)
        index = np.arange(a, d)
        cov[:, index, index] = np.square(tail)
        return cls(surface, lam, passes, np.full(n, -np.log(n)), np.zeros((n, d)), cov)

    # What happened

    def turned(self, knob: int, up_mm: float, sd_mm: float) -> "Belief":
        """A knob was turned: its support moved up by `up_mm`, known to `sd_mm`."""
        a = self._pass_column(knob)
        mean = self.mean + a * up_mm
        cov = self.cov + (sd_mm**2) * a[:, :, None] * a[:, None, :]
        return replace(self, mean=mean, cov=cov)

    def read(self, row: Array, value: float, sd_mm: float) -> "Belief":
        """A linear reading: row . state = value, with one sd of noise."""
        along = self.cov @ row
        s = along @ row + sd_mm**2
        miss = value - self.mean @ row
        gain = along / s[:, None]
        log_weight = self.log_weight - 0.5 * (np.log(s) + miss**2 / s)
        return replace(
            self,
            log_weight=_normalised(log_weight),
            mean=self.mean + gain * miss[:, None],
            cov=self.cov - gain[:, :, None] * along[:, None, :],
        )

    def felt(self, row: Array, low: float, high: float, sd_mm: float) -> "Belief":
        """An interval reading: low < row . state + noise < high, either end may be infinite."""
        along = self.cov @ row
        s = along @ row + sd_mm**2
        centre = self.mean @ row
        log_z, shift, shrink = truncated_moments(centre, s, low, high)
        gain = along / s[:, None]
        return replace(
            self,
            log_weight=_normalised(self.log_weight + log_z),
            mean=self.mean + gain * shift[:, None],
            cov=self.cov - (shrink / s**2)[:, None, None] * along[:, :, None] * along[:, None, :],
        )

    def nozzle_moved(self, away_mm: float) -> "Belief":
        """The offset was changed: the nozzle now runs further from the plate by `away_mm`."""
        return replace(self, shift_mm=self.shift_mm + away_mm)

    # What is believed

    @cached_property
    def weight(self) -> Array:
        return np.exp(self.log_weight)

    @cached_property
    def collapsed(self) -> tuple[Array, Array]:
        """Mean (d,) and covariance (d, d) of the mixture."""
        mean = self.weight @ self.mean
        off = self.mean - mean
        cov = np.tensordot(self.weight, self.cov, axes=1) + (self.weight[:, None] * off).T @ off
        return mean, cov

    def of(self, rows: Array) -> tuple[Array, Array]:
        """Mean and sd, (n,) each, of rows (n, d) of the state."""
        mean, cov = self.collapsed
        variance = ((rows @ cov) * rows).sum(axis=1)
        return rows @ mean, np.sqrt(np.maximum(variance, 0.0))

    def height(self, xy: ArrayLike) -> tuple[Array, Array]:
        """Mean and sd of the plate's height in mm at (n, 2) places, above the nozzle's plane now."""
        mean, sd = self.of(self.surface.rows(xy))
        return mean - self.shift_mm, sd

    def gap_row(self, x_mm: float, y_mm: float) -> Array:
        """Row for the height at one place, the usual first half of a reading."""
        return np.asarray(self.surface.rows([(x_mm, y_mm)])[0])

    def passes_of_twist(self) -> tuple[float, float] | None:
        """Share of a twist this plate passes, mean and sd; None where three screws cannot twist it.

        The sd is never below 0.03: the hypotheses lie no closer than that.
        """
        if self.surface.knobs <= 3:
            return None
        share = twist_passed(self.passes, self.surface.screws)
        mean = float(self.weight @ share)
        return mean, float(np.sqrt(self.weight @ (share - mean) ** 2 + 0.03**2))

    def compliance_learnt(self) -> tuple[Array, Array]:
        """Mean (m,) and covariance (m, m) of ln(lam): what this run teaches the next."""
        ln = np.log(self.lam)
        mean = self.weight @ ln
        off = ln - mean
        return mean, np.asarray((self.weight[:, None] * off).T @ off)

    def spread(self) -> tuple[float, float]:
        """Range of the heights at the anchors in mm: mean and sd over the belief."""
        ranges, weight = self._sampled_ranges
        mean = float(ranges.sum(axis=0) @ weight)
        return mean, float(np.sqrt(((ranges - mean) ** 2).sum(axis=0) @ weight))

    def p_within(self, tol_mm: float) -> float:
        """P(range of the heights at the anchors <= 2 tol)."""
        ranges, weight = self._sampled_ranges
        return float((ranges <= 2 * tol_mm).sum(axis=0) @ weight)

    @cached_property
    def _sampled_ranges(self) -> tuple[Array, Array]:
        """Ranges of fixed draws of the anchor heights, (draws, hypotheses), and a draw's weight."""
        a = len(self.surface.anchors)
        count = 12 if len(self.weight) > 1 else 2048
        # Hypotheses that weigh nothing are not worth drawing from.
        keep = np.flatnonzero(self.weight > 1e-3 / len(self.weight))
        root = np.linalg.cholesky(self.cov[keep, :a, :a] + 1e-12 * np.eye(a))
        # Anchors first, so that the range is taken over the slow axis.
        heights = np.einsum("nij,jkn->ikn", root, normal_draws(a, count, len(self.weight))[:, :, : len(keep)])
        heights += self.mean[keep, :a].T[:, None, :]
        weight = self.weight[keep] / self.weight[keep].sum() / count
        return heights.max(axis=0) - heights.min(axis=0), weight

    def _pass_column(self, knob: int) -> Array:
        column = np.zeros((len(self.mean), self.surface.size))
        column[:, : self.surface.knobs] = self.passes[:, :, knob]
        return column


def truncated_moments(centre: Array, variance: Array, low: float, high: float) -> tuple[Array, Array, Array]:
    """For x ~ N(centre, variance) cut to (low, high): ln P, E x - centre, variance - Var x.

    Worked in logarithms from the nearer tail, so that a far interval neither divides by zero
    nor shrinks below nothing.
    """
    sd = np.sqrt(variance)
    a, b = (low - centre) / sd, (high - centre) / sd
    # Mirror intervals above the mean, where the lower tail keeps its digits.
    mirror = a + b > 0
    lo, hi = np.where(mirror, -b, a), np.where(mirror, -a, b)
    log_hi, log_lo = log_ndtr(hi), log_ndtr(lo)
    log_z = log_hi + np.log1p(-np.exp(np.minimum(log_lo - log_hi, -1e-15)))

    def ratio(x: Array) -> Array:
        return np.asarray(np.exp(np.clip(-0.5 * x * x - 0.9189385332046727 - log_z, -745, 50)))

    f_lo, f_hi = ratio(lo), ratio(hi)
    first = f_lo - f_hi
    x_lo, x_hi = np.where(np.isfinite(lo), lo, 0.0), np.where(np.isfinite(hi), hi, 0.0)
    second = x_lo * f_lo - x_hi * f_hi
    shrink = np.clip(first**2 - second, 0.0, 1.0)
    return log_z, np.where(mirror, -first, first) * sd, shrink * variance


def _normalised(log_weight: Array) -> Array:
    top = log_weight.max()
    return np.asarray(log_weight - top - np.log(np.exp(log_weight - top).sum()))


@lru_cache(maxsize=64)
def normal_points(count: int, dimension: int) -> Array:
    """(count, dimension) fixed, evenly spread standard normal draws: the same every time."""
    bits = max(int(np.ceil(np.log2(count))), 4)
    points = qmc.Sobol(dimension, scramble=True, rng=np.random.default_rng(20)).random_base2(bits)
    return np.asarray(ndtri(np.clip(points[:count], 1e-9, 1 - 1e-9)))


@lru_cache(maxsize=512)
def normal_draws(dimension: int, count: int, hypotheses: int) -> Array:
    """(dimension, count, hypotheses) of `normal_points`, laid out for `_sampled_ranges`."""
    points = normal_points(count * hypotheses, dimension)
    return np.ascontiguousarray(points.T.reshape(dimension, hypotheses, count).transpose(0, 2, 1))
