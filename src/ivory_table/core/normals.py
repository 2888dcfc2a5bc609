"""Arithmetic of normal distributions and of their weighted mixtures."""

from collections.abc import Iterator
from functools import lru_cache

import numpy as np
from numpy.typing import ArrayLike
from scipy.special import log_ndtr, ndtr, ndtri
from scipy.stats import qmc

from .value import Array


def flattened(log_weight: Array, alive: float) -> Array:
    """Weights raised to the highest power at which so many are alive: where to look next when hardly any is."""
    low, high = 0.0, 1.0
    for _ in range(20):
        power = (low + high) / 2
        weight = np.exp(normalised(power * log_weight))
        low, high = (power, high) if 1.0 / np.square(weight).sum() >= alive else (low, power)
    return np.asarray(np.exp(normalised(low * log_weight)))


def log_normal(x: Array, mean: Array, cov: Array) -> Array:
    """ln N(x; mean, cov) of (n, k) points."""
    root = np.linalg.cholesky(cov)
    z = np.linalg.solve(root, (x - mean).T)
    return np.asarray(-0.5 * (z * z).sum(axis=0) - np.log(np.diag(root)).sum())


def mixture_quantile(share: float, weight: Array, mean: Array, sd: Array) -> Array:
    """(k,) the value below which this share of a mixture lies: weights (n,) of normals, means and sds (n, k)."""
    low, high = (mean - 9 * sd).min(axis=0), (mean + 9 * sd).max(axis=0)
    for _ in range(40):
        middle = (low + high) / 2
        below = weight @ ndtr((middle - mean) / sd) < share
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    return np.asarray((low + high) / 2)


def range_sd(values: Array) -> float:
    """Half of what the middle 68 % of these draws span: one sd where they are normal, deaf to what hardly ever happens."""
    low, high = np.quantile(values, ndtr([-1.0, 1.0]))
    return float(high - low) / 2


def range_of(heights: Iterator[Array]) -> Array:
    """Highest less lowest of what comes one place at a time, any shape: an array of all places would be slower to fill."""
    highest = next(heights)
    lowest = highest.copy()
    for here in heights:
        np.maximum(highest, here, out=highest)
        np.minimum(lowest, here, out=lowest)
    return np.subtract(highest, lowest, out=highest)


def truncated_moments(centre: Array, variance: Array, low: ArrayLike, high: ArrayLike) -> tuple[Array, Array, Array]:
    """For x ~ N(centre, variance) cut to (low, high): ln P, E x - centre, variance - Var x.

    Worked in logarithms from the nearer tail, so that a far interval neither divides by zero
    nor shrinks below nothing.
    """
    sd = np.sqrt(variance)
    a, b = (np.asarray(low) - centre) / sd, (np.asarray(high) - centre) / sd
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


def normalised(log_weight: Array) -> Array:
    """(n,) ln weights, so that the weights add up to one."""
    top = log_weight.max()
    return np.asarray(log_weight - top - np.log(np.exp(log_weight - top).sum()))


@lru_cache(maxsize=64)
def normal_points(count: int, dimension: int) -> Array:
    """(count, dimension) fixed, evenly spread standard normal draws: the same every time."""
    bits = max(int(np.ceil(np.log2(count))), 4)
    points = qmc.Sobol(dimension, scramble=True, rng=np.random.default_rng(20)).random_base2(bits)
    return np.asarray(ndtri(np.clip(points[:count], 1e-9, 1 - 1e-9)))
