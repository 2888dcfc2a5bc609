"""Manners that were taught, version by version, and what was proved of them on which machine."""

from typing import Any

from peewee import Database


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    for statement in (
        "CREATE TABLE manner (manner_id VARCHAR(64) NOT NULL, version INTEGER NOT NULL, at VARCHAR(40) NOT NULL,"
        " initials VARCHAR(12) NOT NULL, what TEXT NOT NULL, body TEXT NOT NULL, PRIMARY KEY (manner_id, version))",
        "CREATE TABLE proving (id INTEGER PRIMARY KEY, manner_id VARCHAR(64) NOT NULL, machine_id VARCHAR(64) NOT NULL,"
        " at VARCHAR(40) NOT NULL, body TEXT NOT NULL)",
        "CREATE INDEX proving_machine ON proving (machine_id, manner_id)",
    ):
        migrator.sql(statement)
