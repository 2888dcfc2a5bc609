"""Meshes of made-up plates: what few readings leave, what is doubted, and what is known of grids from elsewhere and of old ones."""

import itertools
import multiprocessing
import time
import tomllib
from collections.abc import Callable, Sequence
from dataclasses import replace
from importlib.resources import files
from typing import Any

import numpy as np

from ivory_table.core.defaults import OLD_MESH, SURVEY
from ivory_table.core.field import PlaceRead, SurfaceField, Trend
from ivory_table.core.grid_layout import LAYOUTS, layout_chances, sure, telling
from ivory_table.core.mesh import MeshGrid, MeshSurvey, believed_by_machine, grid_on
from ivory_table.core.mesh_check import CheckRead, OldMesh
from ivory_table.core.mesh_plan import Known, PlanPoint, plan_points, used_places, walk
from ivory_table.core.plate import Plate
from ivory_table.core.prior import first_belief
from ivory_table.core.surface import Surface
from ivory_table.core.value import Array

from .figures import figure
from .harm import stream

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("mesh.toml").read_text("utf-8"))
SCENARIO_FILE = "ivory_table/trial/mesh.toml"
Heights = Callable[[Array], Array]


def any_plate(rng: np.random.Generator) -> tuple[Plate, Surface]:
    low, high = SCENARIO["width_mm"]
    width, depth = (float(v) for v in rng.uniform(low, high, 2).round())
    plate, inset = Plate(id="any", name="any", width_mm=width, depth_mm=depth), SCENARIO["inset_mm"]
    screws = np.array([(x, y) for x in (inset, width - inset) for y in (inset, depth - inset)])
    return plate, Surface(plate, screws)


def any_form(rng: np.random.Generator, plate: Plate, share: float = 1.0) -> Heights:
    """A plate's true form: tilt, bow, saddle, twist, and waves of a normal spectrum for what is local."""
    bow, saddle, twist = rng.normal(0, [SCENARIO["bow_mm"], SCENARIO["saddle_mm"], SCENARIO["twist_mm"]]) * share
    tilt, level = rng.normal(0, SCENARIO["tilt_mm"], 2) * share, float(rng.normal(0, SCENARIO["tilt_mm"])) * share
    size = float(rng.uniform(*SCENARIO["local_mm"])) * share
    waves = rng.normal(0, 1 / rng.uniform(*SCENARIO["local_reach_mm"]), (150, 2))
    phases = rng.uniform(0, 2 * np.pi, 150)

    def heights(places: Array) -> Array:
        u, v = ((places - plate.centre) * 2 / (plate.width_mm, plate.depth_mm)).T
        local = size * (2 / 150) ** 0.5 * np.cos(places @ waves.T + phases).sum(axis=1)
        formed = bow * (u * u + v * v) + saddle * (u * u - v * v) / 2 + twist * u * v
        return np.asarray(level + tilt[0] * u + tilt[1] * v + formed + local)

    return heights


def stepped(heights: Array, rng: np.random.Generator, sd_mm: float) -> Array:
    """As read: with the hand's scatter, in the machine's steps."""
    return np.asarray(
        np.round((heights + rng.normal(0, sd_mm, len(heights))) / SCENARIO["step_mm"]) * SCENARIO["step_mm"]
    )


