"""The gaps in a proof's zones, and what lies behind them, from what was seen and measured of it.

The zones' gaps, a common error of what is fed, the eye's habit and the caliper's are Gaussian before the proof; what is
seen of a zone is an ordinal likelihood with a share of slips, and with the chance that the zone does not hold for
another cause. The posterior is found by expectation propagation (Minka 2001; ordinal sites as in Chu & Ghahramani
2005), for every cause and every scatter of the eye at once; their weights follow from the evidence.
"""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from scipy.special import expit, logit, ndtr

from .bead import GRADES, Bead
from .belief import Belief
from .causes import ZERO, Causes, Effects, effects
from .defaults import BEAD, JUDGE, LAYER
from .eye import Eye
from .field_seen import CALIPER, FLOW, HABIT, NUISANCES, Doubt, FieldPosterior, Sight, Site
from .normals import normalised
from .propagation import ONE_BY_ONE, Looks, Ordinal, Propagated, Told, propagate, settle, with_sites
from .signs import Mark
from .thick import CaliperOff
from .value import Array

#: A caliper of which nothing is known on this plate.
AS_BOUGHT = CaliperOff()
#: From this chance of a spot of grease under one patch of a zone on it tells the others.
GREASY_TOLD = 0.1


def caliper_after(before: CaliperOff, found: FieldPosterior, marks: tuple[Mark, ...]) -> CaliperOff:
    """What is known of a caliper's common error after marks; as before where none was measured."""
    measured = sum(mark.caliper_mm is not None for mark in marks)
    if not measured:
        return before
    k = found.zones + CALIPER
    return before.learnt(float(found.mean[k]), float(max(found.cov[k, k], 0.0)), measured)


def field_prior(belief: Belief, zones: Array, layer_mm: float, machine_believes: Array) -> tuple[Array, Array, Array]:
    """Rows (z + 1, d) of the state, and mean and covariance of gaps and flow.

    gap = layer + shift + what the machine's mesh lifts - height. `machine_believes` (z,) in mm.
    """
    rows = np.vstack([-belief.surface.rows(zones), belief.surface.unit(belief.surface.extrusion)])
    mean, cov = belief.collapsed
    constant = np.append(layer_mm + belief.shift_mm + machine_believes, 0.0)
    return rows, rows @ mean + constant, rows @ cov @ rows.T


def judged_field(
    mean: Array,
    cov: Array,
    marks: tuple[Mark, ...],
    bead: Bead,
    eye: Eye,
    causes: Causes | None = None,
    places: Array | None = None,
    caliper: CaliperOff = AS_BOUGHT,
    spares: Sequence[Sequence[str]] = (),
) -> tuple[FieldPosterior, Eye]:
    """The field by an eye whose scatter and habit are not known, with what may lie behind it; and what is known of the eye then.

    `mean` (z + 1,) and `cov` (z + 1, z + 1) of gaps in mm and flow, `places` (z, 2) in mm, `caliper` what
    its values are off by on this plate, `spares` by zone the causes that are not at work there. Every cause with every scatter of the eye is weighed by the evidence of the marks; the field is that of what they amount to.
    """
    causes = causes or Causes.none()
    z = len(mean) - 1
    place = np.zeros((z, 2)) if places is None else places
    what = effects(causes, place, spares)
    seen = [m for m in marks if m.seen is not None]
    full_mean, full_cov = _with_nuisances(mean, cov, eye, causes, caliper)
    if not seen:
        found = _one(full_mean, full_cov, _told(marks, bead, z), _as_it_is(z, eye.scatter), bead)
        return _said(
            found, dict(zip(what.names, what.prior, strict=True)), what, np.zeros((len(what.prior), z)), marks
        ), eye
    found, after = _judged_by(what, full_mean, full_cov, marks, bead, eye)
    beside = _same_place(place)
    # Where none of them is likely to be greasy there is nothing to tell.
    if (beside @ (found.greasy >= GREASY_TOLD)).any():
        # One spot of grease lies under all patches of a zone: each is judged by what the others say of it.
        odds = _odds(found.greasy) - _odds(what.greasy)
        told = replace(what, greasy=expit(_odds(what.greasy) + beside @ odds))
        found, after = _judged_by(told, full_mean, full_cov, marks, bead, eye)
    after = _with_habit(after, found) if causes.considered else after
    return found, after


