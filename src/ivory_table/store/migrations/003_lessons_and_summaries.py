"""What each run teaches and shows, kept with it; what was entered of a machine or person, beside what is known by now.

What runs taught before is part of what is known, and stays so. Their summaries are made when the server next starts.
"""

from datetime import UTC, datetime
from typing import Any

from peewee import Database


def migrate(migrator: Any, database: Database, **_: Any) -> None:
    now = datetime.now(UTC).isoformat()
    for statement in (
        f"ALTER TABLE machine ADD COLUMN entered_at VARCHAR(40) NOT NULL DEFAULT '{now}'",
        "ALTER TABLE machine ADD COLUMN entered TEXT NOT NULL DEFAULT ''",
        "UPDATE machine SET entered = body",
        f"ALTER TABLE person ADD COLUMN entered_at VARCHAR(40) NOT NULL DEFAULT '{now}'",
        "ALTER TABLE person ADD COLUMN entered TEXT NOT NULL DEFAULT ''",
        "ALTER TABLE person ADD COLUMN initials VARCHAR(12) NOT NULL DEFAULT ''",
        "UPDATE person SET entered = body, initials = json_extract(body, '$.initials')",
        "CREATE INDEX person_initials ON person (initials)",
        f"ALTER TABLE learnt ADD COLUMN at VARCHAR(40) NOT NULL DEFAULT '{now}'",
        "CREATE TABLE lesson (run_id VARCHAR(64) PRIMARY KEY NOT NULL REFERENCES run (id) ON DELETE RESTRICT,"
        " machine_id VARCHAR(64) NOT NULL, plate_id VARCHAR(64) NOT NULL, initials VARCHAR(12) NOT NULL,"
        " body TEXT NOT NULL)",
        "CREATE INDEX lesson_machine ON lesson (machine_id, plate_id)",
        "CREATE INDEX lesson_initials ON lesson (initials)",
        "CREATE TABLE summary (run_id VARCHAR(64) PRIMARY KEY NOT NULL REFERENCES run (id) ON DELETE RESTRICT,"
        " machine_id VARCHAR(64) NOT NULL, started_at VARCHAR(40) NOT NULL, signed_off INTEGER NOT NULL,"
        " body TEXT NOT NULL, mesh TEXT NOT NULL)",
        "CREATE INDEX summary_machine_started ON summary (machine_id, started_at)",
        "CREATE INDEX summary_started ON summary (started_at)",
        "CREATE TABLE page (run_id VARCHAR(64) NOT NULL REFERENCES run (id) ON DELETE RESTRICT,"
        " name VARCHAR(40) NOT NULL, body TEXT NOT NULL, PRIMARY KEY (run_id, name))",
        "CREATE INDEX run_machine_started ON run (machine_id, started_at)",
    ):
        migrator.sql(statement)
