"""Judging a proof: from grades and calipers to the gap in every zone, and to the next action.

The zones' gaps and a common extrusion error are Gaussian before the proof (from the belief);
each mark is an ordinal likelihood with a small share of slips, each caliper value a linear
one. The posterior is found by expectation propagation (Minka 2001; ordinal sites as in
Chu & Ghahramani 2005), whose sites go back into the belief as ordinary readings.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from scipy.special import ndtr

from .bead import Bead, Grade
from .belief import Belief, normal_points, truncated_moments
from .defaults import BEAD, JUDGE, TRAM
from .eye import Eye
from .value import Array, Value


@dataclass(frozen=True)
class Mark:
    """What was seen in one zone: a grade, a caliper value, or both."""

    zone: int
    grade: Grade | None
    caliper_mm: float | None = None
    greasy: bool = False


@dataclass(frozen=True)
class Site:
    """A mark turned into a Gaussian reading of row . (gaps, extrusion)."""

    row: Array
    value: float
    sd_mm: float
    #: A grade's; a caliper's is exact.
    graded: bool


@dataclass(frozen=True, eq=False)
class FieldPosterior:
    """Mean (z + 1,) and covariance of the zones' gaps in mm, and of the extrusion error last."""

    mean: Array
    cov: Array
    sites: tuple[Site, ...]
    #: ln of how likely the marks were, up to what does not depend on the eye.
    log_evidence: float = 0.0
    #: The scatter of the eye it was judged by, in r.
    eye_scatter: float = BEAD.grade_sd

    @property
    def gaps(self) -> tuple[Array, Array]:
        z = len(self.mean) - 1
        return self.mean[:z], np.sqrt(np.maximum(np.diag(self.cov)[:z], 0))


def field_prior(belief: Belief, zones: Array, layer_mm: float, machine_believes: Array) -> tuple[Array, Array, Array]:
    """Rows (z + 1, d) of the state, and mean and covariance of gaps and extrusion.

    gap = layer + shift + what the machine's mesh lifts - height. `machine_believes` (z,) in mm.
    """
    rows = np.vstack([-belief.surface.rows(zones), belief.surface.unit(belief.surface.extrusion)])
    mean, cov = belief.collapsed
    constant = np.append(layer_mm + belief.shift_mm + machine_believes, 0.0)
    return rows, rows @ mean + constant, rows @ cov @ rows.T


def judged_field(mean: Array, cov: Array, marks: tuple[Mark, ...], bead: Bead, eye: Eye) -> tuple[FieldPosterior, Eye]:
    """The field by an eye whose scatter is not known, and what the marks tell of that eye.

    The scatter is learnt by the evidence of the marks over its grid; the field is that of its mean.
    """
    graded = sum(1 for m in marks if m.grade is not None and not m.greasy)
    if not graded:
        return estimate_field(mean, cov, marks, bead, eye.scatter), eye
    told = np.array([estimate_field(mean, cov, marks, bead, float(s), sweeps=4).log_evidence for s in eye.grid[0]])
    after = eye.learnt(told, graded)
    return estimate_field(mean, cov, marks, bead, after.scatter), after