def _odds(p: Array) -> Array:
    return np.asarray(logit(np.clip(p, 1e-9, 1 - 1e-9)))


def _same_place(places: Array) -> Array:
    """(z, z) whether two are patches of one zone; none with itself."""
    apart = np.abs(places[:, None] - places[None]).max(axis=2)
    return np.asarray((apart < 1e-6) & ~np.eye(len(places), dtype=bool))


def _judged_by(
    what: Effects, full_mean: Array, full_cov: Array, marks: tuple[Mark, ...], bead: Bead, eye: Eye
) -> tuple[FieldPosterior, Eye]:
    """The field and what is known of the eye, by every cause with every scatter of the eye, weighed by the evidence."""
    z = len(full_mean) - NUISANCES
    scatters, weight = eye.grid
    lanes = _lanes(what, full_mean, full_cov, scatters)
    h, s = len(what.names), len(scatters)
    told = _told(marks, bead, z)
    spared = bead.layer_mm * what.spared_flow
    done = propagate(
        lanes.mean,
        lanes.cov,
        told,
        Looks(what.fails[lanes.cause], scatters[lanes.scatter], spared[lanes.cause]),
        bead,
        4,
    )
    prior = np.log(what.prior) + _by_signs(what.names, marks)
    each = done.log_evidence + prior[lanes.cause] + lanes.log_share
    by_eye = np.array([np.logaddexp.reduce(each[lanes.scatter == k]) for k in range(s)])
    after = eye.learnt(by_eye, sum(m.seen is not None and not m.open for m in marks))
    each = each + np.log(weight)[lanes.scatter]
    joint = np.exp(normalised(each))
    shared = np.bincount(lanes.cause, joint, h).astype(float)
    doubt = _doubt(shared, what)
    mixed_mean, mixed_cov = full_mean.copy(), full_cov.copy()
    mixed_mean[z + FLOW] += doubt.flow
    mixed_cov[z + FLOW, z + FLOW] += doubt.flow_var
    mixed_mean[:z] += doubt.off_mm
    mixed_cov[:z, :z] += doubt.astray_var
    likeliest = [int(joint.argmax())]
    looks = Looks((shared @ what.fails)[None], np.array([after.scatter]), (_likely(shared) @ spared)[None])
    found = _one(mixed_mean, mixed_cov, told, looks, bead, (done.tau[likeliest], done.nu[likeliest]))
    # A chance by hypothesis that a zone fails, averaged over its lanes.
    failed = np.zeros((h, z))
    for i, sight in enumerate(told.seen):
        by_cause = np.bincount(lanes.cause, joint * done.failed[:, i], h)
        failed[:, sight.zone] = by_cause / np.maximum(shared, 1e-12)
    if ZERO in what.names:
        found = replace(found, astray=_astray(what, joint, lanes, told.rows, done, found))
    return _said(found, dict(zip(what.names, (float(p) for p in shared), strict=True)), what, failed, marks), after


@dataclass(frozen=True, eq=False)
class _Lanes:
    """What is looked at side by side (l,): every cause with every scatter of the eye, over every stretch of height.

    A normal finds one height at which the marks could be so. Patches that do not hold may lie too far, or on a cold plate at
    about the right height: from one normal over both, the likelier of them is not always found again, whatever the next
    proof shows. So a height that is not well known is taken stretch by stretch, and each is weighed by the evidence.
    """

    cause: Array
    scatter: Array
    #: ln of the stretch's share of what was believed.
    log_share: Array
    mean: Array
    cov: Array


def _lanes(what: Effects, full_mean: Array, full_cov: Array, scatters: Array) -> _Lanes:
    z = len(full_mean) - NUISANCES
    cause, log_share, means, covs = [], [], [], []
    for h in range(len(what.names)):
        mean, cov = full_mean.copy(), full_cov.copy()
        mean[z + FLOW] += what.flow[h]
        cov[z + FLOW, z + FLOW] += what.flow_var[h]
        mean[:z] += what.astray[h]
        cov[:z, :z] += what.astray_var[h]
        for at, spread, share in _stretches(mean, cov, z):
            cause.append(h)
            means.append(at)
            covs.append(spread)
            log_share.append(share)
    n, s = len(cause), len(scatters)
    each = np.repeat(np.arange(n), s)
    return _Lanes(
        np.array(cause)[each],
        np.tile(np.arange(s), n),
        np.array(log_share)[each],
        np.array(means)[each],
        np.array(covs)[each],
    )


