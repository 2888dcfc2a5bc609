"""Where runs are opened, kept and replayed. Every station works through this one desk."""

from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from threading import RLock

import numpy as np
from peewee import IntegrityError
from pydantic import Field

from ivory_table.core.entries import (
    Counted,
    Entry,
    Learnt,
    MeshKept,
    MeshUsed,
    OffsetSet,
    Readback,
    ReadMm,
    RunSetup,
    SenseTried,
    SignedOff,
    Source,
    Station,
    TakenBack,
    Turned,
    TurnedAll,
    What,
    ZoneCleaned,
    kept,
)
from ivory_table.core.hands import Hands
from ivory_table.core.manner import Manner, shipped
from ivory_table.core.offset import convention, readback_agrees, shift_of
from ivory_table.core.run import RunState
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
        setup = RunSetup(
            id=wanted.id,
            machine=machine,
            plate_id=wanted.plate_id,
            filament=self.workshop.filament(wanted.filament_id),
            gauge=self.workshop.gauge(wanted.gauge_id),
            initials=wanted.initials,
            started_at=datetime.now(UTC),
            learnt=self.workshop.learnt(machine.id),
        )
        self.workshop.start_run(setup)
        return setup

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
            self.refuse(run, wanted.what, source)
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
            height, sd = state.belief.height([run.setup.plate.centre])
            deep = float(height[0]) - shift - float(state.machine_believes(np.array([run.setup.plate.centre]))[0])
            if deep > CLOSER_ASKS_MM and shift < 0:
                raise Refused(
                    "closer_than_proven",
                    f"{what.stored_mm:g} would run the tip about {deep:.2f} mm into the plate at its centre, by what "
                    f"is known here (±{float(sd[0]):.2f}). Check the sign, or say that you are sure.",
                    "stored_mm",
                )
        # A machine does not mistype; what it read is kept, however odd.
        if isinstance(what, ReadMm) and source == "hand" and (doubt := state.doubtful_reading(what)) is not None:
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

    def _learn(self, run: OpenRun, entry: Entry) -> None:
        """What a run teaches beyond itself: a knob's sense, the stored value, the supports."""
        what, machine_id = entry.what, run.setup.machine.id
        if not isinstance(what, SenseTried | Readback | SignedOff):
            return
        try:
            machine = self.workshop.machine(machine_id)
        except LookupError:
            return
        if isinstance(what, SenseTried):
            self.workshop.keep_machine(machine.model_copy(update={"screws": run.state.screws}))
        elif isinstance(what, Readback):
            self.workshop.keep_machine(machine.model_copy(update={"stored_mm": run.state.stored_mm}))
        elif isinstance(what, SignedOff) and len(run.setup.machine.screws) > 3 and run.state.stops:
            mean, cov = run.state.belief.compliance_learnt()
            rows = tuple(tuple(float(v) for v in row) for row in cov)
            self.workshop.keep_learnt(machine_id, Learnt(mean_ln=tuple(float(v) for v in mean), cov_ln=rows))

    def _tell_hands(self, before: OpenRun, entry: Entry) -> None:
        """What a person did by hand on a practice machine happens to the practice plate as well."""
        # The row is kept; a practice machine that is not running cannot follow it.
        with suppress(ValueError):
            hands = self.hands_for(before.setup)
            if hands is not None:
                _do_by_hand(hands, before, entry)


def _do_by_hand(hands: Hands, before: OpenRun, entry: Entry) -> None:
    match entry.what:
        case Counted() | Turned():
            hands.turn(before.setup.machine.screw(entry.what.screw), entry.what.marks)
        case TurnedAll():
            for j, marks in enumerate(entry.what.marks):
                hands.turn(j, marks)
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