def estimate_field(
    mean: Array,
    cov: Array,
    marks: tuple[Mark, ...],
    bead: Bead,
    eye_scatter: float = BEAD.grade_sd,
    sweeps: int = 12,
) -> FieldPosterior:
    """Expectation propagation over the zones' gaps (z,) and the extrusion error.

    `mean` (z + 1,), `cov` (z + 1, z + 1) in mm, `eye_scatter` one sd of a grade in r. A grade reads gap - layer * extrusion, since
    r = gap / (f h); a caliper reads the gap alone. Raises ValueError for an unknown zone.
    """
    z = len(mean) - 1
    rows: list[Array] = []
    kinds: list[tuple[float | tuple[float, float], float, bool]] = []
    bands = bead.bands_mm()
    scatter = eye_scatter * bead.layer_mm
    for mark in marks:
        if not 0 <= mark.zone < z:
            raise ValueError(f"There is no zone {mark.zone + 1} on this proof; it has {z}.")
        base = np.zeros(z + 1)
        base[mark.zone] = 1.0
        if mark.caliper_mm is not None:
            rows.append(base)
            kinds.append((mark.caliper_mm, BEAD.caliper_sd_mm, False))
        if mark.grade is not None and not mark.greasy:
            seen = base.copy()
            seen[z] = -bead.layer_mm
            rows.append(seen)
            kinds.append((bands[mark.grade], scatter, True))
    if not rows:
        return FieldPosterior(mean, cov, ())
    h = np.array(rows)
    tau, nu = np.zeros(len(h)), np.zeros(len(h))
    for i, (what, sd, ordinal) in enumerate(kinds):
        if not ordinal:
            tau[i], nu[i] = 1 / sd**2, what / sd**2  # type: ignore[operator]
    m, v = _with_sites(mean, cov, h, tau, nu)
    for sweep in range(sweeps):
        before = tau.copy()
        for i, (what, sd, ordinal) in enumerate(kinds):
            if not ordinal:
                continue
            along = v @ h[i]
            s, c = float(h[i] @ along), float(h[i] @ m)
            cavity_precision = 1 / s - tau[i]
            if cavity_precision <= 1e-9:
                continue
            cavity_var = 1 / cavity_precision
            cavity_mean = cavity_var * (c / s - nu[i])
            new_mean, new_var = _slipping_moments(cavity_mean, cavity_var, what, sd)  # type: ignore[arg-type]
            # A slip can make a site wider than its cavity; a site never takes knowledge away.
            new_tau = max(1 / new_var - cavity_precision, 1e-6)
            new_nu = new_mean * (new_tau + cavity_precision) - cavity_mean * cavity_precision
            step = 1.0 if sweep == 0 else 0.8
            d_tau, d_nu = step * (new_tau - tau[i]), step * (new_nu - nu[i])
            tau[i] += d_tau
            nu[i] += d_nu
            # Rank-one change of precision along h (Sherman-Morrison).
            gain = along / (1 + d_tau * s)
            m = m + gain * (d_nu - d_tau * c)
            v = v - d_tau * np.outer(along, gain)
        if np.max(np.abs(tau - before) / (tau + 1)) < 1e-4:
            break
    m, v = _with_sites(mean, cov, h, tau, nu)
    sites = tuple(Site(h[i], nu[i] / tau[i], tau[i] ** -0.5, kinds[i][2]) for i in range(len(h)) if tau[i] > 1e-3)
    return FieldPosterior(m, v, sites, _log_evidence(mean, cov, h, tau, nu, kinds, (m, v)), eye_scatter)


def _log_evidence(
    mean: Array,
    cov: Array,
    h: Array,
    tau: Array,
    nu: Array,
    kinds: list[tuple[float | tuple[float, float], float, bool]],
    post: tuple[Array, Array],
) -> float:
    """ln of the marks' probability by expectation propagation, without what the calipers add (Rasmussen and Williams 2006, 3.6)."""
    m, v = post
    told = tau > 0
    y, variance = nu[told] / tau[told], 1 / tau[told]
    seen = h[told] @ cov @ h[told].T + np.diag(variance)
    off = y - h[told] @ mean
    total = -0.5 * float(off @ np.linalg.solve(seen, off)) - 0.5 * float(np.linalg.slogdet(seen)[1])
    for i, (what, sd, ordinal) in enumerate(kinds):
        if not ordinal or not told[i]:
            continue
        s, c = float(h[i] @ v @ h[i]), float(h[i] @ m)
        precision = max(1 / s - tau[i], 1e-9)
        cavity_var = 1 / precision
        cavity_mean = cavity_var * (c / s - nu[i])
        low, high = what  # type: ignore[misc]
        log_z = truncated_moments(np.array([cavity_mean]), np.array([cavity_var + sd**2]), low, high)[0]
        p = (1 - BEAD.slip) * float(np.exp(log_z[0])) + BEAD.slip / 7
        # The site's own share: N(y; cavity) of a reading with variance 1 / tau.
        both = cavity_var + 1 / tau[i]
        total += np.log(p) + 0.5 * np.log(both) + 0.5 * (nu[i] / tau[i] - cavity_mean) ** 2 / both
    return float(total)


