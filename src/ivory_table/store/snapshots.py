"""What machines reported of their settings, kept whole."""

from typing import Annotated

from pydantic import AwareDatetime, Field

from ivory_table.core.value import Id, Initials, Note, Value

from .tables import SnapshotRow
from .trouble import Unknown

#: So many of a machine are kept; the oldest goes.
MOST = 40


class Snapshot(Value):
    id: Id
    machine_id: Id
    at: AwareDatetime
    by: Initials
    note: Note = ""
    #: What was sent, where it was asked on the line.
    line: Annotated[str, Field(max_length=200)] = ""
    text: Annotated[str, Field(min_length=1, max_length=100_000)]


def keep_snapshot(kept: Snapshot) -> None:
    """The same again is harmless."""
    SnapshotRow.insert(
        id=kept.id, machine_id=kept.machine_id, at=kept.at.isoformat(), body=kept.model_dump_json()
    ).on_conflict_ignore().execute()
    older = SnapshotRow.select(SnapshotRow.id).where(SnapshotRow.machine_id == kept.machine_id)
    older = older.order_by(SnapshotRow.at.desc()).offset(MOST)
    SnapshotRow.delete().where(SnapshotRow.id.in_([row.id for row in older])).execute()


def snapshots(machine_id: str) -> tuple[Snapshot, ...]:
    """Newest first."""
    rows = SnapshotRow.select(SnapshotRow.body).where(SnapshotRow.machine_id == machine_id)
    rows = rows.order_by(SnapshotRow.at.desc()).tuples()
    return tuple(Snapshot.model_validate_json(body) for (body,) in rows)


def snapshot(machine_id: str, snapshot_id: str) -> Snapshot:
    row = SnapshotRow.get_or_none(SnapshotRow.id == snapshot_id)
    if row is None or row.machine_id != machine_id:
        raise Unknown("No such report is kept of this machine.")
    return Snapshot.model_validate_json(row.body)
