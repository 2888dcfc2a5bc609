"""Devices of the network that were let in, and what was done from them."""

from typing import Any

from peewee import Database


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    for statement in (
        "CREATE TABLE device (id VARCHAR(64) PRIMARY KEY NOT NULL, name VARCHAR(60) NOT NULL, role VARCHAR(12) NOT NULL,"
        " let_in_at VARCHAR(40) NOT NULL, shut_out_at VARCHAR(40))",
        "CREATE TABLE done (id INTEGER PRIMARY KEY AUTOINCREMENT NOT NULL, at VARCHAR(40) NOT NULL,"
        " device VARCHAR(64) NOT NULL, name VARCHAR(60) NOT NULL, words TEXT NOT NULL, refused VARCHAR(60))",
    ):
        migrator.sql(statement)