def _with_sites(mean: Array, cov: Array, h: Array, tau: Array, nu: Array) -> tuple[Array, Array]:
    """Gaussian with precision added along the rows h: the Woodbury form, safe for tau = 0."""
    s = np.eye(len(h)) + (tau[:, None] * h) @ cov @ h.T
    gain = cov @ h.T @ np.linalg.inv(s)
    post = cov - gain @ (tau[:, None] * h) @ cov
    return mean + gain @ (nu - tau * (h @ mean)), (post + post.T) / 2


def _slipping_moments(mean: float, var: float, band: tuple[float, float], scatter: float) -> tuple[float, float]:
    """Moments of N(mean, var) times (1 - slip) P(band | x) + slip / 7."""
    s = var + scatter**2
    log_z, shift, shrink = truncated_moments(np.array([mean]), np.array([s]), *band)
    inside = (1 - BEAD.slip) * float(np.exp(log_z[0]))
    outside = BEAD.slip / 7
    p = inside / (inside + outside)
    in_mean = mean + var / s * float(shift[0])
    in_var = max(var - (var / s) ** 2 * float(shrink[0]), 1e-12)
    new_mean = p * in_mean + (1 - p) * mean
    new_var = p * (in_var + (in_mean - new_mean) ** 2) + (1 - p) * (var + (mean - new_mean) ** 2)
    return new_mean, new_var


def learn_proof(belief: Belief, rows: Array, field: FieldPosterior, constant: Array) -> Belief:
    """The belief after a proof: every site of the field as a reading of the state.

    `rows` (z + 1, d) and `constant` (z + 1,) as in `field_prior`.
    """
    for site in field.sites:
        belief = belief.read(site.row @ rows, site.value - float(site.row @ constant), site.sd_mm)
    return belief


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


class Action(Value):
    """Something to do next, with what it is expected to bring and what it costs."""

    kind: Literal["done", "offset", "knobs", "mesh", "measure", "clean", "print_again"]
    p_all_sound: float
    minutes: float
    total_minutes: float
    #: Proofs still expected after this step; 0 where it ends here.
    proofs_left: float = 0.0
    shift_mm: float | None = None
    marks: tuple[int, ...] | None = None
    zone: int | None = None
    #: Zones to clean in the same go: that and the step do not disturb one another.
    clean: tuple[int, ...] = ()
    #: Nothing holds anywhere though the height should be right: the plate as a whole is looked at first.
    whole_plate: bool = False
    reason: str


def p_all_sound(gaps: Array, low: float, high: float) -> float:
    """Share of draws (n, z) in which every zone lies inside (low, high)."""
    return float(np.mean((gaps.min(axis=1) >= low) & (gaps.max(axis=1) <= high)))


def judged_done(field: FieldPosterior, bead: Bead, marks: tuple[Mark, ...]) -> bool:
    """Whether every zone was judged and all are believed sound likely enough, whatever one grade on one print said."""
    z = len(field.mean) - 1
    if len({m.zone for m in marks}) < z or any(m.greasy for m in marks):
        return False
    return p_all_sound(_draws(field, marks, bead), *bead.bands_mm()["sound"]) >= JUDGE.done_at


