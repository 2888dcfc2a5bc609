"""A job made elsewhere, held against this machine as it stands: what would surprise it, and where its first layer will hold."""

from collections.abc import Callable
from datetime import UTC, datetime
from math import pi, sqrt
from pathlib import Path
from typing import Annotated, BinaryIO, Literal
from uuid import uuid4

import numpy as np
from pydantic import AwareDatetime, Field
from scipy.stats import norm

from ivory_table.core.bead import Bead
from ivory_table.core.moves import best_shift, p_all_sound
from ivory_table.core.offset import convention, stored_after
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.proof_field import field_prior
from ivory_table.core.settings_text import LineDiffers, differences
from ivory_table.core.value import Array, Id, Value
from ivory_table.core.words import signed
from ivory_table.desk.desk import Desk
from ivory_table.program.finding import Finding
from ivory_table.program.findings import find
from ivory_table.program.job import Job, read_job
from ivory_table.program.job_copy import Mend, write_copy
from ivory_table.program.meant import bare_command
from ivory_table.runs.doubts import Refused
from ivory_table.runs.state import RunState
from ivory_table.store.checked import CheckedJob, keep_checked
from ivory_table.store.workshop import Unreadable

from .logbook import expected, plate_asked

#: The map has about so many cells, and none is smaller than this, mm.
MOST_CELLS, LEAST_CELL_MM = 500, 4.0
#: Draws of the plate for the chance that all of it is sound.
DRAWS = 400
#: A cell is called by its likeliest verdict from this chance on.
SURE = 0.55

Verdict = Literal["sound", "parted", "scraped", "unsure"]


class Cell(Value):
    """A square of the plate on which something is laid: the gap there and how it will come out."""

    x_mm: float
    y_mm: float
    gap_mm: float
    sd_mm: float
    verdict: Verdict
    p_sound: float


class Better(Value):
    """The stored value that would make it likeliest sound."""

    stored_mm: float
    words: str
    p_before: float
    p_after: float


class Placed(Value):
    """Where on this plate more of it would hold: by how much it is to be moved."""

    dx_mm: float
    dy_mm: float
    share_before: float
    share_after: float


class Parts(Value):
    """What two jobs are compared by: the commands of start and end as they stand, and the first layer in figures."""

    start: Annotated[tuple[str, ...], Field(max_length=300)] = ()
    first_layer: tuple[tuple[str, str], ...] = ()
    end: Annotated[tuple[str, ...], Field(max_length=300)] = ()


class JobReport(Value):
    id: Id
    machine_id: Id
    machine_name: str
    plate_id: Id
    plate: Plate
    filament_name: str
    name: str
    at: AwareDatetime
    bytes: int
    lines: int
    #: As it is really sent: height and width of the first layer's lines, mm; None where nothing is laid.
    layer_mm: float | None
    line_mm: float | None
    findings: tuple[Finding, ...]
    cell_mm: float
    cells: tuple[Cell, ...]
    #: On the plate as it was left: the share of what is laid that is expected to be sound, and the chance that all of it is.
    #: None where nobody has measured it.
    share_sound: float | None
    p_all_sound: float | None
    better: Better | None
    placed: Placed | None
    #: What the judgement rests on, in sentences.
    rests_on: tuple[str, ...]
    words: str
    parts: Parts = Parts()


class JobsCompared(Value):
    """What differs between two jobs, part by part."""

    before: str
    after: str
    start: tuple[LineDiffers, ...]
    first_layer: tuple[tuple[str, str, str], ...]
    end: tuple[LineDiffers, ...]
    words: str


class CheckWanted(Value):
    name: Annotated[str, Field(max_length=200)] = "job"
    plate_id: Id | None = None
    filament_id: Id | None = None


