"""Jobs that were checked against a machine."""

from typing import Any

from peewee import Database


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    for statement in (
        "CREATE TABLE checked (id VARCHAR(64) PRIMARY KEY NOT NULL, machine_id VARCHAR(64) NOT NULL,"
        " at VARCHAR(40) NOT NULL, body TEXT NOT NULL)",
        "CREATE INDEX checked_machine ON checked (machine_id, at)",
    ):
        migrator.sql(statement)
