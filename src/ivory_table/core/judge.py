"""From the gaps in a proof's zones to the next action."""

from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from scipy.special import ndtr

from .action import Action, Before
from .bead import GRADES, Bead
from .causes import HEIGHT
from .defaults import JUDGE, LAYER, TRAM
from .look_ahead import again_left, caliper
from .moves import best_shift, best_turns, might_scrape, p_all_sound, resampled
from .normals import normal_points
from .proof_field import FLOW, HABIT, FieldPosterior
from .recipe import forgives, thicker_layer
from .signs import Mark
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
    return _Odds.of(field).stays * p_all_sound(drawn_gaps(field, bead), *bead.bands_mm()["sound"])


def looks_sound(field: FieldPosterior, bead: Bead, eye_scatter: float) -> float:
    """The share of zones that is expected to be graded sound, by an eye of this scatter in r: what a promise is held against."""
    z, h = field.zones, bead.layer_mm
    low, high = bead.bands_mm()["sound"]
    see = np.zeros((z, len(field.mean)))
    see[:, :z] = np.eye(z)
    see[:, z + FLOW], see[:, z + HABIT] = -h, h
    at = see @ field.mean
    sd = np.sqrt(np.maximum(((see @ field.cov) * see).sum(axis=1), 0.0) + (eye_scatter * h) ** 2)
    held = _Odds.of(field)
    p = (ndtr((high - at) / sd) - ndtr((low - at) / sd)) * (1 - sum(held.shared.values()))
    return float(p.mean())


def judged_done(field: FieldPosterior, bead: Bead, trust: float = 1.0) -> bool:
    """Whether all zones are believed sound likely enough, whatever one grade on one print said. That they were judged is for others to say."""
    return trust * chance_sound(field, bead) >= JUDGE.done_at


def drawn_gaps(field: FieldPosterior, bead: Bead) -> Array:
    """(2048, z) fixed draws of the zones' gaps, by what the marks say and not by its normal.

    Importance resampling: drawn from the normal, weighed by each sight's likelihood over its site. A loose line is
    nowhere near the plate; the tail of a normal would have it there, and no step closer would be safe.
    """
    z = field.zones
    # Gaps, and what the eye sees of all of them beside the gap: the flow less the eye's habit.
    turn = np.eye(z + 1, z + 3)
    turn[z, z + 1] = -1.0
    cov = turn @ field.cov @ turn.T
    drawn = turn @ field.mean + normal_points(4096, z + 1) @ np.linalg.cholesky(cov + 1e-12 * np.eye(z + 1)).T
    log_weight = np.zeros(len(drawn))
    graded = [s for s in field.sites if s.graded]
    for site in graded:
        row = np.append(site.row[:z], site.row[z + FLOW])
        log_weight += 0.5 * ((drawn @ row - site.value) / site.sd_mm) ** 2
    edges = bead.bands_mm()
    low, high = (np.array([edges[g][end] for g in GRADES]) for end in (0, 1))
    scatter = field.eye_scatter * bead.layer_mm
    for sight in field.sights if graded else ():
        seen = (drawn[:, sight.zone] - bead.layer_mm * drawn[:, z])[:, None]
        held = np.flatnonzero(sight.bands)
        p = ndtr((high[held] - seen) / scatter) - ndtr((low[held] - seen) / scatter)
        log_weight += np.log(p @ sight.bands[held] + sight.rest)
    weight = np.exp(log_weight - log_weight.max())
    return np.asarray(drawn[resampled(weight, 2048), :z])


