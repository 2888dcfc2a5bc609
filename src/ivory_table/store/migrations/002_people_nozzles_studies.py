"""People with their feel, nozzles, and thermal studies of plates."""

from typing import Any

from peewee import Database

_UP = (
    "CREATE TABLE nozzle (id VARCHAR(64) PRIMARY KEY NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE person (id VARCHAR(64) PRIMARY KEY NOT NULL, body TEXT NOT NULL)",
    "CREATE TABLE study (id VARCHAR(160) PRIMARY KEY NOT NULL, body TEXT NOT NULL)",
)


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    for statement in _UP:
        migrator.sql(statement)
