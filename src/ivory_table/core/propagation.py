"""Expectation propagation (Minka 2001) over what was seen and measured of zones, for many hypotheses at once, one lane each.

Ordinal sites as in Chu & Ghahramani 2005; the evidence as in Rasmussen and Williams 2006, 3.6.
"""

from dataclasses import dataclass

import numpy as np
from scipy.special import ndtr

from .bead import GRADES, Bead
from .value import Array

#: Precision of a site that tells hardly more than a side, per mm^2.
_LEAST_TAU = 1e-3
#: Sites have settled once no tau changes by more than this share.
_SETTLED = 1e-4
#: Most rounds of all sites at once, and of one after the other.
_AT_ONCE, ONE_BY_ONE = 30, 12


@dataclass(frozen=True)
class Ordinal:
    """One zone's sight as a site: which row it is, its bands' weights, the rest, and its weight where the patch fails."""

    at: int
    zone: int
    bands: Array
    rest: float
    fails: float


@dataclass(frozen=True, eq=False)
class Propagated:
    """Lanes (l,) of expectation propagation: sites (l, n), evidence, and the chance that each seen zone failed."""

    tau: Array
    nu: Array
    log_evidence: Array
    failed: Array


@dataclass(frozen=True, eq=False)
class Told:
    """What marks say: rows (n, d) of what they read, the measured ones as (row, value, sd), and the seen ones."""

    rows: Array
    measured: list[tuple[int, float, float]]
    seen: list[Ordinal]

    @property
    def seen_rows(self) -> list[int]:
        """Which rows are read by eye."""
        return [site.at for site in self.seen]

    def start(self, lanes: int) -> tuple[Array, Array]:
        """Sites' tau and nu (lanes, n) before anything that was seen is taken in."""
        tau, nu = np.zeros((lanes, len(self.rows))), np.zeros((lanes, len(self.rows)))
        for i, value, sd in self.measured:
            tau[:, i], nu[:, i] = 1 / sd**2, value / sd**2
        return tau, nu


@dataclass(frozen=True, eq=False)
class Looks:
    """By lane (l,) how the zones are looked at: `fails` (l, z) chances that they do not hold, the eye's `scatter` (l,) in r, and
    `off` (l, z) by how many mm they look further away than their rows say."""

    fails: Array
    scatter: Array
    off: Array


class _Sights:
    """The seen sites (k,) in all lanes (l,). `which`: one of them, its arrays (l,), or a slice of them, (l, k)."""

    def __init__(self, told: Told, looks: Looks, bead: Bead) -> None:
        bands, zones = bead.bands_mm(), [site.zone for site in told.seen]
        weights = np.array([site.bands for site in told.seen]).reshape(-1, len(GRADES))
        self.edges = np.array([bands[g][0] for g in GRADES[:-1]])
        self.rise = np.diff(weights, axis=1)
        self.top = weights[:, 0] + np.array([site.rest for site in told.seen])
        self.phi = looks.fails[:, zones]
        self.failing = self.phi * np.array([site.fails for site in told.seen])
        self.off = looks.off[:, zones]
        self.noise = np.broadcast_to((looks.scatter[:, None] * bead.layer_mm) ** 2, self.phi.shape)

    def tilted(self, which: int | slice, mean: Array, var: Array) -> tuple[Array, Array, Array]:
        """The site's weight under a cavity of this mean and variance, and mean and variance after it.

        The weight is a sum of steps of a normal, one at each edge between two bands; mean and variance follow from its first
        two derivatives along the cavity's mean. What is outside of all bands keeps it from zero.
        """
        rise, held = self.rise[which], 1 - self.phi[:, which]
        sd = np.sqrt(var + self.noise[:, which])
        u = (self.edges - (mean + self.off[:, which])[..., None]) / sd[..., None]
        slope = np.exp(-0.5 * u * u) * (rise / np.sqrt(2 * np.pi))
        total = held * ((ndtr(u) * rise).sum(axis=-1) + self.top[which]) + self.failing[:, which]
        by = held / (sd * total)
        first, second = -by * slope.sum(axis=-1), -by * (u * slope).sum(axis=-1) / sd
        return total, mean + var * first, np.maximum(var + var**2 * (second - first**2), 1e-12)

    def told(self, which: int | slice, m: Array, s: Array, tau: Array, nu: Array) -> tuple[Array, Array]:
        """What tau and nu would have to be where mean and variance are `m` and `s` with the ones they are."""
        mean, var = _cavity(m, s, tau, nu)
        _, new_mean, new_var = self.tilted(which, mean, var)
        # A slip can make a site wider than its cavity; a site never takes knowledge away, but it may lean to one side.
        new_tau = np.maximum(1 / new_var - 1 / var, _LEAST_TAU)
        return new_tau, new_mean * (new_tau + 1 / var) - mean / var


def _cavity(m: Array, s: Array, tau: Array, nu: Array) -> tuple[Array, Array]:
    precision = np.maximum(1 / s - tau, 1e-9)
    return (m / s - nu) / precision, 1 / precision


