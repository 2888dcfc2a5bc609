"""Where runs are opened, kept and replayed. Every station works through this one desk."""

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from threading import RLock
from typing import Any
from uuid import uuid4

import numpy as np
from peewee import IntegrityError
from pydantic import Field

from ivory_table.core.changes import change, foretold, found_changes
from ivory_table.core.defaults import TRAM
from ivory_table.core.entries import (
    BackedOff,
    BeamTurned,
    ChangeTold,
    Counted,
    Entry,
    FeelKept,
    Felt,
    Judged,
    Learnt,
    MeshKept,
    MeshPoint,
    MeshPointAgain,
    MeshUsed,
    NotReached,
    Nudged,
    OffsetSet,
    Readback,
    ReadMm,
    Resumed,
    RunSetup,
    SenseTried,
    SignedOff,
    Source,
    Station,
    TakenBack,
    ThermalRead,
    Turned,
    TurnedAll,
    Walked,
    What,
    WhereNoted,
    ZoneCleaned,
    kept,
)
from ivory_table.core.eye import Eye
from ivory_table.core.gauge import FeelScale, feel_interval
from ivory_table.core.hands import Hands
from ivory_table.core.manner import Manner, shipped
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.offset import convention, readback_agrees, shift_of
from ivory_table.core.plate import Machine, OwnFeel, Person, Where
from ivory_table.core.run import RunState
from ivory_table.core.travel import preload_after
from ivory_table.core.value import Id, Initials, Value
from ivory_table.store.workshop import MOVED_ON, Clash, Workshop


class Refused(ValueError):
    """An input that cannot be kept: a stable code, the field it stands in, and a sentence."""

    def __init__(self, code: str, sentence: str, field: str | None = None) -> None:
        super().__init__(sentence)
        self.code, self.field = code, field


class Keep(Value):
    """One thing to keep. `id` is made by the client, so that asking twice is harmless."""

    id: Id
    seen_seq: int = Field(ge=0, description="The newest row the client has seen of this run.")
    what: What


class StartRun(Value):
    id: Id
    machine_id: Id
    plate_id: Id
    filament_id: Id
    gauge_id: Id
    initials: Initials


@dataclass(frozen=True)
class OpenRun:
    """A run as it stands: all its rows and the state they add up to."""

    setup: RunSetup
    entries: tuple[Entry, ...]
    state: RunState
    #: How the machine talks: the lines shown and sent are in its words.
    manner: Manner

    @property
    def seq(self) -> int:
        return self.entries[-1].seq if self.entries else 0


HandsFor = Callable[[RunSetup], Hands | None]


