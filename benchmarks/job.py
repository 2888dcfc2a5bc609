"""A job of 100 MB read and judged, beside splitting the same file into words; and how much memory it takes.

`python benchmarks/job.py --mb 100`. Bars: 25 s on one core, at most six times as long as the splitting, 300 MB above the start.
"""

import argparse
import resource
import tempfile
import time
from pathlib import Path

from ivory_table.core.manner import shipped
from ivory_table.demo.tidewater import FILAMENTS, MACHINES
from ivory_table.program.findings import find
from ivory_table.program.job import read_job


def write(file: Path, mb: float) -> None:
    """A tall block of short lines, as round walls are made of."""
    with file.open("w") as out:
        out.write("G21\nG90\nM83\nM140 S57\nG28\nM190 S57\nG1 Z5 F600\nM109 S206\n")
        layer = 0
        while out.tell() < mb * 1e6:
            layer += 1
            out.write(f"G0 Z{0.2 * layer:.2f} F600\n")
            for row in range(200):
                y = 50 + 0.4 * row
                out.write(f"G0 X50 Y{y:.3f} F7200\n")
                for k in range(100):
                    out.write(f"G1 X{50 + 0.4 * k:.3f} Y{y + 0.1 * (k % 2):.3f} E0.0135 F1200\n")
        out.write("G91\nG1 Z10 F600\nG90\nM104 S0\nM140 S0\nM84\n")


def memory_mb() -> float:
    return resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024


def main() -> None:
    ask = argparse.ArgumentParser(description=__doc__)
    ask.add_argument("--mb", type=float, default=100)
    wanted = ask.parse_args()
    machine = next(m for m in MACHINES if m.id == "heron")
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "job.gcode"
        write(file, wanted.mb)
        begin = time.perf_counter()
        with file.open() as lines:
            words = sum(len(line.split()) for line in lines)
        split_s, before = time.perf_counter() - begin, memory_mb()
        begin = time.perf_counter()
        with file.open("rb") as stream:
            job = read_job(stream)
        found = find(job, machine, machine.plates[0], FILAMENTS[0], shipped(machine.manner), mesh_on=False)
        took = time.perf_counter() - begin
        print(
            f"{job.bytes / 1e6:.0f} MB, {job.lines} lines, {words} words, {len(found)} findings: {took:.1f} s (bar 25), "
            f"{took / split_s:.1f} times the splitting (bar 6), {memory_mb() - before:.0f} MB more (bar 300)"
        )


if __name__ == "__main__":
    main()
