"""Expectation propagation (Minka 2001) over what was seen and measured of zones, for many hypotheses at once, one lane each.

Ordinal sites as in Chu & Ghahramani 2005; the evidence as in Rasmussen and Williams 2006, 3.6.
"""

from dataclasses import dataclass

import numpy as np

from .bead import GRADES, Bead
from .normals import truncated_moments
from .value import Array

#: Precision of a site that tells hardly more than a side, per mm^2.
_LEAST_TAU = 1e-3


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


def propagate(
    mean: Array,
    cov: Array,
    rows: Array,
    linear: list[tuple[int, float, float]],
    ordinal: list[Ordinal],
    fails: Array,
    scatter: Array,
    bead: Bead,
    sweeps: int,
    start: tuple[Array, Array] | None = None,
    looks_off: Array | None = None,
) -> Propagated:
    """Expectation propagation in lanes (l,): `mean` (l, d), `cov` (l, d, d), `fails` (l, z), `scatter` (l,) in r.

    `looks_off` (l, z): a zone looks so many mm further away than its row says.
    `start` (l, n), (l, n): the sites' tau and nu to begin with, where it is known about where the answer lies.
    All of it runs in what the rows read, which are mostly fewer than what they are read of; `with_sites` gives the whole.
    """
    lanes, n = len(mean), len(rows)
    edges = bead.bands_mm()
    low = np.array([edges[g][0] for g in GRADES])
    high = np.array([edges[g][1] for g in GRADES])
    noise = (scatter * bead.layer_mm) ** 2
    tau, nu = (np.zeros((lanes, n)), np.zeros((lanes, n))) if start is None else (start[0].copy(), start[1].copy())
    for i, value, sd in linear:
        tau[:, i], nu[:, i] = 1 / sd**2, value / sd**2
    read_mean, read_cov = mean @ rows.T, rows @ cov @ rows.T
    itself = np.eye(n)
    m, v = with_sites(read_mean, read_cov, itself, tau, nu)

    def tilted(site: Ordinal, cavity_mean: Array, cavity_var: Array) -> tuple[Array, Array, Array, Array]:
        """(l,) ln of the site's weight under its cavity, mean and variance after it, and the chance that the zone failed."""
        held = np.flatnonzero(site.bands)
        phi = fails[:, site.zone]
        seen_var = cavity_var + noise
        seen_mean = cavity_mean if looks_off is None else cavity_mean + looks_off[:, site.zone]
        log_z, shift, shrink = truncated_moments(seen_mean[:, None], seen_var[:, None], low[held], high[held])
        inside = (1 - phi)[:, None] * site.bands[held] * np.exp(log_z)
        outside = (1 - phi) * site.rest + phi * site.fails
        total = inside.sum(axis=1) + outside
        share, rest = inside / total[:, None], outside / total
        ratio = (cavity_var / seen_var)[:, None]
        each_mean = cavity_mean[:, None] + ratio * shift
        each_var = np.maximum(cavity_var[:, None] - ratio**2 * shrink, 1e-12)
        new_mean = (share * each_mean).sum(axis=1) + rest * cavity_mean
        new_var = (share * (each_var + (each_mean - new_mean[:, None]) ** 2)).sum(axis=1)
        new_var = new_var + rest * (cavity_var + (cavity_mean - new_mean) ** 2)
        return np.log(total), new_mean, new_var, phi * site.fails / total

    def cavity(site: Ordinal) -> tuple[Array, Array, Array, Array]:
        s, c = v[:, site.at, site.at], m[:, site.at]
        precision = np.maximum(1 / s - tau[:, site.at], 1e-9)
        return s, c, (c / s - nu[:, site.at]) / precision, 1 / precision

    for sweep in range(sweeps):
        before = tau.copy()
        for site in ordinal:
            s, c, cavity_mean, cavity_var = cavity(site)
            _, new_mean, new_var, _ = tilted(site, cavity_mean, cavity_var)
            # A slip can make a site wider than its cavity; a site never takes knowledge away, but it may lean to one side.
            new_tau = np.maximum(1 / new_var - 1 / cavity_var, _LEAST_TAU)
            new_nu = new_mean * (new_tau + 1 / cavity_var) - cavity_mean / cavity_var
            step = 1.0 if sweep == 0 else 0.8
            d_tau, d_nu = step * (new_tau - tau[:, site.at]), step * (new_nu - nu[:, site.at])
            tau[:, site.at] += d_tau
            nu[:, site.at] += d_nu
            # Rank-one change of one row's precision (Sherman-Morrison).
            along = v[:, :, site.at]
            gain = along / (1 + d_tau * s)[:, None]
            m = m + gain * (d_nu - d_tau * c)[:, None]
            v = v - (d_tau[:, None] * along)[:, :, None] * gain[:, None, :]
        if np.max(np.abs(tau - before) / (tau + 1)) < 1e-4:
            break
    m, v = with_sites(read_mean, read_cov, itself, tau, nu)
    # ln of the marks' probability, without what measured values add whatever is believed (Rasmussen and Williams 2006, 3.6).
    told = np.flatnonzero(tau.max(axis=0) > 0)
    variance = 1 / tau[:, told]
    off = nu[:, told] * variance - read_mean[:, told]
    seen = read_cov[:, told[:, None], told] + variance[:, :, None] * np.eye(len(told))
    evidence = -0.5 * (off * np.linalg.solve(seen, off[:, :, None])[:, :, 0]).sum(axis=1)
    evidence = evidence - 0.5 * np.linalg.slogdet(seen)[1]
    failed = np.zeros((lanes, len(ordinal)))
    for k, site in enumerate(ordinal):
        _, _, cavity_mean, cavity_var = cavity(site)
        log_p, _, _, failed[:, k] = tilted(site, cavity_mean, cavity_var)
        both = cavity_var + 1 / tau[:, site.at]
        miss = nu[:, site.at] / tau[:, site.at] - cavity_mean
        evidence = evidence + log_p + 0.5 * np.log(both) + 0.5 * miss**2 / both
    return Propagated(tau, nu, evidence, failed)


def with_sites(mean: Array, cov: Array, h: Array, tau: Array, nu: Array) -> tuple[Array, Array]:
    """Gaussians (l, d) with precision added along the rows h: the Woodbury form, safe for tau = 0."""
    across = cov @ h.T
    gain = across @ np.linalg.inv(np.eye(len(h)) + tau[:, :, None] * (h @ across))
    post = cov - gain @ (tau[:, :, None] * across.transpose(0, 2, 1))
    miss = nu - tau * (mean @ h.T)
    return mean + (gain @ miss[:, :, None])[:, :, 0], (post + post.transpose(0, 2, 1)) / 2
