"""Reports of jobs that were checked against a machine; the last of each."""

from pydantic import AwareDatetime

from ivory_table.core.value import Id, Value

from .tables import CheckedRow
from .trouble import Unknown

#: So many of a machine are kept; the oldest goes.
MOST = 20


class CheckedJob(Value):
    id: Id
    machine_id: Id
    at: AwareDatetime
    #: The report as it was shown, JSON.
    body: str


def keep_checked(job: CheckedJob) -> None:
    CheckedRow.create(id=job.id, machine_id=job.machine_id, at=job.at.isoformat(), body=job.body)
    mine = CheckedRow.select(CheckedRow.id).where(CheckedRow.machine_id == job.machine_id)
    older = [row.id for row in mine.order_by(CheckedRow.at.desc()).offset(MOST)]
    CheckedRow.delete().where(CheckedRow.id.in_(older)).execute()


def checked(machine_id: str) -> tuple[str, ...]:
    """Reports of a machine as JSON, newest first."""
    rows = CheckedRow.select(CheckedRow.body).where(CheckedRow.machine_id == machine_id)
    return tuple(body for (body,) in rows.order_by(CheckedRow.at.desc()).tuples())


def checked_job(machine_id: str, job_id: str) -> str:
    row = CheckedRow.get_or_none(CheckedRow.id == job_id)
    if row is None or row.machine_id != machine_id:
        raise Unknown("No such check is kept of this machine.")
    return str(row.body)
