"""What may be done after a proof, each with its chance, its minutes and its reason in numbers."""

from dataclasses import dataclass
from functools import cached_property

import numpy as np

from .action import Action, Before
from .bead import Bead
from .causes import HEIGHT
from .defaults import JUDGE, LAYER, TRAM
from .field_seen import FieldPosterior
from .moves import Aims, best_shift, best_turns, lift_clear, might_scrape, p_all_sound
from .normals import normal_points
from .odds import Odds, feed_doubt
from .value import Array


@dataclass(frozen=True, eq=False)
class Remedies:
    """What can be tried, and what each would make of the believed gaps.

    `gaps` (draws, z) mm; `knob_moves` (z, m): mm the gap shrinks in each zone per mark of each knob, clockwise from
    above; `mark_mm` (m,) what a mark moves at its support. Two steps are looked ahead:
    total = minutes + (1 - P) again (1 + (1 - P')), P' the chance after the best second action,
    `again` the minutes of one more correction and proof. A step closer leaves a gap under `JUDGE.scrape_mm`
    anywhere in at most `JUDGE.scrape_p` of cases. What does not disturb the step is done in the same go: dirty
    zones are cleaned, a likely shared cause is mended.
    """

    field: FieldPosterior
    gaps: Array
    bead: Bead
    material: str
    z_step_mm: float
    knob_moves: Array | None
    mesh_in_use: bool
    before: Before
    can_mesh: bool = False
    mark_mm: Array | None = None
    reading_sd_mm: float = 0.013

    @cached_property
    def aims(self) -> Aims:
        """Between which gaps a zone is sound, and which is aimed at, mm."""
        return Aims(*self.bead.bands_mm()["sound"], self.bead.target_mm(self.material), self.z_step_mm)

    @cached_property
    def errors(self) -> Array:
        """(z,) mm that each zone runs from the target, as believed."""
        return np.asarray(self.gaps.mean(axis=0) - self.aims.target_mm)

    @cached_property
    def odds(self) -> Odds:
        """What else than the gap may keep zones from holding."""
        return Odds.of(self.field)

    @cached_property
    def clean(self) -> tuple[int, ...]:
        """Zones to clean. Where nothing holds for a cause that all share, that comes before spots of their own."""
        dirty = self.odds.dirty
        return () if self.odds.likeliest is not None and len(dirty) > self.field.zones / 2 else dirty

    @cached_property
    def together(self) -> tuple[str, ...]:
        """Shared causes that are mended in one go."""
        return self.odds.worth_mending if self.odds.likeliest is not None else ()

    @cached_property
    def likely(self) -> tuple[str, ...]:
        """Those of them that are mended along with whatever is done."""
        return self.together if sum(self.odds.shared[n] for n in self.together) >= JUDGE.bundle_at else ()

    @cached_property
    def mended(self) -> float:
        """The chance that nothing but the gap is in the way once zones are cleaned and likely causes mended."""
        return self.odds.after(self.clean, self.likely).stays * self.before.trust

    @cached_property
    def as_laid(self) -> float:
        """The chance that every gap is sound as it is."""
        return self._sound(self.gaps)

    @cached_property
    def now(self) -> float:
        """The chance that every zone is sound as it is."""
        return self.as_laid * self.odds.stays * self.before.trust

    @property
    def as_it_is(self) -> str:
        """The chance as it stands, in words."""
        return f"as it is, every zone is sound with {self.now:.0%}"

    def _sound(self, gaps: Array) -> float:
        return p_all_sound(gaps, self.aims.low_mm, self.aims.high_mm)

    def _by_offset(self, gaps: Array) -> tuple[float, Array]:
        """The best shift in mm, away positive, and the gaps after it."""
        shift = best_shift(gaps, *self.aims)
        return shift, gaps + shift

    def _by_knobs(self, gaps: Array) -> tuple[Array, Array]:
        """The best turns in marks, and the gaps after them with the hand's errors; none where they might scrape."""
        if self.knob_moves is None or self.mark_mm is None:
            return np.zeros(0), gaps
        turn = best_turns(gaps, self.knob_moves, self.aims.low_mm, self.aims.high_mm, self.aims.target_mm)
        hand = np.hypot(TRAM.hand_floor_mm, TRAM.hand_share * np.abs(turn * self.mark_mm)) * (turn != 0)
        slop = normal_points(len(gaps), len(turn)) * hand / self.mark_mm
        turned = gaps - (turn + slop) @ self.knob_moves.T
        # Knobs that might scrape are left to the offset.
        return (turn, turned) if not might_scrape(turned) else (np.zeros(len(turn)), gaps)

    @cached_property
    def nudged(self) -> tuple[float, Array]:
        """The best shift in mm, away positive, and the gaps (draws, z) after it."""
        return self._by_offset(self.gaps)

    @cached_property
    def levelled(self) -> tuple[Array, Array]:
        """The best turns (m,) in marks, and the gaps (draws, z) after them."""
        return self._by_knobs(self.gaps)

    @cached_property
    def _middle_off_mm(self) -> float:
        return self.aims.target_mm - float(self.gaps.mean())

    @cached_property
    def finished(self) -> tuple[Array, float, Array]:
        """In one go: the knobs for what differs from place to place, the offset for what is left of all of it."""
        turn, shaped = self._by_knobs(self.gaps + self._middle_off_mm)
        rest, gaps = self._by_offset(shaped - self._middle_off_mm)
        return turn, rest, gaps

    @cached_property
    def _p_nudged(self) -> float:
        return self._sound(self.nudged[1])

    @cached_property
    def _p_levelled(self) -> float:
        return self._sound(self.levelled[1])

    @cached_property
    def _p_finished(self) -> float:
        turn, _, gaps = self.finished
        return self._sound(gaps) if np.any(turn) and not might_scrape(gaps) else 0.0

    @cached_property
    def _alone(self) -> float:
        """The chance after the best single step by height."""
        return max(self.as_laid, self._p_nudged, self._p_levelled)

    def unseen(self, p: float) -> bool:
        """Whether nothing more is printed after a move to this chance: where all of the plate was seen to hold, and nothing is mended."""
        seen = self.before.judged is not None and len(self.before.judged) == self.field.zones
        return seen and not self.before.fallen and not self.clean and not self.likely and p >= JUDGE.unseen_at

    def _step(self, kind: str, p: float, then: float, cost: float, reason: str, **more: object) -> Action:
        """A step with its chance `p` by height, the chance after the best second one, and its own minutes."""
        p, then = self.mended * p, self.mended * then
        minutes = JUDGE.minutes
        extra = minutes.clean * len(self.clean) + sum(LAYER.causes[n].minutes for n in self.likely)
        prints = 1 + (1 - p) * (1 + (1 - max(p, then)))
        total = cost + extra + (prints - 1) * (minutes.proof + minutes.offset) + minutes.at_last
        if kind in ("offset", "knobs") and self.unseen(p):
            total, prints = cost - minutes.proof + (1 - p) * minutes.failed, 0.0
        told = {"kind": kind, "p_all_sound": p, "minutes": cost, "total_minutes": total, "reason": reason}
        return Action.model_validate(told | {"clean": self.clean, "causes": self.likely, "proofs_left": prints} | more)

    def by_height(self) -> tuple[Action, ...]:
        """Every step that moves tip or plate, or makes the machine follow the plate."""
        found = (self._offset(), self._knobs_and_offset(), self._knobs(), self._mesh_point(), self._mesh())
        return tuple(step for step in found if step is not None)

    def _offset(self) -> Action | None:
        shift = self.nudged[0]
        if not shift:
            return None
        held_back = shift < 0 and abs(self._middle_off_mm - shift) >= 2 * self.z_step_mm
        further = "; further would risk scraping, so it goes there in steps" if held_back else ""
        return self._step(
            "offset",
            self._p_nudged,
            max(self._alone, self._p_finished),
            JUDGE.minutes.offset + JUDGE.minutes.proof,
            f"the zones run {_signed(float(np.mean(self.errors)))} mm from the target on average; moving them by "
            f"{_signed(shift)} mm makes every zone sound with {self.mended * self._p_nudged:.0%} instead of {self.now:.0%}{further}",
            shift_mm=shift,
        )

    def lifted(self, why: str) -> Action:
        """The tip moved away until it surely scrapes nowhere, so that all of the plate can be printed over and looked at."""
        up = lift_clear(self.gaps, self.z_step_mm)
        p, minutes = self.mended * self._sound(self.gaps + up), JUDGE.minutes
        return Action(
            kind="offset",
            p_all_sound=p,
            minutes=minutes.offset,
            total_minutes=minutes.offset + (2 - p) * minutes.proof + minutes.at_last,
            proofs_left=2 - p,
            shift_mm=up,
            reason=f"{why}, and Tram can do no more; {_signed(up)} mm away from the plate it surely scrapes nowhere",
        )

    def _knobs_and_offset(self) -> Action | None:
        turn, rest, _ = self.finished
        both = self._p_finished
        if not rest or both <= max(self._p_nudged, self._p_levelled) + JUDGE.gain / 2:
            return None
        return self._step(
            "knobs",
            both,
            both,
            JUDGE.minutes.knobs + JUDGE.minutes.offset + JUDGE.minutes.proof,
            f"the zones differ by {np.ptp(self.errors):.3f} mm and run {_signed(float(np.mean(self.errors)))} mm from the target: these turns "
            f"and then {_signed(rest)} mm in one go make every zone sound with {self.mended * both:.0%} instead of {self.now:.0%}",
            marks=tuple(int(t) for t in turn),
            shift_mm=rest,
        )

    def _knobs(self) -> Action | None:
        turn = self.levelled[0]
        if not np.any(turn) or self.knob_moves is None:
            return None
        spread, after = np.ptp(self.errors), np.ptp(self.errors - self.knob_moves @ turn)
        return self._step(
            "knobs",
            self._p_levelled,
            max(self._alone, self._p_finished),
            JUDGE.minutes.knobs + JUDGE.minutes.proof,
            f"the zones differ by {spread:.3f} mm; these turns leave {after:.3f} mm and make every "
            f"zone sound with {self.mended * self._p_levelled:.0%} instead of {self.now:.0%}",
            marks=tuple(int(t) for t in turn),
        )

    def _mesh_point(self) -> Action | None:
        """With a mesh in use: the one zone that stands away from the others is measured again."""
        if not self.mesh_in_use:
            return None
        away = self.errors - np.median(self.errors)
        k = int(np.argmax(np.abs(away)))
        if abs(away[k]) <= max(0.02, 2 * self.field.gaps[1][k]) or k in self.before.measured:
            return None
        followed = self.gaps.copy()
        followed[:, k] = (
            np.median(np.delete(self.gaps, k, axis=1), axis=1) + self.reading_sd_mm * normal_points(2048, 1)[:, 0]
        )
        p = self._sound(followed)
        return self._step(
            "measure",
            p,
            self._sound(self._by_offset(followed)[1]),
            JUDGE.minutes.measure + JUDGE.minutes.proof,
            f"with the mesh in use this zone still stands {_signed(float(away[k]))} mm from the others; its "
            f"mesh point is the likeliest to be wrong ({p:.0%} after measuring it again beside a neighbour)",
            zone=k,
        )

    def _mesh(self) -> Action | None:
        """A mesh follows what differs from place to place; what all zones share stays the offset's.

        One of an earlier run may be of another plate by now: then it is measured anew, and only then.
        """
        anew = self.mesh_in_use and self.before.mesh_of_old
        if not self.can_mesh or (self.mesh_in_use and not anew):
            return None
        scatter = self.reading_sd_mm * normal_points(2048, self.field.zones)
        followed = self.gaps.mean(axis=1, keepdims=True) + scatter
        p_then = self._sound(self._by_offset(followed)[1])
        return self._step(
            "mesh",
            self._sound(followed),
            p_then,
            JUDGE.minutes.mesh + JUDGE.minutes.offset + JUDGE.minutes.proof,
            f"the zones differ by {np.ptp(self.errors):.3f} mm in a way that offset and knobs cannot follow"
            f"{', and the mesh in use is of an earlier run' if anew else ''}; with a mesh {'of today ' if anew else ''}in "
            f"use and the offset set after it every zone is sound with {p_then:.0%}",
        )

    def cleaning(self) -> Action | None:
        """The dirty zones cleaned, and the height left alone; None where none is."""
        if not self.clean:
            return None
        first = self.clean[0]
        return self._step(
            "clean",
            self.as_laid,
            self._alone,
            JUDGE.minutes.proof,
            f"the gap here is believed to be {self.field.mean[first]:.3f} mm, which should hold; "
            f"grease explains it better than height ({self.odds.greasy[first]:.0%})",
            zone=first,
        )

    def remedy(self) -> Action | None:
        """What all zones share, mended in one go."""
        if not self.together:
            return None
        said = "; ".join(f"{LAYER.causes[n].word}: {self.odds.shared[n]:.0%}" for n in self.together)
        cost = 0.0 if self.likely else sum(LAYER.causes[n].minutes for n in self.together)
        stays = self.odds.after(self.clean, self.together).stays * self.before.trust
        return self._step(
            "remedy",
            self.as_laid * stays / max(self.mended, 1e-9),
            self._alone,
            cost + JUDGE.minutes.proof,
            f"{said}; the height alone: {self.field.shared.get(HEIGHT, 0.0):.0%}",
            causes=self.together,
        )

    def feed(self) -> Action | None:
        """Measure what is fed, where it may be wrong and nobody has yet."""
        doubt = feed_doubt(self.field)
        unknown = self.before.asks_feed_once
        if self.before.fed or doubt < (JUDGE.feed_unknown_at if unknown else JUDGE.feed_at):
            return None
        flow, flow_sd = self.field.flow
        kept = ". Once it is measured it is known for every later run with this filament" if unknown else ""
        return self._step(
            "feed",
            self.as_laid,
            self._alone,
            LAYER.causes["feed"].minutes + JUDGE.minutes.proof * (doubt < JUDGE.bundle_at),
            f"what comes out may be {flow:+.0%} ±{flow_sd:.0%} of what was asked for: wrong by more than "
            f"{LAYER.feed.said_at:.0%} with {doubt:.0%}, and then grades tell another gap{kept}".replace("-", "−"),
        )


def _signed(mm: float) -> str:
    """+0.03 or −0.03, with a true minus."""
    return f"{mm:+.3f}".replace("-", "−")
