"""What runs show: their figures, the mesh they leave, and the pages of those that are signed off."""

from peewee import JOIN, fn
from pydantic import ValidationError

from ivory_table.runs.summary import MATHS, MeshLeft, Shown, Summary, in_line

from .tables import PageRow, RunRow, SummaryRow


class Figures:
    def keep(self, shown: Shown) -> None:
        """Keep a run's figures, the mesh it leaves, and its pages as shown once it is signed off; none while it is not."""
        summary, left, pages = shown
        SummaryRow.replace(
            run=summary.run_id,
            machine_id=summary.machine_id,
            started_at=summary.started_at.isoformat(),
            signed_off=summary.signed_off,
            find=in_line(summary),
            body=summary.model_dump_json(),
            mesh=left.model_dump_json(),
        ).execute()
        if not pages:
            PageRow.delete().where(PageRow.run == summary.run_id).execute()
        for name, body in pages.items():
            PageRow.replace(run=summary.run_id, name=name, body=body).execute()

    def renew(self, summary: Summary) -> None:
        """Keep a run's figures anew; its pages stay as they were shown when it was signed off."""
        SummaryRow.update(find=in_line(summary), body=summary.model_dump_json()).where(
            SummaryRow.run == summary.run_id
        ).execute()

    def summary(self, run_id: str) -> Summary | None:
        row = SummaryRow.get_or_none(SummaryRow.run == run_id)
        return None if row is None else readable(row.body)

    def mesh_left(self, run_id: str) -> MeshLeft | None:
        """The mesh that a run left its machine with."""
        row = SummaryRow.get_or_none(SummaryRow.run == run_id)
        return None if row is None else MeshLeft.model_validate_json(row.mesh)

    def page(self, run_id: str, name: str) -> str | None:
        """A page of a signed-off run as it was shown then, as JSON."""
        row = PageRow.get_or_none((PageRow.run == run_id) & (PageRow.name == name))
        return None if row is None else str(row.body)

    def missing(self, most: int | None = None) -> tuple[str, ...]:
        """Runs that have no figures yet, newest first: kept before figures were, or not readable by the version before."""
        query = RunRow.select(RunRow.id).join(SummaryRow, JOIN.LEFT_OUTER).where(SummaryRow.run.is_null())
        return tuple(run_id for (run_id,) in query.order_by(RunRow.started_at.desc()).limit(most).tuples())

    def older(self, most: int) -> tuple[str, ...]:
        """Runs whose figures an earlier computation made, newest first."""
        maths = fn.json_extract(SummaryRow.body, "$.maths")
        query = SummaryRow.select(SummaryRow.run).where(maths > 0, maths < MATHS).order_by(SummaryRow.started_at.desc())
        return tuple(run_id for (run_id,) in query.limit(most).tuples())

    def forget_unreadable(self) -> None:
        """Runs that an earlier version could not read are looked at once more."""
        SummaryRow.delete().where(fn.json_extract(SummaryRow.body, "$.maths") == 0).execute()

    def summaries(self, machine_id: str | None = None, most: int = 12) -> tuple[Summary, ...]:
        """The figures of the newest runs, newest first."""
        query = SummaryRow.select(SummaryRow.body)
        if machine_id is not None:
            query = query.where(SummaryRow.machine_id == machine_id)
        found = query.order_by(SummaryRow.started_at.desc()).limit(most).tuples()
        return tuple(summary for (body,) in found if (summary := readable(body)) is not None)

    def newest_of_each(self, *, unfinished: bool = False) -> dict[str, Summary]:
        """Of every machine the figures of its newest run, or of its newest run that is not signed off."""
        among = SummaryRow.select(SummaryRow.machine_id, fn.MAX(SummaryRow.started_at).alias("newest"))
        if unfinished:
            among = among.where(~SummaryRow.signed_off)
        among = among.group_by(SummaryRow.machine_id)
        at = (SummaryRow.machine_id == among.c.machine_id) & (SummaryRow.started_at == among.c.newest)
        bodies = SummaryRow.select(SummaryRow.body).join(among, on=at).tuples()
        found = (readable(body) for (body,) in bodies)
        return {summary.machine_id: summary for summary in found if summary is not None}


def readable(body: str) -> Summary | None:
    """A summary as it is kept; None for one that another version made and this one cannot read: it is made anew."""
    try:
        return Summary.model_validate_json(body)
    except ValidationError:
        return None
