"""A mended copy of a job, read back before it is given out."""

from pathlib import Path
from typing import BinaryIO

from ivory_table.desk.desk import Desk
from ivory_table.program.job import Job, read_job
from ivory_table.program.job_copy import Mend, our_start, write_copy
from ivory_table.runs.doubts import Refused

from .check import findings
from .over_plate import bead_of
from .standing import standing


def copy(
    desk: Desk, machine_id: str, stream: BinaryIO, out: BinaryIO, mend: Mend, name: str, plate_id: str | None = None
) -> None:
    """Write a mended copy, and read it back. Raises as `check`, CannotMend, or Refused where the copy would be worse."""
    on = standing(desk, machine_id, plate_id, None)
    manner = desk.manner_of(on.machine)
    job = read_job(stream)
    start = None
    if mend.our_start:
        start = our_start(job, on.machine, on.filament, bead_of(job, on.filament), manner, mesh_on=on.mesh_on)
    stream.seek(0)
    write_copy(stream, out, job, manner, on.plate, mend, Path(name).name or "job", start)
    out.seek(0)

    def stops(of: Job) -> set[str]:
        return {f.code for f in findings(desk, of, on) if f.level == "stop"}

    worse = stops(read_job(out)) - stops(job)
    if worse:
        raise Refused(
            "copy_worse", "Moved so, it would leave the plate or go through what is kept out. Move it less.", "dx_mm"
        )
    out.seek(0)
