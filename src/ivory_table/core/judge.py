"""Judging a proof: from grades and calipers to the gap in every zone, and to the next action.

The zones' gaps and a common extrusion error are Gaussian before the proof (from the belief);
each mark is an ordinal likelihood with a small share of slips, each caliper value a linear
one. The posterior is found by expectation propagation (Minka 2001; ordinal sites as in
Chu & Ghahramani 2005), whose sites go back into the belief as ordinary readings.
"""

from dataclasses import dataclass
from typing import Literal

import numpy as np

from .bead import Bead, Grade
from .belief import Belief, normal_points, truncated_moments
from .defaults import BEAD, JUDGE, TRAM
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


@dataclass(frozen=True, eq=False)
class FieldPosterior:
    """Mean (z + 1,) and covariance of the zones' gaps in mm, and of the extrusion error last."""

    mean: Array
    cov: Array
    sites: tuple[Site, ...]

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


def estimate_field(mean: Array, cov: Array, marks: tuple[Mark, ...], bead: Bead, sweeps: int = 12) -> FieldPosterior:
    """Expectation propagation over the zones' gaps (z,) and the extrusion error.

    `mean` (z + 1,), `cov` (z + 1, z + 1) in mm. A grade reads gap - layer * extrusion, since
    r = gap / (f h); a caliper reads the gap alone. Raises ValueError for an unknown zone.
    """
    z = len(mean) - 1
    rows: list[Array] = []
    kinds: list[tuple[float | tuple[float, float], float, bool]] = []
    bands = bead.bands_mm()
    scatter = BEAD.grade_sd * bead.layer_mm
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
    sites = tuple(Site(h[i], nu[i] / tau[i], tau[i] ** -0.5) for i in range(len(h)) if tau[i] > 1e-3)
    return FieldPosterior(m, v, sites)


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
    shift_mm: float | None = None
    marks: tuple[int, ...] | None = None
    zone: int | None = None
    reason: str


def every_zone_sound(marks: tuple[Mark, ...], zones: int) -> bool:
    """Whether each zone was judged, and none was graded anything but sound or found greasy."""
    return len({m.zone for m in marks}) == zones and all(
        (m.grade == "sound" or (m.grade is None and m.caliper_mm is not None)) and not m.greasy for m in marks
    )


