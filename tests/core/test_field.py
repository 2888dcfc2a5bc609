"""The field of a plate: against a joint normal conditioned by brute force, and as it must behave."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import multivariate_normal

from ivory_table.core.defaults import FIELD
from ivory_table.core.field import PlaceRead, SurfaceField, Trend
from ivory_table.core.mesh import MeshGrid, MeshLaw, MeshSurvey, believed_by_machine, grid_on
from ivory_table.core.mesh_plan import Known, Telling, plan_points, used_places, walk
from ivory_table.core.plate import KeepOut, Plate, Probe
from ivory_table.core.prior import first_belief
from ivory_table.core.surface import Surface, matern

PLATE = Plate(id="p", name="p", width_mm=220, depth_mm=200)
SCREWS = np.array([(30.0, 30), (190, 30), (30, 170), (190, 170)])
SURFACE = Surface(PLATE, SCREWS)
MEAN, COV = first_belief(SURFACE, bias_sd_mm=0.02, hypotheses=4).collapsed
TREND = Trend(SURFACE, MEAN, COV, SURFACE.unit(SURFACE.bias), 0.05)
GRID = grid_on(PLATE, 5, 5)


def bowed(places: np.ndarray) -> np.ndarray:
    u, v = ((places - PLATE.centre) / 100).T
    return 0.02 * u - 0.04 * (u * u + v * v) + 0.01 * np.sin(3 * u) * np.cos(2 * v)


def reads(places: np.ndarray, seed: int = 0, sd: float = 0.01) -> tuple[PlaceRead, ...]:
    values = bowed(places) + np.random.default_rng(seed).normal(0, sd, len(places))
    return tuple(PlaceRead(float(x), float(y), float(v), sd) for (x, y), v in zip(places, values, strict=True))


def brute_force(told: tuple[PlaceRead, ...], at: np.ndarray, drifts: bool = False) -> tuple[np.ndarray, np.ndarray]:
    """Mean and sd at places: every choice of hyper-parameters by the textbook, mixed by its likelihood and prior."""
    places, y = np.array([(r.x_mm, r.y_mm) for r in told]), np.array([r.value_mm for r in told])
    both = np.vstack([places, at])
    n = len(told)
    rows = TREND.rows(both)
    before = rows @ MEAN + TREND.base_mm
    apart = np.linalg.norm(both[:, None] - both[None], axis=2)
    zero = np.zeros((n, n))
    if drifts:
        t = np.array([r.at for r in told])
        zero = FIELD.drift_mm**2 * np.outer(t, t) + FIELD.wander_mm**2 * np.minimum.outer(t, t)
    logs, means, seconds = [], [], []
    for share in FIELD.lengths:
        for sigma in FIELD.sigmas_mm:
            for noise in FIELD.noise_factors:
                cov = rows @ COV @ rows.T + sigma**2 * matern(apart / (share * 220))
                own = np.diag([(noise * r.sd_mm) ** 2 + r.doubted * FIELD.gross_mm**2 for r in told])
                know = cov[:n, :n] + zero + own
                log = multivariate_normal(before[:n], know, allow_singular=True).logpdf(y)
                log -= 0.5 * (np.log(sigma / FIELD.sigma_mm) / FIELD.sigma_ln_sd) ** 2
                log -= 0.5 * (np.log(noise) / FIELD.noise_ln_sd) ** 2
                gain = cov[n:, :n] @ np.linalg.inv(know)
                mean = before[n:] + gain @ (y - before[:n])
                logs.append(log)
                means.append(mean)
                seconds.append(np.diag(cov[n:, n:] - gain @ cov[:n, n:]) + mean**2)
    weights = np.exp(np.array(logs) - max(logs))
    weights /= weights.sum()
    mean = weights @ np.array(means)
    return mean, np.sqrt(weights @ np.array(seconds) - mean**2)


@pytest.mark.parametrize("drifts", [False, True])
def test_the_field_is_the_joint_normal_conditioned(drifts: bool) -> None:
    told = tuple(replace(r, at=k / 8, doubted=k == 2) for k, r in enumerate(reads(grid_on(PLATE, 3, 3).places)))
    at = np.array([(50.0, 60.0), (110.0, 100.0), (200.0, 20.0)])
    mean, sd = SurfaceField(TREND, told, drifts).at(at)
    wanted, wanted_sd = brute_force(told, at, drifts)
    # What hardly counts is left out.
    assert mean == pytest.approx(wanted, abs=3e-4)
    assert sd == pytest.approx(wanted_sd, rel=0.03)


def test_variances_are_the_diagonal_of_the_covariance() -> None:
    field = SurfaceField(TREND, reads(GRID.places[::2]))
    mean, cov = field.joint(GRID.places)
    same, sd = field.at(GRID.places)
    assert mean == pytest.approx(same)
    assert np.sqrt(np.diag(cov)) == pytest.approx(sd, rel=1e-6)


@settings(max_examples=15, deadline=None)
@given(st.integers(0, 50), st.floats(-0.5, 0.5))
def test_a_higher_zero_lifts_every_place_and_a_mirrored_plate_is_mirrored(seed: int, up_mm: float) -> None:
    told = reads(GRID.places[::3], seed)
    flat = replace(TREND, cov=COV + 100 * np.outer(SURFACE.unit(SURFACE.bias), SURFACE.unit(SURFACE.bias)))
    mean, sd = SurfaceField(flat, told).at(GRID.places)
    lifted, same = SurfaceField(flat, tuple(replace(r, value_mm=r.value_mm + up_mm) for r in told)).at(GRID.places)
    assert lifted - mean == pytest.approx(up_mm, abs=1e-3)
    assert same == pytest.approx(sd, rel=1e-2)
    mirrored = tuple(replace(r, x_mm=220 - r.x_mm) for r in told)
    other, _ = SurfaceField(TREND, mirrored).at(GRID.places * (-1, 1) + (220, 0))
    assert other == pytest.approx(SurfaceField(TREND, told).at(GRID.places)[0], abs=1e-4)


def test_leaving_one_out_is_the_field_of_all_the_others() -> None:
    told = reads(GRID.places)
    field = SurfaceField(TREND, told)
    weights = field._fits[1]
    found, sd = field.without(7)
    # The same choices and weights, the reading left out for good.
    others = SurfaceField(TREND, (*told[:7], *told[8:]))
    by_choice = {(f.sigma_mm, f.length_mm): f for f in others._fits[0]}
    assert sd > 0
    assert found == pytest.approx(others.at([GRID.places[7]])[0][0], abs=2e-3)
    assert len(by_choice) > 1
    assert weights.sum() == pytest.approx(1)


def test_a_gross_error_is_doubted_and_the_field_leaves_it_out() -> None:
    told = list(reads(GRID.places))
    told[12] = replace(told[12], value_mm=told[12].value_mm + 0.12)
    field = SurfaceField(TREND, tuple(told)).doubting()
    assert field.readings[12].doubted
    assert sum(r.doubted for r in field.readings) == 1
    assert field.at([GRID.places[12]])[0][0] == pytest.approx(bowed(GRID.places[12:13])[0], abs=0.02)
    # Somebody looked, and it is so.
    assert not SurfaceField(TREND, tuple(told)).doubting((12,)).readings[12].doubted
    # Read again and the same: no slip happens twice.
    twice = SurfaceField(TREND, (*told, replace(told[12], value_mm=told[12].value_mm + 0.004))).doubting()
    assert not any(r.doubted for r in twice.readings)


def test_no_reading_of_a_good_survey_is_left_out() -> None:
    for seed in range(6):
        assert not any(r.doubted for r in SurfaceField(TREND, reads(GRID.places, seed)).doubting().readings)


def test_a_drifting_zero_is_taken_out_by_the_base_point() -> None:
    base = GRID.places[0]
    order = [base if k % 6 == 0 else GRID.places[k - k // 6 - 1] for k in range(30)]
    places, at = np.array([*order, base]), np.linspace(0, 1, 31)
    values = bowed(places) + 0.06 * at
    told = tuple(
        PlaceRead(float(x), float(y), float(v), 0.004, at=float(t))
        for (x, y), v, t in zip(places, values, at, strict=True)
    )
    truth = bowed(GRID.places)
    rms = {}
    for drifts in (True, False):
        heights = SurfaceField(TREND, told, drifts).at(GRID.places)[0]
        rms[drifts] = float(np.std(heights - truth))
    assert rms[True] < 0.004 < rms[False]


def test_what_a_reading_gains_is_what_the_variance_falls_by() -> None:
    told, used = reads(GRID.places[::4]), used_places(PLATE, GRID)
    field = SurfaceField(TREND, told)
    candidates = GRID.places[[1, 7, 13]]
    gains = field.gains(candidates, used, 0.01)
    _, cov = field.joint(np.vstack([candidates, used]))
    for k in range(3):
        shared = cov[3:, k]
        after = cov[3:, 3:] - np.outer(shared, shared) / (cov[k, k] + 0.01**2)
        assert gains[k] == pytest.approx(np.trace(cov[3:, 3:] - after) / len(used), rel=1e-6)


# Before anything is read


def test_what_a_mesh_leaves_is_what_simulated_plates_show() -> None:
    """Plates drawn from the same belief, read, filled and followed by the machine."""
    telling = Telling(TREND, MeshLaw(), 0.012, 60.0)
    grid, used = grid_on(PLATE, 4, 4), used_places(PLATE, GRID, 7)
    read = grid.places[::2]
    every = np.vstack([read, grid.places, used])
    rng = np.random.default_rng(1)
    know = telling.prior(every, every) + 1e-10 * np.eye(len(every))
    draws = rng.multivariate_normal(np.zeros(len(every)), know, 400, method="cholesky")
    n, m = len(read), len(grid.places)
    fill = telling.prior(grid.places, read) @ np.linalg.inv(telling.prior(read, read) + 0.012**2 * np.eye(n))
    squares = []
    for plate in draws:
        heights = fill @ (plate[:n] + rng.normal(0, 0.012, n))
        mesh = MeshSurvey(grid=grid, heights_mm=tuple(map(tuple, heights.reshape(4, 4))), owns_zero=True, plate_id="p")
        squares.append(np.mean((plate[n + m :] - believed_by_machine(mesh, used)) ** 2))
    assert telling.left_mm(grid, read, used, 0.012) == pytest.approx(np.mean(squares) ** 0.5, rel=0.1)


def test_more_points_leave_less() -> None:
    telling, used = Telling(TREND, MeshLaw(), 0.02, 60.0), used_places(PLATE, GRID, 9)
    left = [telling.left_mm(g := grid_on(PLATE, n, n), g.places, used, 0.012) for n in (3, 4, 5, 7)]
    assert left == sorted(left, reverse=True)


def test_points_under_a_clip_move_or_drop_out_and_the_others_stay() -> None:
    clips = (
        KeepOut(name="small clip", x_min_mm=18, y_min_mm=18, x_max_mm=29, y_max_mm=29),
        KeepOut(name="large clip", x_min_mm=140, y_min_mm=130, x_max_mm=220, y_max_mm=200),
    )
    plate = PLATE.model_copy(update={"keep_outs": clips})
    points = {(p.column, p.row): p for p in plan_points(GRID, plate, None)}
    assert points[0, 0].moved
    assert "small clip" in points[0, 0].why
    assert points[4, 4].place_mm is None
    assert "large clip" in points[4, 4].why
    assert points[2, 2].place_mm == (GRID.xs_mm[2], GRID.ys_mm[2])
    for p in points.values():
        assert p.place_mm is None or plate.kept_out(*p.place_mm, 1.9) is None
    assert len(walk(tuple(points.values()))) == sum(p.place_mm is not None for p in points.values())


def test_a_probe_reads_only_where_it_reaches() -> None:
    probe = Probe(kind="touch", x_offset_mm=-40, y_offset_mm=0)
    wide = MeshGrid(xs_mm=(10.0, 110.0, 210.0), ys_mm=(10.0, 100.0, 190.0))
    points = plan_points(wide, PLATE, probe)
    far = [p for p in points if p.column == 2]
    assert all("reach" in p.why and p.place_mm is not None and p.place_mm[0] < 190 for p in far)
    further = Probe(kind="touch", x_offset_mm=-80, y_offset_mm=0)
    assert all(p.place_mm is None for p in plan_points(wide, PLATE, further) if p.column == 2)
    assert all(p.place_mm is not None for p in points if p.column < 2)


def test_the_next_point_tells_most_or_is_near_and_ends_when_the_plate_is_known() -> None:
    points = list(walk(plan_points(GRID, PLATE, None)))
    used, told, at = used_places(PLATE, GRID), [], None
    values = dict(zip(map(tuple, GRID.places.tolist()), bowed(GRID.places), strict=True))
    sds = []
    while not (standing := Known(SurfaceField(TREND, tuple(told)), used, 0.03)).enough:
        found = standing.next_of(points, 0.012, at)
        assert found is not None
        sds.append(standing.sd_mm)
        point, gain = found
        assert gain > 0
        points.remove(point)
        at = point.place_mm
        told.append(PlaceRead(*at, float(values[at]), 0.012))
    assert 4 < len(told) < 25
    assert sds[-1] < sds[0]
