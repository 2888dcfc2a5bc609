"""The state of a run is what its rows say: a fold of the kept entries over one belief."""

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike

from . import advice
from .approach import Approach
from .bead import Bead
from .beam import BeamReading
from .belief import Belief
from .changes import change
from .defaults import BEAD, HEAT, JUDGE, OFFSET, PREPARE, TRAM
from .entries import (
    BackedOff,
    BeamRead,
    BeamTurned,
    CautionSeen,
    ChangeTold,
    CheckDone,
    Counted,
    Entry,
    FeelKept,
    FeelTried,
    Felt,
    GapSeen,
    Heated,
    Judged,
    MeshBase,
    MeshKept,
    MeshPlanned,
    MeshPoint,
    MeshPointAgain,
    MeshUsed,
    NotReached,
    Nudged,
    NudgeMerged,
    OffsetSet,
    ProofEnded,
    ProofStarted,
    Readback,
    ReadMm,
    Resumed,
    RunSetup,
    School,
    SchoolChosen,
    SenseTried,
    SignedOff,
    SkirtSeen,
    SpeedSet,
    Station,
    StationSkipped,
    ThermalRead,
    Turned,
    TurnedAll,
    Visited,
    Walked,
    Way,
    WayChosen,
    WhereNoted,
    ZoneCleaned,
)
from .eye import Eye
from .feelcheck import FeelTry
from .gauge import Feel, FeelScale
from .judge import FieldPosterior, Mark, field_prior, judged_done, judged_field, learn_proof, nothing_holds
from .mesh import MeshSurvey, Sounding, believed_by_machine, drift_taken_out
from .offset import convention, shift_of
from .plate import Machine, Screw
from .proof import ProofPlan, zones_on
from .surface import Surface
from .thermal import CENTRE, ThermalReading, ThermalStudy, warp
from .tram import hand_error_mm, tolerance_mm
from .travel import backed_off
from .value import Array


@dataclass(frozen=True)
class TramStop:
    """One visit to one screw, or one turn of it, as it is told in the story."""

    entry_id: str
    screw: int
    marks: float
    further: float | None = None
    spread_mm: float = 0.0
    #: How the gauge slid where it was only felt; how it still was where no turn brought it to drag.
    feel: Feel | None = None
    still: str | None = None
    #: What was foretold of the count, with its sd; None where nobody could know.
    about: tuple[float, float] | None = None
    #: The spread believed in before all knobs were turned at once.
    spread_before_mm: float | None = None
    #: Of the rounds of read all, turn all: the one it was made in, from 1.
    round: int = 1


@dataclass(frozen=True)
class ScrewReading:
    """A reading in mm at a screw, beside what was foretold."""

    entry_id: str
    round: int
    screw: int
    value_mm: float
    foretold_mm: float
    sd_mm: float


@dataclass(frozen=True)
class ProofRun:
    """One printed proof and what has been seen on it."""

    plan: ProofPlan
    marks: dict[int, Mark] = field(default_factory=dict)
    cleaned: frozenset[int] = frozenset()
    closed: bool = False
    #: How often the same proof was printed before with nothing changed in between.
    repeats: int = 0
    #: Live nudges while it was printed: the first zone after each, and how far away.
    nudges: tuple[tuple[int, float], ...] = ()
    #: Zones that were printed; fewer than planned when it was cancelled.
    printed: int | None = None
    #: What was changed since the proof before: the nozzle's height, positive away; the knobs, in marks.
    came_by_shift_mm: float = 0.0
    came_by_turns: tuple[float, ...] | None = None


@dataclass(frozen=True, eq=False)
class JudgedProof:
    """A proof's zones by everything known: before its marks and after them, and what they tell of the eye."""

    #: Rows (z + 1, d) of the state, and the constant (z + 1,) between them and the gaps.
    rows: Array
    constant: Array
    #: Mean and sd (z,) of the gaps before any mark.
    before: tuple[Array, Array]
    field: FieldPosterior
    eye: Eye


@dataclass(frozen=True, eq=False)
class Search:
    """The drag looked for at one place, from above, and what was believed before the first answer there."""

    place_mm: tuple[float, float]
    approach: Approach
    before: Belief
    #: The belief that the answers made: where it is another now, something else was told meanwhile.
    after: Belief


@dataclass(frozen=True)
class Guard:
    """Whether the plate answers as was promised, whatever the belief makes of it.

    What comes out beyond the promise twice in a row stops the turning: the belief starts afresh and every knob is
    proved. Missed once more after that, or where the tram does not end, turning on would do no good.
    """

    #: How often in a row what came out was beyond what was promised.
    surprises: int = 0
    #: How often the knobs were put in doubt because of it.
    doubted: int = 0
    #: Knobs still to show their sense by a turn and a feel, in their order.
    to_show: tuple[int, ...] = ()
    #: The first stop that counts since the knobs were put in doubt.
    since: int = 0
    #: The round that was begun when they were.
    since_round: int = 0
    #: The spread promised, in mm, by the last turns of all knobs, and the one that was read before them; None where nothing was.
    promised_mm: float | None = None
    before_mm: float | None = None