def _draws(field: FieldPosterior, marks: tuple[Mark, ...], bead: Bead) -> Array:
    """(2048, z) fixed draws of the zones' gaps, by what the marks say and not by its normal.

    Importance resampling: drawn from the normal, weighed by each grade's likelihood over its site. A loose line is
    nowhere near the plate; the tail of a normal would have it there, and no step closer would be safe.
    """
    z = len(field.mean) - 1
    root = np.linalg.cholesky(field.cov + 1e-12 * np.eye(z + 1))
    drawn = field.mean + normal_points(4096, z + 1) @ root.T
    log_weight = np.zeros(len(drawn))
    for site in (s for s in field.sites if s.graded):
        log_weight += 0.5 * ((drawn @ site.row - site.value) / site.sd_mm) ** 2
    bands, scatter = bead.bands_mm(), field.eye_scatter * bead.layer_mm
    for mark in marks:
        if mark.grade is not None and not mark.greasy:
            low, high = bands[mark.grade]
            seen = drawn[:, mark.zone] - bead.layer_mm * drawn[:, z]
            p = ndtr((high - seen) / scatter) - ndtr((low - seen) / scatter)
            log_weight += np.log((1 - BEAD.slip) * p + BEAD.slip / 7)
    weight = np.exp(log_weight - log_weight.max())
    upto = np.cumsum(weight / weight.sum())
    kept = np.searchsorted(upto, (np.arange(2048) + 0.5) / 2048)
    return np.asarray(drawn[np.minimum(kept, len(drawn) - 1), :z])


@dataclass(frozen=True)
class Before:
    """What was done since the proof before, and how often something was tried already."""

    #: The last change of height, positive away, and the last turns; None where the last step was another.
    shift_mm: float | None = None
    turns: tuple[float, ...] | None = None
    #: How often the same was printed again with nothing changed.
    repeats: int = 0
    #: Proofs printed in this run so far.
    proofs: int = 1
    #: Zones whose mesh point was measured again since the mesh was kept: that is not asked for twice.
    measured: frozenset[int] = frozenset()