def _stretches(mean: Array, cov: Array, z: int) -> list[tuple[Array, Array, float]]:
    """A normal as a sum of narrower ones along what all gaps have in common: mean, covariance and ln of the share of each.

    `JUDGE.stretch_mm` wide each, or as many as are looked at; the normal itself where it is no wider.
    """
    common = np.zeros(len(mean))
    common[:z] = 1 / z
    sd = float(np.sqrt(np.maximum(common @ cov @ common, 0.0)))
    if sd <= JUDGE.stretch_mm:
        return [(mean, cov, 0.0)]
    along = cov @ common / sd
    half, narrow = 1, 1.0
    while half < JUDGE.stretches // 2 and narrow * sd > JUDGE.stretch_mm:
        half += 1
        # 2.5 sds either way in 2 half + 1 steps, each 1.3 sds of a part long: so the parts add up to a smooth whole.
        narrow = 2.5 / half / 1.3
        narrow /= float(np.sqrt(1 + narrow**2))
    steps = np.arange(-half, half + 1) * 2.5 / half
    weight = np.exp(-0.5 * steps**2)
    less = cov - (1 - narrow**2) * np.outer(along, along)
    at = mean + (steps * (1 - narrow**2) ** 0.5)[:, None] * along
    return [(m, less, float(np.log(w))) for m, w in zip(at, weight / weight.sum(), strict=True)]


def _astray(
    what: Effects, joint: Array, lanes: _Lanes, rows: Array, done: Propagated, found: FieldPosterior
) -> tuple[float, float]:
    """What all gaps are off by from the field that was found, where the height is not what it was taken for: mean in mm and variance.

    Over the lanes of that cause by their weights. From the field found and not from the one before it: what was learnt of the
    gaps is not learnt a second time.
    """
    z = found.zones
    here = np.flatnonzero(lanes.cause == what.names.index(ZERO))
    share = joint[here] / joint[here].sum()
    mean, cov = with_sites(lanes.mean[here], lanes.cov[here], rows, done.tau[here], done.nu[here])
    means = mean[:, :z].mean(axis=1)
    at = float(share @ means)
    spread = share @ (cov[:, :z, :z].mean(axis=(1, 2)) + (means - at) ** 2)
    return at - float(found.mean[:z].mean()), max(float(spread - found.cov[:z, :z].mean()), 1e-8)


def _by_signs(names: tuple[str, ...], marks: tuple[Mark, ...]) -> Array:
    """(h,) ln of how much likelier each cause makes the signs that were told; a sign counts once, in however many zones."""
    told = {sign for mark in marks for sign in mark.signs}
    return np.array([sum(np.log(LAYER.signs[sign].causes.get(name, 1.0)) for sign in told) for name in names])


def _with_habit(eye: Eye, found: FieldPosterior) -> Eye:
    k = found.zones + HABIT
    sd = float(np.sqrt(max(found.cov[k, k], LAYER.measured.least_habit**2)))
    return eye.model_copy(update={"habit": float(found.mean[k]), "habit_sd": min(sd, 0.5)})


def _said(
    found: FieldPosterior, shared: dict[str, float], what: Effects, failed: Array, marks: tuple[Mark, ...]
) -> FieldPosterior:
    """The field with what lies behind it. `failed` (h, z): chance by cause that a judged zone did not hold."""
    weight = np.array(list(shared.values()))
    grease = what.greasy * LAYER.fails.greasy_fails
    both = np.maximum(what.fails, 1e-12)
    # Of a zone that failed, grease is to blame as far as it makes failing likelier by itself.
    blame = np.minimum(grease / both, 1.0)
    # A spot that is there, but under a zone that held, stays as rare as that makes it.
    spared = what.greasy * (1 - LAYER.fails.greasy_fails) / np.maximum(1 - grease, 1e-9)
    greasy = (weight[:, None] * (failed * blame + (1 - failed) * spared)).sum(axis=0)
    for mark in marks:
        if mark.greasy:
            greasy[mark.zone] = 1.0
    return replace(
        found,
        shared=shared,
        greasy=np.where(_judged(len(greasy), marks), greasy, what.greasy),
        doubt=_doubt(weight, what),
    )


