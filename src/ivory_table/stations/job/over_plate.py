"""A job's first layer over the believed plate: gap, chance and verdict where it is laid, and what would make it better."""

from dataclasses import dataclass
from math import pi, sqrt

import numpy as np
from scipy.signal import correlate
from scipy.stats import norm

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import JOB_CHECK
from ivory_table.core.moves import best_shift, p_all_sound
from ivory_table.core.offset import convention, stored_after
from ivory_table.core.plate import Filament, Plate
from ivory_table.core.proof_field import field_prior
from ivory_table.core.recipe import recipes
from ivory_table.core.value import Array
from ivory_table.core.words import signed
from ivory_table.program.job import Job, lays
from ivory_table.program.moved import middle_of

from .report import Better, Cell, LaidOtherwise, Placed, Verdict
from .standing import Standing

#: The map has about so many cells, and none is smaller than this, mm.
MOST_CELLS, LEAST_CELL_MM = 500, 4.0
#: Draws of the plate for the chance that all of it is sound.
DRAWS = 400
_BESIDE_MM = 20.0
#: A cell is called by its likeliest verdict from this chance on.
SURE = 0.55
#: A job is moved in steps of this size and turned by so much.
STEP_MM, TURN_DEG = 5.0, 15


def bead_of(job: Job, filament: Filament) -> Bead | None:
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


@dataclass(frozen=True)
class Over:
    """The map, and draws (k, n) of the gap of its cells as the plate is believed today."""

    bead: Bead
    size_mm: float
    cells: tuple[Cell, ...]
    draws: Array

    @property
    def band(self) -> tuple[float, float]:
        return self.bead.bands_mm()["sound"]

    @property
    def p_all(self) -> float:
        return p_all_sound(self.draws, *self.band)


def over_the_plate(job: Job, bead: Bead, on: Standing) -> Over | None:
    """None where nobody has measured the plate, or nothing of the job is on it."""
    if on.state is None:
        return None
    size, places = _cells(job, on.plate)
    n = len(places)
    if not n:
        return None
    _, mean, cov = field_prior(on.state.belief, places, bead.layer_mm, on.state.machine_believes(places))
    grown, spread = on.drifted(places)
    gap, cov = mean[:n] + on.moved_mm + grown, cov[:n, :n] + spread
    sd = np.sqrt(np.maximum(np.diag(cov), 1e-12))
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
        np.zeros(n), cov + 1e-10 * np.eye(n), DRAWS, method="eigh"
    )
    return Over(bead, size, cells, draws)


def better_stored(over: Over, on: Standing) -> Better | None:
    """Another stored value, where it makes all of the job likelier sound."""
    machine, (low, high) = on.machine, over.band
    shift = best_shift(over.draws, low, high, over.bead.target_mm(on.filament.material), machine.z_step_mm)
    after = p_all_sound(over.draws + shift, low, high)
    if abs(shift) < machine.z_step_mm / 2 or after <= over.p_all + JOB_CHECK.worth_p:
        return None
    new = stored_after(machine.stored_mm, shift, convention(machine.convention), machine.z_step_mm)
    return Better(
        stored_mm=new.new_mm,
        words=f"Store {signed(new.new_mm, 3)} instead of {signed(machine.stored_mm, 3)}: {new.words}.",
        p_before=round(over.p_all, 3),
        p_after=round(after, 3),
    )


def laid_otherwise(over: Over, on: Standing) -> LaidOtherwise | None:
    """Another height and width of the first layer's lines, where the same plate would forgive them more."""
    of, had = on.filament, over.bead
    best: LaidOtherwise | None = None
    for recipe in recipes(on.machine.nozzle_mm, of.material, of.nozzle_c, of.bed_c, 0.0):
        bead = Bead(recipe.line_mm, recipe.layer_mm)
        # The plate stays; the tip is so much higher by the layer.
        p = p_all_sound(over.draws + bead.layer_mm - had.layer_mm, *bead.bands_mm()["sound"])
        if p > (best.p_after if best else over.p_all + JOB_CHECK.worth_p):
            words = (
                f"Where the job is made, set a first layer of {bead.layer_mm:.2f} mm with lines {bead.line_mm:.2f} mm wide "
                f"instead of {had.layer_mm:.2f} and {had.line_mm:.2f}."
            )
            best = LaidOtherwise(
                layer_mm=bead.layer_mm,
                line_mm=bead.line_mm,
                words=words,
                p_before=round(over.p_all, 3),
                p_after=round(p, 3),
            )
    return best