class Desk:
    """Opens runs, keeps entries. `hands_for` finds the practice plate or machine of a run, if any."""

    def __init__(
        self, workshop: Workshop, hands_for: HandsFor = lambda _: None, manner_for: Callable[[str], Manner] = shipped
    ) -> None:
        self.workshop, self.manner_for = workshop, manner_for
        self.hands_for = hands_for
        self._open: dict[str, OpenRun] = {}
        # What a hand did happens to a practice plate after the answer has left, in its order.
        self._teller = ThreadPoolExecutor(max_workers=1, thread_name_prefix="tell")
        self._told: Future[None] | None = None
        self._lock = RLock()

    def start(self, wanted: StartRun) -> RunSetup:
        """Start a run from what is set up now. Raises Unknown, or Refused for a plate of another machine."""
        try:
            earlier = self.workshop.run(wanted.id)
        except LookupError:
            pass
        else:
            if earlier.machine.id != wanted.machine_id or earlier.initials != wanted.initials:
                raise Clash("run_id_taken", "Another run is kept under this id.")
            return earlier
        machine = self.workshop.machine(wanted.machine_id)
        if wanted.plate_id not in {p.id for p in machine.plates}:
            raise Refused("unknown_plate", f"{machine.name} has no plate '{wanted.plate_id}'.", "plate_id")
        gauge = self.workshop.gauge(wanted.gauge_id)
        person = self.workshop.person_by(wanted.initials)
        setup = RunSetup(
            id=wanted.id,
            machine=machine,
            plate_id=wanted.plate_id,
            filament=self.workshop.filament(wanted.filament_id),
            gauge=gauge,
            initials=wanted.initials,
            started_at=datetime.now(UTC),
            learnt=self.workshop.learnt(machine.id),
            feel=person.feel_on(gauge.id) if person else FeelScale(),
            eye=(person.eye if person else None) or Eye(),
            study=self.workshop.study(machine.id, wanted.plate_id),
        )
        before = next(iter(self.workshop.runs(machine.id)), None)
        mesh, mesh_on = self._mesh_found(before, wanted.plate_id)
        setup = setup.model_copy(update={"mesh": mesh, "mesh_on": mesh_on})
        changes = found_changes(before, setup)
        if before is None and machine.in_use:
            changes = ()
        if any(c.forgets for c in changes):
            self.workshop.forget_learnt(machine.id)
            setup = setup.model_copy(update={"learnt": None})
        value = foretold(before, setup, machine.stored_mm)
        setup = setup.model_copy(
            update={"changes": tuple(c.id for c in changes), "foretold_mm": value.new_mm if value else None}
        )
        self.workshop.start_run(setup)
        return setup

    def _mesh_found(self, before: RunSetup | None, plate_id: str) -> tuple[MeshSurvey | None, bool]:
        """The mesh that the machine's last run left it with, for this plate, and whether it follows it."""
        if before is None or before.plate_id != plate_id:
            return None, False
        try:
            last = self.open(before.id).state
        except ValueError:
            return None, False
        return last.mesh, last.mesh_on

    def open(self, run_id: str) -> OpenRun:
        """The run with everything kept so far, whoever kept it."""
        with self._lock:
            run = self._open.get(run_id)
            if run is None:
                setup = self.workshop.run(run_id)
                run = OpenRun(setup, (), RunState.start(setup), self._manner(setup))
            fresh = self.workshop.entries(run_id, after=run.seq)
            if fresh:
                run = self._with(run, fresh)
            self._open[run_id] = run
            while len(self._open) > 32:
                self._open.pop(next(iter(self._open)))
            return run

    def keep(self, run_id: str, station: Station, wanted: Keep, source: Source = "hand") -> OpenRun:
        """Keep one entry and return the run after it.

        Raises Unknown, Clash (`run_moved_on`, `run_signed_off`, `entry_id_taken`) or Refused.
        """
        with self._lock:
            run = self.open(run_id)
            again = next((e for e in run.entries if e.id == wanted.id), None)
            if again is not None:
                if again.what != wanted.what:
                    raise Clash("entry_id_taken", "Something else was kept under this id.")
                return run
            if run.state.signed_off is not None and not isinstance(wanted.what, TakenBack):
                raise Clash("run_signed_off", "This run was signed off, perhaps in another tab. Start a new one.")
            if wanted.seen_seq != run.seq:
                raise Clash("run_moved_on", MOVED_ON)
            try:
                self.refuse(run, wanted.what, source)
            except Refused:
                raise
            except ValueError as wrong:
                # Asking what is believed of it found that it cannot be true: a screw that is not there.
                raise Refused("not_possible", str(wrong), "what") from None
            entry = Entry(
                id=wanted.id,
                seq=run.seq + 1,
                at=datetime.now(UTC),
                by=run.setup.initials,
                source=source,
                station=station,
                what=wanted.what,
            )
            try:
                after = self._with(run, (entry,))
            except ValueError as wrong:
                raise Refused("not_possible", str(wrong), "what") from None
            try:
                with self.workshop.writing():
                    self.workshop.keep(run_id, entry)
                    self._learn(after, entry)
            except IntegrityError:
                raise Clash("entry_id_taken", "Something else was kept under this id.") from None
            self._open[run_id] = after
        if source == "hand" and run.setup.machine.practice:
            self._told = self._teller.submit(self._tell_hands, run, entry)
        return after

    def ask_hands(
        self, run_id: str, station: Station, entry_id: str, seen_seq: int, ask: Callable[["OpenRun"], What]
    ) -> OpenRun:
        """Let the practice plate act, and keep what it answered. Asking twice under one id acts once."""
        with self._lock:
            run = self.open(run_id)
            if any(e.id == entry_id for e in run.entries):
                return run
            if run.state.signed_off is not None:
                raise Clash("run_signed_off", "This run was signed off, perhaps in another tab. Start a new one.")
            if seen_seq != run.seq:
                raise Clash("run_moved_on", MOVED_ON)
            return self.keep(run_id, station, Keep(id=entry_id, seen_seq=seen_seq, what=ask(run)), "practice")

    def settled(self) -> None:
        """Wait until what was done by hand has happened to the practice plates."""
        if self._told is not None:
            self._told.result()

    def hands(self, run: OpenRun) -> Hands:
        self.settled()
        try:
            hands = self.hands_for(run.setup)
        except ValueError as wrong:
            raise Refused("practice_away", str(wrong)) from None
        if hands is None:
            raise Refused(
                "not_practice", f"{run.setup.machine.name} is not marked as practice: its readings are yours.", None
            )
        return hands

    def _with(self, run: OpenRun, fresh: tuple[Entry, ...]) -> OpenRun:
        """The run after more rows. Taking back replays what is left from the start."""
        entries = (*run.entries, *fresh)
        if any(isinstance(e.what, TakenBack) for e in fresh):
            state = RunState.start(run.setup)
            todo = kept(entries)
        else:
            state, todo = run.state, fresh
        for entry in todo:
            state = state.apply(entry)
        return OpenRun(run.setup, entries, state, run.manner)

    def _manner(self, setup: RunSetup) -> Manner:
        try:
            return self.manner_for(setup.machine.manner)
        except ValueError:
            # Its file has a mistake: connecting says so. A run by hand goes on.
            return shipped("harbour")

    def refuse(self, run: OpenRun, what: What, source: Source = "hand") -> None:
        """Raise Refused for what must not be kept in this run as it stands."""
        state = run.state
        machine = run.setup.machine
        if isinstance(what, TakenBack):
            alive = {e.id for e in kept(run.entries)}
            if what.entry_id not in alive:
                raise Refused("nothing_to_take_back", "That row is not there, or was taken back already.", "entry_id")
        if isinstance(what, OffsetSet) and not what.sure:
            shift = shift_of(state.stored_mm, what.stored_mm, convention(machine.convention))
            # By the same belief that the advice is made from: the marks on the newest proof are in it.
            height, sd = state.with_marks().belief.height([run.setup.plate.centre])
            deep = float(height[0]) - shift - float(state.machine_believes(np.array([run.setup.plate.centre]))[0])
            if deep > CLOSER_ASKS_MM and shift < 0:
                raise Refused(
                    "closer_than_proven",
                    f"{what.stored_mm:g} would run the tip about {deep:.2f} mm into the plate at its centre, by what "
                    f"is known here (±{float(sd[0]):.2f}). Check the sign, or say that you are sure.",
                    "stored_mm",
                )
        if isinstance(what, ChangeTold | Resumed):
            for told in (what.change,) if isinstance(what, ChangeTold) else what.changes:
                try:
                    change(told)
                except ValueError as wrong:
                    raise Refused("unknown_change", str(wrong), "change") from None
        if isinstance(what, Counted) and source == "hand" and (doubted := state.doubtful_count(what)) is not None:
            raise _doubtful_count("", what.marks, *doubted, "marks")
        if isinstance(what, Walked) and (unlikely := state.doubtful_walk(what)) is not None:
            k, about, meant = unlikely
            raise _doubtful_count(f"{what.counts[k].screw}: ", what.counts[k].marks, about, meant, f"counts.{k}")
        if isinstance(what, MeshPoint) and state.mesh_plan is None and state.mesh is not None:
            raise Refused(
                "needs_neighbour",
                "The kept mesh has a zero of its own day. Measure this point and a neighbour in the same go, and give both.",
                "height_mm",
            )
        if isinstance(what, Judged) and source == "hand" and (odd := state.doubtful_caliper(what)) is not None:
            about, instead_mm = odd
            raise Refused(
                "caliper_doubtful",
                f"{what.caliper_mm:g} mm is not what a patch of this layer can be: about {about:.2f} mm is expected"
                + (f"; did you mean {instead_mm:.2f}?" if instead_mm is not None else ".")
                + " Measure it again, or keep it as it is.",
                "caliper_mm",
            )
        # A machine does not mistype; what it read is kept, however odd.
        if source == "hand":
            doubt = state.doubtful_reading(what) if isinstance(what, ReadMm) else None
            if doubt is None or doubt[1] is None:
                self._refuse_contradiction(run, what)
            if doubt is not None and isinstance(what, ReadMm):
                expected, instead = doubt
                raise Refused(
                    "reading_doubtful",
                    f"{what.value_mm:g} is far from the {expected:.2f} mm that is expected here"
                    + (f"; did you mean {instead:g}?" if instead is not None else ".")
                    + " Type it again, or keep it as it is.",
                    "value_mm",
                )
        reported = what.reported_mm if isinstance(what, Readback) else None
        if reported is not None and not readback_agrees(state.stored_mm, reported, machine.z_step_mm):
            raise Refused(
                "readback_differs",
                f"The machine reports {reported:g}, meant was {state.stored_mm:g}. "
                "It was not stored as meant: send the line again and read it back.",
                "reported_mm",
            )
        if isinstance(what, SignedOff) and state.readback_due:
            raise Refused(
                "readback_missing",
                "The new Z offset was not read back. Do that at the Z offset station first: a value that was "
                "never stored is lost at power-off.",
                "what",
            )

    def _refuse_contradiction(self, run: OpenRun, what: What) -> None:
        """A reading that cannot be true together with one before it, when nothing was changed between: said with which."""
        if not isinstance(what, ReadMm | Felt) or what.sure:
            return
        for earlier in reversed(kept(run.entries)):
            if isinstance(earlier.what, _MOVES):
                return
            sentence = contradiction(earlier, what, run.state)
            if sentence:
                raise Refused(
                    "readings_contradict",
                    f"{sentence} Nothing was turned or set since. Take the earlier one back, type this one again, "
                    "or keep it as it is.",
                    "value_mm" if isinstance(what, ReadMm) else "feel",
                )

    def _learn(self, run: OpenRun, entry: Entry) -> None:
        """What a run teaches beyond itself: the stored value, senses, supports, knobs, a person's feel, a plate's study."""
        what, machine_id = entry.what, run.setup.machine.id
        if isinstance(what, ChangeTold) and change(what.change).forgets:
            self.workshop.forget_learnt(machine_id)
        if isinstance(what, ThermalRead) and run.state.study is not None:
            self.workshop.keep_study(machine_id, run.state.study)
        if isinstance(what, FeelKept):
            self._keep_feel(run, what.scale)
        if not isinstance(what, SenseTried | Readback | SignedOff | WhereNoted | BackedOff):
            return
        try:
            machine = self.workshop.machine(machine_id)
        except LookupError:
            return
        if isinstance(what, WhereNoted):
            kept_lines = tuple(w for w in machine.where if w.step != what.step)
            where = (*kept_lines, Where(step=what.step, line=what.line)) if what.line else kept_lines
            self.workshop.keep_machine(machine.model_copy(update={"where": where}))
        elif isinstance(what, SenseTried | BackedOff):
            self.workshop.keep_machine(machine.model_copy(update={"screws": run.state.screws}))
        elif isinstance(what, Readback):
            self.workshop.keep_machine(machine.model_copy(update={"stored_mm": run.state.stored_mm}))
        elif isinstance(what, SignedOff):
            if run.state.stops:
                self._learn_tram(run, machine)
            eye = run.state.with_marks().eye
            if eye.marks > run.setup.eye.marks:
                self.workshop.keep_person(self._person(run).model_copy(update={"eye": eye}))

    def _learn_tram(self, run: OpenRun, machine: Machine) -> None:
        """At sign-off: supports and knobs for the next run, senses and preloads on the machine, the person's scatter."""
        belief, state = run.state.belief, run.state
        mean, cov = belief.compliance_learnt()
        gains, sds = belief.gains_for_next()
        before = run.setup.learnt
        learnt = Learnt(
            mean_ln=_floats(mean),
            cov_ln=tuple(_floats(row) for row in cov),
            gains=_floats(gains),
            gain_sds=_floats(sds),
            answer_ln=belief.answer_learnt(),
            runs=before.runs + 1 if before else 1,
        )
        self.workshop.keep_learnt(machine.id, learnt)
        turned_round = belief.p_reversed()
        screws = tuple(
            s.model_copy(
                update={
                    "sense": -s.sense if p > TRAM.reversed_at else s.sense,
                    "sense_proved": s.sense_proved or p > TRAM.reversed_at or p < TRAM.reversed_proved,
                }
            )
            for s, p in zip(state.screws, turned_round, strict=True)
        )
        if [s.name for s in machine.screws] == [s.name for s in screws]:
            self.workshop.keep_machine(machine.model_copy(update={"screws": preload_after(screws, state.moved_mm)}))
        if len(state.stops) >= len(screws):
            scatter, ln_sd = belief.scatter_learnt()
            self._keep_feel(run, state.feel.model_copy(update={"scatter_mm": scatter, "scatter_ln_sd": ln_sd}))

    def _keep_feel(self, run: OpenRun, scale: FeelScale) -> None:
        """The scale becomes this person's own on this gauge; somebody new is entered by their initials."""
        person = self._person(run)
        gauge_id = run.setup.gauge.id
        feels = (*(f for f in person.feels if f.gauge_id != gauge_id), OwnFeel(gauge_id=gauge_id, scale=scale))
        self.workshop.keep_person(person.model_copy(update={"feels": feels}))

    def _person(self, run: OpenRun) -> Person:
        """Whoever signs this run; somebody new by their initials."""
        initials = run.setup.initials
        known = self.workshop.person_by(initials)
        return known or Person(id=f"p-{uuid4().hex[:12]}", name=initials, initials=initials)

    def _tell_hands(self, before: OpenRun, entry: Entry) -> None:
        """What a person did by hand on a practice machine happens to the practice plate as well."""
        # The row is kept; a practice machine that is not running cannot follow it.
        with suppress(ValueError):
            hands = self.hands_for(before.setup)
            if hands is not None:
                _do_by_hand(hands, before, entry)