def _doubt(shared: Array, what: Effects) -> Doubt:
    """What the causes (h,) amount to together.

    Only what is likelier than all else: as one normal with the rest, what is hardly likely would make everything a little
    unsure for good, and what is likely would be made small. The others stay what they are, chances.
    """
    likely = _likely(shared)
    return Doubt(*(float(likely @ each) for each in (what.astray, what.astray_var, what.flow, what.flow_var)))


def _likely(shared: Array) -> Array:
    """(h,) one for a cause that is likelier than all else, zero for the others."""
    return np.where(shared >= JUDGE.doubt_from, 1.0, 0.0)


def _judged(z: int, marks: tuple[Mark, ...]) -> Array:
    judged = np.zeros(z, dtype=bool)
    judged[[m.zone for m in marks]] = True
    return judged


def estimate_field(
    mean: Array, cov: Array, marks: tuple[Mark, ...], bead: Bead, eye_scatter: float = BEAD.grade_sd
) -> FieldPosterior:
    """The field by an eye whose scatter (in r) is known, nothing but the height considered.

    `mean` (z + 1,), `cov` (z + 1, z + 1) of gaps in mm and flow. A grade reads gap - layer (flow - habit), since
    r = gap / (f h); a caliper reads the gap alone. Raises ValueError for an unknown zone.
    """
    z = len(mean) - 1
    full_mean, full_cov = _with_nuisances(mean, cov, Eye(), Causes.none(), AS_BOUGHT)
    found = _one(full_mean, full_cov, _told(marks, bead, z), _as_it_is(z, eye_scatter), bead)
    greasy = np.array([float(any(m.greasy and m.zone == k for m in marks)) for k in range(z)])
    return replace(found, greasy=greasy)


def _with_nuisances(mean: Array, cov: Array, eye: Eye, causes: Causes, caliper: CaliperOff) -> tuple[Array, Array]:
    """Mean and covariance with the eye's habit and the caliper's as columns; nothing of either where no cause is considered."""
    n = len(mean)
    full_mean, full = np.zeros(n + 2), np.zeros((n + 2, n + 2))
    full_mean[:n], full[:n, :n] = mean, cov
    if causes.considered:
        full_mean[n], full_mean[n + 1] = eye.habit, caliper.off_mm
        full[n, n], full[n + 1, n + 1] = eye.habit_sd**2, caliper.sd_mm**2
    return full_mean, full


def _as_it_is(z: int, scatter: float) -> Looks:
    """An eye of this scatter on zones (z,) that nothing but their gap keeps from holding."""
    return Looks(np.zeros((1, z)), np.array([scatter]), np.zeros((1, z)))


def _told(marks: tuple[Mark, ...], bead: Bead, z: int) -> Told:
    """What marks say of z zones. Raises ValueError for an unknown one."""
    rows: list[Array] = []
    measured: list[tuple[int, float, float]] = []
    seen: list[Ordinal] = []
    for mark in marks:
        if not 0 <= mark.zone < z:
            raise ValueError(f"There is no zone {mark.zone + 1} on this proof; it has {z}.")
        base = np.zeros(z + NUISANCES)
        base[mark.zone] = 1.0
        for value, sd in mark.measured(bead):
            thick = base.copy()
            thick[z + CALIPER] = 1.0
            measured.append((len(rows), value, sd))
            rows.append(thick)
        if (sight := mark.seen) is not None:
            look = base.copy()
            look[z + FLOW], look[z + HABIT] = -bead.layer_mm, bead.layer_mm
            seen.append(Ordinal(len(rows), mark.zone, *sight))
            rows.append(look)
    return Told(np.array(rows).reshape(-1, z + NUISANCES), measured, seen)


