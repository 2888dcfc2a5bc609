"""A person's initials taken out of everything that is kept, on their request."""

import json
from typing import Any

from .tables import database
from .workshop import Workshop

#: What stands where somebody's initials were.
ERASED = "–"
#: Fields that hold who it was, wherever they stand.
_SIGNED = {"by", "initials"}
#: Where rows say who, as JSON: table and column.
_BODIES = (
    ("run", "setup"),
    ("entry", "body"),
    ("lesson", "body"),
    ("summary", "body"),
    ("page", "body"),
    ("log", "body"),
    ("proving", "body"),
    ("snapshot", "body"),
)
_STAYS = "CREATE TRIGGER entry_stays BEFORE UPDATE ON entry BEGIN SELECT RAISE(ABORT, 'entries are only added'); END"


def erase(workshop: Workshop, initials: str) -> int:
    """Take initials out of runs, logbooks, manners and people, all or nothing; how many rows held them.

    What was measured stays, and so does what somebody wrote in a note. Rows of runs are changed by nothing but this.
    """
    changed = 0
    with workshop.writing():
        database.execute_sql("DROP TRIGGER entry_stays")
        for table, column in _BODIES:
            held = database.execute_sql(
                f"SELECT rowid, {column} FROM {table} WHERE instr({column}, ?) > 0",
                (json.dumps(initials, ensure_ascii=False),),
            ).fetchall()
            for rowid, body in held:
                before = json.loads(body)
                after = _without(before, initials)
                if after != before:
                    text = json.dumps(after, ensure_ascii=False, separators=(",", ":"))
                    database.execute_sql(
                        f"UPDATE {table} SET {column} = ? WHERE rowid = ?",
                        (text, rowid),
                    )
                    changed += 1
        for statement in (
            "UPDATE lesson SET initials = :erased WHERE initials = :who",
            "UPDATE manner SET initials = :erased WHERE initials = :who",
            # Runs are not found by them any more either.
            "UPDATE summary SET find = replace(' ' || find || ' ', ' ' || lower(:who) || ' ', ' ' || :erased || ' ')"
            " WHERE json_extract(body, '$.initials') = :erased"
            " AND instr(' ' || find || ' ', ' ' || lower(:who) || ' ') > 0",
            "DELETE FROM person WHERE initials = :who",
        ):
            changed += database.execute_sql(statement, {"erased": ERASED, "who": initials}).rowcount
        database.execute_sql(_STAYS)
    return changed


def _without(value: Any, initials: str) -> Any:
    """The same, with another sign where a signing field holds these initials."""
    if isinstance(value, list):
        return [_without(v, initials) for v in value]
    if isinstance(value, dict):
        return {k: ERASED if k in _SIGNED and v == initials else _without(v, initials) for k, v in value.items()}
    return value
