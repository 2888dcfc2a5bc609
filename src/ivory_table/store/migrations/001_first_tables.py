"""The first tables: machines, gauges, filaments, what was learnt, runs and their entries."""

from typing import Any

from peewee import Database

_UP = (
    "CREATE TABLE machine (id VARCHAR(64) PRIMARY KEY NOT NULL, revision INTEGER NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE gauge (id VARCHAR(64) PRIMARY KEY NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE filament (id VARCHAR(64) PRIMARY KEY NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE learnt (machine_id VARCHAR(64) PRIMARY KEY NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE run (id VARCHAR(64) PRIMARY KEY NOT NULL, machine_id VARCHAR(64) NOT NULL,"
    " started_at VARCHAR(40) NOT NULL, setup TEXT NOT NULL)",
    "CREATE INDEX run_machine ON run (machine_id)",
    "CREATE INDEX run_started ON run (started_at)",
    "CREATE TABLE entry (id VARCHAR(64) PRIMARY KEY NOT NULL,"
    " run_id VARCHAR(64) NOT NULL REFERENCES run (id) ON DELETE RESTRICT,"
    " seq INTEGER NOT NULL, body TEXT NOT NULL)",
    "CREATE UNIQUE INDEX entry_run_seq ON entry (run_id, seq)",
    # Nothing that was kept is ever changed or removed, whoever writes to the file.
    "CREATE TRIGGER entry_stays BEFORE UPDATE ON entry BEGIN SELECT RAISE(ABORT, 'entries are only added'); END",
    "CREATE TRIGGER entry_kept BEFORE DELETE ON entry BEGIN SELECT RAISE(ABORT, 'entries are only added'); END",
)


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    for statement in _UP:
        migrator.sql(statement)