def _one(
    mean: Array, cov: Array, told: Told, looks: Looks, bead: Bead, start: tuple[Array, Array] | None = None
) -> FieldPosterior:
    """One lane alone; the chances that zones do not hold are part of what each sight says. `start` as in `settle`, where it is known."""
    z = len(mean) - NUISANCES
    shared_before, scatter = (mean[z + HABIT :], cov[z + HABIT :, z + HABIT :]), float(looks.scatter[0])
    if not len(told.rows):
        return FieldPosterior(mean, cov, (), shared_before=shared_before, eye_scatter=scatter)
    before = mean[None], cov[None]
    done = (
        propagate(*before, told, looks, bead, ONE_BY_ONE)
        if start is None
        else settle(*before, told, looks, bead, start)
    )
    mean, cov = (each[0] for each in with_sites(*before, told.rows, done.tau, done.nu))
    tau, nu, seen = done.tau[0], done.nu[0], set(told.seen_rows)
    sites = tuple(
        Site(row, float(nu[i] / tau[i]), float(tau[i] ** -0.5), i in seen)
        for i, row in enumerate(told.rows)
        if tau[i] > 0
    )
    fails = looks.fails[0]
    sights = tuple(
        Sight(o.zone, (1 - fails[o.zone]) * o.bands, (1 - fails[o.zone]) * o.rest + fails[o.zone] * o.fails)
        for o in told.seen
    )
    return FieldPosterior(mean, cov, sites, sights, float(done.log_evidence[0]), shared_before, scatter)


def expected_sd(mean: Array, cov: Array, bead: Bead, eye_scatter: float) -> float:
    """What all zones have in common of their gap, one sd in mm, expected after their grades.

    `mean` (z + 1,), `cov` (z + 1, z + 1) as in `field_prior`. Over how high all zones may stand (a grid of 41 places), each
    grade tells its Fisher information there, sum of P'^2 / P over the bands; what is left is averaged.
    """
    z = len(mean) - 1
    edges = bead.bands_mm()
    bounds = np.array([edges[g][0] for g in GRADES[:-1]])
    scatter = eye_scatter * bead.layer_mm
    common = np.full(z, 1 / z)
    var = float(common @ cov[:z, :z] @ common)
    own = np.maximum(np.diag(cov)[:z] - var, 0.0)
    spread = np.sqrt(scatter**2 + own + (bead.layer_mm**2) * cov[z, z])
    at = np.linspace(-2.5, 2.5, 41)
    weight = np.exp(-0.5 * at**2)
    left = 0.0
    for off, share in zip(at, weight / weight.sum(), strict=True):
        u = (bounds[None, :] - (mean[:z] + off * var**0.5)[:, None]) / spread[:, None]
        upto = np.column_stack([np.ones(z), ndtr(u), np.zeros(z)])
        slope = np.column_stack([np.zeros(z), np.exp(-0.5 * u**2) / (2 * np.pi) ** 0.5 / spread[:, None], np.zeros(z)])
        p = np.maximum(upto[:, :-1] - upto[:, 1:], 1e-9)
        told = (((slope[:, :-1] - slope[:, 1:]) ** 2) / p).sum(axis=1)
        left += share / (1 / max(var, 1e-12) + float(told.sum()))
    return float(left**0.5)


def learn_proof(belief: Belief, rows: Array, found: FieldPosterior, constant: Array) -> Belief:
    """The belief after a proof: the sites of the field as readings of the state.

    `rows` (z + 1, d) and `constant` (z + 1,) as in `field_prior`. The eye's habit and the caliper's are integrated out: what
    all marks share does not average out.
    """
    known = found.zones + 1
    if not found.sites:
        return belief
    told = np.array([site.row for site in found.sites])
    own = told[:, known:]
    shared, spread = found.shared_before
    values = np.array([site.value for site in found.sites]) - own @ shared - told[:, :known] @ constant
    noise = np.diag([site.sd_mm**2 for site in found.sites]) + own @ spread @ own.T
    # Each with a noise of one, and no more of them than they tell apart: patches of one zone tell the same of the plate.
    whiten = np.linalg.inv(np.linalg.cholesky(noise))
    turn, size, along = np.linalg.svd(whiten @ told[:, :known] @ rows, full_matrices=False)
    apart = size > 1e-6
    return belief.read_together((size[:, None] * along)[apart], (turn.T @ whiten @ values)[apart])
