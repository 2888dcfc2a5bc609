"""The state of a run is what its rows say: a fold of the kept entries over one belief."""

from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import ArrayLike

from . import advice
from .belief import Belief
from .defaults import BEAD, OFFSET, TRAM
from .entries import (
    CautionSeen,
    CheckDone,
    Counted,
    Entry,
    Felt,
    Heated,
    Judged,
    MeshBase,
    MeshKept,
    MeshPlanned,
    MeshPoint,
    MeshUsed,
    Nudged,
    NudgeMerged,
    OffsetSet,
    ProofEnded,
    ProofStarted,
    Readback,
    ReadMm,
    RunSetup,
    SenseTried,
    SignedOff,
    SpeedSet,
    Station,
    StationSkipped,
    Turned,
    TurnedAll,
    Visited,
    Way,
    WayChosen,
    ZoneCleaned,
)
from .gauge import feel_interval
from .judge import FieldPosterior, Mark, estimate_field, field_prior, learn_proof
from .mesh import MeshSurvey, Sounding, believed_by_machine, drift_taken_out
from .offset import convention, shift_of
from .plate import Screw
from .proof import ProofPlan, zones_on
from .surface import Array, Surface
from .tram import tolerance_mm


@dataclass(frozen=True)
class TramStop:
    """One visit to one screw, or one turn of it, as it is told in the story."""

    entry_id: str
    screw: int
    marks: float
    further: float | None = None
    spread_mm: float = 0.0


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


