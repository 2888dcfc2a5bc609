"""Every run there is, newest first, a page at a time, by what stands in its line."""

from collections.abc import Iterator
from typing import Any

from ivory_table.core.value import Id, Value
from ivory_table.runs.summary import Summary

from .figures import readable
from .tables import RunRow, SummaryRow


class Cursor(Value):
    """Where a page ends: the run that was last on it."""

    started_at: str
    run_id: Id


class Page(Value):
    runs: tuple[Summary, ...]
    #: What to ask for the next page with; None: that was the last.
    next: Cursor | None


def find_runs(text: str = "", machine_id: str | None = None, before: Cursor | None = None, most: int = 50) -> Page:
    """Runs that have every word of `text` in their line."""
    query = SummaryRow.select(SummaryRow.run, SummaryRow.started_at, SummaryRow.body)
    if machine_id is not None:
        query = query.where(SummaryRow.machine_id == machine_id)
    for word in text.lower().split()[:8]:
        query = query.where(SummaryRow.find.contains(word))
    if before is not None:
        older = SummaryRow.started_at < before.started_at
        same = (SummaryRow.started_at == before.started_at) & (SummaryRow.run < before.run_id)
        query = query.where(older | same)
    query = query.order_by(SummaryRow.started_at.desc(), SummaryRow.run.desc()).limit(most + 1)
    rows: list[Any] = list(query.tuples())
    found = tuple(s for (_, _, body) in rows[:most] if (s := readable(body)) is not None)
    last = rows[most - 1] if len(rows) > most else None
    return Page(runs=found, next=Cursor(run_id=last[0], started_at=last[1]) if last else None)


def each_run(machine_id: str | None = None) -> Iterator[str]:
    """The ids of all runs, or of a machine's, oldest first."""
    query = RunRow.select(RunRow.id).order_by(RunRow.started_at)
    if machine_id is not None:
        query = query.where(RunRow.machine_id == machine_id)
    yield from [run_id for (run_id,) in query.tuples()]
