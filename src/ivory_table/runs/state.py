"""The state of a run is what its rows say: one belief, the machine as it is now, and a slice of its own for each station."""

from dataclasses import dataclass, field, replace
from datetime import datetime
from functools import cached_property, singledispatch
from typing import Any, Self

import numpy as np
from numpy.typing import ArrayLike

from ivory_table.core import advice
from ivory_table.core.approach import Approach
from ivory_table.core.bead import Bead
from ivory_table.core.belief import Belief
from ivory_table.core.causes import Causes
from ivory_table.core.defaults import BEAD, HEAT, OFFSET, PROOF, SURVEY, TRAM
from ivory_table.core.eye import Eye
from ivory_table.core.gauge import Feel, FeelScale
from ivory_table.core.judge import judged_done, looks_sound
from ivory_table.core.mesh import MeshSurvey, believed_by_machine
from ivory_table.core.plate import ConventionId, Machine, Screw
from ivory_table.core.prior import first_belief
from ivory_table.core.proof import ProofChoice, ProofPlan, ladder_aways, plan, zones_on
from ivory_table.core.proof_field import FieldPosterior, field_prior, judged_field, learn_proof
from ivory_table.core.setup import RunSetup
from ivory_table.core.signs import Mark
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import School, ThermalReading, ThermalStudy, warp
from ivory_table.core.tram import tolerance_mm
from ivory_table.core.value import Array, StationName
from ivory_table.runs.entry import Entry
from ivory_table.runs.proof import JudgedProof, ProofRun
from ivory_table.runs.row import Row


@dataclass(frozen=True)
class Heat:
    """Plate and tip as they were heated, and since when they are held."""

    bed_c: float
    nozzle_c: float
    held_since: datetime


class Slice:
    """What one station alone keeps in mind of a run. A station's slice has defaults for every field."""

    def after_pause(self) -> Self:
        """The slice once the run was taken up again: nothing at hand is still at hand."""
        return self

    @classmethod
    def of(cls, run: "RunState") -> Self:
        found = run.slices.get(cls)
        return found if isinstance(found, cls) else cls()


@dataclass(frozen=True, eq=False)
class Search:
    """The drag looked for at one place, from above, and what was believed before the first answer there."""

    place_mm: tuple[float, float]
    approach: Approach
    before: Belief
    #: The belief that the answers made: where it is another now, something else was told meanwhile.
    after: Belief