def check(
    desk: Desk,
    machine_id: str,
    stream: BinaryIO,
    wanted: CheckWanted,
    progress: Callable[[int], None] = lambda _: None,
) -> JobReport:
    """Read a job and hold it against a machine. Raises NotAJob, Cancelled, Unknown, or Refused for a plate of another machine."""
    workshop = desk.workshop
    machine = workshop.machine(machine_id)
    runs = workshop.summaries(machine_id, 50)
    plate = plate_asked(machine, runs, wanted.plate_id)
    last = next((r for r in runs if r.plate_id == plate.id and r.left is not None), None)
    state = None
    if last is not None:
        try:
            run = desk.open(last.run_id)
            # What was judged last counts too; an open run still judges it.
            state = run.state.with_marks() if run.state.signed_off else run.state
        except Unreadable:
            last = None
    filament = _filament(desk, wanted.filament_id, state)
    job = read_job(stream, progress)
    mesh_on = state is not None and state.mesh_on
    manner = desk.manner_for(machine.manner)
    found = find(job, machine, plate, filament, manner, mesh_on=mesh_on)
    bead = _bead(job, filament)
    cell_mm, p, better, placed = LEAST_CELL_MM, None, None, None
    cells: tuple[Cell, ...] = ()
    rests: list[str] = []
    if state is None or last is None:
        rests.append("Nobody has measured this plate yet: where the layer holds cannot be said. A run does it.")
    elif bead is not None:
        moved = convention(machine.convention).sign * (machine.stored_mm - state.stored_mm)
        cell_mm, cells, p, better = _over_the_plate(job, bead, state, machine, filament, moved)
        placed = _placed(bead, state, moved, cells, cell_mm)
        ahead = expected(workshop, machine_id, plate.id, datetime.now(UTC))
        rests.append(
            f"The plate as {last.initials} left it on {last.last_at:%d %b %Y}, {'with' if mesh_on else 'without'} a mesh."
        )
        if ahead is not None:
            rests.append(f"That it still stands so: {100 * ahead.p_today:.0f} %.")
        if abs(moved) > 1e-6:
            rests.append(
                f"The stored value is {signed(machine.stored_mm, 3)} now, and was {signed(state.stored_mm, 3)} then: taken into account."
            )
    report = JobReport(
        id=f"job-{uuid4().hex[:12]}",
        machine_id=machine.id,
        machine_name=machine.name,
        plate_id=plate.id,
        plate=plate,
        filament_name=filament.name,
        name=Path(wanted.name).name[:120] or "job",
        at=datetime.now(UTC),
        bytes=job.bytes,
        lines=job.lines,
        layer_mm=None if bead is None else round(bead.layer_mm, 3),
        line_mm=None if bead is None else round(bead.line_mm, 3),
        findings=found,
        cell_mm=cell_mm,
        cells=cells,
        share_sound=round(float(np.mean([c.p_sound for c in cells])), 3) if cells else None,
        p_all_sound=p,
        better=better,
        placed=placed,
        rests_on=tuple(rests),
        words=_in_words(found, cells, p),
        parts=_parts(job, bead),
    )
    keep_checked(CheckedJob(id=report.id, machine_id=machine.id, at=report.at, body=report.model_dump_json()))
    return report


def copy(
    desk: Desk, machine_id: str, stream: BinaryIO, out: BinaryIO, mend: Mend, name: str, plate_id: str | None = None
) -> None:
    """Write a mended copy, and read it back. Raises as `check`, CannotMend, or Refused where the copy would be worse."""
    machine = desk.workshop.machine(machine_id)
    manner = desk.manner_for(machine.manner)
    job = read_job(stream)
    stream.seek(0)
    write_copy(stream, out, job, manner, mend, Path(name).name or "job")
    out.seek(0)
    plate = plate_asked(machine, desk.workshop.summaries(machine_id, 1), plate_id)
    filament = _filament(desk, None, None)

    def stops(of: Job) -> set[str]:
        found = find(of, machine, plate, filament, manner, mesh_on=False)
        return {f.code for f in found if f.level == "stop"}

    worse = stops(read_job(out)) - stops(job)
    if worse:
        raise Refused(
            "copy_worse", "Moved so, it would leave the plate or go through what is kept out. Move it less.", "dx_mm"
        )
    out.seek(0)


#: The end of a job is in its last lines.
END_LINES, MOST_SAID = 200, 300


