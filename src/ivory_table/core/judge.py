"""From the gaps in a proof's zones to the next action."""

from dataclasses import dataclass
from functools import cached_property
from typing import Any

import numpy as np

from .action import Action, Before, FirstLayer
from .bead import Bead
from .defaults import JUDGE, LAYER
from .field_seen import FieldPosterior
from .look_ahead import again_left, caliper
from .moves import best_shift, might_scrape, p_all_sound
from .odds import Odds, feed_doubt, mostly_height
from .recipe import forgives
from .remedies import Remedies
from .signs import Mark
from .value import Array
from .zones_sound import drawn_gaps


def next_actions(
    field: FieldPosterior,
    bead: Bead,
    material: str,
    marks: tuple[Mark, ...],
    *,
    layers: tuple[Bead, ...] = (),
    **known: Any,
) -> tuple[Action, ...]:
    """Actions as `_Decision` ranks them, and where it would end what is left, another first layer.

    That is a change to every job, so it comes last; first only where nothing else makes the plate rather sound than not, and
    going on is expected to take even longer. `layers`: those that could be printed instead, the smallest change first.
    """
    gaps = drawn_gaps(field, bead)
    before: Before = known.pop("before", None) or Before()
    ranked = _Decision(Remedies(field, gaps, bead, material, before=before, **known), marks).ranked()
    first = ranked[0]
    if first.kind in ("done", "ladder", "patches") and not first.leaves:
        return ranked
    settings = _settings(field, gaps, bead, material, layers, before.trust, known["z_step_mm"])
    if settings is None:
        return ranked
    # By one proof nobody knows the plate well enough to change every job for it; and what is dirty, or has a mesh to come, is not.
    moves = ranked[0].kind in ("offset", "knobs", "print_again")
    hardly = moves and before.proofs > 1 and all(a.p_all_sound < JUDGE.rather_sound for a in ranked)
    return (settings, *ranked) if hardly and settings.total_minutes < ranked[0].total_minutes else (*ranked, settings)


def _settings(
    field: FieldPosterior,
    gaps: Array,
    bead: Bead,
    material: str,
    layers: tuple[Bead, ...],
    trust: float,
    z_step_mm: float,
) -> Action | None:
    """The first of these layers that forgives what is left; None where none does, or none need."""
    stays = Odds.of(field).stays * trust
    now = stays * p_all_sound(gaps, *bead.bands_mm()["sound"])
    for other in layers:
        low, high = other.bands_mm()["sound"]
        # The nozzle runs higher by what the layer is thicker; the band is that of the new bead.
        raised = gaps + other.layer_mm - bead.layer_mm
        shift = best_shift(raised, low, high, other.target_mm(material), z_step_mm)
        p = stays * p_all_sound(raised + shift, low, high)
        if p < JUDGE.done_at or p < now + JUDGE.gain:
            continue
        return Action(
            kind="settings",
            p_all_sound=p,
            minutes=JUDGE.minutes.settings,
            total_minutes=JUDGE.minutes.settings + (1 - p) * JUDGE.minutes.failed,
            shift_mm=shift or None,
            layer=FirstLayer(
                layer_mm=round(other.layer_mm, 3), line_mm=round(other.line_mm, 3), wider=other.line_mm > bead.line_mm
            ),
            reason=f"a first layer of {other.layer_mm:.2f} mm forgives ±{forgives(other)[1]:.3f} mm instead of "
            f"±{forgives(bead)[1]:.3f}: printed so, every zone is sound with {p:.0%}",
        )
    return None