@dataclass(frozen=True, eq=False)
class RunState:
    """Where a run stands. `belief` holds everything but the marks of the newest proof."""

    setup: RunSetup
    belief: Belief
    screws: tuple[Screw, ...]
    way: Way = "counting"
    checks: dict[str, str] = field(default_factory=dict)
    cautions: frozenset[str] = frozenset()
    heated: Heated | None = None
    skipped: frozenset[Station] = frozenset()
    sense_known: bool = False
    pending: int | None = None
    #: The screw the machine has brought the tip to, until it is counted.
    at_screw: int | None = None
    stops: tuple[TramStop, ...] = ()
    round_read: dict[int, float] = field(default_factory=dict)
    rounds: int = 0
    centre_felt: Felt | None = None
    mesh_plan: MeshPlanned | None = None
    soundings: tuple[Sounding, ...] = ()
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    stored_mm: float = 0.0
    moves: tuple[Felt, ...] = ()
    offset_changes: tuple[tuple[float, float], ...] = ()
    readback: Readback | None = None
    readback_due: bool = False
    #: A mesh was kept or switched after the offset was set: its zero may lie elsewhere.
    mesh_since_offset: bool = False
    #: Live nudges that were neither put back nor merged into the stored value.
    nudged_mm: float = 0.0
    speed_percent: float = 100.0
    proofs: tuple[ProofRun, ...] = ()
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
            reversed_share=[TRAM.reversed_proved if s.sense_proved else TRAM.reversed_share for s in setup.machine.screws],
        )
        return cls(
            setup,
            belief,
            setup.machine.screws,
            sense_known=not setup.machine.screws or any(s.sense_proved for s in setup.machine.screws),
            stored_mm=setup.machine.stored_mm,
        )

    @property
    def drag_gap_mm(self) -> float:
        """The gap at which the gauge is taken to drag."""
        return self.setup.gauge.counted_mm

    @property
    def tol_mm(self) -> float:
        return tolerance_mm(BEAD.layer_per_nozzle * self.setup.machine.nozzle_mm)

    @property
    def against_sense(self) -> str | None:
        """The knob that acts against its declared sense, as soon as the counts say so."""
        likely = self.belief.p_reversed()
        return next((s.name for s, p in zip(self.screws, likely, strict=True) if p > TRAM.reversed_at), None)

    @property
    def trammed(self) -> bool:
        """Whether the knobs are done: likely enough within, and not by the prior alone."""
        if not self.screws or self.belief.p_within(self.tol_mm) < TRAM.done_at:
            return False
        return bool(self.rounds) or len(self.visited) >= min(3, len(self.screws))

    @property
    def mesh_points(self) -> dict[tuple[int, int], float]:
        """The heights read so far of the mesh in the making, drift taken out."""
        return drift_taken_out(self.soundings)[0]

    @property
    def visited(self) -> set[int]:
        return {s.screw for s in self.stops}

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
        row = self.belief.gap_row(x_mm, y_mm) + self.belief.surface.unit(self.belief.surface.bias)
        mean, sd = self.belief.of(row[None, :])
        lift = float(self.machine_believes(np.array([[x_mm, y_mm]]))[0])
        return float(mean[0]) - self.belief.shift_mm + self.drag_gap_mm - lift, float(sd[0])

    def first_try_mm(self, x_mm: float, y_mm: float) -> float:
        """Where the gauge is tried first when drag at z 0 is expected: there, or as low as is safe."""
        return round(max(0.0, self.safe_mm(x_mm, y_mm)), 2)

    def safe_mm(self, x_mm: float, y_mm: float) -> float:
        """Commanded z in mm at which the gauge is pressed by at most `deepest_press_mm`, to 3 sd of what is known."""
        drag, sd = self.drag_height(x_mm, y_mm)
        return drag + OFFSET.start_above_sd * sd - OFFSET.deepest_press_mm

    def zone_field(self, proof: ProofRun) -> FieldPosterior:
        """The gaps in the proof's zones, by everything known before it and the marks on it."""
        return self._field(proof)[1]

    def _field(self, proof: ProofRun) -> tuple[Array, FieldPosterior, Array]:
        """Rows (z + 1, d) of the state, the field, and the constant (z + 1,) between them."""
        zones, layer = proof.plan.places, proof.plan.layer_mm
        believes = self.machine_believes(zones)
        for first, away in proof.nudges:
            # The zones laid before a nudge had not been moved by it.
            believes = believes - np.where(np.arange(len(zones)) < first, away, 0.0)
        rows, mean, cov = field_prior(self.belief, zones, layer, believes)
        found = estimate_field(mean, cov, tuple(proof.marks.values()), proof.plan.bead)
        return rows, found, np.append(layer + self.belief.shift_mm + believes, 0.0)

    def with_marks(self) -> "RunState":
        """The newest proof's marks taken into the belief, as the next change needs them."""
        if not self.proofs or self.proofs[-1].closed or not self.proofs[-1].marks:
            return self
        proof = self.proofs[-1]
        rows, found, constant = self._field(proof)
        return replace(self, belief=learn_proof(self.belief, rows, found, constant))

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
            case SenseTried():
                return self._sense_tried(what)
            case Visited():
                return replace(self, at_screw=self.setup.machine.screw(what.screw))
            case Counted():
                return self._counted(entry.id, what)
            case Turned():
                return self._turned(entry.id, what)
            case TurnedAll():
                return self._turned_all(entry.id, what)
            case ReadMm():
                return self._read(what)
            case Felt():
                return self._felt(what, entry.station)
            case MeshPlanned():
                return replace(self, mesh_plan=what, soundings=())
            case MeshPoint():
                return self._mesh_point(what, entry.at.timestamp())
            case MeshBase():
                return self._sounded(Sounding(entry.at.timestamp(), None, what.height_mm))
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
                fresh = ProofRun(what.proof, repeats=repeats)
                now = self.changed()
                return replace(now, proofs=(*now.proofs, fresh))
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
        if what.felt == "same":
            raise ValueError("A knob that changes nothing is slack or needs more: tighten it, then try 1/16 again.")
        tried = self.screws[self.setup.machine.screw(what.screw)]
        flip = (what.felt == "tighter") != (tried.sense > 0)
        screws = tuple(
            s.model_copy(update={"sense": -s.sense if flip else s.sense, "sense_proved": True}) for s in self.screws
        )
        j = self.setup.machine.screw(what.screw)
        return replace(self, belief=advice.turned(self.belief, screws, j, 1), screws=screws, sense_known=True)

    def _counted(self, entry_id: str, what: Counted) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        now = self.changed()
        belief = advice.counted(now.belief, now.screws, j, what.marks, self.drag_gap_mm)
        if what.before is not None:
            belief = advice.felt_before(belief, now.screws, j, what.marks, what.before)
        stop = TramStop(entry_id, j, what.marks, spread_mm=belief.spread()[0])
        return replace(
            now,
            belief=belief,
            pending=j,
            at_screw=None,
            stops=(*now.stops, stop),
        )

    def _turned(self, entry_id: str, what: Turned) -> "RunState":
        j = self.setup.machine.screw(what.screw)
        now = self.changed()
        belief = advice.turned(now.belief, now.screws, j, what.marks) if what.marks else now.belief
        if now.pending == j and now.stops:
            last = replace(now.stops[-1], further=what.marks, spread_mm=belief.spread()[0])
            stops = (*now.stops[:-1], last)
        else:
            stops = (*now.stops, TramStop(entry_id, j, 0, what.marks, belief.spread()[0]))
        return replace(now, belief=belief, pending=None, stops=stops)

    def _turned_all(self, entry_id: str, what: TurnedAll) -> "RunState":
        if len(what.marks) != len(self.screws):
            raise ValueError(f"{len(what.marks)} turns for {len(self.screws)} knobs. Give one for each, 0 where none.")
        now = self.changed()
        belief = now.belief
        for j, marks in enumerate(what.marks):
            if marks:
                belief = advice.turned(belief, now.screws, j, marks)
        spread = belief.spread()[0]
        stops = tuple(TramStop(entry_id, j, 0, m, spread) for j, m in enumerate(what.marks) if m)
        return replace(now, belief=belief, stops=(*now.stops, *stops), round_read={}, rounds=now.rounds + 1)

    def doubtful_reading(self, what: ReadMm) -> tuple[float, float | None] | None:
        """What was expected where a reading is over 5 sd away, and the slip that would explain it, if one does.

        The slips: a sign, or a decimal point by one place.
        """
        row, zero, sd, sign = self._reading_row(what)
        mean, spread = self.belief.of(row[None, :])
        expected = sign * (float(mean[0]) - zero)
        total = float(np.hypot(spread[0], sd))
        if what.sure or abs(what.value_mm - expected) <= 5 * total:
            return None
        slips = (-what.value_mm, what.value_mm / 10, -what.value_mm / 10, what.value_mm * 10)
        fits = [s for s in slips if abs(s - expected) <= 2 * total]
        return expected, min(fits, key=lambda s: abs(s - expected), default=None)

    def _reading_row(self, what: ReadMm) -> tuple[Array, float, float, int]:
        """How a reading sees the state: sign * (row . state - zero) = value, with its sd."""
        row = self.belief.gap_row(what.x_mm, what.y_mm)
        if what.instrument == "feelers":
            # Feelers give the gap itself, with the tip at z 0.
            return row, self.belief.shift_mm, TRAM.feelers_sd_mm, -1
        probe = self.setup.machine.probe
        sd = probe.sd_mm if what.instrument == "probe" and probe else TRAM.dial_sd_mm
        return row + self.belief.surface.unit(self.belief.surface.probe_zero), 0.0, sd, 1

    def _read(self, what: ReadMm) -> "RunState":
        self.setup.plate.refuse_outside(what.x_mm, what.y_mm)
        now = self.changed()
        row, zero, sd, sign = now._reading_row(what)
        belief = now.belief.read(row, zero + sign * what.value_mm, sd)
        read = now.round_read
        if what.screw is not None:
            read = {**read, self.setup.machine.screw(what.screw): what.value_mm}
        return replace(now, belief=belief, round_read=read)

    def _felt(self, what: Felt, station: Station) -> "RunState":
        self.setup.plate.refuse_outside(what.x_mm, what.y_mm)
        now = self.changed()
        feel = self.setup.feel
        low, high = feel_interval(what.feel, self.drag_gap_mm, feel)
        row = now.belief.gap_row(what.x_mm, what.y_mm) + now.belief.surface.unit(now.belief.surface.bias)
        at = what.z_mm + now.belief.shift_mm + float(now.machine_believes(np.array([[what.x_mm, what.y_mm]]))[0])
        # gap - bias between low and high, with gap = at - height
        belief = now.belief.felt(row, at - high, at - low, feel.scatter_mm)
        now = replace(now, belief=belief)
        if station == "mesh":
            return now
        if station != "tram":
            return replace(now, moves=(*now.moves, what))
        if what.screw is None:
            return replace(now, centre_felt=what)
        drag, sd = now.drag_height(what.x_mm, what.y_mm)
        if self.way != "read_all" or sd > TRAM.stepped_sd_mm:
            return now
        # Known well enough: this screw has been read in this round.
        return replace(now, round_read={**now.round_read, self.setup.machine.screw(what.screw): drag})

    def apply_felt(self, what: Felt) -> "RunState":
        """The state if the gauge had been felt so, for looking ahead: nothing is kept."""
        return self._felt(what, "mesh")

    def _mesh_point(self, what: MeshPoint, at_s: float) -> "RunState":
        plan = self.mesh_plan
        if plan is None and self.mesh is not None:
            return self._mesh_point_again(self.mesh, what)
        if plan is None or what.column >= plan.columns or what.row >= plan.rows:
            raise ValueError("That point is not on the mesh being read. Choose the mesh's size first.")
        point = (what.column, what.row)
        others = tuple(s for s in self.soundings if s.point != point)
        return replace(self, soundings=(*others, Sounding(at_s, point, what.height_mm)))

    def _sounded(self, sounding: Sounding) -> "RunState":
        if self.mesh_plan is None:
            raise ValueError("No mesh is being read, so there is no base point to visit.")
        return replace(self, soundings=(*self.soundings, sounding))

    def _mesh_point_again(self, mesh: MeshSurvey, what: MeshPoint) -> "RunState":
        """One point of the kept mesh measured again: the machine follows the new value."""
        if what.column >= len(mesh.grid.xs_mm) or what.row >= len(mesh.grid.ys_mm):
            raise ValueError("The kept mesh has no such point.")
        now = self.changed()
        values = [list(row) for row in mesh.heights_mm]
        values[what.row][what.column] = what.height_mm
        fresh = mesh.model_copy(update={"heights_mm": tuple(tuple(row) for row in values)})
        place = [(mesh.grid.xs_mm[what.column], mesh.grid.ys_mm[what.row])]
        return replace(now, mesh=fresh, belief=self._read_mesh(now.belief, mesh, place, [what.height_mm]))

    def _mesh_kept(self, what: MeshKept) -> "RunState":
        survey = what.survey
        if survey.plate_id != self.setup.plate_id:
            raise ValueError("This mesh belongs to another plate than the one mounted in this run.")
        for x, y in survey.grid.places:
            self.setup.plate.refuse_outside(float(x), float(y))
        now = self.changed()
        belief = self._read_mesh(now.belief, survey, survey.grid.places, survey.values.ravel())
        return replace(
            now, belief=belief, mesh=survey, mesh_on=True, mesh_plan=None, soundings=(), mesh_since_offset=True
        )

    def _read_mesh(self, belief: Belief, survey: MeshSurvey, places: ArrayLike, values: Iterable[float]) -> Belief:
        """Mesh heights as readings: felt by hand, where the gauge drags; probed, over an unknown zero."""
        surface = belief.surface
        extra = surface.unit(surface.bias if survey.owns_zero else surface.probe_zero)
        probe = self.setup.machine.probe
        noise = self.setup.feel.drag_sd_mm if survey.owns_zero else (probe.sd_mm if probe else TRAM.dial_sd_mm)
        base = belief.shift_mm - self.drag_gap_mm if survey.owns_zero else 0.0
        sd = float(np.hypot(noise, TRAM.local_sd_mm))
        for row, value in zip(surface.rows(places), values, strict=True):
            belief = belief.read(row + extra, base + float(value), sd)
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
            offset_changes=(*now.offset_changes, (self.stored_mm, what.stored_mm)),
            mesh_since_offset=False,
            readback=None,
            readback_due=True,
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