def p_all_sound(gaps: Array, low: float, high: float) -> float:
    """Share of draws (n, z) in which every zone lies inside (low, high)."""
    return float(np.mean((gaps.min(axis=1) >= low) & (gaps.max(axis=1) <= high)))


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
    repeats: int = 0,
) -> tuple[Action, ...]:
    """Actions ranked by the minutes they are expected to take until every zone is sound.

    `knob_moves` (z, m): mm the gap shrinks in each zone per mark of each knob, clockwise from
    above; `mark_mm` (m,) what a mark moves at its support. Two steps are looked ahead:
    total = minutes + (1 - P) again (1 + (1 - P')), P' the chance after the best second action,
    `again` the minutes of one more correction and proof. Printing again changes nothing but what
    is known: its second step is the best of the others; after one repeat it is not offered while
    something else is.
    """
    z = len(field.mean) - 1
    low, high = bead.bands_mm()["sound"]
    target = bead.target_mm(material)
    root = np.linalg.cholesky(field.cov[:z, :z] + 1e-12 * np.eye(z))
    gaps = field.mean[:z] + normal_points(2048, z) @ root.T
    errors = field.mean[:z] - target
    minutes = JUDGE.minutes
    now = p_all_sound(gaps, low, high)
    done = every_zone_sound(marks, z) and now >= JUDGE.done_at

    def by_offset(of: Array) -> tuple[float, Array]:
        shift = best_shift(of, low, high, target, z_step_mm)
        return shift, of + shift

    def by_knobs(of: Array) -> tuple[Array, Array]:
        if knob_moves is None or mark_mm is None:
            return np.zeros(0), of
        turn = best_turns(of, knob_moves, low, high, target)
        hand = np.hypot(TRAM.hand_floor_mm, TRAM.hand_share * np.abs(turn * mark_mm)) * (turn != 0)
        slop = normal_points(len(of), len(turn)) * hand / mark_mm
        return turn, of - (turn + slop) @ knob_moves.T

    shift, nudged = by_offset(gaps)
    turn, levelled = by_knobs(gaps)
    both = max(
        p_all_sound(by_knobs(nudged)[1], low, high) if len(turn) else 0.0,
        p_all_sound(by_offset(levelled)[1], low, high),
    )
    p_nudged, p_levelled = p_all_sound(nudged, low, high), p_all_sound(levelled, low, high)
    alone = max(now, p_nudged, p_levelled)
    actions: list[Action] = []

    def add(kind: str, p: float, then: float, cost: float, reason: str, **more: object) -> None:
        again = minutes.proof + minutes.offset
        total = cost + (1 - p) * again * (1 + (1 - max(p, then)))
        fields = {"kind": kind, "p_all_sound": p, "minutes": cost, "total_minutes": total, "reason": reason}
        actions.append(Action.model_validate(fields | more))

    as_it_is = f"as it is, every zone is sound with {now:.0%}"
    if done:
        add("done", now, now, 0.0, as_it_is)
    if shift:
        add(
            "offset",
            p_nudged,
            max(alone, both),
            minutes.offset + minutes.proof,
            f"the zones run {_signed(float(np.mean(errors)))} mm from the target on average; moving them by "
            f"{_signed(shift)} mm makes every zone sound with {p_nudged:.0%} instead of {now:.0%}",
            shift_mm=shift,
        )
    if np.any(turn) and knob_moves is not None:
        before, after = np.ptp(errors), np.ptp(errors - knob_moves @ turn)
        add(
            "knobs",
            p_levelled,
            max(alone, both),
            minutes.knobs + minutes.proof,
            f"the zones differ by {before:.3f} mm; these turns leave {after:.3f} mm and make every "
            f"zone sound with {p_levelled:.0%} instead of {now:.0%}",
            marks=tuple(int(t) for t in turn),
        )
    if mesh_in_use:
        away = errors - np.median(errors)
        k = int(np.argmax(np.abs(away)))
        if abs(away[k]) > 0.02:
            mended = gaps.copy()
            mended[:, k] = np.median(np.delete(gaps, k, axis=1), axis=1) + reading_sd_mm * normal_points(2048, 1)[:, 0]
            p = p_all_sound(mended, low, high)
            add(
                "measure",
                p,
                p_all_sound(by_offset(mended)[1], low, high),
                minutes.measure + minutes.proof,
                f"with the mesh in use this zone still stands {_signed(float(away[k]))} mm from the others; its "
                f"mesh point is the likeliest to be wrong ({p:.0%} after measuring it again)",
                zone=k,
            )
    elif can_mesh:
        followed = target + reading_sd_mm * normal_points(2048, z)
        p = p_all_sound(followed, low, high)
        add(
            "mesh",
            p,
            p,
            minutes.mesh + minutes.offset + minutes.proof,
            f"the zones differ by {np.ptp(errors):.3f} mm in a way that offset and knobs cannot follow; with a "
            f"mesh in use every zone is sound with {p:.0%}",
        )
    for mark in marks:
        if _looks_greasy(mark, field, high):
            p = JUDGE.clean_helps * p_all_sound(np.delete(gaps, mark.zone, axis=1), low, high)
            add(
                "clean",
                p,
                alone,
                minutes.clean,
                f"the gap here is believed to be {field.mean[mark.zone]:.3f} mm, which should hold; "
                "grease explains it better than height",
                zone=mark.zone,
            )
    if not done and (not actions or not repeats):
        others = min((a.total_minutes for a in actions), default=minutes.proof)
        actions.append(
            Action(
                kind="print_again",
                p_all_sound=now,
                minutes=minutes.proof,
                total_minutes=minutes.proof + (1 - now) * others,
                reason=as_it_is,
            )
        )
    return tuple(sorted(actions, key=lambda a: a.total_minutes))


def _signed(mm: float) -> str:
    """+0.03 or −0.03, with a true minus."""
    return f"{mm:+.3f}".replace("-", "−")


def best_shift(gaps: Array, low: float, high: float, target: float, step_mm: float) -> float:
    """The change of the gap that makes the most draws (n, z) sound in every zone; ties go to the target.

    Draw k is sound for low - min_k <= shift <= high - max_k, so each candidate is two comparisons.
    """
    ideal = target - float(gaps.mean())
    reach = max(0.12, abs(ideal) + 0.06)
    options = np.round(np.arange(-reach, reach + step_mm, step_mm) / step_mm) * step_mm
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


def _looks_greasy(mark: Mark, field: FieldPosterior, high: float) -> bool:
    """Marked greasy, or graded loose where the gap (neighbours and caliper) should hold."""
    if mark.greasy:
        return True
    gap, sd = field.mean[mark.zone], float(np.sqrt(field.cov[mark.zone, mark.zone]))
    return bool(mark.grade in ("loose", "barely") and gap + 2 * sd < high)
