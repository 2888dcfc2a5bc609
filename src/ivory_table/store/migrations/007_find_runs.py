"""Runs are found by what stands in their line."""

from typing import Any

from peewee import Database

_IN_LINE = ("machine_name", "plate_name", "filament_name", "initials", "words", "started_at")


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    words = " || ' ' || ".join(f"coalesce(json_extract(body, '$.{name}'), '')" for name in _IN_LINE)
    for statement in (
        "ALTER TABLE summary ADD COLUMN find TEXT NOT NULL DEFAULT ''",
        "CREATE INDEX summary_open ON summary (machine_id, signed_off, started_at)",
        f"UPDATE summary SET find = lower({words})",  # names of fields, written above
    ):
        migrator.sql(statement)
