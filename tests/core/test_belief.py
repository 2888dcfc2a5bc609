"""The belief of the plate's heights: what a reading, a count and a feel say of it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq
from scipy.stats import norm, truncnorm

from ivory_table.core import advice, tram_told
from ivory_table.core.gauge import FEELS, FeelScale, feel_interval
from ivory_table.core.normals import flattened, truncated_moments
from ivory_table.core.plate import Plate, Screw
from ivory_table.core.prior import first_belief
from ivory_table.core.steps import Felt
from ivory_table.core.surface import Surface
from ivory_table.trial.tram_plates import screws_of, surface_of
from tests.conftest import setup_for
from tests.core.believing import HERON, SURFACE, prior


def test_a_reading_is_the_textbook_update() -> None:
    surface = Surface.of(setup_for("wren").machine, setup_for("wren").plate)
    before = first_belief(surface, bias_sd_mm=0.02)
    row = before.gap_row(86, 86)
    now = before.read(row, 0.1, 0.01)
    p, m = before.cov[0], before.mean[0]
    precision = np.linalg.inv(p) + np.outer(row, row) / 0.01**2
    cov = np.linalg.inv(precision)
    mean = cov @ (np.linalg.inv(p) @ m + row * 0.1 / 0.01**2)
    assert np.allclose(now.mean[0], mean, atol=1e-8)
    assert np.allclose(now.cov[0], cov, atol=1e-8)


def test_readings_together_are_the_same_one_by_one() -> None:
    """Over the screws, where each weighs the hypotheses: heights, spreads and weights."""
    before = prior()
    rng = np.random.default_rng(4)
    rows = np.array([before.gap_row(*screw) for screw in SURFACE.screws]) / 0.02
    values = rng.normal(0.0, 2.0, len(rows))
    now = together = before
    for row, value in zip(rows, values, strict=True):
        now = now.read(row, float(value), 1.0)
    together = before.read_together(rows, values)
    assert together.chosen_at == now.chosen_at == 0
    assert np.allclose(together.mean, now.mean, atol=1e-9)
    assert np.allclose(together.cov, now.cov, atol=1e-9)
    assert np.allclose(together.log_weight, now.log_weight, atol=1e-7)


@pytest.mark.parametrize("counts", [(6,), (6, 0), (-11, 2, 1)])
def test_counts_at_one_screw_are_a_filter_in_one_dimension(counts: tuple[int, ...]) -> None:
    """Three screws move alone: to the drag (rounding, feel), then the hand's slip, once."""
    screws = screws_of(3)
    no_gain = (np.zeros(3), np.full(3, 1e-6))
    feel = FeelScale(scatter_ln_sd=0.0)
    belief = first_belief(surface_of(screws), bias_sd_mm=1e-6, feel=feel, gains_known=no_gain, reversed_share=1e-9)
    mean, variance = 0.0, float(belief.collapsed[1][0, 0])
    for marks in counts:
        belief = tram_told.counted(belief, screws, 0, marks, 0.05)
        up = marks * screws[0].mm_per_mark
        mean, variance = mean + up, variance + screws[0].mm_per_mark ** 2 / 12
        gain = variance / (variance + feel.drag_sd_mm**2)
        mean, variance = mean + gain * (-0.05 - mean), (1 - gain) * variance
        variance += 0.008**2 + (0.03 * up) ** 2
    assert belief.collapsed[0][0] == pytest.approx(mean, abs=1e-4)
    assert belief.collapsed[1][0, 0] == pytest.approx(variance, rel=0.01)


def test_flattened_weights_leave_so_many_alive() -> None:
    weights = flattened(np.random.default_rng(1).normal(0, 30, 320), 80)
    assert weights.sum() == pytest.approx(1)
    assert 1 / np.square(weights).sum() == pytest.approx(80, rel=0.01)


def test_what_a_turn_would_do_is_drawn_as_the_turn_does_it() -> None:
    """The chances of every further turn from one set of draws, against telling the turn to the belief."""
    screws = HERON.machine.screws
    belief = prior()
    for j in (0, 3, 1, 2):
        belief = tram_told.counted(belief, screws, j, 2, 0.0)
    ups = np.array([-0.13, 0.0, 0.09])
    ranges = belief.ranges_after(1, ups, np.hypot(0.008, 0.03 * ups))
    for up, drawn in zip(ups, ranges, strict=True):
        told = belief.turned(1, float(up), float(np.hypot(0.008, 0.03 * up))) if up else belief
        assert drawn.mean() == pytest.approx(told.spread()[0], rel=0.05)
        assert (drawn <= 0.06).mean() == pytest.approx(told.p_within(0.03), abs=0.03)


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
    low, high = feel_interval(feel, t, FeelScale())
    now = Felt(row, -high, -low, 0.012).told_to(belief)  # before new hypotheses are drawn
    mean_before, sd_before = belief.of(row[None])
    mean, sd = now.of(row[None])
    assert sd[0] <= sd_before[0] + 1e-12
    if feel == "free":
        assert mean[0] < mean_before[0]  # a free gauge means the plate is low
    if feel == "stuck" and t < 0.04:
        assert mean[0] > mean_before[0]


@settings(max_examples=30, deadline=None)
@given(st.integers(0, 3), st.floats(-0.5, 0.5).filter(lambda up: abs(up) > 1e-6))
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
    # What no knob can take out of four anchors is their twist, (+, -, -, +) of each draw.
    twist = np.array([1, -1, -1, 1]) / 2
    flat = draws - np.outer(draws @ twist, twist)
    without = np.mean(np.ptp(flat, axis=1) <= 0.06)
    assert belief.p_within(0.03, twist_out=True) == pytest.approx(without, abs=0.03)
    assert without > np.mean(np.ptp(draws, axis=1) <= 0.06)


def test_an_interval_is_the_mixtures_own_and_not_its_sds() -> None:
    belief = first_belief(SURFACE, bias_sd_mm=0.02, reversed_share=0.005)
    for screw in HERON.machine.screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.006)
    belief = belief.turned(0, 0.3, 0.01)
    low, high = belief.height_interval()
    against = np.eye(4) - 0.25
    mean, sd = belief.mean[:, :4] @ against, np.sqrt(np.diagonal(against @ belief.cov[:, :4, :4] @ against, 0, 1, 2))
    for j in range(4):
        # Each end by scipy's root of the mixture's own distribution.
        for end, share in ((low[j], 0.05), (high[j], 0.95)):
            at = brentq(lambda x, j=j, p=share: belief.weight @ norm.cdf(x, mean[:, j], sd[:, j]) - p, -2, 2)
            assert end == pytest.approx(at, abs=1e-6)
    # One knob in two hundred is reversed: the sd is of that, not of what is likely.
    whole = np.sqrt(against[0] @ belief.collapsed[1][:4, :4] @ against[0])
    assert high[0] - low[0] < 2 * 1.645 * whole
    assert belief.spread()[1] < float(np.std(belief._sampled_ranges))


def test_moving_the_nozzle_away_lowers_the_plate_against_it() -> None:
    assert prior().nozzle_moved(0.1).height([(122, 118)])[0][0] == pytest.approx(-0.1)


def test_read_all_then_turn_all_levels_a_known_plate() -> None:
    plate = Plate(id="p", name="p", width_mm=244, depth_mm=236)
    screws = tuple(Screw(name=s.name, x_mm=s.x_mm, y_mm=s.y_mm, pitch_mm=0.7) for s in HERON.machine.screws)
    belief = first_belief(Surface.of(HERON.machine, plate), bias_sd_mm=0.02)
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