@dataclass(frozen=True, eq=False)
class RunState:
    """Where a run stands. `belief` holds everything but the marks of the newest proof."""

    setup: RunSetup
    belief: Belief
    screws: tuple[Screw, ...]
    way: Way = "counting"
    school: School = "hot"
    #: Changes since the last run that a person told of.
    changes: tuple[str, ...] = ()
    where: dict[str, str] = field(default_factory=dict)
    thermal: tuple[ThermalReading, ...] = ()
    feel_tries: tuple[FeelTry, ...] = ()
    feel: FeelScale = field(default_factory=FeelScale)
    eye: Eye = field(default_factory=Eye)
    beam_read: BeamReading | None = None
    beam_level: bool = False
    #: How far each knob has moved its support up in this run, mm.
    moved_mm: tuple[float, ...] = ()
    readings: tuple[ScrewReading, ...] = ()
    checks: dict[str, str] = field(default_factory=dict)
    cautions: frozenset[str] = frozenset()
    heated: Heated | None = None
    skipped: frozenset[Station] = frozenset()
    sense_known: bool = False
    #: Knobs that turned out, by what was counted or read, to work against the sense they were entered with.
    found_reversed: tuple[int, ...] = ()
    guard: "Guard" = field(default_factory=lambda: Guard())
    pending: int | None = None
    #: The screw the machine has brought the tip to, until it is counted.
    at_screw: int | None = None
    stops: tuple[TramStop, ...] = ()
    round_read: dict[int, float] = field(default_factory=dict)
    #: Over which zeros each screw was read in this round: the nozzle's own, or an instrument's that nobody knows.
    round_zeros: dict[int, frozenset[str]] = field(default_factory=dict)
    rounds: int = 0
    centre_felt: Felt | None = None
    mesh_plan: MeshPlanned | None = None
    soundings: tuple[Sounding, ...] = ()
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    #: Points of the kept mesh that were measured again since it was kept, as (column, row).
    measured_again: frozenset[tuple[int, int]] = frozenset()
    stored_mm: float = 0.0
    moves: tuple[Felt, ...] = ()
    looks: tuple[GapSeen, ...] = ()
    search: Search | None = None
    offset_changes: tuple[tuple[float, float], ...] = ()
    readback: Readback | None = None
    readback_due: bool = False
    #: A mesh was kept or switched after the offset was set: its zero may lie elsewhere.
    mesh_since_offset: bool = False
    #: Live nudges that were neither put back nor merged into the stored value.
    nudged_mm: float = 0.0
    speed_percent: float = 100.0
    proofs: tuple[ProofRun, ...] = ()
    #: What was changed since the newest proof was printed.
    step_shift_mm: float = 0.0
    step_turns: tuple[float, ...] | None = None
    signed_off: SignedOff | None = None

    @classmethod
    def start(cls, setup: RunSetup) -> "RunState":
        places = tuple((z.x_mm, z.y_mm) for z in zones_on(setup.plate, 9))
        surface = Surface.of(setup.machine, setup.plate, places)
        learnt = setup.learnt
        known, gains = None, None
        if learnt is not None and len(learnt.mean_ln) == surface.knobs:
            known = (np.array(learnt.mean_ln), np.array(learnt.cov_ln)) if surface.knobs > 3 else None
            gains = (np.array(learnt.gains), np.array(learnt.gain_sds)) if learnt.gains else None
        belief = Belief.prior(
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
            beam_level=setup.machine.beam is None,
            sense_known=not setup.machine.screws or any(s.sense_proved for s in setup.machine.screws),
            stored_mm=setup.machine.stored_mm,
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
        rows, values = rows - rows.mean(axis=0), values - values.mean() + self._mesh_rise(mesh)
        sd = float(np.hypot(self._mesh_noise(mesh), TRAM.mesh_keeps_mm))
        for row, value in zip(rows, values, strict=True):
            belief = belief.read(row, float(value), sd)
        return replace(self, belief=belief, mesh=mesh, mesh_on=self.setup.mesh_on)

    def _mesh_rise(self, survey: MeshSurvey) -> Array:
        """(points,) mm that the plate rises, against their mean, from where a mesh was taken to print temperature; zeros where nobody knows."""
        if survey.bed_c is None or self.study is None:
            return np.zeros(survey.values.size)
        try:
            rise = warp(self.study, self.belief.surface, survey.bed_c, self.setup.filament.bed_c, survey.grid.places)
        except ValueError:
            return np.zeros(survey.values.size)
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
            known = self.study is not None and bool(np.any(self._mesh_rise(mesh)))
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
    def against_sense(self) -> str | None:
        """The knobs that were found to work against the sense they were entered with."""
        return " and ".join(self.screws[j].name for j in self.found_reversed) or None

    @property
    def trammed(self) -> bool:
        """Whether the knobs are done: likely enough within, and not by the prior alone. What many supports made of turns must be read.

        Where only a twist is left that this plate does not pass, likely is enough: turning on would not mend the rest.
        """
        if not self.screws or self.guard.to_show:
            return False
        p = self.belief.p_within(self.tol_mm)
        if p < TRAM.done_at:
            return p >= TRAM.likely_at and (self._only_twist_left or self.gives_up)
        if self.way == "read_all" and self.rounds > self.guard.since_round:
            return not (self.belief.surface.many and self._turned_in(self.rounds))
        return self.rounds > self.guard.since_round or advice.enough_felt(len(self.visited), self.belief.surface)

    def _turned_in(self, number: int) -> bool:
        """Whether knobs were turned all at once at the end of that round."""
        return any(s.round == number and s.spread_before_mm is not None for s in self.stops)

    @property
    def beyond_knobs(self) -> bool:
        """Whether turning on would do no good: only a twist is left that this plate does not pass, or it does not answer."""
        return bool(self.screws) and not self.trammed and (self.gives_up or self._only_twist_left)

    @property
    def gives_up(self) -> bool:
        """Whether the plate did not answer as promised though its knobs were proved, or the tram does not come to an end."""
        tried = (len(self.stops) - self.guard.since) / max(len(self.screws), 1)
        rounds = self.rounds - self.guard.since_round
        return self.guard.doubted > 1 or max(tried, rounds) >= TRAM.stops_per_screw

    @property
    def _only_twist_left(self) -> bool:
        passes = self.belief.passes_of_twist()
        if passes is None or len(self.visited | set(self.round_read)) < len(self.screws):
            return False
        if passes[0] + passes[1] > TRAM.knobs_reach:
            return False
        return self.belief.p_within(self.tol_mm, twist_out=True) >= TRAM.done_at

    @property
    def mesh_points(self) -> dict[tuple[int, int], float]:
        """The heights read so far of the mesh in the making, drift taken out."""
        return drift_taken_out(self.soundings)[0]

    @property
    def centre_after_tram_mm(self) -> float:
        """The z at which the centre can be tried once the screws are at the drag: as low as its form allows."""
        x, y = self.setup.plate.centre
        row = self.belief.gap_row(x, y) - self.belief.surface.rows(self.belief.surface.anchors).mean(axis=0)
        mean, sd = self.belief.of(row[None, :])
        above = float(mean[0]) + OFFSET.start_above_sd * float(sd[0]) - OFFSET.deepest_press_mm
        return round(max(0.0, above), 2)

    @property
    def machine_now(self) -> Machine:
        """The machine with the offset that is stored now, for what is printed now."""
        return self.setup.machine.model_copy(update={"stored_mm": self.stored_mm})

    @property
    def skirt_gap_mm(self) -> float:
        """What stands for the drag when a skirt is judged: the gap wanted under the tip less the layer it runs at."""
        bead = self.bead
        return BEAD.target[self.setup.filament.material] * bead.layer_mm - bead.layer_mm

    @property
    def bead(self) -> Bead:
        nozzle = self.setup.machine.nozzle_mm
        return Bead(BEAD.line_per_nozzle * nozzle, BEAD.layer_per_nozzle * nozzle)

    @property
    def visited(self) -> set[int]:
        return {s.screw for s in self.stops[self.guard.since :] if s.still is None}

    def _over_zero(self, j: int, zero: str) -> "RunState":
        """Screw j was read in this round over a zero: the nozzle's, or that of an instrument."""
        earlier = self.round_zeros.get(j, frozenset()) if j in self.round_read else frozenset()
        return replace(self, round_zeros={**self.round_zeros, j: earlier | {zero}})

    @property
    def to_read(self) -> int | None:
        """The screw to be read next in a round of all; None when they are read and can be compared.

        A probe that does not reach every screw leaves the rest to the hand: one of those it has read is then read by hand
        as well, or nobody knows how the two zeros lie.
        """
        left = next((j for j in range(len(self.screws)) if j not in self.round_read), None)
        if left is not None:
            return left
        zeros = {j: self.round_zeros.get(j, frozenset()) for j in self.round_read}
        if len(frozenset().union(*zeros.values())) < 2 or any(len(z) > 1 for z in zeros.values()):
            return None
        return next((j for j, z in zeros.items() if "nozzle" not in z), None)

    @property
    def to_prove(self) -> int | None:
        """The knob just read in mm that has not shown its sense: turned and read again here, it shows what it does."""
        if self.way != "read_all" or not self.readings:
            return None
        j = self.readings[-1].screw
        unproved = j in self.round_read and j not in self.visited and advice.sense_in_doubt(self.belief, j)
        return j if unproved else None

    def machine_believes(self, xy: Array) -> Array:
        """(n,) heights in mm that the machine itself follows with its mesh on; else zeros."""
        if self.mesh is None or not self.mesh_on:
            return np.zeros(len(xy))
        lifts = believed_by_machine(self.mesh, xy)
        if self.mesh.owns_zero:
            return lifts
        # A probed mesh says nothing of the zero: the machine takes it against the centre.
        return np.asarray(lifts - believed_by_machine(self.mesh, [self.setup.plate.centre])[0])

    def drag_height(self, x_mm: float, y_mm: float) -> tuple[float, float]:
        """Commanded z in mm at which the gauge is believed to drag at a place, and its sd."""
        row = self.belief.drag_row(x_mm, y_mm)
        mean, sd = self.belief.of(row[None, :])
        lift = float(self.machine_believes(np.array([[x_mm, y_mm]]))[0])
        return float(mean[0]) - self.belief.shift_mm + self.drag_gap_mm - lift, float(sd[0])

    def approach_at(self, x_mm: float, y_mm: float) -> Approach:
        """Where the gauge may drag at a place, with what was felt and seen there so far."""
        if (found := self._search_at(x_mm, y_mm)) is not None:
            return found.approach
        drag, sd = self.drag_height(x_mm, y_mm)
        return Approach.over(
            drag,
            sd,
            scale=self.feel,
            gauge_mm=self.drag_gap_mm,
            step_mm=self.setup.machine.z_step_mm,
            seen_above="done" in (self.checks.get("rough_zero"), self.checks.get("rough_stop_up")),
        )

    def _search_at(self, x_mm: float, y_mm: float) -> Search | None:
        found = self.search
        if found is None or found.place_mm != (x_mm, y_mm) or found.after is not self.belief:
            return None
        return found

    def _searched(self, x_mm: float, y_mm: float, approach: Approach, rise_mm: float = 0.0) -> "RunState":
        """The belief with all that was felt and seen on the way down to one place, told once and not answer by answer.

        Once the drag was met, or plainly seen, what the answers say of it beside the belief from before (the posterior
        divided by its prior, both taken for normal); until then only between which heights it lies.
        """
        search = self._search_at(x_mm, y_mm)
        before = search.before if search is not None else self.belief
        start = replace(self, belief=before, search=None)
        row = before.drag_row(x_mm, y_mm)
        lift = float(self.machine_believes(np.array([[x_mm, y_mm]]))[0])
        zero = before.shift_mm + lift + rise_mm - self.drag_gap_mm
        was, was_sd = start.drag_height(x_mm, y_mm)
        mean, sd = approach.drag
        if (approach.touched or approach.looks) and sd < 0.9 * was_sd:
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

    def zone_field(self, proof: ProofRun) -> FieldPosterior:
        """The gaps in the proof's zones, by everything known before it and the marks on it."""
        return self.judged(proof).field

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
        if not self.proofs or self.proofs[-1].closed:
            return False
        proof = self.proofs[-1]
        if len(proof.marks) < len(proof.plan.zones):
            return False
        return judged_done(self.zone_field(proof), proof.plan.bead, tuple(proof.marks.values()))

    def _judge(self, proof: ProofRun) -> JudgedProof:
        zones, layer = proof.plan.places, proof.plan.layer_mm
        believes = self.machine_believes(zones)
        for first, away in proof.nudges:
            # The zones laid before a nudge had not been moved by it.
            believes = believes - np.where(np.arange(len(zones)) < first, away, 0.0)
        rows, mean, cov = field_prior(self.belief, zones, layer, believes)
        bead, marks = proof.plan.bead, tuple(proof.marks.values())
        z = len(zones)
        before = mean[:z], np.sqrt(np.maximum(np.diag(cov)[:z], 0.0))
        if proof.repeats and nothing_holds(marks, *before, bead.bands_mm()["sound"][1]):
            # Printed again, and still nothing holds: it is the height after all, and what was believed of it is not.
            cov = cov.copy()
            cov[:z, :z] += JUDGE.astray_mm**2
        found, eye = judged_field(mean, cov, marks, bead, self.eye)
        constant = np.append(layer + self.belief.shift_mm + believes, 0.0)
        return JudgedProof(rows, constant, before, found, eye)

    def with_marks(self) -> "RunState":
        """The newest proof's marks taken into the belief, as the next change needs them."""
        if not self.proofs or self.proofs[-1].closed or not self.proofs[-1].marks:
            return self
        found = self.judged(self.proofs[-1])
        return replace(self, belief=learn_proof(self.belief, found.rows, found.field, found.constant), eye=found.eye)

    def apply(self, entry: Entry) -> "RunState":
        """The state after one more entry. Raises ValueError when it cannot be true of this run."""
        what = entry.what
        match what:
            case CheckDone():
                return replace(self, checks={**self.checks, what.check: what.outcome})
            case CautionSeen():
                return replace(self, cautions=self.cautions | {what.caution})
            case Heated():
                return replace(self, heated=what)
            case StationSkipped():
                return replace(self, skipped=self.skipped | {what.station})
            case WayChosen():
                return replace(self, way=what.way, pending=None, at_screw=None)
            case SchoolChosen():
                return replace(self, school=what.school)
            case ChangeTold():
                change(what.change)  # one that is not known cannot be told
                told = tuple(dict.fromkeys((*self.changes, what.change)))
                forgets = any(c["forgets"] for c in PREPARE["changes"] if c["id"] == what.change)
                belief = self.belief.with_nothing_learnt() if forgets and self.screws else self.belief
                return replace(self, changes=told, belief=belief)
            case WhereNoted():
                return replace(self, where={**self.where, what.step: what.line})
            case BackedOff():
                return self._backed_off(what)
            case ThermalRead():
                return self._thermal_read(what.reading)
            case FeelTried():
                return replace(self, feel_tries=(*self.feel_tries, what.feel_try))
            case FeelKept():
                return self._feel_kept(what)
            case BeamRead():
                return replace(self, beam_read=what.reading)
            case BeamTurned():
                return replace(self, beam_read=None, beam_level=not what.up_mm)
            case SkirtSeen():
                return self._skirt_seen(entry.id, what)
            case Resumed():
                return self._resumed(what)
            case SenseTried():
                return self._sense_tried(what)
            case Visited():
                # Whoever goes on to another screw leaves the last one as it stands.
                return replace(self, at_screw=self.setup.machine.screw(what.screw), pending=None)
            case Counted():
                return self._counted(entry.id, what)
            case NotReached():
                return self._not_reached(entry.id, what)
            case Turned():
                return self._turned(entry.id, what)
            case TurnedAll():
                return self._turned_all(entry.id, what)
            case Walked():
                return self._walked(entry.id, what)
            case ReadMm():
                return self._read(entry, what)
            case Felt():
                return self._felt(entry.id, what, entry.station)
            case GapSeen():
                return self._gap_seen(what)
            case MeshPlanned():
                return replace(self, mesh_plan=what, soundings=())
            case MeshPoint():
                return self._mesh_point(what, entry.at.timestamp())
            case MeshBase():
                return self._sounded(Sounding(entry.at.timestamp(), None, what.height_mm))
            case MeshPointAgain():
                return self._mesh_point_again(what)
            case MeshKept():
                return self._mesh_kept(what)
            case MeshUsed():
                if what.on and self.mesh is None:
                    raise ValueError("There is no kept mesh to use yet.")
                return replace(self.changed(), mesh_on=what.on, mesh_since_offset=True)
            case OffsetSet():
                return self._offset_set(what)
            case Readback():
                return replace(self, readback=what, readback_due=False)
            case ProofStarted():
                before = self.proofs[-1] if self.proofs else None
                repeats = before.repeats + 1 if before and not before.closed else 0
                fresh = ProofRun(
                    what.proof,
                    repeats=repeats,
                    came_by_shift_mm=self.step_shift_mm,
                    came_by_turns=self.step_turns,
                )
                now = self.changed()
                return replace(now, proofs=(*now.proofs, fresh), step_shift_mm=0.0, step_turns=None)
            case Nudged():
                return self._nudged(what)
            case NudgeMerged():
                changes = (*self.offset_changes, (self.stored_mm, what.stored_mm))
                return replace(
                    self,
                    stored_mm=what.stored_mm,
                    nudged_mm=0.0,
                    offset_changes=changes,
                    readback=None,
                    readback_due=True,
                )
            case SpeedSet():
                return replace(self, speed_percent=what.percent)
            case ProofEnded():
                return self._with_proof(replace(self._proof(), printed=what.zones))
            case Judged():
                return self._judged(what)
            case ZoneCleaned():
                proof = self._proof()
                return self._with_proof(replace(proof, cleaned=proof.cleaned | {what.zone}))
            case SignedOff():
                return replace(self, signed_off=what)
        return self

    def changed(self) -> "RunState":
        """To be called before the plate, the offset or the proof changes.

        The newest proof's marks are learnt for good and the proof is closed, so that nothing is
        counted twice and no mark lands on a plate it was not seen on.
        """
        if not self.proofs or self.proofs[-1].closed:
            return self
        learnt = self.with_marks()
        return learnt._with_proof(replace(learnt.proofs[-1], closed=True))

    # One kind of entry each

    def _sense_tried(self, what: SenseTried) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        tried = self.screws[j]
        if what.felt == "same":
            raise ValueError(
                "A knob that changes nothing is slack or needs more. Turn it back first, tighten what is loose, then try again."
            )
        now = self.changed()
        belief = advice.turned(now.belief, now.screws, j, tried.trial_marks)
        belief = belief.sense_shown(j, (what.felt == "tighter") == (tried.sense > 0))
        left = tuple(k for k in now.guard.to_show if k != j)
        shown = replace(now, belief=belief, sense_known=True, moved_mm=now._moved(j, tried.trial_marks))
        return replace(shown, guard=replace(now.guard, to_show=left))._senses_settled(told=j)

    def _senses_settled(self, told: int | None = None) -> "RunState":
        """Senses that are as good as known are declared so, each knob by what it has shown itself; `told` by a sense test."""
        likely = self.belief.p_reversed()
        belief, screws, found = self.belief, list(self.screws), self.found_reversed
        for j, p in enumerate(likely):
            if p > TRAM.reversed_at:
                belief = belief.declared_anew(j)
                screws[j] = screws[j].model_copy(update={"sense": -screws[j].sense})
                if j != told:
                    found = tuple(dict.fromkeys((*found, j)))
        proved = belief.p_reversed() < TRAM.reversed_asked
        screws = [
            s.model_copy(update={"sense_proved": True}) if p and not s.sense_proved else s
            for s, p in zip(screws, proved, strict=True)
        ]
        return replace(self, belief=belief, screws=tuple(screws), found_reversed=found)

    def _surprised(self, beyond: bool) -> "RunState":
        """What came out was beyond what was promised, or was not. Twice in a row: every knob is in doubt."""
        if not beyond:
            return replace(self, guard=replace(self.guard, surprises=0))
        guard = replace(self.guard, surprises=self.guard.surprises + 1)
        # Once its knobs have been proved anew, one miss is enough to give it up.
        if guard.surprises < (1 if guard.doubted else 2) or guard.doubted > 1:
            return replace(self, guard=guard)
        knobs = tuple(range(len(self.screws)))
        guard = Guard(
            doubted=guard.doubted + 1,
            to_show=() if self.way == "read_all" else knobs,
            since=len(self.stops),
            since_round=self.rounds,
        )
        screws = tuple(s.model_copy(update={"sense_proved": False}) for s in self.screws)
        return replace(
            self,
            belief=self.belief.afresh(),
            screws=screws,
            guard=guard,
            pending=None,
            at_screw=None,
            round_read={},
            centre_felt=None,
        )

    def _counted(self, entry_id: str, what: Counted) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        now = self.changed()
        about = now.foretold_marks(j)
        belief = advice.counted(now.belief, now.screws, j, what.marks, now._drag_gap_at(j))
        if what.before is not None:
            belief = advice.felt_before(belief, now.screws, j, what.marks, what.before)
        stop = TramStop(entry_id, j, what.marks, spread_mm=belief.spread()[0], about=about)
        after = replace(
            now,
            belief=belief,
            pending=j,
            at_screw=None,
            stops=(*now.stops, stop),
            moved_mm=now._moved(j, what.marks),
        )._senses_settled()
        if about is None:
            return after
        beyond = abs(what.marks - about[0]) > max(TRAM.guard_sd * about[1], TRAM.guard_marks)
        # Visits are made to mend: one that takes more than any before it does not, whatever was foretold.
        most = max((abs(s.marks) for s in now.stops[now.guard.since :]), default=np.inf)
        return after._surprised(beyond or abs(what.marks) > 1.5 * most + TRAM.guard_marks)

    def _drag_gap_at(self, j: int) -> float:
        """A gauge that drags cold drags where the plate will have risen by its warp when it is hot."""
        s = self.screws[j]
        return self.drag_gap_mm - float(self.warp_mm([(s.x_mm, s.y_mm)])[0])

    def _not_reached(self, entry_id: str, what: NotReached) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        now = self.changed()
        belief = advice.not_reached(now.belief, now.screws, j, what.marks, what.still, now._drag_gap_at(j))
        stop = TramStop(entry_id, j, what.marks, spread_mm=belief.spread()[0], still=what.still)
        return replace(now, belief=belief, pending=None, at_screw=None, stops=(*now.stops, stop))

    def _moved(self, j: int, marks: float) -> tuple[float, ...]:
        """What each knob has moved its support up by, after one more turn."""
        up = marks * self.screws[j].mm_per_mark * self.screws[j].sense
        return tuple(m + up if k == j else m for k, m in enumerate(self.moved_mm))

    def foretold_marks(self, j: int) -> tuple[float, float] | None:
        """The count that is expected at a screw, and its sd; None where it was never felt, or the knob's sense is not known."""
        if j not in self.visited and j not in self.round_read:
            return None
        s = self.screws[j]
        rise = float(self.warp_mm([(s.x_mm, s.y_mm)])[0])
        row = self.belief.drag_row(s.x_mm, s.y_mm)
        mean, sd = self.belief.of(row[None, :])
        high = float(mean[0]) - self.belief.shift_mm + self.drag_gap_mm - rise
        p_reversed = float(self.belief.p_reversed()[j])
        if min(p_reversed, 1 - p_reversed) > 1 - TRAM.reversed_at:
            return None
        sense = -s.sense if p_reversed > 0.5 else s.sense
        passed = float(self.belief.weight @ np.abs(self.belief.passes[:, j, j])) * s.mm_per_mark
        spread = np.hypot(float(sd[0]), float(self.belief.weight @ self.belief.drag_sd))
        spread = np.hypot(spread, float(hand_error_mm(high)))
        return -high / passed * sense, float(np.hypot(spread / passed, 0.5))

    def doubtful_count(self, what: Counted) -> tuple[float, float | None] | None:
        """What was expected where a count is over 5 sd away, and the slip that would explain it, if one does.

        The slips: turned the other way, or half and double of it.
        """
        names = [s.name for s in self.screws]
        about = self.foretold_marks(names.index(what.screw)) if what.screw in names else None
        if what.sure or about is None or abs(what.marks - about[0]) <= max(5 * about[1], 3.0):
            return None
        j = names.index(what.screw)
        if advice.sense_in_doubt(self.belief, j) and abs(-what.marks - about[0]) <= max(5 * about[1], 3.0):
            # As many marks the other way: that is what a knob that works the other way gives.
            return None
        slips = (-what.marks, what.marks / 2, what.marks * 2)
        fits = [s for s in slips if abs(s - about[0]) <= 2 * about[1] + 0.5]
        return about[0], min(fits, key=lambda s: abs(s - about[0]), default=None)

    def _thermal_read(self, reading: ThermalReading) -> "RunState":
        """A study reads the centre and the screws: the place's own coordinates are the plate's, not typed ones."""
        at = {s.name: (s.x_mm, s.y_mm) for s in self.screws} | {CENTRE: self.setup.plate.centre}
        if reading.place not in at:
            raise ValueError(f"A thermal study reads the centre and the screws; there is no '{reading.place}' here.")
        x, y = at[reading.place]
        return replace(self, thermal=(*self.thermal, reading.model_copy(update={"x_mm": x, "y_mm": y})))

    def _feel_kept(self, what: FeelKept) -> "RunState":
        ln, sd = float(np.log(what.scale.scatter_mm)), max(what.scale.scatter_ln_sd, 0.05)
        belief = self.belief.weighed(lambda b: -0.5 * np.square((b.theta[:, -2] - ln) / sd))
        return replace(self, belief=belief, feel=what.scale, feel_tries=())

    def _skirt_seen(self, entry_id: str, what: SkirtSeen) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        now, bead, s = self.changed(), self.bead, self.screws[j]
        low, high = bead.bands_mm()[what.grade]
        row = now.belief.gap_row(s.x_mm, s.y_mm)
        at = bead.layer_mm + now.belief.shift_mm
        sd = float(np.hypot(BEAD.grade_sd * bead.layer_mm, TRAM.local_sd_mm))
        belief = now.belief.felt(row, at - high, at - low, sd)
        stop = TramStop(entry_id, j, 0, spread_mm=belief.spread()[0])
        return replace(now, belief=belief, pending=j, at_screw=None, stops=(*now.stops, stop))

    def _backed_off(self, what: BackedOff) -> "RunState":
        """All springs have the same preload again: where the plate stands is anybody's guess."""
        now = self.changed()
        belief = now.belief.loosened(TRAM.common_prior_sd_mm, TRAM.knob_prior_sd_mm, 0.0)
        return replace(
            now,
            belief=belief,
            screws=backed_off(now.screws, what.turns),
            moved_mm=(0.0,) * len(now.screws),
            stops=(),
            readings=(),
            round_read={},
            rounds=0,
            pending=None,
            at_screw=None,
            centre_felt=None,
        )

    def _resumed(self, what: Resumed) -> "RunState":
        """After a pause the motors may have moved and the plate is cold: home and hold again; more where more changed."""
        for told in what.changes:
            change(told)  # one that is not known cannot be told
        now = self.changed()
        plate = bool({"plate", "layer"} & set(what.changes))
        knobs = bool({"springs", "screws", "moved", "rebuilt"} & set(what.changes))
        zero = bool({"nozzle", "z_stop", "probe", "firmware"} & set(what.changes))
        belief = now.belief.loosened(
            TRAM.common_prior_sd_mm if zero or plate or knobs else TRAM.pause_common_sd_mm,
            TRAM.knob_prior_sd_mm if knobs else TRAM.pause_each_sd_mm,
            TRAM.form_prior_sd_mm if plate else 0.0,
        )
        checks = {k: v for k, v in now.checks.items() if k not in ("homed", "tip_clean", "plate_clean")}
        return replace(
            now,
            belief=belief,
            checks=checks,
            heated=None,
            pending=None,
            at_screw=None,
            round_read={},
            changes=tuple(dict.fromkeys((*now.changes, *what.changes))),
            mesh=None if plate else now.mesh,
            mesh_on=False if plate else now.mesh_on,
        )

    def _turned(self, entry_id: str, what: Turned) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        now = self.changed()
        belief = advice.turned(now.belief, now.screws, j, what.marks) if what.marks else now.belief
        if now.pending == j and now.stops:
            last = replace(now.stops[-1], further=what.marks, spread_mm=belief.spread()[0])
            stops = (*now.stops[:-1], last)
        else:
            stops = (*now.stops, TramStop(entry_id, j, 0, what.marks, belief.spread()[0], round=now.rounds + 1))
        # What was read at a knob before it was turned is no longer how high it stands, nor is the spread what was promised.
        read = {k: v for k, v in now.round_read.items() if k != j or not what.marks}
        if what.marks:
            now = replace(now, guard=replace(now.guard, promised_mm=None))
        return replace(
            now, belief=belief, pending=None, stops=stops, round_read=read, moved_mm=now._moved(j, what.marks)
        )

    def _turned_all(self, entry_id: str, what: TurnedAll) -> "RunState":
        if len(what.marks) != len(self.screws):
            raise ValueError(f"{len(what.marks)} turns for {len(self.screws)} knobs. Give one for each, 0 where none.")
        now = self.changed()
        belief = now.belief
        for j, marks in enumerate(what.marks):
            if marks:
                belief = advice.turned(belief, now.screws, j, marks)
        spread, before = belief.spread()[0], now.belief.spread()[0]
        stops = tuple(
            TramStop(entry_id, j, 0, m, spread, spread_before_mm=before, round=now.rounds + 1)
            for j, m in enumerate(what.marks)
            if m
        )
        moved = now
        for j, m in enumerate(what.marks):
            moved = replace(moved, moved_mm=moved._moved(j, m))
        promised = float(belief.spread_interval(2 * TRAM.guard_share - 1)[1])
        read = list(now.round_read.values())
        found = max(read) - min(read) if len(read) == len(now.screws) else None
        return replace(
            moved,
            belief=belief,
            stops=(*now.stops, *stops),
            round_read={},
            rounds=now.rounds + 1,
            guard=replace(now.guard, promised_mm=promised, before_mm=found),
            step_turns=what.marks,
        )

    def sunk(self, turns: float) -> "RunState":
        """Every knob turned so that its support sinks by so many turns; no screw was felt by that."""
        if not turns:
            return self
        belief, ups = self.belief, [-turns * s.pitch_mm for s in self.screws]
        for j, up in enumerate(ups):
            belief = belief.turned(j, up, float(hand_error_mm(up)))
        moved = tuple(m + up for m, up in zip(self.moved_mm, ups, strict=True))
        return replace(self.changed(), belief=belief, moved_mm=moved)

    def _walked(self, entry_id: str, what: Walked) -> "RunState":
        now = self.sunk(what.sunk_turns)
        for count in what.counts:
            # On a walk nobody says how much further: the next visit follows at once.
            now = replace(now._counted(entry_id, Counted(screw=count.screw, marks=count.marks)), pending=None)
        if what.centre is None:
            return now
        x, y = self.setup.plate.centre
        return now._felt(entry_id, Felt(x_mm=x, y_mm=y, z_mm=what.centre_z_mm, feel=what.centre), "tram")

    def doubtful_walk(self, what: Walked) -> tuple[int, float, float | None] | None:
        """The first count of a walk that is far from what those before it let expect: which, and as `doubtful_count`."""
        now = self.sunk(what.sunk_turns)
        for k, count in enumerate(what.counts):
            one = Counted(screw=count.screw, marks=count.marks, sure=what.sure)
            if (doubted := now.doubtful_count(one)) is not None:
                return k, *doubted
            now = now._counted("", one)
        return None

    def doubtful_reading(self, what: ReadMm) -> tuple[float, float | None] | None:
        """What was expected where a reading is over 5 sd away, and the slip that would explain it, if one does.

        The slips: a sign, or a decimal point by one place. What a knob that works the other way would make of
        it is no slip.
        """
        row, zero, sd, sign = self._reading_row(what)
        if self.belief.foresees(row, zero + sign * what.value_mm, sd) > TRAM.reversed_share / 10:
            return None
        mean, spread = self.belief.of(row[None, :])
        expected = sign * (float(mean[0]) - zero)
        total = float(np.hypot(spread[0], sd))
        if what.sure or abs(what.value_mm - expected) <= 5 * total:
            return None
        slips = (-what.value_mm, what.value_mm / 10, -what.value_mm / 10, what.value_mm * 10)
        fits = [s for s in slips if abs(s - expected) <= 2 * total]
        return expected, min(fits, key=lambda s: abs(s - expected), default=None)

    def doubtful_caliper(self, what: Judged) -> tuple[float, float | None] | None:
        """What a patch can be about where a caliper says something else, in mm, and the slip that would explain it.

        A patch is fused up to about the layer's thickness; twice that is a slip of the decimal point, or no patch.
        """
        if what.caliper_mm is None or what.sure or not self.proofs or what.zone >= len(self.proofs[-1].plan.zones):
            return None
        proof = self.proofs[-1]
        gaps, sds = self.judged(proof).before
        about, sd = float(gaps[what.zone]), float(np.hypot(sds[what.zone], BEAD.caliper_sd_mm))
        layer = proof.plan.layer_mm
        possible = BEAD.starved_below * layer / 2 <= what.caliper_mm <= 2 * layer
        if possible and abs(what.caliper_mm - about) <= max(5 * sd, layer / 2):
            return None
        about = min(max(about, BEAD.starved_below * layer), 1.5 * layer)
        slips = (what.caliper_mm / 10, what.caliper_mm * 10, what.caliper_mm / 100)
        fits = [s for s in slips if BEAD.starved_below * layer <= s <= 1.6 * layer]
        return about, min(fits, key=lambda s: abs(s - about), default=None)

    def _reading_row(self, what: ReadMm) -> tuple[Array, float, float, int]:
        """How a reading sees the state: sign * (row . state - zero) = value, with its sd."""
        row = self.belief.gap_row(what.x_mm, what.y_mm)
        rise = float(self.warp_mm([(what.x_mm, what.y_mm)])[0])
        if what.instrument == "feelers":
            # Feelers give the gap itself, with the tip at z 0.
            return row, self.belief.shift_mm + rise, TRAM.feelers_sd_mm, -1
        if what.instrument == "lamp":
            # A contact lamp lights at the plate itself: the height at which it does is the plate's.
            return row, rise + self.belief.shift_mm, TRAM.lamp_sd_mm, 1
        probe = self.setup.machine.probe
        sd = probe.sd_mm if what.instrument == "probe" and probe else TRAM.dial_sd_mm
        if what.instrument == "laser":
            sd = TRAM.laser_sd_mm
        return row + self.belief.surface.unit(self.belief.surface.probe_zero), rise, sd, 1

    def _read(self, entry: Entry, what: ReadMm) -> "RunState":
        self.setup.plate.refuse_outside(what.x_mm, what.y_mm)
        now = self.changed()
        row, zero, sd, sign = now._reading_row(what)
        foretold, foretold_sd = now.belief.of(row[None, :])
        belief = now.belief.read(row, zero + sign * what.value_mm, sd)
        read = now.round_read
        readings = now.readings
        if what.screw is not None:
            j = self.setup.machine.screw(what.screw)
            read = {**read, j: what.value_mm}
            expected = sign * (float(foretold[0]) - zero)
            one = ScrewReading(
                entry.id, now.rounds + 1, j, what.value_mm, expected, float(np.hypot(foretold_sd[0], sd))
            )
            readings = (*readings, one)
            zero_of = "nozzle" if what.instrument in ("feelers", "lamp") else what.instrument
            now = now._over_zero(j, zero_of)
        after = replace(now, belief=belief, round_read=read, readings=readings)
        return after._senses_settled()._round_kept_its_promise(sd) if what.screw is not None else after

    def _round_kept_its_promise(self, sd_mm: float) -> "RunState":
        """Once every screw has been read after turns of all: is the range of what was read what was promised of it?"""
        promised = self.guard.promised_mm
        if promised is None or len(self.round_read) < len(self.screws):
            return self
        if len(frozenset().union(*(self.round_zeros.get(j, frozenset()) for j in self.round_read))) > 1:
            return self  # over several zeros their range is no spread
        found = max(self.round_read.values()) - min(self.round_read.values())
        asked = replace(self, guard=replace(self.guard, promised_mm=None, before_mm=None))
        # Turns are made to mend: a plate that is plainly worse for them does not answer, whatever was promised. Below the
        # tolerance nobody is harmed by either.
        worse = self.guard.before_mm is not None and found > 1.2 * self.guard.before_mm + 2 * self.tol_mm
        return asked._surprised(worse or found > max(promised, 2 * self.tol_mm) + 3 * sd_mm)

    def _felt(self, entry_id: str, what: Felt, station: Station) -> "RunState":
        self.setup.plate.refuse_outside(what.x_mm, what.y_mm)
        now = self.changed()
        rise = float(now.warp_mm([(what.x_mm, what.y_mm)])[0]) if station == "tram" else 0.0
        if station == "offset" or (station == "tram" and what.screw is not None and self.way == "read_all"):
            approach = now.approach_at(what.x_mm, what.y_mm).feel(what.z_mm, what.feel)
            now = now._searched(what.x_mm, what.y_mm, approach, rise)
            if station == "offset":
                return replace(now, moves=(*now.moves, what))
            drag, sd = approach.drag
            if not approach.touched or sd > TRAM.stepped_sd_mm:
                return now
            # Known well enough: this screw has been read in this round.
            j = self.setup.machine.screw(str(what.screw))
            return replace(now._over_zero(j, "nozzle"), round_read={**now.round_read, j: drag})
        feel = self.feel
        at = what.z_mm + now.belief.shift_mm + float(now.machine_believes(np.array([[what.x_mm, what.y_mm]]))[0]) + rise
        belief = advice.felt(now.belief, what.x_mm, what.y_mm, at, what.feel, self.drag_gap_mm, feel)
        now = replace(now, belief=belief)
        if station != "tram":
            return now
        if what.screw is None:
            return replace(now, centre_felt=what, pending=None)
        j = self.setup.machine.screw(what.screw)
        now = replace(now, pending=None)
        if self.way == "counting" and what.z_mm == 0:
            if what.feel in ("free", "stuck"):
                # One-sided, so it cannot be sized: turned until it drags and counted, here.
                return replace(now, at_screw=j)
            stop = TramStop(entry_id, j, 0, spread_mm=belief.spread()[0], feel=what.feel)
            return replace(now, pending=j, at_screw=None, stops=(*now.stops, stop))
        return now

    def _gap_seen(self, what: GapSeen) -> "RunState":
        x, y = self.setup.plate.centre
        now = self.changed()
        approach = now.approach_at(x, y).look(what.z_mm, what.gap_mm)
        return replace(now._searched(x, y, approach), looks=(*now.looks, what))

    def _mesh_point(self, what: MeshPoint, at_s: float) -> "RunState":
        plan = self.mesh_plan
        if plan is None and self.mesh is not None:
            return self._mesh_point_replaced(self.mesh, what)
        if plan is None or what.column >= plan.columns or what.row >= plan.rows:
            raise ValueError("That point is not on the mesh being read. Choose the mesh's size first.")
        point = (what.column, what.row)
        others = tuple(s for s in self.soundings if s.point != point)
        return replace(self, soundings=(*others, Sounding(at_s, point, what.height_mm)))

    def _sounded(self, sounding: Sounding) -> "RunState":
        if self.mesh_plan is None:
            raise ValueError("No mesh is being read, so there is no base point to visit.")
        return replace(self, soundings=(*self.soundings, sounding))

    def _mesh_point_again(self, what: MeshPointAgain) -> "RunState":
        """One point of the kept mesh measured again, against a neighbour: the machine follows the new value."""
        mesh = self.mesh
        if mesh is None:
            raise ValueError("There is no kept mesh of which a point could be measured again.")
        columns, rows = len(mesh.grid.xs_mm), len(mesh.grid.ys_mm)
        if max(what.column, what.neighbour_column) >= columns or max(what.row, what.neighbour_row) >= rows:
            raise ValueError(f"The kept mesh has {columns} by {rows} points; there is no such one.")
        now = self.changed()
        values = [list(row) for row in mesh.heights_mm]
        step = what.height_mm - what.neighbour_height_mm
        values[what.row][what.column] = round(values[what.neighbour_row][what.neighbour_column] + step, 6)
        fresh = mesh.model_copy(update={"heights_mm": tuple(tuple(row) for row in values)})
        # What was read is the step between the two places: no zero is in it, of this day or that.
        here, there = self.belief.surface.rows(
            [
                (mesh.grid.xs_mm[what.column], mesh.grid.ys_mm[what.row]),
                (mesh.grid.xs_mm[what.neighbour_column], mesh.grid.ys_mm[what.neighbour_row]),
            ]
        )
        sd = float(np.hypot(self._mesh_noise(mesh), TRAM.local_sd_mm) * 2**0.5)
        return replace(
            now,
            mesh=fresh,
            belief=now.belief.read(here - there, step, sd),
            measured_again=now.measured_again | {(what.column, what.row)},
            step_shift_mm=0.0,
            step_turns=None,
        )

    def _mesh_point_replaced(self, mesh: MeshSurvey, what: MeshPoint) -> "RunState":
        """A bare height for a point of a kept mesh, as earlier versions kept it; nobody can enter one any more."""
        if what.column >= len(mesh.grid.xs_mm) or what.row >= len(mesh.grid.ys_mm):
            raise ValueError("The kept mesh has no such point.")
        now = self.changed()
        values = [list(row) for row in mesh.heights_mm]
        values[what.row][what.column] = what.height_mm
        fresh = mesh.model_copy(update={"heights_mm": tuple(tuple(row) for row in values)})
        place = [(mesh.grid.xs_mm[what.column], mesh.grid.ys_mm[what.row])]
        return replace(now, mesh=fresh, belief=self._read_mesh(now.belief, mesh, place, [what.height_mm]))

    def _mesh_noise(self, survey: MeshSurvey) -> float:
        """One sd in mm of a reading of such a survey."""
        probe = self.setup.machine.probe
        return self.setup.feel.drag_sd_mm if survey.owns_zero else (probe.sd_mm if probe else TRAM.dial_sd_mm)

    def _mesh_kept(self, what: MeshKept) -> "RunState":
        survey = what.survey
        if survey.plate_id != self.setup.plate_id:
            raise ValueError("This mesh belongs to another plate than the one mounted in this run.")
        for x, y in survey.grid.places:
            self.setup.plate.refuse_outside(float(x), float(y))
        now = self.changed()
        belief = self._read_mesh(now.belief, survey, survey.grid.places, survey.values.ravel())
        return replace(
            now,
            belief=belief,
            mesh=survey,
            mesh_on=True,
            mesh_plan=None,
            soundings=(),
            measured_again=frozenset(),
            mesh_since_offset=True,
        )

    def _read_mesh(self, belief: Belief, survey: MeshSurvey, places: ArrayLike, values: Iterable[float]) -> Belief:
        """Mesh heights as readings: felt by hand, where the gauge drags; probed, over an unknown zero."""
        surface = belief.surface
        extra = surface.unit(surface.bias if survey.owns_zero else surface.probe_zero)
        noise = self._mesh_noise(survey)
        base = belief.shift_mm - self.drag_gap_mm if survey.owns_zero else 0.0
        sd = float(np.hypot(noise, TRAM.local_sd_mm))
        rows = surface.rows(places)
        rise = self._mesh_rise(survey) if len(rows) == survey.values.size else np.zeros(len(rows))
        for row, value, warm in zip(rows, values, rise, strict=True):
            belief = belief.read(row + extra, base + float(value) + float(warm), sd)
        return belief

    def _offset_set(self, what: OffsetSet) -> "RunState":
        how = convention(self.setup.machine.convention)
        shift = shift_of(self.stored_mm, what.stored_mm, how)
        now = self.changed()
        return replace(
            now,
            belief=now.belief.nozzle_moved(shift),
            stored_mm=what.stored_mm,
            moves=(),
            looks=(),
            offset_changes=(*now.offset_changes, (self.stored_mm, what.stored_mm)),
            mesh_since_offset=False,
            readback=None,
            readback_due=True,
            step_shift_mm=now.step_shift_mm + shift,
        )

    def _nudged(self, what: Nudged) -> "RunState":
        """The nozzle really runs elsewhere, though nothing was stored; zones already laid were not moved."""
        now = self
        if self.proofs and not self.proofs[-1].closed:
            proof = self.proofs[-1]
            first = len(proof.plan.zones) if what.from_zone is None else what.from_zone
            now = self._with_proof(replace(proof, nudges=(*proof.nudges, (first, what.away_mm))))
        live = round(now.nudged_mm + what.away_mm, 6)
        return replace(now, belief=now.belief.nozzle_moved(what.away_mm), nudged_mm=live)

    def _judged(self, what: Judged) -> "RunState":
        proof = self._proof()
        if proof.closed:
            raise ValueError("This proof was printed before the last change. Print it again, then judge it.")
        if proof.printed is not None and proof.printed <= what.zone < len(proof.plan.zones):
            raise ValueError(f"Zone {what.zone + 1} was not printed: the proof was cancelled before it.")
        if what.zone >= len(proof.plan.zones):
            raise ValueError(f"There is no zone {what.zone + 1} on this proof; it has {len(proof.plan.zones)}.")
        mark = Mark(what.zone, what.grade, what.caliper_mm, what.greasy)
        return self._with_proof(replace(proof, marks={**proof.marks, what.zone: mark}))

    def _proof(self) -> ProofRun:
        if not self.proofs:
            raise ValueError("There is no proof yet. Print one first, then judge it.")
        return self.proofs[-1]

    def _with_proof(self, proof: ProofRun) -> "RunState":
        return replace(self, proofs=(*self.proofs[:-1], proof))