@dataclass(frozen=True, eq=False)
class _Decision:
    """Actions ranked by the minutes they are expected to take until every zone is sound.

    Done is a step of the same kind: it costs the minutes of a part that comes off, with the chance that it does.
    A change is advised only when it leaves the zones likelier sound than they are by `JUDGE.gain`, the hand's and the
    eye's errors counted; else the same is printed again, which tells more, or it is left as it is.
    """

    can: Remedies
    marks: tuple[Mark, ...]

    @cached_property
    def by_height(self) -> tuple[Action, ...]:
        return self.can.by_height()

    @cached_property
    def feed(self) -> Action | None:
        return self.can.feed()

    @cached_property
    def better(self) -> tuple[Action, ...]:
        """What leaves the zones likelier sound, the fewest minutes first."""
        now = self.can.now
        worth = [a for a in self.by_height if a.p_all_sound > now + self._gain(a) or now < JUDGE.gain]
        worth += [a for a in (self.can.cleaning(), self.can.remedy(), self.feed) if a is not None]
        return tuple(sorted(worth, key=lambda a: a.total_minutes))

    def _gain(self, action: Action) -> float:
        """By how much a step must make the zones likelier sound. A stored value alone, after which nothing is printed, costs a minute."""
        free = action.kind == "offset" and self.can.unseen(action.p_all_sound)
        return JUDGE.unseen_gain if free else JUDGE.gain

    @property
    def judged_zones(self) -> frozenset[int]:
        was = self.can.before.judged
        return frozenset(m.zone for m in self.marks) if was is None else was

    @cached_property
    def judged(self) -> bool:
        """Whether all were judged and nothing is seen to be wrong: what did not hold on the newest print is not called done."""
        fallen = self.can.before.fallen or any(m.fell for m in self.marks)
        odds = self.can.odds
        everywhere = len(self.judged_zones) == self.can.field.zones
        return everywhere and not odds.dirty and odds.likeliest is None and not fallen

    @cached_property
    def done(self) -> Action:
        can = self.can
        total = (1 - can.now) * JUDGE.minutes.failed
        return Action(kind="done", p_all_sound=can.now, minutes=0.0, total_minutes=total, reason=can.as_it_is)

    @cached_property
    def again(self) -> Action:
        """The same print once more."""
        can, proof = self.can, JUDGE.minutes.proof
        # While zones are still to be judged nobody asks how much another print would tell.
        everywhere = len(self.judged_zones) == can.field.zones
        left = self._left(can.gaps) if everywhere else (1 - can.now) * proof + JUDGE.minutes.at_last
        return Action(
            kind="print_again",
            p_all_sound=can.now,
            minutes=proof,
            total_minutes=proof + left,
            proofs_left=1 + (1 - can.now),
            reason=can.as_it_is,
        )

    def _left(self, gaps: Array) -> float:
        """Minutes still expected after a print over these gaps."""
        can = self.can
        return again_left(can.field, can.bead, gaps, can.aims, can.mended, can.before.apart_mm)

    def ranked(self) -> tuple[Action, ...]:
        """The first of these that has something to say."""
        return (
            self._ladder()
            or self._ended()
            or self._mended_first()
            or self._looked_at_rest()
            or self._evidence_first()
            or self._best()
        )

    def _told_apart(self) -> Action:
        """What was mended is not mended again before the height was looked for: nothing holds at a wrong one either."""
        said = "; ".join(f"{LAYER.causes[n].word}: mended already" for n in self.can.together)
        proof = JUDGE.minutes.proof
        return self.again.model_copy(
            update={
                "kind": "ladder",
                "total_minutes": 2 * proof + JUDGE.minutes.offset + JUDGE.minutes.at_last,
                "proofs_left": 2.0,
                "reason": f"{said}, and nothing holds still. Patches that come closer one by one tell whether it is the height: "
                "if one of them holds, it is",
            }
        )

    def _ladder(self) -> tuple[Action, ...]:
        if not self.can.before.height_unknown:
            return ()
        proof, z = JUDGE.minutes.proof, self.can.field.zones
        ladder = Action(
            kind="ladder",
            p_all_sound=self.can.now,
            minutes=proof,
            total_minutes=proof + JUDGE.minutes.offset + proof + JUDGE.minutes.at_last,
            proofs_left=2.0,
            reason=f"the height is known to ±{float(np.sqrt(self.can.field.cov[:z, :z].mean())):.2f} mm only: patches that come "
            "closer one by one find it in one print, one height at a time takes several",
        )
        return (ladder, *self.better)

    def _ended(self) -> tuple[Action, ...]:
        """Done, or as good as an eye can tell it."""
        can = self.can
        if self.judged and can.now >= JUDGE.done_at:
            return self._with_caliper(tuple(sorted((self.done, *self.better), key=lambda a: a.total_minutes)))
        if self.judged and can.before.proofs >= JUDGE.proofs_at_most:
            why = (
                f"{can.as_it_is}; after {can.before.proofs} proofs an eye does not tell it any better. Leave it for what is "
                "printed now, or measure the patches with a caliper"
            )
            return (self.done.model_copy(update={"reason": why}), *self.better)
        return ()

    def _mended_first(self) -> tuple[Action, ...]:
        """What is at work in all zones is mended before anything is moved for it."""
        can, better = self.can, self.better
        to_move = bool(better) and better[0].shift_mm is not None and not can.clean and not can.together
        doubt = feed_doubt(can.field)
        doubted = self.feed is not None and (can.before.asks_feed_once or doubt >= JUDGE.cause_at)
        if doubted and can.before.proofs <= JUDGE.feed_first and to_move and mostly_height(can.field):
            # Before any height is judged by it: five minutes, and no proof.
            return self._with_caliper(_first(better, "feed"))
        shared = sum(can.odds.shared.values()) >= JUDGE.bundle_at
        if shared and can.before.fallen and can.together and can.before.mended_in_vain.issuperset(can.together):
            return (self._told_apart(), *better)
        if shared and not mostly_height(can.field) and any(a.kind == "remedy" for a in better):
            return _first(better, "remedy")
        return ()

    def _looked_at_rest(self) -> tuple[Action, ...]:
        """Where the proof showed only a part of the plate: what it did show is taken up, then the rest is looked at."""
        can, better, zones = self.can, self.better, self.can.field.zones
        unseen = frozenset(range(zones)) - self.judged_zones
        if can.before.judged is None or not unseen or self.marks:
            return ()
        if better and better[0].p_all_sound > can.now + JUDGE.gain:
            return better
        move = next((a for a in self.by_height if a.kind == "offset"), None)
        if move is not None and abs(float(np.mean(can.errors))) > 2 * can.z_step_mm:
            return (move, *(a for a in better if a is not move))
        if might_scrape(can.gaps):
            return (self._clear_first(), *better)
        why = f"{can.as_it_is}; {len(unseen)} of {zones} zones have not been looked at"
        return (self.again.model_copy(update={"kind": "patches", "reason": why}), *better)

    def _clear_first(self) -> Action:
        """Before a tip that may scrape somewhere prints over all of the plate: it is trammed, or the tip is lifted."""
        can = self.can
        risk = float(np.mean(can.gaps.min(axis=1) < JUDGE.scrape_mm))
        why = f"somewhere the tip may scrape with {risk:.0%}: how the plate lies is not known well enough to print over all of it"
        if can.before.tram == "open":
            tram = {"kind": "tram", "minutes": JUDGE.minutes.tram, "reason": why}
            return self.again.model_copy(update=tram)
        return can.lifted(why)

    def _evidence_first(self) -> tuple[Action, ...]:
        """One look may be wrong: what the same print would tell is weighed against the step, both followed to the end."""
        can, better, was = self.can, self.better, self.can.before
        # A caliper on most of its zones is a second look, and a better one; so are three patches of each, once something was moved:
        # who finds a plate sound on the first print is not told to change it on that print alone.
        looked_closely = was.several_heights and was.proofs > 1
        seen_twice = was.repeats or looked_closely or 2 * was.calipered > can.field.zones
        if not better or can.odds.dirty or can.odds.likeliest is not None or seen_twice:
            return ()
        back = _steps_back(better[0], was, can.z_step_mm) and can.now > JUDGE.gain
        little = better[0].p_all_sound < can.now + 2 * JUDGE.gain and can.now >= JUDGE.evidence_at
        # A plate that is rather sound than not is left until it was seen twice, whatever a move would save.
        rather_sound = can.now >= JUDGE.rather_sound
        if not rather_sound and (not (back or little) or self.again.total_minutes >= self._to_the_end(better[0])):
            return ()
        what = (
            "the best step would take the last one back"
            if back
            else "a plate that may be sound is not changed on one look"
        )
        if self.feed is not None and self.feed.total_minutes < self.again.total_minutes:
            return self._with_caliper(_first(better, "feed"))
        why = f"{can.as_it_is}; {what}, so the same print tells more first"
        return self._with_caliper((self.again.model_copy(update={"reason": why}), *better))

    def _best(self) -> tuple[Action, ...]:
        can, was = self.can, self.can.before
        if self.better:
            return self._with_caliper((*self.better, self.again))
        changes = tuple(sorted(self.by_height, key=lambda a: a.total_minutes))
        if self.judged and was.repeats >= JUDGE.repeats_at_most and can.now >= JUDGE.leave_at:
            # What would else be left for good is worth a step that a print more would have kept from.
            worth = [a for a in changes if a.p_all_sound > can.now + JUDGE.unseen_gain]
            if worth and worth[0].total_minutes < self.done.total_minutes:
                return self._with_caliper((*worth, self.done))
            why = f"{can.as_it_is}, and no move is expected to make that plainly likelier"
            return (self.done.model_copy(update={"reason": why}), *changes)
        if was.repeats >= JUDGE.repeats_at_most and changes:
            return tuple(sorted(self.by_height, key=lambda a: -a.p_all_sound))
        if was.repeats >= JUDGE.repeats_at_most:
            return (self._beyond_this_station(),)
        why = f"{can.as_it_is}; no step is expected to make that plainly likelier, so the same print tells most"
        return self._with_caliper((self.again.model_copy(update={"reason": why}), *changes))

    def _beyond_this_station(self) -> Action:
        """Seen twice, and neither a height nor a turn would do: the same print would only show it again."""
        can = self.can
        if can.before.tram == "gave_up":
            why = f"{can.as_it_is}; no height would do, and the knobs do not bring the plate level: what Tram names is to be mended first"
            return self.done.model_copy(update={"reason": why})
        if can.knob_moves is not None and can.before.tram == "open" and can.before.proofs < JUDGE.proofs_at_most:
            why = f"{can.as_it_is}, and the zones lie too far apart for any height: the plate is to be level first"
            tram = {"kind": "tram", "minutes": JUDGE.minutes.tram, "reason": why}
            return self.again.model_copy(update=tram)
        why = f"{can.as_it_is}; after {can.before.proofs} proofs nothing that can be done here has bettered that"
        return self.done.model_copy(update={"reason": why})

    def _to_the_end(self, change: Action) -> float:
        """Minutes of a move, and those still expected after the proof that shows what it brought, where one is printed."""
        if self.can.unseen(change.p_all_sound):
            return change.total_minutes
        if change.kind == "offset":
            return change.minutes + self._left(self.can.nudged[1])
        if change.kind == "knobs":
            gaps = self.can.levelled[1] if change.shift_mm is None else self.can.finished[2]
            return change.minutes + self._left(gaps)
        return np.inf

    def _with_caliper(self, first: tuple[Action, ...]) -> tuple[Action, ...]:
        """A caliper comes first where it is said to be at hand and saves more minutes than it takes; else it is one of the others."""
        can = self.can
        # What is dirty, cold or fed wrong is mended first: a caliper does not tell of that.
        if can.before.caliper is False or can.clean or can.together:
            return first
        fused = can.before.to_measure
        if fused is None:
            fused = {m.zone: m.zone for m in self.marks if m.to_measure}
        measured = caliper(can.gaps, can.aims, fused, can.mended, first[0].total_minutes)
        if measured is None:
            return first
        saves = measured.total_minutes < first[0].total_minutes
        wanted = first[0] is not self.feed and saves and can.before.caliper
        return (measured, *first) if wanted else (*first, measured)


def _first(actions: tuple[Action, ...], kind: str) -> tuple[Action, ...]:
    """The first of a kind before all others."""
    found = next(a for a in actions if a.kind == kind)
    return (found, *(a for a in actions if a is not found))


def _steps_back(action: Action, was: Before, z_step_mm: float) -> bool:
    """Whether a step goes back to about where the last one came from."""
    if action.shift_mm is not None and action.marks is not None:
        return False
    if action.shift_mm is not None and was.shift_mm:
        return action.shift_mm * was.shift_mm < 0 and abs(action.shift_mm + was.shift_mm) <= 1.5 * z_step_mm
    if action.marks is not None and was.turns is not None:
        pairs = [(new, old) for new, old in zip(action.marks, was.turns, strict=False) if new]
        return all(new * old < 0 and abs(new) <= abs(old) + 1 for new, old in pairs)
    return False