#: What may move the plate or the nozzle: readings before and after it need not agree.
_MOVES = (
    Counted
    | NotReached
    | Turned
    | TurnedAll
    | Walked
    | OffsetSet
    | Nudged
    | MeshUsed
    | MeshKept
    | MeshPointAgain
    | BackedOff
    | BeamTurned
    | Resumed
    | SenseTried
)


def contradiction(earlier: Entry, what: ReadMm | Felt, state: RunState) -> str:
    """Why an earlier reading of the same place and kind cannot be true together with this one; empty when it can."""
    was = earlier.what
    clock = earlier.at.strftime("%H:%M")
    if isinstance(was, ReadMm) and isinstance(what, ReadMm):
        same = (was.x_mm, was.y_mm, was.instrument) == (what.x_mm, what.y_mm, what.instrument)
        _, _, sd, _ = state._reading_row(what)
        if same and abs(was.value_mm - what.value_mm) > 5 * 2**0.5 * sd:
            name = what.screw or f"({what.x_mm:g}, {what.y_mm:g})"
            return (f"{name} cannot read {what.value_mm:+.3f} mm now and {was.value_mm:+.3f} mm at {clock}.").replace(
                "-", "−"
            )
    if isinstance(was, Felt) and isinstance(what, Felt) and (was.x_mm, was.y_mm) == (what.x_mm, what.y_mm):
        slack = 3 * state.feel.scatter_mm
        (low, high), (low_now, high_now) = (feel_interval(f.feel, state.drag_gap_mm, state.feel) for f in (was, what))
        # The plate's height by each, less the place's own zero: they must overlap.
        if (
            was.z_mm - high - slack > what.z_mm - low_now + slack
            or what.z_mm - high_now - slack > was.z_mm - low + slack
        ):
            return (
                f"The gauge cannot be {what.feel} at z {what.z_mm:.3f} when it was {was.feel} at z {was.z_mm:.3f} "
                f"at {clock}."
            )
    return ""


