"""The demo workshop's past: eighteen months of made-up runs, practised once through the real stations and shipped as data.

Its days are moved, so that it ends shortly before it is brought in. With it comes how the practice machines stand afterwards.
"""

import gzip
import json
import re
from datetime import datetime, timedelta
from importlib.resources import files
from pathlib import Path
from typing import Any

from ivory_table.runs.summary import Summary, in_line
from ivory_table.store.tables import (
    EntryRow,
    LearntRow,
    LessonRow,
    LogRow,
    MachineRow,
    PageRow,
    PersonRow,
    RunRow,
    StudyRow,
    SummaryRow,
)
from ivory_table.store.workshop import Workshop

FILE = Path(str(files(__package__).joinpath("past.json.gz")))
#: In the order in which they can be put in.
TABLES = (MachineRow, PersonRow, StudyRow, LearntRow, RunRow, EntryRow, LessonRow, SummaryRow, PageRow, LogRow)
_DATE = re.compile(r"20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d(?:\.\d+)?(?:Z|\+00:00)")


def remember(workshop: Workshop, practice: Path, now: datetime) -> bool:
    """Bring the past into a workshop that has no run yet, and set its practice machines as it left them. False where it has."""
    if workshop.runs(most=1) or not FILE.is_file():
        return False
    with gzip.open(FILE, "rt") as packed:
        body = json.load(packed)
    moved = now - datetime.fromisoformat(body["ends"])
    with workshop.writing():
        for table in TABLES:
            rows = [{k: _later(v, moved) for k, v in row.items()} for row in body["rows"][table._meta.table_name]]
            if table is SummaryRow:
                rows = [row | {"find": in_line(Summary.model_validate_json(row["body"]))} for row in rows]
            for some in range(0, len(rows), 200):
                table.insert_many(rows[some : some + 200]).on_conflict_replace().execute()
    practice.mkdir(parents=True, exist_ok=True)
    for machine_id, truth in body["practice"].items():
        file = practice / f"{machine_id}.json"
        if not file.exists():
            file.write_text(json.dumps(truth))
    return True


def _later(value: Any, moved: timedelta) -> Any:
    """A text with every time in it moved."""
    if not isinstance(value, str):
        return value

    def later(found: re.Match[str]) -> str:
        at = datetime.fromisoformat(found[0].replace("Z", "+00:00")) + moved
        return at.isoformat() if found[0].endswith("+00:00") else at.isoformat().replace("+00:00", "Z")

    return _DATE.sub(later, value)
