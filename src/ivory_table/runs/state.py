"""The state of a run is what its rows say: one belief, the machine as it is now, and a slice of its own for each station."""

from dataclasses import dataclass, replace
from functools import cached_property, singledispatch
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from ivory_table.core import tram_told
from ivory_table.core.bead import Bead
from ivory_table.core.belief import Belief
from ivory_table.core.causes import Causes
from ivory_table.core.defaults import HEAT, LAYER, PROOF, TRAM
from ivory_table.core.face import grip_on
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.gauge import Feel
from ivory_table.core.mesh import MeshSurvey, believed_by_machine
from ivory_table.core.plate import Machine
from ivory_table.core.prior import first_belief
from ivory_table.core.probe_tilt import reads_high_mm
from ivory_table.core.proof import ProofPlan, zones_on
from ivory_table.core.proof_field import field_prior, judged_field
from ivory_table.core.setup import RunSetup
from ivory_table.core.springy import in_words, under_gauge_mm
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import ThermalStudy, warp
from ivory_table.core.tip_heat import shorter_mm
from ivory_table.core.tram import tolerance_mm
from ivory_table.core.value import Array
from ivory_table.core.zones_sound import judged_done, looks_sound
from ivory_table.runs.entry import Entry
from ivory_table.runs.judging import judge_proof, sound_unseen, three_heights, wanted_zones, with_marks_learnt
from ivory_table.runs.mesh_in_use import with_mesh_found
from ivory_table.runs.proof import JudgedProof, ProofRun, Wanted
from ivory_table.runs.record import RunRecord, Slice
from ivory_table.runs.row import Row