def next_actions(
    field: FieldPosterior,
    bead: Bead,
    material: str,
    marks: tuple[Mark, ...],
    *,
    z_step_mm: float,
    knob_moves: Array | None,
    mesh_in_use: bool,
    can_mesh: bool = False,
    mark_mm: Array | None = None,
    reading_sd_mm: float = 0.013,
    before: Before | None = None,
) -> tuple[Action, ...]:
    """Actions ranked by the minutes they are expected to take until every zone is sound.

    `knob_moves` (z, m): mm the gap shrinks in each zone per mark of each knob, clockwise from
    above; `mark_mm` (m,) what a mark moves at its support. Two steps are looked ahead:
    total = minutes + (1 - P) again (1 + (1 - P')), P' the chance after the best second action,
    `again` the minutes of one more correction and proof. Done is a step of the same kind: it costs the minutes
    of a part that comes off, with the chance that it does.

    A change is advised only when it leaves the zones likelier sound than they are by `JUDGE.gain`, the hand's and the
    eye's errors counted; else the same is printed again, which tells more, or it is left as it is. A
    step closer leaves a gap under `JUDGE.scrape_mm` anywhere in at most `JUDGE.scrape_p` of cases.
    """
    was = before or Before()
    z = len(field.mean) - 1
    low, high = bead.bands_mm()["sound"]
    target = bead.target_mm(material)
    gaps = _draws(field, marks, bead)
    errors = gaps.mean(axis=0) - target
    minutes = JUDGE.minutes
    now = p_all_sound(gaps, low, high)
    greasy = tuple(m.zone for m in marks if _looks_greasy(m, field, high))
    mostly_greasy = len(greasy) > z / 2
    cleaned = JUDGE.clean_helps ** len(greasy)

    def by_offset(of: Array) -> tuple[float, Array]:
        shift = best_shift(of, low, high, target, z_step_mm)
        return shift, of + shift

    def by_knobs(of: Array) -> tuple[Array, Array]:
        if knob_moves is None or mark_mm is None:
            return np.zeros(0), of
        turn = best_turns(of, knob_moves, low, high, target)
        hand = np.hypot(TRAM.hand_floor_mm, TRAM.hand_share * np.abs(turn * mark_mm)) * (turn != 0)
        slop = normal_points(len(of), len(turn)) * hand / mark_mm
        turned = of - (turn + slop) @ knob_moves.T
        # Knobs that might scrape are left to the offset.
        return (turn, turned) if not _might_scrape(turned) else (np.zeros(len(turn)), of)

    shift, nudged = by_offset(gaps)
    turn, levelled = by_knobs(gaps)
    # In one go: the knobs for what differs from place to place, the offset for what is left of all of it.
    shape_turn, shaped = by_knobs(gaps + (target - float(gaps.mean())))
    rest, finished = by_offset(shaped - (target - float(gaps.mean())))
    both = p_all_sound(finished, low, high) if np.any(shape_turn) and not _might_scrape(finished) else 0.0
    p_nudged, p_levelled = p_all_sound(nudged, low, high), p_all_sound(levelled, low, high)
    alone = max(now, p_nudged, p_levelled)
    changes: list[Action] = []

    def add(kind: str, p: float, then: float, cost: float, reason: str, **more: object) -> None:
        p, then = cleaned * p, cleaned * then
        again = minutes.proof + minutes.offset
        prints = 1 + (1 - p) * (1 + (1 - max(p, then)))
        total = cost + minutes.clean * len(greasy) + (prints - 1) * again
        fields = {"kind": kind, "p_all_sound": p, "minutes": cost, "total_minutes": total, "reason": reason}
        changes.append(Action.model_validate(fields | {"clean": greasy, "proofs_left": prints} | more))

    as_it_is = f"as it is, every zone is sound with {now:.0%}"
    if shift:
        held_back = (
            ""
            if abs(target - float(gaps.mean()) - shift) < 2 * z_step_mm
            else ("; further would risk scraping, so it goes there in steps" if shift < 0 else "")
        )
        add(
            "offset",
            p_nudged,
            max(alone, both),
            minutes.offset + minutes.proof,
            f"the zones run {_signed(float(np.mean(errors)))} mm from the target on average; moving them by "
            f"{_signed(shift)} mm makes every zone sound with {p_nudged:.0%} instead of {now:.0%}{held_back}",
            shift_mm=shift,
        )
    if rest and both > max(p_nudged, p_levelled) + JUDGE.gain / 2:
        add(
            "knobs",
            both,
            both,
            minutes.knobs + minutes.offset + minutes.proof,
            f"the zones differ by {np.ptp(errors):.3f} mm and run {_signed(float(np.mean(errors)))} mm from the target: these turns "
            f"and then {_signed(rest)} mm in one go make every zone sound with {both:.0%} instead of {now:.0%}",
            marks=tuple(int(t) for t in shape_turn),
            shift_mm=rest,
        )
    if np.any(turn) and knob_moves is not None:
        spread, after = np.ptp(errors), np.ptp(errors - knob_moves @ turn)
        add(
            "knobs",
            p_levelled,
            max(alone, both),
            minutes.knobs + minutes.proof,
            f"the zones differ by {spread:.3f} mm; these turns leave {after:.3f} mm and make every "
            f"zone sound with {p_levelled:.0%} instead of {now:.0%}",
            marks=tuple(int(t) for t in turn),
        )
    sds = field.gaps[1]
    if mesh_in_use:
        away = errors - np.median(errors)
        k = int(np.argmax(np.abs(away)))
        if abs(away[k]) > max(0.02, 2 * sds[k]) and k not in was.measured:
            mended = gaps.copy()
            mended[:, k] = np.median(np.delete(gaps, k, axis=1), axis=1) + reading_sd_mm * normal_points(2048, 1)[:, 0]
            p = p_all_sound(mended, low, high)
            add(
                "measure",
                p,
                p_all_sound(by_offset(mended)[1], low, high),
                minutes.measure + minutes.proof,
                f"with the mesh in use this zone still stands {_signed(float(away[k]))} mm from the others; its "
                f"mesh point is the likeliest to be wrong ({p:.0%} after measuring it again beside a neighbour)",
                zone=k,
            )
    elif can_mesh:
        # A mesh follows what differs from place to place; what all zones share stays the offset's.
        followed = gaps.mean(axis=1, keepdims=True) + reading_sd_mm * normal_points(2048, z)
        add(
            "mesh",
            p_all_sound(followed, low, high),
            p_all_sound(by_offset(followed)[1], low, high),
            minutes.mesh + minutes.offset + minutes.proof,
            f"the zones differ by {np.ptp(errors):.3f} mm in a way that offset and knobs cannot follow; with a mesh in "
            f"use and the offset set after it every zone is sound with {p_all_sound(by_offset(followed)[1], low, high):.0%}",
        )
    better = [a for a in changes if a.p_all_sound > now + JUDGE.gain or now < JUDGE.gain]
    if greasy and not mostly_greasy:
        add(
            "clean",
            now,
            alone,
            minutes.clean + minutes.proof,
            f"the gap here is believed to be {field.mean[greasy[0]]:.3f} mm, which should hold; "
            "grease explains it better than height",
            zone=greasy[0],
        )
        better.append(changes[-1])
    ranked = sorted(better, key=lambda a: a.total_minutes)
    judged = len({m.zone for m in marks}) == z and not any(m.greasy for m in marks) and not greasy
    done = Action(kind="done", p_all_sound=now, minutes=0.0, total_minutes=(1 - now) * minutes.failed, reason=as_it_is)
    best = min((a.total_minutes for a in ranked), default=minutes.proof)
    again = Action(
        kind="print_again",
        p_all_sound=now,
        minutes=minutes.proof,
        total_minutes=minutes.proof + (1 - now) * best,
        proofs_left=1 + (1 - now),
        reason=as_it_is,
    )
    if judged and now >= JUDGE.done_at:
        return tuple(sorted((done, *ranked), key=lambda a: a.total_minutes))
    if judged and was.proofs >= JUDGE.proofs_at_most:
        why = (
            f"{as_it_is}; after {was.proofs} proofs an eye does not tell it any better. Leave it for what is printed now, or "
            "measure the patches with a caliper"
        )
        return (done.model_copy(update={"reason": why}), *ranked)
    if mostly_greasy and not was.repeats:
        why = "nothing holds in most zones though the height should be right: what all of them share comes first"
        return (again.model_copy(update={"whole_plate": True, "reason": why}), *ranked)
    if ranked and was.repeats == 0 and _steps_back(ranked[0], was, z_step_mm) and now > JUDGE.gain:
        why = f"{as_it_is}; the best step would take the last one back, so the same print tells more first"
        return (again.model_copy(update={"reason": why}), *ranked)
    little = bool(ranked) and not greasy and ranked[0].p_all_sound < now + 2 * JUDGE.gain
    if little and was.repeats == 0 and now >= JUDGE.evidence_at:
        why = f"{as_it_is}; a plate that may be sound is not changed on one look, so the same print tells more first"
        return (again.model_copy(update={"reason": why}), *ranked)
    if ranked:
        return (*ranked, again)
    if judged and was.repeats >= JUDGE.repeats_at_most and now >= JUDGE.leave_at:
        why = f"{as_it_is}, and no step is expected to make that likelier"
        return (done.model_copy(update={"reason": why}), *sorted(changes, key=lambda a: a.total_minutes))
    if was.repeats >= JUDGE.repeats_at_most and changes:
        return tuple(sorted(changes, key=lambda a: -a.p_all_sound))
    why = f"{as_it_is}; no step is expected to make that plainly likelier, so the same print tells most"
    return (again.model_copy(update={"reason": why}), *sorted(changes, key=lambda a: a.total_minutes))