def _parts(job: Job, bead: Bead | None) -> Parts:
    laid = job.first_layer
    first, last = (laid[0].line, laid[-1].line) if laid else (job.lines + 1, 0)

    def said(begin: int, end: int) -> tuple[str, ...]:
        return tuple(bare_command(s.text) for s in job.said if begin <= s.line < end)[:MOST_SAID]

    figures: list[tuple[str, str]] = []
    if laid and bead is not None:
        speeds = np.array([m.speed_mm_s for m in laid])
        xs, ys = (np.array([v for m in laid for v in (m.start[k], m.end[k])]) for k in (0, 1))
        figures = [
            ("layer", f"{bead.layer_mm:.3f} mm"),
            ("line", f"{bead.line_mm:.2f} mm"),
            ("speed, usual", f"{np.median(speeds):.0f} mm/s"),
            ("speed, most", f"{speeds.max():.0f} mm/s"),
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


def _filament(desk: Desk, wanted: str | None, state: RunState | None) -> Filament:
    if wanted is not None:
        return desk.workshop.filament(wanted)
    if state is not None:
        return state.setup.filament
    found = next(iter(desk.workshop.filaments()), None)
    if found is None:
        raise Refused(
            "no_filament", "Enter a filament in the set-up first: heat and flow are judged by it.", "filament"
        )
    return found


def _bead(job: Job, filament: Filament) -> Bead | None:
    """The line of the first layer as it is sent: its height, and its width from what is pushed; None where none is laid."""
    laid, z = job.first_layer, job.first_z
    if not laid or z is None or z <= 0:
        return None
    lengths = np.array([np.hypot(m.end[0] - m.start[0], m.end[1] - m.start[1]) for m in laid])
    pushed = np.array([m.filament_mm for m in laid])
    long = lengths > 0.5
    if not long.any():
        return None
    section = pi / 4 * filament.diameter_mm**2
    # Most of the length decides: seams and corners push otherwise.
    order = np.argsort(pushed[long] / lengths[long])
    share = np.cumsum(lengths[long][order]) / lengths[long].sum()
    area = float((pushed[long] / lengths[long])[order][np.searchsorted(share, 0.5)]) * section
    width = area / z + z * (1 - pi / 4)
    return Bead(line_mm=max(width, z), layer_mm=z)


def _cells(job: Job, plate: Plate) -> tuple[float, Array]:
    """Side and middles (n, 2) of the squares on which the first layer is laid."""
    laid = job.first_layer
    a, b = (np.array([getattr(m, end)[:2] for m in laid]) for end in ("start", "end"))
    low, high = np.minimum(a, b).min(axis=0), np.maximum(a, b).max(axis=0)
    size = max(LEAST_CELL_MM, sqrt(float(np.prod(np.maximum(high - low, 1.0))) / MOST_CELLS))
    count = np.maximum(np.ceil(np.linalg.norm(b - a, axis=1) / (size / 2)).astype(int), 1)
    share = np.concatenate([np.linspace(0, 1, k + 1) for k in count])
    which = np.repeat(np.arange(len(count)), count + 1)
    places = a[which] + share[:, None] * (b - a)[which]
    cells = np.unique(np.floor(places / size), axis=0)
    middles = (cells + 0.5) * size
    on = np.array([plate.holds(x, y, -size / 2) for x, y in middles], dtype=bool)
    return size, middles[on][: 4 * MOST_CELLS]


def _over_the_plate(
    job: Job, bead: Bead, state: RunState, machine: Machine, filament: Filament, moved_mm: float
) -> tuple[float, tuple[Cell, ...], float | None, Better | None]:
    """Gap, chance and verdict of each cell; the chance of all of them, and what another stored value would make of it."""
    size, places = _cells(job, state.setup.plate)
    if not len(places):
        return size, (), None, None
    n = len(places)
    _, mean, cov = field_prior(state.belief, places, bead.layer_mm, state.machine_believes(places))
    gap, sd = mean[:n] + moved_mm, np.sqrt(np.maximum(np.diag(cov)[:n], 1e-12))
    low, high = bead.bands_mm()["sound"]
    scraped, parted = norm.cdf((low - gap) / sd), 1 - norm.cdf((high - gap) / sd)
    cells = tuple(
        Cell(
            x_mm=round(float(x), 2),
            y_mm=round(float(y), 2),
            gap_mm=round(float(g), 4),
            sd_mm=round(float(s), 4),
            verdict=_verdict(1 - lo - hi, float(hi), float(lo)),
            p_sound=round(float(1 - lo - hi), 3),
        )
        for (x, y), g, s, lo, hi in zip(places, gap, sd, scraped, parted, strict=True)
    )
    draws = gap + np.random.default_rng(3).multivariate_normal(
        np.zeros(n), cov[:n, :n] + 1e-10 * np.eye(n), DRAWS, method="eigh"
    )
    p = p_all_sound(draws, low, high)
    shift = best_shift(draws, low, high, bead.target_mm(filament.material), machine.z_step_mm)
    after = p_all_sound(draws + shift, low, high)
    better = None
    if abs(shift) >= machine.z_step_mm / 2 and after > p + 0.05:
        new = stored_after(machine.stored_mm, shift, convention(machine.convention), machine.z_step_mm)
        better = Better(
            stored_mm=new.new_mm,
            words=f"Store {signed(new.new_mm, 3)} instead of {signed(machine.stored_mm, 3)}: {new.words}.",
            p_before=round(p, 3),
            p_after=round(after, 3),
        )
    return round(size, 3), cells, round(p, 3), better


#: A job is moved in steps of this size, and only where so much more of it would hold.
STEP_MM, WORTH = 5.0, 0.02


def _placed(bead: Bead, state: RunState, moved_mm: float, cells: tuple[Cell, ...], size_mm: float) -> Placed | None:
    """The shift that keeps it on the plate, out of what is kept out, and lays most of it where it holds."""
    plate = state.setup.plate
    if not cells:
        return None
    x0, y0, x1, y1 = plate.bounds
    xs, ys = np.arange(x0 + STEP_MM / 2, x1, STEP_MM), np.arange(y0 + STEP_MM / 2, y1, STEP_MM)
    places = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    rows = -state.belief.surface.rows(places)
    mean, cov = state.belief.collapsed
    gap = rows @ mean + bead.layer_mm + state.belief.shift_mm + state.machine_believes(places) + moved_mm
    sd = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", rows, cov, rows), 1e-12))
    low, high = bead.bands_mm()["sound"]
    p = norm.cdf((high - gap) / sd) - norm.cdf((low - gap) / sd)
    half = size_mm / 2
    free = np.array([plate.holds(x, y, half) and not plate.kept_out(x, y, half) for x, y in places], dtype=bool)
    p = np.where(free, p, np.nan).reshape(len(ys), len(xs))
    at = np.array([(c.x_mm, c.y_mm) for c in cells])
    best, now = (0.0, 0.0, 0.0), float(np.mean([c.p_sound for c in cells]))
    for dy in np.arange(-(at[:, 1].max() - y0), y1 - at[:, 1].min(), STEP_MM):
        j = np.floor((at[:, 1] + dy - y0) / STEP_MM).astype(int)
        if j.min() < 0 or j.max() >= len(ys):
            continue
        for dx in np.arange(-(at[:, 0].max() - x0), x1 - at[:, 0].min(), STEP_MM):
            i = np.floor((at[:, 0] + dx - x0) / STEP_MM).astype(int)
            if i.min() < 0 or i.max() >= len(xs):
                continue
            share = float(p[j, i].mean())
            if share > best[2]:  # nothing is better than not a number
                best = (float(dx), float(dy), share)
    if best[2] < now + WORTH:
        return None
    return Placed(
        dx_mm=round(best[0], 1), dy_mm=round(best[1], 1), share_before=round(now, 3), share_after=round(best[2], 3)
    )


def _verdict(sound: float, parted: float, scraped: float) -> Verdict:
    best = max((sound, "sound"), (parted, "parted"), (scraped, "scraped"))
    return best[1] if best[0] >= SURE else "unsure"  # type: ignore[return-value]


def _in_words(found: tuple[Finding, ...], cells: tuple[Cell, ...], p: float | None) -> str:
    stops, warnings = (sum(1 for f in found if f.level == level) for level in ("stop", "warning"))
    if stops:
        first = "Do not print it as it is."
    elif warnings:
        first = f"{warnings} thing{'s' if warnings > 1 else ''} to look at before it is printed."
    else:
        first = "Nothing in it is against this machine."
    if p is None:
        return first
    share = float(np.mean([c.p_sound for c in cells]))
    return f"{first} Its first layer is expected to hold on {100 * share:.0f} % of where it is laid; everywhere with {100 * p:.0f} %."