@dataclass(frozen=True, eq=False)
class RunState:
    """Where a run stands. `belief` holds everything but the marks of the proof that can still be judged."""

    setup: RunSetup
    belief: Belief
    screws: tuple[Screw, ...]
    #: What each station keeps for itself.
    slices: dict[type[Slice], Slice] = field(default_factory=dict)
    #: Grows whenever the plate or the nozzle was moved: what was printed under another number tells nothing of now.
    configuration: int = 0

    # As prepared
    school: School = "hot"
    #: Changes since the last run that a person told of.
    changes: tuple[str, ...] = ()
    where: dict[str, str] = field(default_factory=dict)
    thermal: tuple[ThermalReading, ...] = ()
    checks: dict[str, str] = field(default_factory=dict)
    cautions: frozenset[str] = frozenset()
    heated: Heat | None = None
    skipped: frozenset[StationName] = frozenset()
    feel: FeelScale = field(default_factory=FeelScale)
    eye: Eye = field(default_factory=Eye)

    # The machine now
    #: How far each knob has moved its support up in this run, mm.
    moved_mm: tuple[float, ...] = ()
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    #: Points of the kept mesh that were measured again since it was kept, as (column, row).
    measured_again: frozenset[tuple[int, int]] = frozenset()
    #: A mesh was kept or switched after the offset was set: its zero may lie elsewhere.
    mesh_since_offset: bool = False
    #: What the machine was seen to have of the kept mesh: got it, keeps it through a power cut, was told in this run to
    #: follow it; and by how much its own list of it differs at most, mm, where somebody has read that.
    mesh_sent: bool = False
    mesh_stored: bool = False
    mesh_on_told: bool = False
    mesh_back_mm: float | None = None
    #: By how much the machine's soft limit stands open below its zero, for the measurement.
    limit_open_mm: float = 0.0
    stored_mm: float = 0.0
    #: How the stored number counts, and whether the machine itself has shown it.
    convention_id: ConventionId = "live_only"
    sign_proved: bool = False
    #: Every change of the stored value in this run, from and to.
    stored_changes: tuple[tuple[float, float], ...] = ()
    readback_due: bool = False
    #: Live nudges that were neither put back nor merged into the stored value.
    nudged_mm: float = 0.0
    speed_percent: float = 100.0
    search: Search | None = None

    #: How often the plate was read at a place since it was last moved, and the mean of it: its own deviation there is one,
    #: however often it is read.
    read_at: dict[tuple[float, float, str], tuple[int, float]] = field(default_factory=dict)

    # What was printed
    proofs: tuple[ProofRun, ...] = ()
    #: What may lie behind a bad first layer beside the height, by what was printed so far.
    causes: Causes = field(default_factory=Causes.none)
    #: Places judged on earlier proofs that were printed over the same gap as the newest.
    judged_places: frozenset[tuple[float, float]] = frozenset()
    #: The feed was measured, and is as it was then.
    fed: bool = False
    #: By what share more than commanded went in when it was measured, where that was not corrected.
    feed_off: float = 0.0
    #: Whether a caliper is at hand; None while nobody has said.
    caliper: bool | None = None
    #: What was changed since the newest proof was printed.
    step_shift_mm: float = 0.0
    step_turns: tuple[float, ...] | None = None
    signed_off: bool = False
    note: str = ""

    @classmethod
    def start(cls, setup: RunSetup) -> "RunState":
        places = tuple((z.x_mm, z.y_mm) for z in zones_on(setup.plate, 9))
        surface = Surface.of(setup.machine, setup.plate, places, alike=setup.neighbours_alike)
        learnt = setup.learnt
        known, gains = None, None
        if learnt is not None and len(learnt.mean_ln) == surface.knobs:
            known = (np.array(learnt.mean_ln), np.array(learnt.cov_ln)) if surface.knobs > 3 else None
            gains = (np.array(learnt.gains), np.array(learnt.gain_sds)) if learnt.gains else None
        belief = first_belief(
            surface,
            bias_sd_mm=setup.gauge.sd_mm,
            feel=setup.feel,
            lam_known=known,
            gains_known=gains,
            answer_known=learnt.answer_ln if learnt is not None and known is not None else None,
            reversed_share=[
                TRAM.reversed_proved if s.sense_proved else TRAM.reversed_share for s in setup.machine.screws
            ],
        )
        state = cls(
            setup,
            belief,
            setup.machine.screws,
            where={w.step: w.line for w in setup.machine.where},
            changes=setup.changes,
            thermal=setup.study.readings if setup.study else (),
            feel=setup.feel,
            eye=setup.eye,
            moved_mm=(0.0,) * len(setup.machine.screws),
            stored_mm=setup.machine.stored_mm,
            convention_id=setup.machine.convention,
            sign_proved=setup.machine.sign_proved,
            causes=Causes.before(setup.filament.material, setup.filament.first_layer_fan)
            if setup.causes_considered
            else Causes.none(),
        )
        return state._with_mesh_found()

    def _with_mesh_found(self) -> "RunState":
        """The mesh that the machine brought into this run: it follows it still, and the plate has most of its form still.

        Its zero is of another day, and knobs may have been turned since: what is told is each height against their
        mean, as surely as a plate keeps its form.
        """
        mesh = self.setup.mesh
        if mesh is None:
            return self
        belief, values = self.belief, mesh.values.ravel()
        rows = belief.surface.rows(mesh.grid.places)
        rows, values = rows - rows.mean(axis=0), values - values.mean() + self.mesh_rise(mesh, mesh.grid.places)
        sd = float(np.hypot(self.mesh_noise(mesh), TRAM.mesh_keeps_mm))
        for row, value in zip(rows, values, strict=True):
            belief = belief.read(row, float(value), sd)
        return replace(self, belief=belief, mesh=mesh, mesh_on=self.setup.mesh_on)

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
        return advice.felt(self.belief, x_mm, y_mm, at, feel, self.drag_gap_mm, self.feel)

    def mesh_rise(self, survey: MeshSurvey, places: Array) -> Array:
        """(n,) mm that the plate rises at (n, 2) places, against their mean, from where a mesh was taken to print temperature.

        Zeros where nobody knows.
        """
        if survey.bed_c is None or self.study is None:
            return np.zeros(len(places))
        try:
            rise = warp(self.study, self.belief.surface, survey.bed_c, self.setup.filament.bed_c, places)
        except ValueError:
            return np.zeros(len(places))
        return np.asarray(rise - rise.mean())

    @property
    def mesh_words(self) -> str:
        """What the mesh in use was taken for, where that is not what is printed now; empty when it fits."""
        mesh = self.mesh
        if mesh is None or not self.mesh_on:
            return ""
        words = []
        hot = self.setup.filament.bed_c
        if mesh.bed_c is None:
            words.append("At which temperature this mesh was taken is not on record.")
        elif abs(mesh.bed_c - hot) > HEAT.study_beyond_c:
            known = self.study is not None and bool(np.any(self.mesh_rise(mesh, mesh.grid.places)))
            words.append(
                f"This mesh was taken at {mesh.bed_c:.0f} °C, the plate is printed at {hot:.0f} °C: "
                + ("the middle moves between, by the thermal study." if known else "the middle may stand otherwise.")
            )
        if mesh == self.setup.mesh:
            words.append("It is the one the machine had when this run began.")
        return " ".join(words)

    @property
    def drag_gap_mm(self) -> float:
        """The gap at which the gauge is taken to drag."""
        return self.setup.gauge.counted_mm

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
        return tolerance_mm(BEAD.layer_per_nozzle * self.setup.machine.nozzle_mm)

    @property
    def machine_now(self) -> Machine:
        """The machine with the offset that is stored now, for what is printed now."""
        return self.setup.machine.model_copy(update={"stored_mm": self.stored_mm, "convention": self.convention_id})

    @property
    def bead(self) -> Bead:
        nozzle = self.setup.machine.nozzle_mm
        return Bead(BEAD.line_per_nozzle * nozzle, BEAD.layer_per_nozzle * nozzle)

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
        return float(mean[0]) - self.belief.shift_mm + self.drag_gap_mm - lift, float(sd[0])

    def approach_at(self, x_mm: float, y_mm: float) -> Approach:
        """Where the gauge may drag at a place, with what was felt and seen there so far."""
        if (found := self.search_at(x_mm, y_mm)) is not None:
            return found.approach
        drag, sd = self.drag_height(x_mm, y_mm)
        return Approach.over(
            drag,
            sd,
            scale=self.feel,
            gauge_mm=self.drag_gap_mm,
            step_mm=min(self.setup.machine.z_presses_mm, default=self.setup.machine.z_step_mm),
            seen_above="done" in (self.checks.get("rough_zero"), self.checks.get("rough_stop_up")),
        )

    def search_at(self, x_mm: float, y_mm: float) -> Search | None:
        found = self.search
        if found is None or found.place_mm != (x_mm, y_mm) or found.after is not self.belief:
            return None
        return found

    def searched(self, x_mm: float, y_mm: float, approach: Approach, rise_mm: float = 0.0) -> "RunState":
        """The belief with all that was felt and seen on the way down to one place, told once and not answer by answer.

        Once the drag was met, or plainly seen, what the answers say of it beside the belief from before (the posterior
        divided by its prior, both taken for normal); until then only between which heights it lies.
        """
        search = self.search_at(x_mm, y_mm)
        before = search.before if search is not None else self.belief
        start = replace(self, belief=before, search=None)
        row = before.drag_row(x_mm, y_mm)
        lift = float(self.machine_believes(np.array([[x_mm, y_mm]]))[0])
        zero = before.shift_mm + lift + rise_mm - self.drag_gap_mm
        was, was_sd = start.drag_height(x_mm, y_mm)
        mean, sd = approach.drag
        if (approach.touched or approach.looks) and sd < OFFSET.searched_below * was_sd:
            tau = 1 / sd**2 - 1 / was_sd**2
            told = before.read(row, zero + (mean / sd**2 - was / was_sd**2) / tau, tau**-0.5)
        else:
            free = min((z for z, feel in approach.felt if feel == "free"), default=np.inf)
            low = max((z for z, feel in approach.felt if feel != "free"), default=-np.inf)
            told = before.felt(row, zero + low, zero + free, self.feel.scatter_mm) if approach.felt else before
        return replace(start, belief=told, search=Search((x_mm, y_mm), approach, before, told))

    def first_try_mm(self, x_mm: float, y_mm: float) -> float:
        """Where the gauge is tried first when drag at z 0 is expected: there, or as low as is safe."""
        return round(max(0.0, self.safe_mm(x_mm, y_mm)), 2)

    def safe_mm(self, x_mm: float, y_mm: float) -> float:
        """Commanded z in mm at which the gauge is pressed by at most `deepest_press_mm`, to 3 sd of what is known."""
        drag, sd = self.drag_height(x_mm, y_mm)
        return drag + OFFSET.start_above_sd * sd - OFFSET.deepest_press_mm

    @property
    def open_proof(self) -> ProofRun | None:
        """The newest proof, where it can still be judged: neither plate nor nozzle was moved since it was printed."""
        return self.proofs[-1] if self.proofs and self.proofs[-1].configuration == self.configuration else None

    def zone_field(self, proof: ProofRun) -> FieldPosterior:
        """The gaps in the proof's zones, by everything known before it and the marks on it."""
        return self.judged(proof).field

    def promise(self, laid: ProofPlan) -> float | None:
        """The share of a proof's zones that will look sound, once something was printed; None where that is not asked of it."""
        if not self.proofs or not self.setup.causes_considered or not laid.judges_all:
            return None
        return looks_sound(self.foreseen(laid), laid.bead, self.eye.scatter)

    def foreseen(self, laid: ProofPlan) -> FieldPosterior:
        """The gaps in a proof's zones before anything of it was seen."""
        known = self.with_marks()
        return judged_field(*known.gaps_before(laid), (), laid.bead, known.eye, known.causes, laid.places)[0]

    def gaps_before(self, laid: ProofPlan) -> tuple[Array, Array]:
        """Mean (z + 1,) and covariance of a proof's gaps in mm, and of the flow, by the belief alone."""
        believes = self.machine_believes(laid.places) + laid.away_mm
        return field_prior(self.belief, laid.places, laid.layer_mm, believes)[1:]

    def judged(self, proof: ProofRun) -> JudgedProof:
        """The proof's zones before and after its marks."""
        newest = self.proofs and proof is self.proofs[-1]
        return self._newest_judged if newest else self._judge(proof)

    @cached_property
    def _newest_judged(self) -> JudgedProof:
        return self._judge(self.proofs[-1])

    @property
    def proof_done(self) -> bool:
        """Whether the newest proof shows every zone sound, likely enough."""
        proof = self.open_proof
        if proof is None or len(proof.marks) < len(proof.plan.zones) - len(proof.skipped) or not proof.marks:
            return False
        if not self.setup.causes_considered:
            return len(proof.marks) == len(proof.plan.zones) and judged_done(self.zone_field(proof), proof.plan.bead)
        wanted = self.wanted
        return len(wanted.judged) == len(wanted.plan.zones) and judged_done(
            wanted.field, wanted.plan.bead, self.eye.trust
        )

    @cached_property
    def wanted(self) -> "Wanted":
        """The zones that are to be sound, and all that is known of them: of the newest proof that shows the whole plate."""
        proof = self.open_proof
        laid = next((p.plan for p in reversed(self.proofs) if p.plan.judges_all), None)
        if laid is None and self.proofs and self.proofs[-1].plan.kind == "patches":
            laid = self.proofs[-1].plan
        laid = laid or plan(self.setup.machine, self.setup.plate, self.setup.filament, 5)
        at = [(z.x_mm, z.y_mm) for z in laid.zones]
        places = self.judged_places
        if proof is not None:
            seen = {*proof.marks, *proof.skipped}
            places = places | {(z.x_mm, z.y_mm) for k, z in enumerate(proof.plan.zones) if k in seen}
        judged = frozenset(k for k, place in enumerate(at) if place in places)
        if proof is not None and laid == proof.plan:
            return Wanted(laid, self.zone_field(proof), tuple(proof.marks.values()), judged)
        return Wanted(laid, self.foreseen(laid), (), judged)

    def _judge(self, proof: ProofRun) -> JudgedProof:
        zones, layer = proof.plan.places, proof.plan.layer_mm
        believes = self.machine_believes(zones) + proof.plan.away_mm
        for first, away in proof.nudges:
            # The zones laid before a nudge had not been moved by it.
            believes = believes - np.where(np.arange(len(zones)) < first, away, 0.0)
        rows, mean, cov = field_prior(self.belief, zones, layer, believes)
        bead, marks = proof.plan.bead, tuple(proof.marks.values())
        z = len(zones)
        before = mean[:z], np.sqrt(np.maximum(np.diag(cov)[:z], 0.0))
        found, eye = judged_field(mean, cov, marks, bead, self.eye, self.causes, zones)
        constant = np.append(layer + self.belief.shift_mm + believes, 0.0)
        return JudgedProof(rows, constant, before, found, eye)

    def with_marks(self) -> "RunState":
        """The newest proof's marks taken into the belief, as the next change needs them; and what was mended since."""
        return self._with_marks

    @cached_property
    def _with_marks(self) -> "RunState":
        proof = self.open_proof
        if proof is None or not (proof.marks or proof.cleaned or proof.mended):
            return self
        found, causes, belief = self.judged(proof), self.causes, self.belief
        places = [(z.x_mm, z.y_mm) for z in proof.plan.zones]
        if proof.marks and causes.considered:
            astray, flow, flow_var = found.field.doubt
            belief = belief.doubted(astray**0.5, flow, flow_var**0.5)
            greasy = {places[k]: float(found.field.greasy[k]) for k in proof.marks}
            causes = causes.learnt(found.field.shared, greasy)
        if causes.considered:
            for name in sorted(proof.mended):
                causes = causes.mended(name)
            for k in sorted(proof.cleaned):
                causes = causes.cleaned(places[k])
        eye = found.eye
        if proof.promised is not None and len(proof.marks) == len(proof.plan.zones):
            looked = [m.grade == "sound" for m in proof.marks.values() if m.grade is not None]
            eye = eye.kept(proof.promised, sum(looked) / len(looked)) if looked else eye
        return replace(
            self,
            belief=learn_proof(belief, found.rows, found.field, found.constant),
            eye=eye,
            causes=causes,
            judged_places=self.judged_places
            | {places[k] for k in (*proof.marks, *proof.skipped) if k not in proof.cleaned},
        )

    def with_proof(self, proof: ProofRun) -> "RunState":
        """The state with the newest proof as given."""
        return replace(self, proofs=(*self.proofs[:-1], proof))

    def next_proof(self, choice: ProofChoice) -> ProofPlan:
        """The proof to print next. As advised: the same again, all of it; first the most telling one."""
        setup = self.setup
        if choice == "advised" and self.height_unknown and (not self.proofs or self.proofs[-1].plan.kind == "ladder"):
            choice = "ladder"
        elif choice == "advised" and self.proofs:
            return self.proofs[-1].plan if self.proofs[-1].plan.judges_all else self.wanted.plan
        elif choice == "advised":
            choice = 5
        aways = self._ladder_mm if choice == "ladder" else (0.0,)
        return plan(setup.machine, setup.plate, setup.filament, choice, self.mesh.grid if self.mesh else None, aways)

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

    @property
    def _ladder_mm(self) -> tuple[float, ...]:
        gap, sd = self.common_gap
        return ladder_aways(gap, sd, self.wanted.plan.layer_mm)

    @property
    def mesh_as_sent(self) -> Array:
        """(rows, columns) heights in mm as the machine is told them: a probed mesh against the plate's centre."""
        mesh = self.mesh
        assert mesh is not None
        if mesh.owns_zero:
            return mesh.values
        centre = believed_by_machine(mesh, [self.setup.plate.centre], self.setup.mesh_law)[0]
        return np.asarray(mesh.values - centre)

    def mesh_differs(self, heights_mm: ArrayLike) -> Array:
        """(rows, columns) mm that the machine's list of its mesh differs from the kept one; of a probed one no zero counts.

        Raises ValueError where it is another grid.
        """
        theirs, meant = np.asarray(heights_mm, dtype=float), self.mesh_as_sent
        if theirs.shape != meant.shape:
            raise ValueError(
                f"The machine lists {theirs.shape[1]} by {theirs.shape[0]} points, the kept mesh has "
                f"{meant.shape[1]} by {meant.shape[0]}: it is another mesh."
            )
        off = theirs - meant
        return off if self.mesh is not None and self.mesh.owns_zero else np.asarray(off - np.median(off))

    @property
    def mesh_back_same(self) -> bool | None:
        """Whether the machine's list of its mesh is the kept one; None where nobody has read it."""
        return None if self.mesh_back_mm is None else self.mesh_back_mm <= SURVEY.same_mm

    @property
    def mesh_unseen(self) -> str:
        """Why nobody knows yet that the machine follows the mesh in use; empty where it was seen, or none is."""
        if self.mesh is None or not self.mesh_on:
            return ""
        if self.mesh_back_same is False:
            return "The machine lists another mesh than the kept one. Send it again before anything is printed."
        if self.mesh_sent and self.mesh_on_told:
            return ""
        what = "switched on" if self.mesh_sent else "sent to the machine"
        return f"The mesh is taken to be in use, but nobody has said that it was {what}. Print over it only once that is done."

    def with_mesh(self, survey: MeshSurvey) -> "RunState":
        """The state with another mesh to follow; what the machine was seen to have of the one before tells nothing of it."""
        return replace(
            self,
            mesh=survey,
            mesh_on=True,
            mesh_since_offset=True,
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


@dataclass(frozen=True, eq=False)
class Wanted:
    """The zones that are to be sound: what is known of them, the marks on them that are not learnt yet, and which were judged."""

    plan: ProofPlan
    field: FieldPosterior
    marks: tuple[Mark, ...]
    judged: frozenset[int]


@singledispatch
def fold(what: Row, run: RunState, entry: Entry) -> RunState:
    """The state after a row. Each station says it for its own kinds, in its `state.py`."""
    raise NotImplementedError(f"Nothing is said of what '{type(what).__name__}' does to a run.")