def _steps_back(action: Action, was: Before, z_step_mm: float) -> bool:
    """Whether a step goes back to about where the last one came from."""
    if action.shift_mm is not None and action.marks is not None:
        return False
    if action.shift_mm is not None and was.shift_mm:
        return action.shift_mm * was.shift_mm < 0 and abs(action.shift_mm) <= abs(was.shift_mm) + 1.5 * z_step_mm
    if action.marks is not None and was.turns is not None:
        pairs = [(new, old) for new, old in zip(action.marks, was.turns, strict=False) if new]
        return all(new * old < 0 and abs(new) <= abs(old) + 1 for new, old in pairs)
    return False


def _signed(mm: float) -> str:
    """+0.03 or −0.03, with a true minus."""
    return f"{mm:+.3f}".replace("-", "−")


def _might_scrape(gaps: Array) -> bool:
    """Whether a gap under `JUDGE.scrape_mm` somewhere is likelier than may be, by draws (n, z)."""
    return bool(np.mean(gaps.min(axis=1) < JUDGE.scrape_mm) > JUDGE.scrape_p)


def best_shift(gaps: Array, low: float, high: float, target: float, step_mm: float) -> float:
    """The change of the gap that makes the most draws (n, z) sound in every zone; ties go to the target.

    Draw k is sound for low - min_k <= shift <= high - max_k, so each candidate is two comparisons. No step closer
    that might scrape.
    """
    ideal = target - float(gaps.mean())
    reach = max(0.12, abs(ideal) + 0.06)
    options = np.round(np.arange(-reach, reach + step_mm, step_mm) / step_mm) * step_mm
    lowest = np.sort(gaps.min(axis=1))
    closest = JUDGE.scrape_mm - float(lowest[int(JUDGE.scrape_p * len(lowest))])
    options = options[(options >= min(closest, 0.0)) | (options >= 0)]
    if not len(options):
        return 0.0
    first, last = low - gaps.min(axis=1), high - gaps.max(axis=1)
    p = np.mean((options[:, None] >= first) & (options[:, None] <= last), axis=1)
    score = p - 0.4 * np.abs(options - ideal)
    best = float(options[np.argmax(score)])
    return 0.0 if abs(best) < step_mm / 2 else round(best, 6)