def _doubtful_count(where: str, marks: float, about: float, meant: float | None, field: str) -> Refused:
    return Refused(
        "count_doubtful",
        f"{where}{_count_words(marks)} is far from the {_count_words(round(about))} that are expected here"
        + (f"; did you mean {_count_words(meant)}?" if meant is not None else ".")
        + " Enter it again, or keep it as it is.",
        field,
    )


def _count_words(marks: float) -> str:
    way = "clockwise" if marks > 0 else "counter-clockwise"
    return f"{abs(marks):g} marks {way}" if marks else "no turn"


def _floats(values: Any) -> tuple[float, ...]:
    return tuple(float(v) for v in values)


def _do_by_hand(hands: Hands, before: OpenRun, entry: Entry) -> None:
    match entry.what:
        case Counted() | Turned():
            hands.turn(before.setup.machine.screw(entry.what.screw), entry.what.marks)
        case TurnedAll():
            for j, marks in enumerate(entry.what.marks):
                hands.turn(j, marks)
        case Walked():
            for j, screw in enumerate(before.setup.machine.screws):
                hands.turn(j, -entry.what.sunk_turns * screw.marks_per_turn * before.state.screws[j].sense)
            for count in entry.what.counts:
                hands.turn(before.setup.machine.screw(count.screw), count.marks)
        case OffsetSet():
            how = convention(before.setup.machine.convention)
            hands.move_nozzle(shift_of(before.state.stored_mm, entry.what.stored_mm, how))
        case MeshKept():
            hands.use_mesh(entry.what.survey)
        case MeshUsed():
            hands.use_mesh(before.state.mesh if entry.what.on else None)
        case ZoneCleaned():
            if before.state.proofs:
                hands.clean(before.state.proofs[-1].plan, entry.what.zone)
        case _:
            pass


#: A value that would press the tip deeper than this at the plate's centre asks first.
CLOSER_ASKS_MM = 0.15