@dataclass(frozen=True, eq=False)
class RunState(RunRecord):
    """Where a run stands: what its rows have set, and what follows from that."""

    @classmethod
    def start(cls, setup: RunSetup) -> "RunState":
        places = tuple((z.x_mm, z.y_mm) for z in zones_on(setup.plate, 9))
        grip = grip_on(setup.plate, setup.filament.material)
        surface = Surface.of(setup.machine, setup.plate, places, alike=setup.neighbours_alike)
        learnt = setup.learnt
        known, gains = None, None
        if learnt is not None and len(learnt.mean_ln) == surface.knobs:
            known = (np.array(learnt.mean_ln), np.array(learnt.cov_ln)) if surface.knobs > 3 else None
            gains = (np.array(learnt.gains), np.array(learnt.gain_sds)) if learnt.gains else None
        belief = first_belief(
            surface,
            bias_sd_mm=setup.drags_at[1],
            feel=setup.feel,
            lam_known=known,
            gains_known=gains,
            answer_known=learnt.answer_ln if learnt is not None and known is not None else None,
            form_apart=setup.form_apart,
            thread_sd=TRAM.thread_sd if setup.thread_doubted else 0.0,
            reversed_share=[
                TRAM.reversed_proved if s.sense_proved else TRAM.reversed_share for s in setup.machine.screws
            ],
        )
        if setup.feed is not None:
            # A feed lies a little elsewhere from one spool to the next.
            sd = float(np.hypot(setup.feed.sd, LAYER.feed.spool_sd))
            belief = belief.doubted(0.0, 0.0, 0.1).read(surface.unit(surface.extrusion), setup.feed.off, sd)
        state = cls(
            setup,
            belief,
            setup.machine.screws,
            where={w.step: w.line for w in setup.machine.where},
            changes=setup.changes,
            thermal=setup.study.readings if setup.study else (),
            feel=setup.feel,
            eye=setup.eye,
            caliper_off=setup.caliper,
            layer_chosen=setup.layer.bead if setup.layer else None,
            moved_mm=(0.0,) * len(setup.machine.screws),
            stored_mm=setup.machine.stored_mm,
            convention_id=setup.machine.convention,
            sign_proved=setup.machine.sign_proved,
            probe_tilt=setup.machine.probe.tilt if setup.machine.probe else None,
            tip_heat=setup.machine.tip_heat,
            causes=Causes.before(
                setup.filament.material, setup.filament.first_layer_fan, grip.holds if grip is not None else "well"
            )
            if setup.causes_considered
            else Causes.none(),
        )
        return with_mesh_found(state)

    def with_changes(self, told: tuple[str, ...]) -> "RunState":
        """The state once a person told of changes. Whoever wrote the firmware anew may have turned a sign round."""
        changes = tuple(dict.fromkeys((*self.changes, *told)))
        return replace(self, changes=changes, sign_proved=self.sign_proved and "firmware" not in told)

    def put(self, slice_: Slice, **more: Any) -> "RunState":
        """The state with another slice of one station, and other fields."""
        return replace(self, slices={**self.slices, type(slice_): slice_}, **more)

    def apply(self, entry: Entry) -> "RunState":
        """The state after one more entry. Raises ValueError when it cannot be true of this run.

        What a row's kind does comes first: where it moves the plate or the nozzle, or prints, the marks on the newest proof
        are learnt for good, so that nothing is counted twice and no mark lands on a plate it was not seen on.
        """
        effect = entry.what.effect
        now = self
        if effect in ("moves_plate", "moves_nozzle"):
            now = self.moved()
            now = replace(now, moved_by=now.moved_by | {entry.what.kind})
            if effect == "moves_plate":
                now = replace(now, read_at={})
        elif effect == "prints":
            now = self.with_marks()
        return fold(entry.what, now, entry)

    def moved(self) -> "RunState":
        """The state once plate or nozzle are moved: what was seen on the newest proof is learnt, and it is done with."""
        return replace(self.with_marks(), configuration=self.configuration + 1, judged_places=frozenset())

    def read_place(
        self, place_mm: tuple[float, float], zero: str, row: Array, value_mm: float, noise_mm: float
    ) -> "RunState":
        """The state after a place was read over a zero: row . state = value, with noise and the place's own deviation.

        A place deviates from the believed surface by a normal error of its own, the same each time it is read. n readings of
        it are worth one of their mean with variance own^2 + noise^2 / n; told is what the n-th adds to that.
        """
        own = max(TRAM.local_sd_mm**2 * float(self.belief.surface.local_rest([place_mm])[0]), 1e-9)
        key = (round(place_mm[0], 1), round(place_mm[1], 1), zero)
        n, mean = self.read_at.get(key, (0, 0.0))
        was = 1 / (own + noise_mm**2 / n) if n else 0.0
        now = 1 / (own + noise_mm**2 / (n + 1))
        fresh = (n * mean + value_mm) / (n + 1)
        adds = now - was
        belief = self.belief.read(row, (now * fresh - was * mean) / adds, adds**-0.5)
        return replace(self, belief=belief, read_at={**self.read_at, key: (n + 1, fresh)})

    def felt_once(self, x_mm: float, y_mm: float, z_mm: float, feel: Feel, rise_mm: float = 0.0) -> Belief:
        """The belief after the gauge was felt at a place, at one commanded height; `rise_mm`: as `warp_mm`."""
        lift = float(self.machine_believes(np.array([[x_mm, y_mm]]))[0])
        at = z_mm + self.belief.shift_mm + lift + rise_mm
        return tram_told.felt(self.belief, x_mm, y_mm, at, feel, self.drag_gap_at(x_mm, y_mm), self.feel)

    @property
    def drag_gap_mm(self) -> float:
        """The gap, with the tip as hot as it prints, at which the gauge is taken to drag under the tip as it was held."""
        return self.setup.drags_at[0] - self.tip_shorter_mm

    @property
    def tip_shorter_mm(self) -> float:
        """By how much the tip is shorter as it is held than as it prints; 0 where that is not known."""
        felt_c = self.heated.nozzle_c if self.heated else None
        return shorter_mm(self.tip_heat, felt_c, self.setup.filament.nozzle_c)

    def gives_way_mm(self, xy: ArrayLike) -> Array:
        """(n, 2) places -> (n,) mm that the plate stands lower while the gauge drags there; zeros where its supports are stiff."""
        places = np.atleast_2d(np.asarray(xy, dtype=float))
        machine, method = self.setup.machine, self.setup.gauge.method
        soft = machine.softness_mm_n
        return under_gauge_mm(machine.screws_mm, soft, method, places) if soft else np.zeros(len(places))

    @property
    def gives_way_words(self) -> str:
        machine = self.setup.machine
        soft = machine.softness_mm_n
        return in_words(machine.screws_mm, soft, self.setup.gauge.method, self.setup.plate.centre) if soft else ""

    def mesh_reads_high_mm(self, xy: ArrayLike, *, felt: bool) -> Array:
        """(n,) mm that a place is read too high, against the middle: by a probe that leans, or on a plate that gives way when felt."""
        places = np.atleast_2d(np.asarray(xy, dtype=float))
        if felt:
            return self.gives_way_mm([self.setup.plate.centre]) - self.gives_way_mm(places)
        return reads_high_mm(self.probe_tilt, self.setup.plate, places)

    def drag_gap_at(self, x_mm: float, y_mm: float) -> float:
        """The gap at a place, with nothing on the plate, at which the gauge is taken to drag there."""
        return self.drag_gap_mm - float(self.gives_way_mm([(x_mm, y_mm)])[0])

    @property
    def study(self) -> ThermalStudy | None:
        """The thermal study of this plate with what this run has added."""
        return ThermalStudy(plate_id=self.setup.plate_id, readings=self.thermal) if self.thermal else None

    @property
    def bed_wanted_c(self) -> float:
        """The plate's temperature while it is trammed, by the school chosen."""
        hot = self.setup.filament.bed_c
        return {"hot": hot, "warm": min(hot, HEAT.warm_c), "cold": 0.0}[self.school]

    @property
    def bed_at_tram_c(self) -> float:
        if self.school == "hot":
            return self.setup.filament.bed_c
        if self.heated is not None:
            return self.heated.bed_c
        return HEAT.cold_c if self.school == "cold" else self.bed_wanted_c

    def warp_mm(self, xy: ArrayLike) -> Array:
        """(n, 2) places -> (n,) mm that the plate will rise from where it is trammed to print temperature.

        Zeros for the hot school, and where no thermal study can tell; `warp_unknown` says why.
        """
        places = np.atleast_2d(np.asarray(xy, dtype=float))
        if self.school == "hot" or self.study is None or self.warp_unknown:
            return np.zeros(len(places))
        return warp(self.study, self.belief.surface, self.bed_at_tram_c, self.setup.filament.bed_c, places)

    @property
    def warp_unknown(self) -> str:
        """Why a tram below print temperature cannot be corrected; empty when it can or need not be."""
        if self.school == "hot":
            return ""
        if self.study is None:
            return "No thermal study of this plate is on record: how far it moves until it is hot is not known."
        try:
            warp(self.study, self.belief.surface, self.bed_at_tram_c, self.setup.filament.bed_c, np.zeros((1, 2)))
        except ValueError as wrong:
            return str(wrong)
        return ""

    @property
    def tol_mm(self) -> float:
        return tolerance_mm(Bead.usual(self.setup.machine.nozzle_mm).layer_mm)

    @property
    def machine_now(self) -> Machine:
        """The machine with the offset that is stored now, for what is printed now."""
        return self.setup.machine.model_copy(update={"stored_mm": self.stored_mm, "convention": self.convention_id})

    @property
    def bead(self) -> Bead:
        """The first layer's line, as it is printed from here on."""
        return self.layer_chosen or Bead.usual(self.setup.machine.nozzle_mm)

    def machine_believes(self, xy: Array) -> Array:
        """(n,) heights in mm that the machine itself follows with its mesh on; else zeros."""
        if self.mesh is None or not self.mesh_on:
            return np.zeros(len(xy))
        law = self.setup.mesh_law
        lifts = believed_by_machine(self.mesh, xy, law)
        if self.mesh.owns_zero:
            return lifts
        # A probed mesh says nothing of the zero: the machine takes it against the centre.
        return np.asarray(lifts - believed_by_machine(self.mesh, [self.setup.plate.centre], law)[0])

    def drag_height(self, x_mm: float, y_mm: float) -> tuple[float, float]:
        """Commanded z in mm at which the gauge is believed to drag at a place, and its sd."""
        row = self.belief.drag_row(x_mm, y_mm)
        mean, sd = self.belief.of(row[None, :])
        lift = float(self.machine_believes(np.array([[x_mm, y_mm]]))[0])
        return float(mean[0]) - self.belief.shift_mm + self.drag_gap_at(x_mm, y_mm) - lift, float(sd[0])

    @property
    def open_proof(self) -> ProofRun | None:
        """The newest proof, where it can still be judged: neither plate nor nozzle was moved since it was printed."""
        return self.proofs[-1] if self.proofs and self.proofs[-1].configuration == self.configuration else None

    def zone_field(self, proof: ProofRun) -> FieldPosterior:
        """The gaps in the proof's zones, by everything known before it and the marks on it."""
        return self.judged(proof).field

    def promise(self, laid: ProofPlan) -> float | None:
        """The share of a proof's zones that will look sound, once something was printed; None where that is not asked of it."""
        if not self.proofs or not self.setup.causes_considered or not laid.shows_all:
            return None
        return looks_sound(self.foreseen(laid), laid.bead, self.eye.scatter)

    def foreseen(self, laid: ProofPlan) -> FieldPosterior:
        """The gaps in a proof's zones before anything of it was seen."""
        known = self.with_marks()
        return judged_field(
            *known.gaps_before(laid),
            (),
            laid.bead,
            known.eye,
            known.causes,
            np.array(laid.zone_places),
            known.caliper_off,
            laid.spares,
        )[0]

    def gaps_before(self, laid: ProofPlan) -> tuple[Array, Array]:
        """Mean (z + 1,) and covariance of a proof's gaps in mm, and of the flow, by the belief alone."""
        believes = self.machine_believes(laid.places) + laid.away_mm
        return field_prior(self.belief, laid.places, laid.layer_mm, believes)[1:]

    def judged(self, proof: ProofRun) -> JudgedProof:
        """The proof's zones before and after its marks."""
        newest = self.proofs and proof is self.proofs[-1]
        return self._newest_judged if newest else judge_proof(self, proof)

    @cached_property
    def _newest_judged(self) -> JudgedProof:
        return judge_proof(self, self.proofs[-1])

    @property
    def proof_done(self) -> bool:
        """Whether the newest proof shows every zone sound, likely enough; or what was moved since leaves them so surely."""
        proof = self.open_proof
        if proof is None:
            return self.sound_unseen is not None
        if len(proof.marks) < len(proof.plan.zones) - len(proof.skipped) or not proof.marks:
            return False
        if not self.setup.causes_considered:
            return len(proof.marks) == len(proof.plan.zones) and judged_done(self.zone_field(proof), proof.plan.bead)
        wanted = self.wanted
        return wanted.all_judged and judged_done(wanted.field, wanted.plan.bead, self.eye.trust)

    @cached_property
    def sound_unseen(self) -> float | None:
        """The chance that every zone is sound after a move that was not printed; None where it is too low to do without."""
        return sound_unseen(self)

    @cached_property
    def wanted(self) -> Wanted:
        """The zones that are to be sound, and all that is known of them."""
        return wanted_zones(self)

    def with_marks(self) -> "RunState":
        """The newest proof's marks taken into the belief, as the next change needs them; and what was mended since."""
        return self._with_marks_learnt

    @cached_property
    def _with_marks_learnt(self) -> "RunState":
        return with_marks_learnt(self)

    @cached_property
    def three_heights(self) -> ProofPlan | None:
        """Each zone at three heights, where that is the print that tells most."""
        return three_heights(self)

    def with_proof(self, proof: ProofRun) -> "RunState":
        """The state with the newest proof as given."""
        return replace(self, proofs=(*self.proofs[:-1], proof))

    @property
    def height_unknown(self) -> bool:
        """Whether the height is known so badly that patches at one height would most likely tell little."""
        return self.common_gap[1] > PROOF.ladder_from_mm

    @cached_property
    def common_gap(self) -> tuple[float, float]:
        """What all zones have in common of their gap, mm, and its sd, with the marks of the newest proof."""
        laid = self.wanted.plan
        mean, cov = self.with_marks().gaps_before(laid)
        z = len(laid.zones)
        return float(mean[:z].mean()), float(np.sqrt(max(cov[:z, :z].mean(), 0.0)))

    def with_mesh(self, survey: MeshSurvey) -> "RunState":
        """The state with another mesh to follow; what the machine was seen to have of the one before tells nothing of it."""
        return replace(
            self,
            mesh=survey,
            mesh_on=True,
            mesh_since_offset=True,
            mesh_off_for_tram=False,
            mesh_sent=False,
            mesh_stored=False,
            mesh_on_told=False,
            mesh_back_mm=None,
            measured_again=frozenset(),
        )

    def mesh_noise(self, survey: MeshSurvey) -> float:
        """One sd in mm of a reading of such a survey."""
        return self.reading_noise(felt=survey.owns_zero)

    def reading_noise(self, *, felt: bool) -> float:
        """One sd in mm of a place read by the gauge, or by probe or dial."""
        probe = self.setup.machine.probe
        return self.setup.feel.drag_sd_mm if felt else (probe.sd_mm if probe else TRAM.dial_sd_mm)


@singledispatch
def fold(what: Row, run: RunState, entry: Entry) -> RunState:
    """The state after a row. Each station says it for its own kinds, in its `state.py`."""
    raise NotImplementedError(f"Nothing is said of what '{type(what).__name__}' does to a run.")
