"""Where runs are opened, kept and replayed. Every station works through this one desk."""

import logging
from collections import OrderedDict
from collections.abc import Callable
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import suppress
from datetime import UTC, datetime
from threading import Lock, RLock
from typing import Annotated
from weakref import WeakValueDictionary

from peewee import IntegrityError
from pydantic import Field, SerializeAsAny

from ivory_table.core.changes import Change, change, foretold, found_changes
from ivory_table.core.eye import Eye
from ivory_table.core.gauge import FeelScale
from ivory_table.core.hands import Hands
from ivory_table.core.manner import Manner, plain_lines, shipped
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.plate import Machine
from ivory_table.core.plate_values import foretold_for
from ivory_table.core.setup import BEGUN_NOW, RunSetup
from ivory_table.core.value import Id, Initials, StationName, Value
from ivory_table.desk.knowledge import caliper_of, feed_of, keep_lessons, layer_of, learnt_of, plate_values, study_of
from ivory_table.runs.by_hand import by_hand
from ivory_table.runs.common import STATION_TITLES, TakenBack
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.entry import Entry, Source, kept
from ivory_table.runs.lessons import lessons
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.runs.summary import shown_of, shown_of_unreadable, summary_of
from ivory_table.store.trouble import MOVED_ON, Clash
from ivory_table.store.workshop import Workshop


class Keep(Value):
    """One thing to keep. `id` is made by the client, so that asking twice is harmless."""

    id: Id
    seen_seq: int = Field(ge=0, description="The newest row the client has seen of this run.")
    what: SerializeAsAny[Row]


class Ask(Value):
    """Ask the practice plate for the answer to the step at hand."""

    id: Id
    seen_seq: int = Field(ge=0)


class StartRun(Value):
    id: Id
    machine_id: Id
    plate_id: Id
    filament_id: Id
    gauge_id: Id
    initials: Initials
    #: What somebody says was changed since the last run, beside what is found by comparing.
    changes: Annotated[tuple[Id, ...], Field(max_length=12)] = ()


#: So many runs are held open; another is opened by replaying its rows.
MOST_OPEN = 32


HandsFor = Callable[[RunSetup], Hands | None]


def _told(change_id: str) -> Change:
    """Raises Refused for a change that is not known."""
    try:
        return change(change_id)
    except ValueError as wrong:
        raise Refused("unknown_change", str(wrong), "changes") from None


