"""The store, on a real file: what was kept stays, in order, also when the process is killed."""

import sqlite3
import subprocess
import sys
import textwrap
import threading
from pathlib import Path

import pytest

from ivory_table.core.plate import Machine
from ivory_table.demo.tidewater import MACHINES
from ivory_table.runs.entry import RunFile
from ivory_table.stations.turned import Turned
from ivory_table.store.trouble import Clash, Unknown
from ivory_table.store.workshop import Workshop
from tests.conftest import entry, setup_for


def test_set_up_comes_back_as_it_was_put(workshop: Workshop) -> None:
    heron = workshop.machine("heron")
    changed = heron.model_copy(update={"stored_mm": 0.91})
    workshop.keep_machine(changed)
    assert workshop.machine("heron") == changed
    assert [m.name for m in workshop.machines()] == ["Bittern", "Heron", "Kestrel", "Wren"]


def test_unknown_things_are_said_to_be_unknown(workshop: Workshop) -> None:
    for ask in (workshop.machine, workshop.gauge, workshop.filament, workshop.run):
        with pytest.raises(Unknown, match="gull"):
            ask("gull")


def test_rows_are_kept_in_order_and_only_the_next_is_taken(workshop: Workshop) -> None:
    workshop.start_run(setup_for("heron"))
    for k in (1, 2):
        workshop.keep("run", entry(k, Turned(screw="rear left", marks=k)))
    assert [e.seq for e in workshop.entries("run")] == [1, 2]
    assert [e.seq for e in workshop.entries("run", after=1)] == [2]
    with pytest.raises(Clash, match="another tab"):
        workshop.keep("run", entry(2, Turned(screw="rear left", marks=3)).model_copy(update={"id": "other"}))


@pytest.mark.parametrize("statement", ["UPDATE entry SET body = '{}'", "DELETE FROM entry"])
def test_what_was_kept_cannot_be_changed_even_with_sql(workshop: Workshop, statement: str) -> None:
    workshop.start_run(setup_for("heron"))
    workshop.keep("run", entry(1, Turned(screw="rear left", marks=1)))
    with sqlite3.connect(workshop.file) as raw, pytest.raises(sqlite3.IntegrityError, match="only added"):
        raw.execute(statement)


def test_the_file_survives_a_power_cut_in_its_settings(workshop: Workshop) -> None:
    assert workshop._db.execute_sql("PRAGMA journal_mode").fetchone()[0] == "wal"
    assert workshop._db.execute_sql("PRAGMA synchronous").fetchone()[0] == 2
    assert workshop._db.execute_sql("PRAGMA foreign_keys").fetchone()[0] == 1


def test_a_killed_process_loses_nothing_it_had_answered(tmp_path: Path) -> None:
    script = textwrap.dedent(f"""
        import sys, itertools
        from pathlib import Path
        from ivory_table.store.workshop import Workshop
        from ivory_table.stations.turned import Turned
        from tests.conftest import entry, setup_for
        shop = Workshop(Path({str(tmp_path / "w.db")!r}))
        shop.start_run(setup_for("heron"))
        for k in itertools.count(1):
            shop.keep("run", entry(k, Turned(screw="rear left", marks=1)))
            print(k, flush=True)
    """)
    process = subprocess.Popen([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True)
    answered = [int(process.stdout.readline()) for _ in range(25)][-1]
    process.kill()
    process.wait()
    rows = Workshop(tmp_path / "w.db").entries("run")
    assert len(rows) >= answered
    assert [e.seq for e in rows] == list(range(1, len(rows) + 1))


def test_migrations_run_once_and_a_newer_database_is_left_alone(tmp_path: Path) -> None:
    file = tmp_path / "w.db"
    Workshop(file).close()
    Workshop(file).close()
    with sqlite3.connect(file) as raw:
        raw.execute("INSERT INTO migratehistory (name, migrated_at) VALUES ('999_later', '2030-01-01')")
    with pytest.raises(RuntimeError, match="newer Ivory Table"):
        Workshop(file)


def test_an_imported_run_is_the_same_run_and_never_overwrites(workshop: Workshop) -> None:
    file = RunFile(setup=setup_for("heron"), entries=(entry(1, Turned(screw="rear left", marks=1)),))
    assert workshop.import_run(file) is True
    assert workshop.import_run(file) is False
    assert workshop.entries("run") == file.entries
    with pytest.raises(Clash, match="not overwritten"):
        workshop.import_run(file.model_copy(update={"entries": ()}))
    other = setup_for("heron", "another")
    with pytest.raises(Clash, match="another run"):
        workshop.import_run(file.model_copy(update={"setup": other}))


def test_several_people_set_up_machines_at_once_and_nobody_is_refused(workshop: Workshop) -> None:
    """What is read before it is written is read under the write lock: else the second one would find the file locked."""
    refused: list[Exception] = []

    def sets_up(machine: Machine) -> None:
        for step in range(1, 31):
            try:
                workshop.keep_machine(machine.model_copy(update={"z_step_mm": 0.001 * step}))
            except Exception as wrong:
                refused.append(wrong)

    people = [threading.Thread(target=sets_up, args=(machine,)) for machine in MACHINES[:3]]
    for person in people:
        person.start()
    for person in people:
        person.join(60)
    assert refused == []
    assert all(workshop.machine(machine.id).z_step_mm == 0.03 for machine in MACHINES[:3])
