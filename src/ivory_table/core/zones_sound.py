"""What is believed of a proof's zones, put to a question: of what parts their error is made, and with which chance all are sound."""

from typing import Literal

import numpy as np
from scipy.special import ndtr

from .bead import GRADES, Bead
from .defaults import JUDGE
from .field_seen import FLOW, HABIT, FieldPosterior
from .moves import p_all_sound, resampled
from .normals import normal_points
from .odds import Odds
from .value import Array, Value


class Part(Value):
    """One part of the field's error, in mm, with its sd."""

    name: Literal["offset", "tilt_x", "tilt_y", "bow", "local"]
    amount_mm: float
    sd_mm: float


def parts(errors: Array, cov: Array, zones: Array) -> tuple[Part, ...]:
    """Zone errors (z,) split by least squares into offset, tilt, bow and what is local.

    Tilts are mm over the zones' span; bow positive means the centre is closer than the rim;
    local is the largest deviation left, with the sd of the zone where it is.
    """
    centre = zones.mean(axis=0)
    span = np.maximum(np.ptp(zones, axis=0), 1e-9)
    u, v = ((zones - centre) / span * 2).T
    design = np.column_stack([np.ones_like(u), u / 2, v / 2, u * u + v * v])
    design[:, 3] -= design[:, 3].mean()
    solve = np.linalg.pinv(design)
    coef = solve @ errors
    sd = np.sqrt(np.maximum(np.diag(solve @ cov @ solve.T), 0))
    keep = np.eye(len(errors)) - design @ solve
    left, left_cov = keep @ errors, keep @ cov @ keep.T
    worst = int(np.argmax(np.abs(left)))
    names: tuple[Literal["offset", "tilt_x", "tilt_y", "bow"], ...] = ("offset", "tilt_x", "tilt_y", "bow")
    out = [Part(name=n, amount_mm=float(c), sd_mm=float(e)) for n, c, e in zip(names, coef, sd, strict=True)]
    local = Part(name="local", amount_mm=float(left[worst]), sd_mm=float(np.sqrt(max(left_cov[worst, worst], 0))))
    return (*out, local)


def chance_sound(field: FieldPosterior, bead: Bead) -> float:
    """The chance that all zones are sound as they are: their gaps, and nothing else that keeps one from holding."""
    return Odds.of(field).stays * p_all_sound(drawn_gaps(field, bead), *bead.bands_mm()["sound"])


def looks_sound(field: FieldPosterior, bead: Bead, eye_scatter: float) -> float:
    """The share of zones that is expected to be graded sound, by an eye of this scatter in r: what a promise is held against."""
    z, h = field.zones, bead.layer_mm
    low, high = bead.bands_mm()["sound"]
    see = np.zeros((z, len(field.mean)))
    see[:, :z] = np.eye(z)
    see[:, z + FLOW], see[:, z + HABIT] = -h, h
    at = see @ field.mean
    sd = np.sqrt(np.maximum(((see @ field.cov) * see).sum(axis=1), 0.0) + (eye_scatter * h) ** 2)
    held = Odds.of(field)
    p = (ndtr((high - at) / sd) - ndtr((low - at) / sd)) * (1 - sum(held.shared.values()))
    return float(p.mean())


def judged_done(field: FieldPosterior, bead: Bead, trust: float = 1.0) -> bool:
    """Whether all zones are believed sound likely enough, whatever one grade on one print said. That they were judged is for others to say."""
    return trust * chance_sound(field, bead) >= JUDGE.done_at


def drawn_gaps(field: FieldPosterior, bead: Bead) -> Array:
    """(2048, z) fixed draws of the zones' gaps, by what the marks say and not by its normal. Zone by zone in memory: the closest and
    the furthest of each draw are asked for again and again.

    Importance resampling: drawn from the normal, weighed by each sight's likelihood over its site. A loose line is
    nowhere near the plate; the tail of a normal would have it there, and no step closer would be safe.
    """
    z = field.zones
    # Gaps, and what the eye sees of all of them beside the gap: the flow less the eye's habit.
    turn = np.eye(z + 1, z + 3)
    turn[z, z + 1] = -1.0
    cov = turn @ field.cov @ turn.T
    graded = [s for s in field.sites if s.graded]
    # In no order: of evenly spread points every second lies on one side of an axis, and these are thinned evenly, here and after.
    points = np.random.default_rng(21).permutation(normal_points(4096 if graded else 2048, z + 1))
    drawn = turn @ field.mean + points @ np.linalg.cholesky(cov + 1e-12 * np.eye(z + 1)).T
    if not graded:
        return np.asfortranarray(drawn[:, :z])
    log_weight = np.zeros(len(drawn))
    for site in graded:
        row = np.append(site.row[:z], site.row[z + FLOW])
        log_weight += 0.5 * ((drawn @ row - site.value) / site.sd_mm) ** 2
    edges = bead.bands_mm()
    low, high = (np.array([edges[g][end] for g in GRADES]) for end in (0, 1))
    scatter = field.eye_scatter * bead.layer_mm
    for sight in field.sights:
        seen = (drawn[:, sight.zone] - bead.layer_mm * drawn[:, z])[:, None]
        held = np.flatnonzero(sight.bands)
        p = ndtr((high[held] - seen) / scatter) - ndtr((low[held] - seen) / scatter)
        log_weight += np.log(p @ sight.bands[held] + sight.rest)
    weight = np.exp(log_weight - log_weight.max())
    return np.asfortranarray(drawn[resampled(weight, 2048), :z])