def propagate(mean: Array, cov: Array, told: Told, looks: Looks, bead: Bead, sweeps: int) -> Propagated:
    """Expectation propagation in lanes (l,): `mean` (l, d), `cov` (l, d, d). One site after the other, `sweeps` times at most.

    All of it runs in what the rows read, which are mostly fewer than what they are read of; `with_sites` gives the whole.
    """
    rows, n, lanes = told.rows, len(told.rows), len(mean)
    sights = _Sights(told, looks, bead)
    tau, nu = told.start(lanes)
    before = mean @ rows.T, rows @ cov @ rows.T
    m, v = with_sites(*before, np.eye(n), tau, nu)
    # What each site takes from the covariance, one after the other: only the columns still to come are worked out on the way.
    alongs, taken = np.zeros((lanes, len(told.seen), n)), np.zeros((lanes, len(told.seen)))
    for sweep in range(sweeps):
        was = tau.copy()
        for k, at in enumerate(told.seen_rows):
            gone = alongs[:, :k]
            along = v[:, at] - ((taken[:, :k] * gone[:, :, at])[:, None] @ gone)[:, 0]
            s, c = along[:, at], m[:, at]
            new_tau, new_nu = sights.told(k, c, s, tau[:, at], nu[:, at])
            step = 1.0 if sweep == 0 else 0.8
            d_tau, d_nu = step * (new_tau - tau[:, at]), step * (new_nu - nu[:, at])
            tau[:, at] += d_tau
            nu[:, at] += d_nu
            # Rank-one change of one row's precision (Sherman-Morrison).
            m = m + along * ((d_nu - d_tau * c) / (1 + d_tau * s))[:, None]
            alongs[:, k], taken[:, k] = along, d_tau / (1 + d_tau * s)
        v = v - (alongs * taken[:, :, None]).transpose(0, 2, 1) @ alongs
        if np.max(np.abs(tau - was) / (tau + 1)) < _SETTLED:
            break
    return _weighed(before, told, sights, tau, nu)


def settle(mean: Array, cov: Array, told: Told, looks: Looks, bead: Bead, start: tuple[Array, Array]) -> Propagated:
    """One lane from sites tau and nu (1, n) that are about right: all of them at once until they settle near there.

    A third of the time of one after the other; where they do not settle so, it is done one after the other.
    """
    rows = told.rows
    sights = _Sights(told, looks, bead)
    tau, nu = start[0].copy(), start[1].copy()
    before = mean @ rows.T, rows @ cov @ rows.T
    at = told.seen_rows
    for _ in range(_AT_ONCE):
        m, v = with_sites(*before, np.eye(len(rows)), tau, nu)
        s = np.diagonal(v, axis1=1, axis2=2)
        new_tau, new_nu = sights.told(slice(None), m[:, at], s[:, at], tau[:, at], nu[:, at])
        d_tau = 0.85 * (new_tau - tau[:, at])
        tau[:, at] += d_tau
        nu[:, at] += 0.85 * (new_nu - nu[:, at])
        if np.max(np.abs(d_tau) / (tau[:, at] + 1)) < _SETTLED:
            return _weighed(before, told, sights, tau, nu)
    return propagate(mean, cov, told, looks, bead, ONE_BY_ONE)


def _weighed(before: tuple[Array, Array], told: Told, sights: _Sights, tau: Array, nu: Array) -> Propagated:
    """With ln of the marks' probability, without what measured values add whatever is believed (Rasmussen and Williams 2006, 3.6)."""
    read_mean, read_cov = before
    m, v = with_sites(read_mean, read_cov, np.eye(len(told.rows)), tau, nu)
    known = np.flatnonzero(tau.max(axis=0) > 0)
    variance = 1 / tau[:, known]
    off = nu[:, known] * variance - read_mean[:, known]
    seen = read_cov[:, known[:, None], known] + variance[:, :, None] * np.eye(len(known))
    evidence = -0.5 * (off * np.linalg.solve(seen, off[:, :, None])[:, :, 0]).sum(axis=1)
    evidence = evidence - 0.5 * np.linalg.slogdet(seen)[1]
    at = told.seen_rows
    mean, var = _cavity(m[:, at], v[:, at, at], tau[:, at], nu[:, at])
    total, _, _ = sights.tilted(slice(None), mean, var)
    both = var + 1 / tau[:, at]
    miss = nu[:, at] / tau[:, at] - mean
    evidence = evidence + (np.log(total) + 0.5 * np.log(both) + 0.5 * miss**2 / both).sum(axis=1)
    return Propagated(tau, nu, evidence, sights.failing / total)


def with_sites(mean: Array, cov: Array, h: Array, tau: Array, nu: Array) -> tuple[Array, Array]:
    """Gaussians (l, d) with precision added along the rows h: the Woodbury form, safe for tau = 0."""
    across = cov @ h.T
    gain = across @ np.linalg.inv(np.eye(len(h)) + tau[:, :, None] * (h @ across))
    post = cov - gain @ (tau[:, :, None] * across.transpose(0, 2, 1))
    miss = nu - tau * (mean @ h.T)
    return mean + (gain @ miss[:, :, None])[:, :, 0], (post + post.transpose(0, 2, 1)) / 2