def placed(job: Job, over: Over, on: Standing) -> Placed | None:
    """The turn and the move that keep all it lays on the plate, out of what is kept out, and where most of it holds."""
    if on.state is None:
        return None
    x0, y0, x1, y1 = on.plate.bounds
    xs, ys = np.arange(x0 + STEP_MM / 2, x1, STEP_MM), np.arange(y0 + STEP_MM / 2, y1, STEP_MM)
    p, free = _holding(on, over.bead, xs, ys)
    cells = np.array([(c.x_mm, c.y_mm) for c in over.cells])
    now = float(np.mean([c.p_sound for c in over.cells]))
    # As the map of the plate has it, which knows nothing of its smallest bumps: what a place gains counts.
    i, j = (
        np.clip(((cells[:, k] - at[0]) / STEP_MM + 0.5).astype(int), 0, len(at) - 1) for k, at in ((0, xs), (1, ys))
    )
    on_map = float(p[j, i].mean())
    middle = np.array(middle_of(job))
    # What is laid anywhere must stay on the plate; what holds is asked of the first layer.
    every = np.array([p for m in job.moves if lays(m) for p in (m.start[:2], m.end[:2])])
    best, most = None, on_map + JOB_CHECK.worth_share
    for degrees in range(0, 360, TURN_DEG):
        a = np.radians(degrees)
        turn = np.array([[np.cos(a), -np.sin(a)], [np.sin(a), np.cos(a)]])
        of_layer, edges = ((at - middle) @ turn.T for at in (cells, every))
        low = np.floor(np.vstack([of_layer, edges]).min(axis=0) / STEP_MM).astype(int)
        at, reach = (np.floor(v / STEP_MM).astype(int) - low for v in (of_layer, edges))
        size = np.vstack([at, reach]).max(axis=0) + 1
        if size[0] > len(xs) or size[1] > len(ys):
            continue
        laid, covers = np.zeros(size[::-1]), np.zeros(size[::-1])
        np.add.at(laid, (at[:, 1], at[:, 0]), 1.0)
        covers[reach[:, 1], reach[:, 0]] = covers[at[:, 1], at[:, 0]] = 1.0
        share = correlate(p, laid, mode="valid") / len(cells)
        fits = np.rint(correlate(free, covers, mode="valid")) == covers.sum()
        share = np.where(fits, share, -1.0)
        j, i = np.unravel_index(int(np.argmax(share)), share.shape)
        if share[j, i] <= most:
            continue
        # The cell that the job's lowest cell comes to lie on, from the plate's corner.
        to = np.array([x0, y0]) + STEP_MM * (np.array([i, j]) - low)
        most = float(share[j, i]) + 1e-3
        best = Placed(
            dx_mm=round(float(to[0] - middle[0]), 1),
            dy_mm=round(float(to[1] - middle[1]), 1),
            turn_deg=float(degrees),
            share_before=round(now, 3),
            share_after=round(min(now + float(share[j, i]) - on_map, 1.0), 3),
        )
    return best


def _holding(on: Standing, bead: Bead, xs: Array, ys: Array) -> tuple[Array, Array]:
    """(ny, nx) chance that what is laid there is sound, and 1 where something may be laid."""
    assert on.state is not None
    belief, plate = on.state.belief, on.plate
    places = np.stack(np.meshgrid(xs, ys), axis=-1).reshape(-1, 2)
    rows = -belief.surface.rows(places)
    mean, cov = belief.collapsed
    grown, spread = on.drifted(places)
    gap = rows @ mean + bead.layer_mm + belief.shift_mm + on.state.machine_believes(places) + on.moved_mm + grown
    sd = np.sqrt(np.maximum(np.einsum("ij,jk,ik->i", rows, cov, rows) + np.diag(spread), 1e-12))
    low, high = bead.bands_mm()["sound"]
    p = norm.cdf((high - gap) / sd) - norm.cdf((low - gap) / sd)
    half = STEP_MM / 2
    free = np.array([plate.holds(x, y, half) and not plate.kept_out(x, y, half) for x, y in places], dtype=float)
    shape = (len(ys), len(xs))
    return (p * free).reshape(shape), free.reshape(shape)


def _cells(job: Job, plate: Plate) -> tuple[float, Array]:
    """Side and middles (n, 2) of the squares on which the first layer is laid."""
    laid = job.first_layer
    # What leaves the plate is told as a finding, and is not drawn.
    laid = [m for m in laid if plate.holds(*m.start[:2], -_BESIDE_MM) and plate.holds(*m.end[:2], -_BESIDE_MM)]
    if not laid:
        return LEAST_CELL_MM, np.zeros((0, 2))
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


def _verdict(sound: float, parted: float, scraped: float) -> Verdict:
    best = max((sound, "sound"), (parted, "parted"), (scraped, "scraped"))
    return best[1] if best[0] >= SURE else "unsure"  # type: ignore[return-value]