def best_turns(gaps: Array, moves: Array, low: float, high: float, target: float) -> Array:
    """Whole marks (m,) that make the most draws sound: least squares, then a search around it."""
    errors = gaps.mean(axis=0) - target
    ideal = np.linalg.lstsq(moves, errors, rcond=1e-6)[0]
    sample = gaps[:512]

    def score(turn: Array) -> float:
        moved = sample - turn @ moves.T
        spread = float(np.mean((moved.mean(axis=0) - target) ** 2))
        return p_all_sound(moved, low, high) - 40 * spread - 0.0005 * float(np.count_nonzero(turn))

    best: Array = np.clip(np.round(np.asarray(ideal)), -16, 16)
    best_score = score(best)
    for _ in range(4):
        better = False
        for j in range(len(best)):
            for step in (-1, 1):
                trial = best.copy()
                trial[j] += step
                s = score(trial)
                if s > best_score + 1e-9:
                    best, best_score, better = trial, s, True
        if not better:
            break
    return best if best_score > score(np.zeros(len(best))) else np.zeros(len(best))


def nothing_holds(marks: tuple[Mark, ...], gaps: Array, sds: Array, high: float) -> bool:
    """Whether most zones that were graded do not hold where, by gaps (z,) and sds (z,) from before, they should."""
    graded = [m for m in marks if m.grade is not None]
    odd = [m for m in graded if m.grade in ("loose", "barely") and gaps[m.zone] + 2 * sds[m.zone] < high]
    return len(odd) > len(graded) / 2


def _looks_greasy(mark: Mark, field: FieldPosterior, high: float) -> bool:
    """Marked greasy, or graded loose where the gap (neighbours and caliper) should hold."""
    if mark.greasy:
        return True
    gap, sd = field.mean[mark.zone], float(np.sqrt(field.cov[mark.zone, mark.zone]))
    return bool(mark.grade in ("loose", "barely") and gap + 2 * sd < high)