def plate_figures(job: tuple[int, int]) -> dict[str, list[float]]:
    """Every figure that one plate gives."""
    seed, number = job
    rng = stream(seed, 7, number)
    plate, surface = any_plate(rng)
    form = any_form(rng, plate)
    mean, cov = first_belief(surface, bias_sd_mm=0.02, hypotheses=4).collapsed
    felt = Trend(surface, mean, cov, surface.unit(surface.bias))
    grid = grid_on(plate, 5, 5)
    used = used_places(plate, grid, 21)
    truth, sd = form(used), float(np.hypot(SCENARIO["hand_sd_mm"], SCENARIO["step_mm"] / 12**0.5))
    values = stepped(form(grid.places), rng, SCENARIO["hand_sd_mm"])
    reads = tuple(PlaceRead(float(x), float(y), float(v), sd) for (x, y), v in zip(grid.places, values, strict=True))
    found: dict[str, list[float]] = {}

    def note(name: str, value: float) -> None:
        found.setdefault(name, []).append(float(value))

    def left(on: MeshGrid, heights: Array) -> float:
        return float(np.mean(np.square(truth - believed_by_machine(_survey(on, heights), used))))

    def filled(some: Sequence[PlaceRead]) -> float:
        return left(grid, SurfaceField(felt, tuple(some)).at(grid.places)[0])

    three = grid_on(plate, 3, 3)
    note("raw_9", left(three, stepped(form(three.places), rng, SCENARIO["hand_sd_mm"])))
    note("raw_25", left(grid, values))
    note("rms_9", filled([r for k, r in enumerate(reads) if k % 5 % 2 == 0 and k // 5 % 2 == 0]))
    note("rms_25", filled(reads))
    _chosen(felt, plate, grid, reads, used, truth, sd, filled, note)
    _gross(felt, reads, rng, note)
    _drift(surface, mean, cov, plate, grid, form, rng, left, note)
    for _ in range(SCENARIO["layouts_each"]):
        _layout(plate, form, rng, note)
    _old(plate, grid, form, rng, note)
    return found


def _survey(grid: MeshGrid, heights: Array) -> MeshSurvey:
    rows = tuple(tuple(row) for row in np.round(heights, 5).reshape(len(grid.ys_mm), len(grid.xs_mm)).tolist())
    return MeshSurvey(grid=grid, heights_mm=rows, owns_zero=True, plate_id="any")


def _chosen(
    felt: Trend, plate: Plate, grid: MeshGrid, reads: tuple[PlaceRead, ...], used: Array, truth: Array, sd: float,
    filled: Callable[[Sequence[PlaceRead]], float], note: Callable[[str, float], None],
) -> None:  # fmt: skip
    """Points of 5 x 5 read as the station asks for them."""
    waiting = list(walk(plan_points(grid, plate, None)))
    done: list[PlaceRead] = []
    at: tuple[float, float] | None = None
    said = 0
    few = used_places(plate, grid)
    while waiting and (len(done) < 15 or not said):
        standing = Known(SurfaceField(felt, tuple(done)), few, 0.03)
        if done and not said and standing.enough:
            said = len(done)
            note("rms_enough", filled(done))
        coming = standing.next_of(waiting, sd, at)
        assert coming is not None
        point: PlanPoint = coming[0]
        waiting.remove(point)
        done.append(reads[point.row * len(grid.xs_mm) + point.column])
        at = point.place_mm
        if len(done) in (12, 15):
            note(f"rms_{len(done)}", filled(done))
        if len(done) == 15:
            mean, sds = SurfaceField(felt, tuple(done)).at(used)
            note("band_90", float(np.mean(np.abs(truth - mean) <= 1.6449 * sds)))
    note("read_enough", said or len(grid.places))
    if not said:
        note("rms_enough", filled(reads))


def _gross(
    felt: Trend, reads: tuple[PlaceRead, ...], rng: np.random.Generator, note: Callable[[str, float], None]
) -> None:
    k = int(rng.integers(len(reads)))
    off = SCENARIO["gross_mm"] * float(rng.choice([-1, 1]))
    spoilt = [
        r if i != k else PlaceRead(r.x_mm, r.y_mm, round(r.value_mm + off, 3), r.sd_mm) for i, r in enumerate(reads)
    ]
    marked = SurfaceField(felt, tuple(spoilt)).doubting().to_repeat()
    note("gross_found", marked[k])
    note("gross_false", (marked.sum() - marked[k]) / (len(reads) - 1))


def _drift(
    surface: Surface, mean: Array, cov: Array, plate: Plate, grid: MeshGrid, form: Heights, rng: np.random.Generator,
    left: Callable[[MeshGrid, Array], float], note: Callable[[str, float], None],
) -> None:  # fmt: skip
    """A probe's survey as the line makes it, the base point now and then; its zero is taken off for comparison."""
    points = walk(plan_points(grid, plate, None))
    trend = Trend(surface, mean, cov, surface.unit(surface.probe_zero))
    order: list[tuple[float, float]] = []
    for k, point in enumerate(points):
        assert point.place_mm is not None
        assert points[0].place_mm is not None
        if k % SURVEY.base_every == 0:
            order.append(points[0].place_mm)
        order.append(point.place_mm)
    order.append(order[0])
    places, at = np.array(order), np.linspace(0, 1, len(order))
    noise = rng.normal(0, SCENARIO["probe_sd_mm"], len(order))
    wander = np.cumsum(rng.normal(0, 0.1 / len(order) ** 0.5, len(order)))
    for name, drift in (("still", 0.0), ("drifted", SCENARIO["drift_mm"])):
        values = form(places) + noise + drift * (at + 0.2 * wander)
        reads = tuple(
            PlaceRead(float(x), float(y), float(v), SCENARIO["probe_sd_mm"], at=float(t))
            for (x, y), v, t in zip(places, values, at, strict=True)
        )
        heights = SurfaceField(trend, reads, drifts=True).at(grid.places)[0]
        note(f"rms_{name}", left(grid, heights - heights.mean() + form(grid.places).mean()))


def _layout(plate: Plate, form: Heights, rng: np.random.Generator, note: Callable[[str, float], None]) -> None:
    """A grid another program printed, one of sixteen ways round, and three places read again."""
    columns, rows = (int(v) for v in rng.integers(3, 6, 2))
    grid = grid_on(plate, columns, rows)
    tilt = rng.normal(0, SCENARIO["layout_tilt_mm"], 2)

    def tilted(at: Array) -> Array:
        return form(at) + (at - plate.centre) * 2 / (plate.width_mm, plate.depth_mm) @ tilt

    z = stepped(tilted(grid.places), rng, SCENARIO["hand_sd_mm"]).reshape(len(grid.ys_mm), len(grid.xs_mm))
    truly = LAYOUTS[int(rng.integers(len(LAYOUTS)))]
    text = truly.written(z)
    ways = {layout: heights for layout in LAYOUTS if (heights := layout.turned(text)).shape == z.shape}
    every = np.array([heights.ravel() for heights in ways.values()])
    places = grid.places[telling(every, np.ones(len(every)))]
    known = tilted(places) + rng.normal(0, SCENARIO["known_sd_mm"], 3)
    options = {layout: believed_by_machine(_survey(grid, heights.ravel()), places) for layout, heights in ways.items()}
    chances = layout_chances(options, known, SCENARIO["known_sd_mm"] ** 2 * np.eye(3))
    note("layout_asked", not sure(chances))
    note("layout_right", not sure(chances) or np.array_equal(chances[0].layout.turned(text), z))


def _old(
    plate: Plate, grid: MeshGrid, form: Heights, rng: np.random.Generator, note: Callable[[str, float], None]
) -> None:
    """A mesh of some days ago on a plate that held or did not, read again at the places that tell most."""
    used = used_places(plate, grid, 9)
    changed = bool(rng.integers(2))
    drift = any_form(rng, plate)
    off = drift(used)
    most = float(np.abs(off - off.mean()).max())
    wanted = float(rng.uniform(*SCENARIO["old_changed_mm"])) if changed else SCENARIO["old_held_mm"]
    zero = float(rng.normal(0, 0.1))
    mesh = _survey(grid, form(grid.places) + rng.normal(0, 0.006, len(grid.places)))
    old = OldMesh(mesh, plate, used, float(rng.uniform(*SCENARIO["old_days"])), 0.03)
    reads: list[CheckRead] = []
    for count in itertools.chain(
        [OLD_MESH.first_reads], itertools.repeat(1, OLD_MESH.most_reads - OLD_MESH.first_reads)
    ):
        for k in replace(old, reads=tuple(reads)).to_read(grid.places, count, SCENARIO["hand_sd_mm"]):
            place = grid.places[k : k + 1]
            now = form(place) + zero + drift(place) * wanted / most
            x, y = (float(v) for v in place[0])
            reads.append(CheckRead(x, y, float(stepped(now, rng, SCENARIO["hand_sd_mm"])[0]), SCENARIO["hand_sd_mm"]))
        if (verdict := replace(old, reads=tuple(reads)).verdict) != "cannot tell yet":
            break
    note("old_mesh_reads", len(reads))
    note("old_mesh_told", verdict != "cannot tell yet")
    note("old_mesh_right", (verdict == "does not hold") == changed if verdict != "cannot tell yet" else changed)


def trial(plates: int, seed: int, workers: int = 1) -> dict[str, Any]:
    """So many plates; figures by name with two standard errors and their bars, as plain values."""
    began = time.perf_counter()
    found: dict[str, list[float]] = {}
    with multiprocessing.get_context("fork").Pool(workers) as pool:
        for told in pool.imap_unordered(plate_figures, [(seed, k) for k in range(plates)], chunksize=4):
            for name, values in told.items():
                found.setdefault(name, []).extend(values)
    figures = {name: figure(name, values, SCENARIO) for name, values in sorted(found.items())}
    for name, values in found.items():
        if name.startswith(("rms_", "raw_")):
            squares = np.array(values)
            rms = float(squares.mean() ** 0.5)
            error = float(squares.std() / len(squares) ** 0.5 / rms)
            figures[name] |= {"mean": round(rms, 5), "two_se": round(error, 5)}
    ratio = _rms(found["rms_drifted"]) / _rms(found["rms_still"])
    # By leaving plates out one by one (jackknife).
    squares = np.column_stack([found["rms_drifted"], found["rms_still"]])
    less = (squares.sum(axis=0) - squares) / (len(squares) - 1)
    ratios = np.sqrt(less[:, 0] / less[:, 1])
    error = float(2 * np.sqrt((len(ratios) - 1) * ratios.var()))
    figures["drift_ratio"] = {
        "mean": round(ratio, 4),
        "two_se": round(error, 4),
        "bar": SCENARIO["bars"]["drift_ratio"][0],
    }
    return {
        "scenario": SCENARIO_FILE,
        "machines": plates,
        "seed": seed,
        "seconds": round(time.perf_counter() - began, 1),
        "figures": figures,
    }


def _rms(squares: list[float]) -> float:
    return float(np.mean(squares) ** 0.5)
