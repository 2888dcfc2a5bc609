"""The open database and its repositories. Every write is one transaction, on disk when it returns."""

import logging
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from datetime import UTC, datetime
from importlib.resources import files
from pathlib import Path
from typing import Any, TypeVar
from uuid import uuid4

from peewee import SqliteDatabase, fn
from peewee_migrate import Router
from pydantic import BaseModel, ValidationError

from ivory_table.core.gauge import Gauge
from ivory_table.core.plate import Filament, Machine, Nozzle, Person
from ivory_table.core.setup import Learnt, RunSetup
from ivory_table.core.thermal import ThermalStudy
from ivory_table.runs.entry import Entry, RunFile
from ivory_table.runs.lessons import Lessons, entered_anew
from ivory_table.runs.log import LogEntry

from .figures import Figures
from .tables import (
    EntryRow,
    FilamentRow,
    GaugeRow,
    LearntRow,
    LessonRow,
    LogRow,
    MachineRow,
    NozzleRow,
    PersonRow,
    RunRow,
    StudyRow,
    database,
)
from .teachings import Teachings
from .trouble import MOVED_ON, Clash, Unknown, Unreadable


class Workshop:
    """One SQLite file. Safe for several threads: peewee keeps a connection for each."""

    def __init__(self, file: Path) -> None:
        file.parent.mkdir(parents=True, exist_ok=True)
        self.file = file
        self._db = SqliteDatabase(
            str(file),
            pragmas={"journal_mode": "wal", "synchronous": "full", "foreign_keys": 1, "busy_timeout": 5000},
        )
        database.initialize(self._db)
        self.teachings, self.figures = Teachings(self.writing), Figures()
        self.migrate()

    def migrate(self) -> None:
        """Bring the tables up to date; a database made by a newer version is left alone."""
        folder = files("ivory_table.store").joinpath("migrations")
        logger = logging.getLogger("ivory_table.migrations")
        router = Router(self._db, migrate_dir=str(folder), logger=logger)
        known = set(router.todo)
        ahead = set(router.done) - known
        if ahead:
            raise RuntimeError(
                f"{self.file} was written by a newer Ivory Table ({', '.join(sorted(ahead))}). Install that one."
            )
        router.run()

    def close(self) -> None:
        if not self._db.is_closed():
            self._db.close()

    @contextmanager
    def writing(self) -> Iterator[None]:
        """One transaction that takes the write lock at once."""
        with self._db.atomic("IMMEDIATE"):
            yield

    # Set-up

    def machines(self) -> tuple[Machine, ...]:
        return tuple(Machine.model_validate_json(r.body) for r in MachineRow.select().order_by(MachineRow.id))

    def machine(self, machine_id: str) -> Machine:
        row = MachineRow.get_or_none(MachineRow.id == machine_id)
        if row is None:
            raise Unknown(f"No machine is kept under '{machine_id}'.")
        return Machine.model_validate_json(row.body)

    def keep_machine(self, machine: Machine, at: datetime | None = None) -> None:
        """Keep a machine as it was entered by hand, now or at a time. What runs have taught and nobody altered stays theirs."""
        with self.writing():
            row = MachineRow.get_or_none(MachineRow.id == machine.id)
            entered, at = machine, at or datetime.now(UTC)
            if row is not None:
                before, known = (Machine.model_validate_json(body) for body in (row.entered, row.body))
                found = entered_anew(before, known, machine)
                if found is not None:
                    entered, at = found, datetime.fromisoformat(row.entered_at)
            MachineRow.replace(
                id=machine.id,
                revision=row.revision + 1 if row else 1,
                body=machine.model_dump_json(),
                entered=entered.model_dump_json(),
                entered_at=at.isoformat(),
            ).execute()

    def know_machine(self, machine: Machine) -> None:
        """Keep what is known of a machine by what its runs have taught; what was entered stays."""
        known = MachineRow.update(body=machine.model_dump_json(), revision=MachineRow.revision + 1)
        known.where(MachineRow.id == machine.id).execute()

    def machine_as_entered(self, machine_id: str) -> tuple[Machine, datetime] | None:
        """A machine as it was last entered by hand, and when."""
        row = MachineRow.get_or_none(MachineRow.id == machine_id)
        return (
            None if row is None else (Machine.model_validate_json(row.entered), datetime.fromisoformat(row.entered_at))
        )

    # What happens beside the runs

    def keep_log(self, entry: LogEntry) -> None:
        """The same entry again is harmless."""
        LogRow.insert(
            id=entry.id, machine_id=entry.machine_id, at=entry.at.isoformat(), body=_json(entry)
        ).on_conflict_ignore().execute()

    def log(self, machine_id: str | None = None) -> tuple[LogEntry, ...]:
        """Newest first."""
        rows = LogRow.select().order_by(LogRow.at.desc())
        if machine_id is not None:
            rows = rows.where(LogRow.machine_id == machine_id)
        return tuple(LogEntry.model_validate_json(r.body) for r in rows)

    def marks(self) -> dict[str, str]:
        """Of every machine that has runs: what changes whenever something is kept in its newest run or its logbook."""
        logged = dict(
            LogRow.select(LogRow.machine_id, fn.COUNT(LogRow.id)).group_by(LogRow.machine_id).tuples().iterator()
        )
        newest = self._db.execute_sql(
            # By the index alone, then one row for each: bodies are long.
            "SELECT s.machine_id, s.run_id, json_extract(s.body, '$.seq') FROM"
            " (SELECT machine_id, max(started_at) AS at FROM summary GROUP BY machine_id) n"
            " JOIN summary s ON s.machine_id = n.machine_id AND s.started_at = n.at"
        )
        return {machine: f"{run} {seq} {logged.get(machine, 0)}" for machine, run, seq in newest.fetchall()}

    def revision(self, machine_id: str) -> int:
        """How often a machine was kept; 0 for one that is not."""
        row = MachineRow.get_or_none(MachineRow.id == machine_id)
        return row.revision if row else 0

    def gauges(self) -> tuple[Gauge, ...]:
        return _all(GaugeRow, Gauge)

    def gauge(self, gauge_id: str) -> Gauge:
        return _one(GaugeRow, Gauge, gauge_id, "gauge")

    def keep_gauge(self, gauge: Gauge) -> None:
        _put(GaugeRow, gauge)

    def filaments(self) -> tuple[Filament, ...]:
        return _all(FilamentRow, Filament)

    def filament(self, filament_id: str) -> Filament:
        return _one(FilamentRow, Filament, filament_id, "filament")

    def keep_filament(self, filament: Filament) -> None:
        _put(FilamentRow, filament)

    def nozzles(self) -> tuple[Nozzle, ...]:
        return _all(NozzleRow, Nozzle)

    def keep_nozzle(self, nozzle: Nozzle) -> None:
        _put(NozzleRow, nozzle)

    def people(self) -> tuple[Person, ...]:
        return _all(PersonRow, Person)

    def keep_person(self, person: Person) -> None:
        """Keep a person as entered by hand. What runs have taught and nobody altered stays theirs."""
        row = PersonRow.get_or_none(PersonRow.id == person.id)
        entered, at = person, datetime.now(UTC).isoformat()
        if row is not None:
            before, known = (Person.model_validate_json(body) for body in (row.entered, row.body))
            if (known.feels, known.eye, known.initials) == (person.feels, person.eye, person.initials):
                entered = person.model_copy(update={"feels": before.feels, "eye": before.eye})
                at = row.entered_at
        PersonRow.replace(
            id=person.id, initials=person.initials, body=_json(person), entered=_json(entered), entered_at=at
        ).execute()

    def meet_person(self, initials: str) -> None:
        """Somebody new, known by the initials they sign with; nothing was entered of them yet."""
        person = Person(id=f"p-{uuid4().hex[:12]}", name=initials, initials=initials)
        PersonRow.create(
            id=person.id,
            initials=initials,
            body=_json(person),
            entered=_json(person),
            entered_at=datetime.min.replace(tzinfo=UTC).isoformat(),
        )

    def know_person(self, person: Person) -> None:
        """Keep what is known of a person by what their runs have taught; what was entered stays."""
        PersonRow.update(body=_json(person)).where(PersonRow.id == person.id).execute()

    def person_as_entered(self, initials: str) -> tuple[Person, datetime] | None:
        row = PersonRow.get_or_none(PersonRow.initials == initials)
        return (
            None if row is None else (Person.model_validate_json(row.entered), datetime.fromisoformat(row.entered_at))
        )

    def person_by(self, initials: str) -> Person | None:
        """The person who signs with these initials."""
        row = PersonRow.get_or_none(PersonRow.initials == initials)
        return None if row is None else Person.model_validate_json(row.body)

    def study(self, machine_id: str, plate_id: str) -> ThermalStudy | None:
        row = StudyRow.get_or_none(StudyRow.id == f"{machine_id}/{plate_id}")
        return None if row is None else ThermalStudy.model_validate_json(row.body)

    def keep_study(self, machine_id: str, study: ThermalStudy) -> None:
        """Keep a study that was brought along."""
        StudyRow.replace(id=f"{machine_id}/{study.plate_id}", body=_json(study)).execute()

    def forget_learnt(self, machine_id: str) -> None:
        """The hardware was changed by hand: what earlier runs taught no longer holds."""
        LearntRow.replace(machine_id=machine_id, body="null", at=datetime.now(UTC).isoformat()).execute()

    def learnt_before(self, machine_id: str) -> tuple[datetime, Learnt | None] | None:
        """What was known of a machine's supports apart from its runs' lessons, and since when; None in it: it is void."""
        row = LearntRow.get_or_none(LearntRow.machine_id == machine_id)
        if row is None:
            return None
        return datetime.fromisoformat(row.at), None if row.body == "null" else Learnt.model_validate_json(row.body)

    # What runs teach

    def keep_lessons(self, setup: RunSetup, taught: Lessons) -> None:
        LessonRow.replace(
            run=setup.id,
            machine_id=setup.machine.id,
            plate_id=setup.plate_id,
            initials=setup.initials,
            body=_json(taught),
        ).execute()

    def lessons(
        self, *, machine_id: str | None = None, plate_id: str | None = None, initials: str | None = None
    ) -> tuple[Lessons, ...]:
        """The lessons of every run of a machine, of one of its plates, or of a person."""
        query = LessonRow.select(LessonRow.body)
        if machine_id is not None:
            query = query.where(LessonRow.machine_id == machine_id)
        if plate_id is not None:
            query = query.where(LessonRow.plate_id == plate_id)
        if initials is not None:
            query = query.where(LessonRow.initials == initials)
        return tuple(Lessons.model_validate_json(body) for (body,) in query.tuples())

    def lessons_of_supports(self, machine_id: str) -> tuple[Lessons, ...]:
        """The newest lesson of a machine's supports, and the newest that voids them: no older one counts."""
        found = []
        for path in ("$.supports.at", "$.forgets_at"):
            at = fn.json_extract(LessonRow.body, path)
            mine = (LessonRow.machine_id == machine_id) & at.is_null(False)
            newest = LessonRow.select(LessonRow.body).where(mine).order_by(at.desc()).limit(1).tuples()
            found += [Lessons.model_validate_json(body) for (body,) in newest]
        return tuple(found)

    # Runs

    def start_run(self, setup: RunSetup) -> None:
        """Keep a new run. The same setup again is harmless; another under its id is a clash."""
        with self.writing():
            row = RunRow.get_or_none(RunRow.id == setup.id)
            if row is None:
                RunRow.create(
                    id=setup.id,
                    machine_id=setup.machine.id,
                    started_at=setup.started_at.isoformat(),
                    setup=setup.model_dump_json(),
                )

    def runs(self, machine_id: str | None = None, most: int | None = None) -> tuple[RunSetup, ...]:
        """Newest first."""
        query = RunRow.select().order_by(RunRow.started_at.desc()).limit(most)
        if machine_id is not None:
            query = query.where(RunRow.machine_id == machine_id)
        found = []
        for row in query:
            # One that another version wrote and this one cannot read takes no other with it.
            with suppress(ValidationError):
                found.append(RunSetup.model_validate_json(row.setup))
        return tuple(found)

    def run(self, run_id: str) -> RunSetup:
        row = RunRow.get_or_none(RunRow.id == run_id)
        if row is None:
            raise Unknown(f"No run is kept under '{run_id}'.")
        try:
            return RunSetup.model_validate_json(row.setup)
        except ValidationError:
            raise Unreadable(
                f"Run '{run_id}' cannot be read by this version of Ivory Table. It is left as it is."
            ) from None

    def entries(self, run_id: str, after: int = 0) -> tuple[Entry, ...]:
        query = (
            EntryRow.select(EntryRow.body)
            .where((EntryRow.run == run_id) & (EntryRow.seq > after))
            .order_by(EntryRow.seq)
            .tuples()
        )
        found = []
        for number, (body,) in enumerate(query, after + 1):
            try:
                found.append(Entry.model_validate_json(body))
            except ValidationError:
                raise Unreadable(
                    f"Row {number} of run '{run_id}' cannot be read by this version of Ivory Table. It is left as it is; "
                    "another version may have written it."
                ) from None
        return tuple(found)

    def entry(self, entry_id: str) -> tuple[str, Entry] | None:
        """(run id, entry), or None."""
        row = EntryRow.get_or_none(EntryRow.id == entry_id)
        return None if row is None else (row.run_id, Entry.model_validate_json(row.body))

    def keep(self, run_id: str, entry: Entry) -> None:
        """Add one entry. Its `seq` must be the run's next, else another tab was first."""
        newest = EntryRow.select(EntryRow.seq).where(EntryRow.run == run_id).order_by(EntryRow.seq.desc()).limit(1)
        last = newest.scalar() or 0
        if entry.seq != last + 1:
            raise Clash("run_moved_on", MOVED_ON)
        EntryRow.create(id=entry.id, run=run_id, seq=entry.seq, body=_json(entry))

    def import_run(self, file: RunFile) -> bool:
        """Keep a run from elsewhere. False when the very same is here already."""
        with self.writing():
            row = RunRow.get_or_none(RunRow.id == file.setup.id)
            if row is not None:
                same = RunSetup.model_validate_json(row.setup) == file.setup
                if same and self.entries(file.setup.id) == file.entries:
                    return False
                raise Clash("run_id_taken", "A different run is kept under this id. It was not overwritten.")
            taken = EntryRow.select().where(EntryRow.id.in_([e.id for e in file.entries])).exists()
            if taken:
                raise Clash("entry_id_taken", "Some rows of this run are kept in another run already.")
            RunRow.create(
                id=file.setup.id,
                machine_id=file.setup.machine.id,
                started_at=file.setup.started_at.isoformat(),
                setup=_json(file.setup),
            )
            rows = [{"id": e.id, "run": file.setup.id, "seq": e.seq, "body": _json(e)} for e in file.entries]
            for start in range(0, len(rows), 200):
                EntryRow.insert_many(rows[start : start + 200]).execute()
            return True


_V = TypeVar("_V", bound=BaseModel)


def _all(table: Any, model: type[_V]) -> tuple[_V, ...]:
    return tuple(model.model_validate_json(r.body) for r in table.select().order_by(table.id))


def _one(table: Any, model: type[_V], wanted: str, name: str) -> _V:
    row = table.get_or_none(table.id == wanted)
    if row is None:
        raise Unknown(f"No {name} is kept under '{wanted}'.")
    return model.model_validate_json(row.body)


def _put(table: Any, value: Any) -> None:
    table.replace(id=value.id, body=_json(value)).execute()


def _json(value: BaseModel) -> str:
    return value.model_dump_json()
