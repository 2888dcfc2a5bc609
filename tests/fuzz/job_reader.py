"""Whatever bytes it is given, a job is read, judged and copied, or refused in its own words: by coverage-guided fuzzing.

    python -m tests.fuzz.job_reader -max_total_time=600

`make slow` runs it for ten minutes. What makes it fall is written beside it as a file of its own and named at the end.
"""

import io
import sys

import atheris

with atheris.instrument_imports(include=["ivory_table.program", "ivory_table.core.manner"]):
    from ivory_table.core.bead import Bead
    from ivory_table.core.manner import shipped
    from ivory_table.demo.tidewater import FILAMENTS, MACHINES
    from ivory_table.program.findings import find
    from ivory_table.program.job import NotAJob, read_job
    from ivory_table.program.job_copy import Mend, our_start, write_copy
    from ivory_table.program.moved import CannotMend

from tests.jobs import DIALECTS, made

HERON, PLA = MACHINES[0], FILAMENTS[0]
MANNER = shipped(HERON.manner)
MEND = Mend(dx_mm=3.0, turn_deg=30.0, speed_percent=80.0, our_start=True)
SOUND = [made(d, size_mm=6.0, layers=2).text().encode() for d in DIALECTS]


def one(data: bytes) -> None:
    if not data:
        return
    # Bytes alone, or put into a sound job somewhere.
    job_bytes = data[1:]
    if data[0] < 200:
        sound = SOUND[data[0] % len(SOUND)]
        at = len(sound) * data[0] // 200
        job_bytes = sound[:at] + data[1:] + sound[at:]
    try:
        job = read_job(io.BytesIO(job_bytes))
    except NotAJob:
        return
    find(job, HERON, HERON.plates[0], PLA, MANNER, mesh_on=True)
    out = io.BytesIO()
    try:
        start = our_start(job, HERON, PLA, Bead(0.45, 0.2), MANNER, mesh_on=True)
        write_copy(io.BytesIO(job_bytes), out, job, MANNER, HERON.plates[0], MEND, "fuzz", start)
    except CannotMend:
        return
    out.seek(0)
    read_job(out)


if __name__ == "__main__":
    atheris.Setup([*sys.argv, "-max_len=4000", "-artifact_prefix=.fuzz-", "-timeout=20"], one)
    atheris.Fuzz()
