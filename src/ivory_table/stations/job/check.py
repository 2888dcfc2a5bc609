"""A job made elsewhere, held against this machine as it stands: what would surprise it, and where its first layer will hold."""

from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from typing import BinaryIO
from uuid import uuid4

from ivory_table.desk.desk import Desk
from ivory_table.program.finding import Finding
from ivory_table.program.findings import find
from ivory_table.program.job import Job, read_job
from ivory_table.store.checked import CheckedJob, keep_checked

from .compared import parts_of
from .over_plate import LEAST_CELL_MM, Over, bead_of, better_stored, laid_otherwise, over_the_plate, placed
from .report import CheckWanted, JobReport
from .standing import Standing, standing


def check(
    desk: Desk,
    machine_id: str,
    stream: BinaryIO,
    wanted: CheckWanted,
    progress: Callable[[int], None] = lambda _: None,
) -> JobReport:
    """Read a job and hold it against a machine. Raises NotAJob, Cancelled, Unknown, or Refused for a plate of another machine."""
    on = standing(desk, machine_id, wanted.plate_id, wanted.filament_id)
    job = read_job(stream, progress)
    found = findings(desk, job, on)
    bead = bead_of(job, on.filament)
    over = None if bead is None else over_the_plate(job, bead, on)
    machine = on.machine
    report = JobReport(
        id=f"job-{uuid4().hex[:12]}",
        machine_id=machine.id,
        machine_name=machine.name,
        plate_id=on.plate.id,
        plate=on.plate,
        filament_name=on.filament.name,
        name=Path(wanted.name).name[:120] or "job",
        at=datetime.now(UTC),
        bytes=job.bytes,
        lines=job.lines,
        layer_mm=None if bead is None else round(bead.layer_mm, 3),
        line_mm=None if bead is None else round(bead.line_mm, 3),
        findings=found,
        cell_mm=LEAST_CELL_MM if over is None else round(over.size_mm, 3),
        cells=() if over is None else over.cells,
        share_sound=None if over is None else round(_share(over), 3),
        p_all_sound=None if over is None else round(over.p_all, 3),
        better=None if over is None else better_stored(over, on),
        otherwise=None if over is None else laid_otherwise(over, on),
        placed=None if over is None else placed(job, over, on),
        rests_on=on.in_sentences(),
        words=_in_words(found, over),
        parts=parts_of(job, bead),
    )
    keep_checked(CheckedJob(id=report.id, machine_id=machine.id, at=report.at, body=report.model_dump_json()))
    return report


def findings(desk: Desk, job: Job, on: Standing) -> tuple[Finding, ...]:
    return find(
        job,
        on.machine,
        on.plate,
        on.filament,
        desk.manner_of(on.machine),
        mesh_on=on.mesh_on,
        study=on.study,
        surface=None if on.state is None else on.state.belief.surface,
    )


def _share(over: Over) -> float:
    return sum(c.p_sound for c in over.cells) / len(over.cells)


def _in_words(found: tuple[Finding, ...], over: Over | None) -> str:
    stops, warnings = (sum(1 for f in found if f.level == level) for level in ("stop", "warning"))
    if stops:
        first = "Do not print it as it is."
    elif warnings:
        first = f"{warnings} thing{'s' if warnings > 1 else ''} to look at before it is printed."
    else:
        first = "Nothing in it is against this machine."
    if over is None:
        return first
    return f"{first} Its first layer is expected to hold on {100 * _share(over):.0f} % of where it is laid; everywhere with {100 * over.p_all:.0f} %."