class Desk:
    """Opens runs, keeps entries. `hands_for` finds the practice plate or machine of a run, if any."""

    def __init__(
        self,
        workshop: Workshop,
        hands_for: HandsFor = lambda _: None,
        manner_for: Callable[[str], Manner] = shipped,
        clock: Callable[[], datetime] = lambda: datetime.now(UTC),
    ) -> None:
        self.workshop, self.manner_for, self.clock = workshop, manner_for, clock
        self.hands_for = hands_for
        #: Runs that are open, the one used longest ago first; each with a lock of its own.
        self._open: OrderedDict[str, OpenRun] = OrderedDict()
        self._locks: WeakValueDictionary[str, RLock] = WeakValueDictionary()
        self._lock = Lock()
        # What a hand did happens to a practice plate after the answer has left, in its order.
        self._teller = ThreadPoolExecutor(max_workers=1, thread_name_prefix="tell")
        self._told: Future[None] | None = None

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
            started_at=self.clock(),
            learnt=learnt_of(self.workshop, machine.id),
            feel=person.feel_on(gauge) if person else FeelScale.of_method(gauge.method),
            eye=(person.eye if person else None) or Eye(),
            caliper=caliper_of(self.workshop, machine.id, wanted.plate_id, wanted.filament_id),
            feed=feed_of(self.workshop, machine.id, wanted.filament_id),
            layer=layer_of(self.workshop, machine),
            study=study_of(self.workshop, machine.id, wanted.plate_id),
            mesh_law=self.manner_of(machine).mesh,
            **BEGUN_NOW,
        )
        before = next(iter(self.workshop.runs(machine.id, most=5)), None)
        mesh, mesh_on = self._mesh_found(before, wanted.plate_id)
        setup = setup.model_copy(update={"mesh": mesh, "mesh_on": mesh_on})
        changes = found_changes(before, setup)
        if before is None and machine.in_use:
            changes = ()
        there = {c.id for c in changes}
        told = tuple(_told(c) for c in wanted.changes if c not in there)
        changes = (*changes, *told)
        if any(c.forgets for c in changes):
            setup = setup.model_copy(update={"learnt": None})
        if any(c.feeds_anew for c in changes):
            setup = setup.model_copy(update={"feed": None})
        # What two plates were seen to differ by says more than their thickness on paper.
        known = foretold_for(wanted.plate_id, plate_values(self.workshop, machine), machine.stored_mm)
        by_stack = foretold(before, setup, machine.stored_mm) if known is None else None
        setup = setup.model_copy(
            update={
                "changes": tuple(c.id for c in changes),
                "told_changes": tuple(c.id for c in told),
                "foretold_mm": known.stored_mm if known else by_stack.new_mm if by_stack else None,
                "foretold_sd_mm": known.sd_mm if known else 0.0,
            }
        )
        run = OpenRun(setup, (), RunState.start(setup), self.manner_of(machine))
        with self.workshop.writing():
            self.workshop.start_run(setup)
            self.workshop.figures.keep(shown_of(run))
            keep_lessons(self.workshop, setup, lessons(run))
        return setup

    def _mesh_found(self, before: RunSetup | None, plate_id: str) -> tuple[MeshSurvey | None, bool]:
        """The mesh that the machine's last run left it with, for this plate, and whether it follows it."""
        if before is None or before.plate_id != plate_id:
            return None, False
        last = self.workshop.figures.mesh_left(before.id)
        if last is None and self.catch_up(most=1):
            last = self.workshop.figures.mesh_left(before.id)
        return (last.survey, last.on) if last is not None else (None, False)

    def catch_up(self, most: int | None = None) -> int:
        """Make the summaries of runs that have none by this version, newest first; how many were made.

        Runs kept by an earlier version are read once, beside the serving. One that cannot be read says so, and takes no
        other with it.
        """
        missing = self.workshop.figures.missing(most)
        for run_id in missing:
            try:
                shown = shown_of(self.open(run_id))
            except Exception as wrong:
                if not isinstance(wrong, ValueError):
                    logging.getLogger("ivory_table").exception("run %s", run_id)
                self._keep_unreadable(run_id)
                continue
            with self.workshop.writing():
                self.workshop.figures.keep(shown)
        return len(missing)

    def renew(self, most: int) -> int:
        """Make the figures of runs that an earlier computation made anew, newest first; how many there were."""
        older = self.workshop.figures.older(most)
        for run_id in older:
            # It stays as it was shown where it cannot be read; nobody keeps anything in it meanwhile.
            with suppress(ValueError), self._own_lock(run_id):
                summary = summary_of(self.open(run_id))
                with self.workshop.writing():
                    self.workshop.figures.renew(summary)
        return len(older)

    def _keep_unreadable(self, run_id: str) -> None:
        with suppress(ValueError):  # its set-up cannot be read either: nothing can be said of it
            setup = self.workshop.run(run_id)
            self.workshop.figures.keep(shown_of_unreadable(setup))

    def _own_lock(self, run_id: str) -> RLock:
        """One run is written by one thread at a time; two runs never wait for each other."""
        with self._lock:
            found = self._locks.get(run_id)
            if found is None:
                found = self._locks[run_id] = RLock()
            return found

    def open(self, run_id: str) -> OpenRun:
        """The run with everything kept so far, whoever kept it."""
        with self._own_lock(run_id):
            with self._lock:
                run = self._open.get(run_id)
            if run is None:
                setup = self.workshop.run(run_id)
                run = OpenRun(setup, (), RunState.start(setup), self.manner_of(setup.machine))
            fresh = self.workshop.entries(run_id, after=run.seq)
            if fresh:
                run = self._with(run, fresh)
            self._remember(run)
            return run

    def _remember(self, run: OpenRun) -> None:
        with self._lock:
            self._open[run.setup.id] = run
            self._open.move_to_end(run.setup.id)
            while len(self._open) > MOST_OPEN:
                self._open.popitem(last=False)

    def keep(self, run_id: str, station: StationName, wanted: Keep, source: Source = "hand") -> OpenRun:
        """Keep one entry and return the run after it.

        Raises Unknown, Clash (`run_moved_on`, `run_signed_off`, `entry_id_taken`) or Refused.
        """
        with self._own_lock(run_id):
            run = self.open(run_id)
            again = next((e for e in run.entries if e.id == wanted.id), None)
            if again is not None:
                if again.what != wanted.what:
                    raise Clash("entry_id_taken", "Something else was kept under this id.")
                return run
            if run.state.signed_off and not isinstance(wanted.what, TakenBack):
                raise Clash("run_signed_off", "This run was signed off, perhaps in another tab. Start a new one.")
            if wanted.seen_seq != run.seq:
                raise Clash("run_moved_on", MOVED_ON)
            if station not in wanted.what.stations:
                raise Refused("not_here", f"{STATION_TITLES[station]} does not take that kind of row.", "what")
            try:
                doubt(wanted.what, run, source)
            except Refused:
                raise
            except ValueError as wrong:
                # Asking what is believed of it found that it cannot be true: a screw that is not there.
                raise Refused("not_possible", str(wrong), "what") from None
            entry = Entry(
                id=wanted.id,
                seq=run.seq + 1,
                at=self.clock(),
                by=run.setup.initials,
                source=source,
                station=station,
                what=wanted.what,
            )
            try:
                after = self._with(run, (entry,))
            except ValueError as wrong:
                raise Refused("not_possible", str(wrong), "what") from None
            taught, shown = lessons(after), shown_of(after)
            try:
                with self.workshop.writing():
                    self.workshop.keep(run_id, entry)
                    self.workshop.figures.keep(shown)
                    if taught != lessons(run):
                        keep_lessons(self.workshop, run.setup, taught)
            except IntegrityError:
                raise Clash("entry_id_taken", "Something else was kept under this id.") from None
            self._remember(after)
        if source == "hand" and run.setup.machine.practice:
            self._told = self._teller.submit(self._tell_hands, run, entry)
        return after

    def ask_hands(
        self, run_id: str, station: StationName, entry_id: str, seen_seq: int, ask: Callable[[OpenRun], Row]
    ) -> OpenRun:
        """Let the practice plate act, and keep what it answered. Asking twice under one id acts once."""
        with self._own_lock(run_id):
            run = self.open(run_id)
            if any(e.id == entry_id for e in run.entries):
                return run
            if run.state.signed_off:
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

    def forget_open(self) -> None:
        """Rows were changed beneath: every run is opened anew."""
        with self._lock:
            self._open.clear()

    def manner_changed(self, manner_id: str) -> None:
        """Runs of machines that talk so are opened anew, with its words as they are now."""
        with self._lock:
            for run_id in [r for r, run in self._open.items() if run.setup.machine.manner == manner_id]:
                del self._open[run_id]

    def manner_of(self, machine: Machine) -> Manner:
        """How a machine talks; plain lines where its manner cannot be read."""
        try:
            return self.manner_for(machine.manner)
        except ValueError:
            # Its file has a mistake: connecting says so. A run by hand goes on, without words that are another machine's.
            return plain_lines()

    def _tell_hands(self, before: OpenRun, entry: Entry) -> None:
        """What a person did by hand on a practice machine happens to the practice plate as well."""
        # The row is kept; a practice machine that is not running cannot follow it.
        with suppress(ValueError):
            hands = self.hands_for(before.setup)
            if hands is not None:
                by_hand(entry.what, hands, before)