@dataclass(frozen=True)
class _Odds:
    """What else than the gap keeps zones from holding: by cause, and by zone."""

    shared: dict[str, float]
    greasy: Array

    @classmethod
    def of(cls, field: FieldPosterior) -> "_Odds":
        """Causes that let zones fail; those of height and flow are in the gaps already."""
        kept = {n: p for n, p in field.shared.items() if n != HEIGHT and LAYER.causes[n].fails_edge > 0}
        seen = np.zeros(field.zones, dtype=bool)
        seen[[s.zone for s in field.sights]] = True
        return cls(kept, np.where(seen | (field.greasy == 1.0), field.greasy, 0.0))

    @property
    def stays(self) -> float:
        """The chance that nothing of the kind is at work where zones were seen."""
        return float((1 - sum(self.shared.values())) * np.prod(1 - self.greasy))

    @property
    def dirty(self) -> tuple[int, ...]:
        return tuple(int(k) for k in np.flatnonzero(self.greasy > 0.5))

    @property
    def likeliest(self) -> str | None:
        """The shared cause that is worth a remedy: the one that takes most of the trouble away."""
        name = max(self.shared, key=lambda n: self.shared[n] * LAYER.causes[n].helps, default=None)
        return name if name is not None and self.shared[name] >= JUDGE.cause_at else None

    @property
    def worth_mending(self) -> tuple[str, ...]:
        """Shared causes that are mended in one go, the likeliest first: a print costs more than a remedy."""
        return tuple(sorted((n for n, p in self.shared.items() if p >= JUDGE.also_at), key=lambda n: -self.shared[n]))

    def after(self, clean: tuple[int, ...] = (), causes: tuple[str, ...] = ()) -> "_Odds":
        greasy = self.greasy.copy()
        greasy[list(clean)] *= 1 - LAYER.fails.marked_helps
        shared = {n: p * (1 - LAYER.causes[n].helps) if n in causes else p for n, p in self.shared.items()}
        return _Odds(shared, greasy)


def next_actions(
    field: FieldPosterior, bead: Bead, material: str, marks: tuple[Mark, ...], **known: Any
) -> tuple[Action, ...]:
    """Actions ranked as in `_ranked`, and last of all, where it would end what is left, another first layer for the parts."""
    gaps = drawn_gaps(field, bead)
    ranked = _ranked(field, gaps, bead, material, marks, **known)
    thicker = thicker_layer(bead)
    if ranked[0].kind in ("done", "ladder", "patches") or thicker is None:
        return ranked
    before: Before | None = known.get("before")
    stays = _Odds.of(field).stays * (before.trust if before else 1.0)
    low, high = bead.bands_mm()["sound"]
    now = stays * p_all_sound(gaps, low, high)
    shift = best_shift(gaps, low, high, bead.target_mm(material), known["z_step_mm"])
    # The nozzle runs higher by what the layer is thicker; the band is that of the new bead.
    p = stays * p_all_sound(gaps + shift + thicker.layer_mm - bead.layer_mm, *thicker.bands_mm()["sound"])
    if p < JUDGE.done_at or p < now + JUDGE.gain:
        return ranked
    half, was = forgives(thicker)[1], forgives(bead)[1]
    settings = Action(
        kind="settings",
        p_all_sound=p,
        minutes=JUDGE.minutes.offset,
        total_minutes=JUDGE.minutes.offset + (1 - p) * JUDGE.minutes.failed,
        shift_mm=shift or None,
        reason=f"a first layer of {thicker.layer_mm:.2f} mm forgives ±{half:.3f} mm instead of ±{was:.3f}: printed so, every zone is "
        f"sound with {p:.0%}",
    )
    return (*ranked, settings)


