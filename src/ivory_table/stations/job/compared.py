"""Two jobs held against each other: what differs in start, first layer and end."""

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.settings_text import differences
from ivory_table.program.job import Job
from ivory_table.program.laid import acceleration
from ivory_table.program.meant import bare_command

from .report import JobReport, JobsCompared, Parts

#: The end of a job is in its last lines.
END_LINES, MOST_SAID = 200, 300


def parts_of(job: Job, bead: Bead | None) -> Parts:
    """What a job is compared by."""
    laid = job.first_layer
    first, last = (laid[0].line, laid[-1].line) if laid else (job.lines + 1, 0)

    def said(begin: int, end: int) -> tuple[str, ...]:
        return tuple(bare_command(s.text) for s in job.said if begin <= s.line < end)[:MOST_SAID]

    figures: list[tuple[str, str]] = []
    if laid and bead is not None:
        speeds = np.array([m.speed_mm_s for m in laid])
        xs, ys = (np.array([v for m in laid for v in (m.start[k], m.end[k])]) for k in (0, 1))
        quick = acceleration(job, last)
        figures = [
            ("layer", f"{bead.layer_mm:.3f} mm"),
            ("line", f"{bead.line_mm:.2f} mm"),
            ("speed, usual", f"{np.median(speeds):.0f} mm/s"),
            ("speed, most", f"{speeds.max():.0f} mm/s"),
            ("acceleration", "not said" if quick is None else f"{quick[0]:.0f} mm/s²"),
            ("filament", f"{sum(m.filament_mm for m in laid):.0f} mm"),
            ("across", f"X {xs.min():.1f} to {xs.max():.1f}, Y {ys.min():.1f} to {ys.max():.1f}"),
        ]
    return Parts(
        start=said(1, first), first_layer=tuple(figures), end=said(max(job.lines - END_LINES, last + 1), job.lines + 1)
    )


def compare(before: JobReport, after: JobReport) -> JobsCompared:
    """What differs in the start, the first layer and the end of two jobs that were checked."""
    start = differences("\n".join(before.parts.start), "\n".join(after.parts.start))
    end = differences("\n".join(before.parts.end), "\n".join(after.parts.end))
    old, new = dict(before.parts.first_layer), dict(after.parts.first_layer)
    names = list(dict.fromkeys([*old, *new]))
    layer = tuple((n, old.get(n, "–"), new.get(n, "–")) for n in names if old.get(n) != new.get(n))
    parts = [("start", start), ("first layer", layer), ("end", end)]
    differs = ", ".join(f"{name}: {len(found)}" for name, found in parts if found)
    words = f"What differs: {differs}." if differs else "Nothing differs in start, first layer and end."
    return JobsCompared(before=before.name, after=after.name, start=start, first_layer=layer, end=end, words=words)
