"""The one belief, against textbook Gaussians, sampling and scipy's own truncated normal."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import truncnorm

from ivory_table.core import advice
from ivory_table.core.belief import Belief, truncated_moments
from ivory_table.core.gauge import FEELS, feel_interval
from ivory_table.core.plate import Plate, Screw
from ivory_table.core.surface import Surface
from ivory_table.core.tram import coupling
from tests.conftest import setup_for

HERON = setup_for("heron")
SURFACE = Surface.of(HERON.machine, HERON.plate)


def prior(surface: Surface = SURFACE) -> Belief:
    return Belief.prior(surface, bias_sd_mm=0.02)


def test_a_reading_is_the_textbook_update() -> None:
    surface = Surface.of(setup_for("wren").machine, setup_for("wren").plate)
    before = Belief.prior(surface, bias_sd_mm=0.02)
    row = before.gap_row(86, 86)
    now = before.read(row, 0.1, 0.01)
    p, m = before.cov[0], before.mean[0]
    precision = np.linalg.inv(p) + np.outer(row, row) / 0.01**2
    cov = np.linalg.inv(precision)
    mean = cov @ (np.linalg.inv(p) @ m + row * 0.1 / 0.01**2)
    assert np.allclose(now.mean[0], mean, atol=1e-8)
    assert np.allclose(now.cov[0], cov, atol=1e-8)


def test_hypotheses_are_weighed_by_how_well_they_foretold() -> None:
    """Turning one screw of a rocking plate and reading the opposite one tells the compliance."""
    true = coupling(np.full(4, 1 / 0.2 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)
    belief = prior()
    for screw in HERON.machine.screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.003)
    belief = belief.turned(0, 0.4, 0.008)
    for j, screw in enumerate(HERON.machine.screws):
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.4 * true[j, 0], 0.003)
    mean, sd = belief.passes_of_twist()
    assert mean == pytest.approx(0.2, abs=0.03)
    assert sd < 0.08
    assert belief.weight.sum() == pytest.approx(1)


finite = st.floats(-6, 6)


@given(finite, st.floats(0.05, 3), finite, st.floats(0.01, 5))
def test_truncated_moments_agree_with_scipy(centre: float, sd: float, low: float, width: float) -> None:
    a, b = (low - centre) / sd, (low + width - centre) / sd
    log_z, shift, shrink = truncated_moments(np.array([centre]), np.array([sd**2]), low, low + width)
    if min(abs(a), abs(b)) > 8 and a * b > 0:
        return  # scipy itself loses its digits out there
    mean, var = truncnorm.stats(a, b, loc=centre, scale=sd, moments="mv")
    assert centre + shift[0] == pytest.approx(float(mean), abs=1e-5 * max(sd, 1))
    assert sd**2 - shrink[0] == pytest.approx(float(var), rel=2e-3, abs=1e-7)
    assert log_z[0] <= 1e-12


@pytest.mark.parametrize("low", [-1e3, -50.0, 50.0, 1e3])
def test_an_interval_far_in_the_tail_stays_finite(low: float) -> None:
    log_z, shift, shrink = truncated_moments(np.array([0.0]), np.array([1.0]), low, low + 1)
    assert np.all(np.isfinite([log_z[0], shift[0], shrink[0]]))
    assert 0 <= shrink[0] <= 1


@given(st.sampled_from(FEELS), st.floats(-0.1, 0.3))
def test_a_feel_never_widens_the_belief_and_points_the_right_way(feel: str, t: float) -> None:
    belief = prior()
    row = belief.gap_row(122, 118)
    low, high = feel_interval(feel, t)
    now = belief.felt(row, -high, -low, 0.012)
    mean_before, sd_before = belief.of(row[None])
    mean, sd = now.of(row[None])
    assert sd[0] <= sd_before[0] + 1e-12
    if feel == "free":
        assert mean[0] < mean_before[0]  # a free gauge means the plate is low
    if feel == "stuck" and t < 0.04:
        assert mean[0] > mean_before[0]


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 3), st.floats(-0.5, 0.5))
def test_raising_a_screw_raises_the_plate_there(j: int, up: float) -> None:
    screw = HERON.machine.screws[j]
    belief = prior()
    moved = belief.turned(j, up, 0.01)
    before = belief.height([(screw.x_mm, screw.y_mm)])[0][0]
    assert np.sign(moved.height([(screw.x_mm, screw.y_mm)])[0][0] - before) == np.sign(up)


def test_chance_within_agrees_with_plain_sampling() -> None:
    belief = prior()
    for k, screw in enumerate(HERON.machine.screws):
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.01 * k, 0.014)
    rng = np.random.default_rng(1)
    picks = rng.choice(len(belief.weight), 20_000, p=belief.weight)
    draws = np.array([rng.multivariate_normal(belief.mean[i, :4], belief.cov[i, :4, :4]) for i in picks[:4000]])
    assert belief.p_within(0.03) == pytest.approx(np.mean(np.ptp(draws, axis=1) <= 0.06), abs=0.03)


def test_moving_the_nozzle_away_lowers_the_plate_against_it() -> None:
    assert prior().nozzle_moved(0.1).height([(122, 118)])[0][0] == pytest.approx(-0.1)


def test_a_count_explains_itself_by_a_reversed_knob_only_when_it_must() -> None:
    screws = HERON.machine.screws
    belief = prior()
    for j in range(4):
        belief = advice.counted(belief, screws, j, 0, 0.0)
    pushed = advice.turned(belief, screws, 0, 6)
    right = advice.reversed_evidence(pushed, screws, 0, -6, 0.0)
    wrong = advice.reversed_evidence(pushed, screws, 0, 6, 0.0)
    assert right < 0 < 7 < wrong


def test_read_all_then_turn_all_levels_a_known_plate() -> None:
    plate = Plate(id="p", name="p", width_mm=244, depth_mm=236)
    screws = tuple(Screw(name=s.name, x_mm=s.x_mm, y_mm=s.y_mm, pitch_mm=0.7) for s in HERON.machine.screws)
    belief = Belief.prior(Surface.of(HERON.machine, plate), bias_sd_mm=0.02)
    heights = [0.2, -0.1, 0.05, -0.15]
    for screw, h in zip(screws, heights, strict=True):
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), h, 0.002)
    marks = advice.turn_plan(belief, screws)
    _mean, _ = belief.collapsed
    passes = np.tensordot(belief.weight, belief.passes, axes=1)
    left = np.array(heights) + passes @ (marks * screws[0].mm_per_mark)
    assert np.ptp(left) < 0.4 * np.ptp(heights)
    # No single mark more or less is better in expectation.
    centre = np.eye(4) - 0.25
    a = belief.passes

    def cost(turn: np.ndarray) -> float:
        moved = belief.mean[:, :4] + a @ (turn * screws[0].mm_per_mark)
        return float(np.einsum("n,ni,ij,nj->", belief.weight, moved, centre, moved))

    steps = np.vstack([np.eye(4), -np.eye(4)])
    assert sum(cost(marks + s) < cost(marks) - 1e-9 for s in steps) <= 1


@pytest.mark.parametrize(("p", "unvisited"), [(0.0, 4), (0.5, 0), (0.89, 1)])
def test_stops_left_falls_with_what_is_known(p: float, unvisited: int) -> None:
    assert advice.stops_left(p, unvisited) >= advice.stops_left(min(p + 0.3, 1), max(unvisited - 1, 0))
    assert advice.stops_left(0.95, 0) == 0