def _ranked(
    field: FieldPosterior,
    gaps: Array,
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
    step closer leaves a gap under `JUDGE.scrape_mm` anywhere in at most `JUDGE.scrape_p` of cases. What does not disturb the
    step is done in the same go: dirty zones are cleaned, a likely shared cause is mended.
    """
    was = before or Before()
    z = field.zones
    low, high = bead.bands_mm()["sound"]
    target = bead.target_mm(material)
    errors = gaps.mean(axis=0) - target
    minutes, odds = JUDGE.minutes, _Odds.of(field)
    dirty, cause = odds.dirty, odds.likeliest
    # Where nothing holds for a cause that all share, that comes before spots of their own.
    clean = () if cause is not None and len(dirty) > z / 2 else dirty
    together = odds.worth_mending if cause is not None else ()
    likely = together if sum(odds.shared[n] for n in together) >= JUDGE.bundle_at else ()
    mended = odds.after(clean, likely).stays * was.trust
    now = p_all_sound(gaps, low, high) * odds.stays * was.trust

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
        return (turn, turned) if not might_scrape(turned) else (np.zeros(len(turn)), of)

    shift, nudged = by_offset(gaps)
    turn, levelled = by_knobs(gaps)
    # In one go: the knobs for what differs from place to place, the offset for what is left of all of it.
    shape_turn, shaped = by_knobs(gaps + (target - float(gaps.mean())))
    rest, finished = by_offset(shaped - (target - float(gaps.mean())))
    both = p_all_sound(finished, low, high) if np.any(shape_turn) and not might_scrape(finished) else 0.0
    p_nudged, p_levelled = p_all_sound(nudged, low, high), p_all_sound(levelled, low, high)
    alone = max(p_all_sound(gaps, low, high), p_nudged, p_levelled)
    changes: list[Action] = []
    extra = minutes.clean * len(clean) + sum(LAYER.causes[n].minutes for n in likely)

    def add(kind: str, p: float, then: float, cost: float, reason: str, **more: object) -> Action:
        p, then = mended * p, mended * then
        again = minutes.proof + minutes.offset
        prints = 1 + (1 - p) * (1 + (1 - max(p, then)))
        total = cost + extra + (prints - 1) * again
        fields = {"kind": kind, "p_all_sound": p, "minutes": cost, "total_minutes": total, "reason": reason}
        made = Action.model_validate(fields | {"clean": clean, "causes": likely, "proofs_left": prints} | more)
        changes.append(made)
        return made

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
            f"{_signed(shift)} mm makes every zone sound with {mended * p_nudged:.0%} instead of {now:.0%}{held_back}",
            shift_mm=shift,
        )
    if rest and both > max(p_nudged, p_levelled) + JUDGE.gain / 2:
        add(
            "knobs",
            both,
            both,
            minutes.knobs + minutes.offset + minutes.proof,
            f"the zones differ by {np.ptp(errors):.3f} mm and run {_signed(float(np.mean(errors)))} mm from the target: these turns "
            f"and then {_signed(rest)} mm in one go make every zone sound with {mended * both:.0%} instead of {now:.0%}",
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
            f"zone sound with {mended * p_levelled:.0%} instead of {now:.0%}",
            marks=tuple(int(t) for t in turn),
        )
    sds = field.gaps[1]
    if mesh_in_use:
        away = errors - np.median(errors)
        k = int(np.argmax(np.abs(away)))
        if abs(away[k]) > max(0.02, 2 * sds[k]) and k not in was.measured:
            followed = gaps.copy()
            followed[:, k] = (
                np.median(np.delete(gaps, k, axis=1), axis=1) + reading_sd_mm * normal_points(2048, 1)[:, 0]
            )
            p = p_all_sound(followed, low, high)
            add(
                "measure",
                p,
                p_all_sound(by_offset(followed)[1], low, high),
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
    as_laid = p_all_sound(gaps, low, high)
    if clean:
        better.append(
            add(
                "clean",
                as_laid,
                alone,
                minutes.proof,
                f"the gap here is believed to be {field.mean[clean[0]]:.3f} mm, which should hold; "
                f"grease explains it better than height ({odds.greasy[clean[0]]:.0%})",
                zone=clean[0],
            )
        )
    if together:
        said = "; ".join(f"{LAYER.causes[n].word}: {odds.shared[n]:.0%}" for n in together)
        cost = 0.0 if likely else sum(LAYER.causes[n].minutes for n in together)
        better.append(
            add(
                "remedy",
                as_laid * odds.after(clean, together).stays * was.trust / max(mended, 1e-9),
                alone,
                cost + minutes.proof,
                f"{said}; the height alone: {field.shared.get(HEIGHT, 0.0):.0%}",
                causes=together,
            )
        )
    fed: Action | None = None
    if (feed := _feed_doubt(field)) >= JUDGE.feed_at and not was.fed:
        flow, flow_sd = field.flow
        better.append(
            fed := add(
                "feed",
                as_laid,
                alone,
                LAYER.causes["feed"].minutes + minutes.proof * (feed < JUDGE.bundle_at),
                f"what comes out may be {flow:+.0%} ±{flow_sd:.0%} of what was asked for: wrong by more than "
                f"{LAYER.feed.said_at:.0%} with {feed:.0%}, and then grades tell another gap".replace("-", "−"),
            )
        )
    ranked = sorted(better, key=lambda a: a.total_minutes)
    if was.height_unknown:
        ladder = Action(
            kind="ladder",
            p_all_sound=now,
            minutes=minutes.proof,
            total_minutes=minutes.proof + minutes.offset + minutes.proof,
            proofs_left=2.0,
            reason=f"the height is known to ±{float(np.sqrt(field.cov[:z, :z].mean())):.2f} mm only: patches that come closer one by one "
            "find it in one print, one height at a time takes several",
        )
        return (ladder, *ranked)
    marked = {m.zone for m in marks} if was.judged is None else was.judged
    # Whatever is believed: what did not hold on the newest print is not called done.
    fallen = any(m.grade in ("loose", "barely") for m in marks)
    judged = len(marked) == z and not dirty and cause is None and not fallen
    done = Action(kind="done", p_all_sound=now, minutes=0.0, total_minutes=(1 - now) * minutes.failed, reason=as_it_is)
    aims = (low, high, target, z_step_mm)
    again = Action(
        kind="print_again",
        p_all_sound=now,
        minutes=minutes.proof,
        # While zones are still to be judged nobody asks how much another print would tell.
        total_minutes=minutes.proof
        + (again_left(field, bead, gaps, aims, mended) if len(marked) == z else (1 - now) * minutes.proof),
        proofs_left=1 + (1 - now),
        reason=as_it_is,
    )

    def with_caliper(first: tuple[Action, ...]) -> tuple[Action, ...]:
        """A caliper comes first where it is said to be at hand and saves more minutes than it takes; else it is one of the others."""
        # What is dirty, cold or fed wrong is mended first: a caliper does not tell of that.
        if was.caliper is False or clean or together:
            return first
        measured = caliper(gaps, aims, marks, mended, first[0].total_minutes)
        if measured is None:
            return first
        saves = first[0].total_minutes - measured.total_minutes
        wanted = first[0] is not fed and saves > JUDGE.caliper_saves and was.caliper
        return (measured, *first) if wanted else (*first, measured)

    if judged and now >= JUDGE.done_at:
        return with_caliper(tuple(sorted((done, *ranked), key=lambda a: a.total_minutes)))
    if judged and was.proofs >= JUDGE.proofs_at_most:
        why = (
            f"{as_it_is}; after {was.proofs} proofs an eye does not tell it any better. Leave it for what is printed now, or "
            "measure the patches with a caliper"
        )
        return (done.model_copy(update={"reason": why}), *ranked)
    to_move = bool(ranked) and ranked[0].shift_mm is not None and not clean and not together
    if (
        fed is not None
        and feed >= JUDGE.cause_at
        and was.proofs <= JUDGE.feed_first
        and to_move
        and _mostly_height(field)
    ):
        # Before any height is judged by it: five minutes, and no proof.
        return with_caliper((fed, *(a for a in ranked if a is not fed)))
    # What is at work in all zones is mended before anything is moved for it.
    first_mended = [a for a in ranked if a.kind == "remedy" and sum(odds.shared.values()) >= JUDGE.bundle_at]
    if first_mended and not _mostly_height(field):
        return (first_mended[0], *(a for a in ranked if a is not first_mended[0]))
    unseen = frozenset(range(z)) - marked
    if was.judged is not None and unseen and not marks:
        # The proof showed only a part of the plate.
        if ranked and ranked[0].p_all_sound > now + JUDGE.gain:
            return tuple(ranked)
        move = next((a for a in changes if a.kind == "offset"), None)
        if move is not None and abs(float(np.mean(errors))) > 2 * z_step_mm:
            # What it did show is taken up before anything else is laid over it.
            return (move, *(a for a in ranked if a is not move))
        if might_scrape(gaps):
            risk = float(np.mean(gaps.min(axis=1) < JUDGE.scrape_mm))
            why = f"somewhere the tip may scrape with {risk:.0%}: how the plate lies is not known well enough to print over all of it"
            return (again.model_copy(update={"kind": "tram", "minutes": minutes.tram, "reason": why}), *ranked)
        why = f"{as_it_is}; {len(unseen)} of {z} zones have not been looked at"
        look = again.model_copy(update={"kind": "patches", "reason": why})
        return (look, *ranked)

    def to_the_end(change: Action) -> float:
        """Minutes of a move, and those still expected after the proof that shows what it brought."""
        if change.kind == "offset":
            return change.minutes + again_left(field, bead, nudged, aims, mended)
        if change.kind == "knobs":
            return change.minutes + again_left(
                field, bead, levelled if change.shift_mm is None else finished, aims, mended
            )
        return np.inf

    doubtful = bool(ranked) and not dirty and cause is None and was.repeats == 0
    back = doubtful and _steps_back(ranked[0], was, z_step_mm) and now > JUDGE.gain
    little = doubtful and ranked[0].p_all_sound < now + 2 * JUDGE.gain and now >= JUDGE.evidence_at
    if (back or little) and again.total_minutes < to_the_end(ranked[0]):
        # One look may be wrong: what the same print would tell is weighed against the step, both followed to the end.
        what = (
            "the best step would take the last one back"
            if back
            else "a plate that may be sound is not changed on one look"
        )
        why = f"{as_it_is}; {what}, so the same print tells more first"
        return with_caliper((again.model_copy(update={"reason": why}), *ranked))
    if ranked:
        return with_caliper((*ranked, again))
    if judged and was.repeats >= JUDGE.repeats_at_most and now >= JUDGE.leave_at:
        why = f"{as_it_is}, and no step is expected to make that likelier"
        return (done.model_copy(update={"reason": why}), *sorted(changes, key=lambda a: a.total_minutes))
    if was.repeats >= JUDGE.repeats_at_most and changes:
        return tuple(sorted(changes, key=lambda a: -a.p_all_sound))
    why = f"{as_it_is}; no step is expected to make that plainly likelier, so the same print tells most"
    return with_caliper((again.model_copy(update={"reason": why}), *sorted(changes, key=lambda a: a.total_minutes)))


def _mostly_height(field: FieldPosterior) -> bool:
    """Whether the height alone, or a height that is not what it was taken for, is likelier than any other shared cause."""
    height = field.shared.get(HEIGHT, 0.0) + field.shared.get("zero", 0.0)
    return height >= max((p for n, p in field.shared.items() if n not in (HEIGHT, "zero")), default=0.0)


def _feed_doubt(field: FieldPosterior) -> float:
    """The chance that what is fed is wrong by more than `LAYER.feed.said_at`; 0 where nothing but the height is considered."""
    if len(field.shared) < 2:
        return 0.0
    mean, sd = field.flow
    edge = LAYER.feed.said_at
    return max(float(1 - ndtr((edge - mean) / sd) + ndtr((-edge - mean) / sd)), field.shared.get("feed", 0.0))


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
