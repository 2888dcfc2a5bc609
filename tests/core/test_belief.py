"""The one belief, against textbook Gaussians, sampling and scipy's own truncated normal."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import brentq
from scipy.stats import norm, truncnorm

from ivory_table.core import advice, tram_told
from ivory_table.core.belief import LAM_FLOOR, Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.gauge import FEELS, FeelScale, feel_interval
from ivory_table.core.knob_signs import log_p_signs
from ivory_table.core.normals import flattened, normalised, truncated_moments
from ivory_table.core.plate import Plate, Screw
from ivory_table.core.prior import first_belief
from ivory_table.core.steps import Felt, Read
from ivory_table.core.surface import Surface
from ivory_table.core.tram import coupling, hand_error_mm
from ivory_table.trial.tram_plates import screws_of, surface_of
from tests.conftest import setup_for

HERON = setup_for("heron")
SURFACE = Surface.of(HERON.machine, HERON.plate)


def prior(surface: Surface = SURFACE) -> Belief:
    return first_belief(surface, bias_sd_mm=0.02)


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


def turned_once(belief: Belief) -> Belief:
    """All read level, one knob of a plate that passes 20 % of a twist turned, all read again."""
    true = coupling(np.full(4, 1 / 0.2 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)
    for screw in HERON.machine.screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.003)
    belief = belief.turned(0, 0.4, 0.008)
    for j, screw in enumerate(HERON.machine.screws):
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.4 * true[j, 0], 0.003)
    return belief


def test_hypotheses_are_weighed_by_how_well_they_foretold() -> None:
    """Turning one screw of a rocking plate and reading the others tells the compliance, once the plate is known to answer."""
    answers = first_belief(SURFACE, bias_sd_mm=0.02, answer_known=(np.log(1e-3), 0.01))
    belief = turned_once(answers)
    mean, sd = belief.passes_of_twist()
    assert mean == pytest.approx(0.2, abs=0.03)
    assert sd < 0.08
    assert belief.weight.sum() == pytest.approx(1)


def test_where_a_plate_may_answer_otherwise_one_turn_tells_less() -> None:
    known = turned_once(first_belief(SURFACE, bias_sd_mm=0.02, answer_known=(np.log(1e-3), 0.01)))
    unsure = turned_once(first_belief(SURFACE, bias_sd_mm=0.02, answer_known=(np.log(0.1), 0.01)))
    assert unsure.passes_of_twist()[1] > known.passes_of_twist()[1]
    assert unsure.passes_of_twist()[0] == pytest.approx(0.2, abs=2 * unsure.passes_of_twist()[1])


def test_what_a_plate_takes_back_of_a_turn_is_most_in_doubt() -> None:
    """Beside what follows the knob: a share of what is taken back, in its direction, and where nothing is taken back, nothing."""

    def doubt(lam: float, share: float) -> np.ndarray:
        known = (np.full(4, np.log(lam + 0.1)), 1e-10 * np.eye(4))
        start = first_belief(
            SURFACE, bias_sd_mm=0.02, lam_known=known, answer_known=(np.log(share), 1e-6), reversed_share=1e-9
        )
        return start.turned(1, 0.5, 0.01).cov[0, :4, :4] - start.cov[0, :4, :4]

    for lam in (0.0, 1.5):
        a = coupling(np.full(4, lam), SURFACE.bending)[:, 1]
        back, strange = a - np.eye(4)[1], 0.5 * 0.02
        follows = np.outer(a, a) + TRAM.answer_bent * a[1] ** 2 * SURFACE.bends
        wanted = strange**2 * (follows + TRAM.answer_back**2 * np.outer(back, back))
        assert doubt(lam, 0.02) - doubt(lam, 1e-6) == pytest.approx(wanted, abs=2e-5)
    assert np.abs(back).max() > 0.1


def test_a_plate_that_does_not_answer_as_its_supports_say_is_believed_to() -> None:
    """Turns that sometimes do nothing, as on a slack bolt, make the plate's answers doubtful and its promises wider."""
    belief, heights = prior(), np.zeros(4)
    start = belief.answer_learnt()[0]
    for turn, follows in ((0.3, 0.0), (-0.3, 1.0), (0.3, 0.0), (-0.3, 1.0)):
        belief = belief.turned(0, turn, 0.008)
        heights = heights + np.array([0.8, 0.2, 0.2, -0.2]) * turn * follows
        for screw, height in zip(HERON.machine.screws, heights, strict=True):
            belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), float(height), 0.006)
    assert belief.answer_learnt()[0] > start + 1


def test_on_three_screws_nothing_but_the_hand_is_in_doubt() -> None:
    belief = first_belief(surface_of(screws_of(3)), bias_sd_mm=0.02)
    assert np.all(belief.answer_sd == 0)


def test_hypotheses_are_found_again_where_the_likelihood_is() -> None:
    """Sharp readings of many turns on six uneven supports leave none of the first hypotheses alive: new ones are."""
    rng, surface = np.random.default_rng(6), surface_of(screws_of(6))
    lam = np.array([0.2, 3.0, 0.5, 1.0, 0.1, 2.0])
    true = coupling(lam, surface.bending)
    belief = first_belief(surface, bias_sd_mm=0.02)
    heights = np.zeros(6)
    for k in range(12):
        j, up = k % 6, float(rng.choice([-0.4, 0.4]))
        heights = heights + true[:, j] * up
        belief = belief.turned(j, up, 0.008)
        for i, (x, y) in enumerate(surface.screws):
            belief = belief.read(belief.gap_row(x, y), float(heights[i] + rng.normal(0, 0.004)), 0.004)
    assert belief.alive > len(belief.weight) / 10
    passes = np.einsum("n,nij->ij", belief.weight, belief.passes)
    assert np.abs(np.diag(passes) - np.diag(true)).max() < 0.06


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


def test_a_reversed_knob_is_told_by_its_neighbours_too() -> None:
    """On a plate that rocks, the others go the wrong way when a knob does."""
    screws = HERON.machine.screws
    truth = coupling(np.full(4, 1 / 0.1 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)
    belief = prior()
    for screw in screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.004)
    belief = tram_told.turned(belief, screws, 0, 8)
    for k in (1, 2, 3):
        moved = -truth[k, 0] * 8 * screws[0].mm_per_mark
        belief = belief.read(belief.gap_row(screws[k].x_mm, screws[k].y_mm), moved, 0.004)
    assert belief.p_reversed()[0] > 0.99
    # Of the others it tells only what they have in common: by Bayes, with the shares the notes give.
    p, q = TRAM.reversed_share, TRAM.reversed_common
    common = q * (1 - p) / (q * (1 - p) + (1 - q) * p)
    assert belief.p_reversed()[1:] == pytest.approx(common * (1 - p) + (1 - common) * p, abs=0.02)


@pytest.mark.parametrize("wrong", [(), (0,), (0, 3), (0, 1, 2), (0, 1, 2, 3)])
def test_any_set_of_reversed_knobs_is_found_knob_by_knob(wrong: tuple[int, ...]) -> None:
    """Each knob turned between two readings shows its own sense, whatever the others do, on a plate that rocks."""
    screws = HERON.machine.screws
    truth = coupling(np.full(4, 1 / 0.15 - 1), SURFACE.bending) * [-1 if j in wrong else 1 for j in range(4)]
    belief, heights = prior(), np.array([0.2, -0.1, 0.3, 0.0])
    for j, screw in enumerate(screws):
        row = belief.gap_row(screw.x_mm, screw.y_mm)
        belief = belief.read(row, float(heights[j]), 0.004)
        belief = tram_told.turned(belief, screws, j, 4)
        heights = heights + truth[:, j] * 4 * screw.mm_per_mark
        belief = belief.read(row, float(heights[j]), 0.004)
    assert list(np.flatnonzero(belief.p_reversed() > 0.99)) == list(wrong)
    assert np.abs(belief.collapsed[0][:4] - heights).max() < 0.06


@pytest.mark.parametrize("knobs", [3, 4, 6, 9])
def test_the_sets_of_reversed_knobs_weigh_what_their_shares_say(knobs: int) -> None:
    """All sets sum to one; each knob by itself is as likely as the two causes say."""
    every = np.array([[1.0 - 2 * (k >> j & 1) for j in range(knobs)] for k in range(2**knobs)])
    p = np.exp(log_p_signs(every, np.full(knobs, TRAM.reversed_share)))
    alone, common = TRAM.reversed_share, TRAM.reversed_common
    assert p.sum() == pytest.approx(1)
    assert p @ (every[:, 0] < 0) == pytest.approx((1 - common) * alone + common * (1 - alone))
    proved = np.exp(log_p_signs(every, np.full(knobs, TRAM.reversed_proved)))
    assert proved.sum() == pytest.approx(1)
    assert proved @ (every[:, 0] < 0) == pytest.approx(TRAM.reversed_proved, rel=0.05)


def test_a_knob_declared_anew_is_the_same_plate_told_the_other_way() -> None:
    screws = HERON.machine.screws
    told = tram_told.turned(prior().sense_shown(1, False), screws, 1, 3)
    up = -3 * screws[1].mm_per_mark
    anew = prior().sense_shown(1, False).declared_anew(1).turned(1, up, float(hand_error_mm(up)))
    # One more thing was told, so the hypotheses may have been drawn anew on the way.
    assert anew.p_reversed()[1] == pytest.approx(1 - told.p_reversed()[1], abs=0.02)
    assert anew.collapsed[0] == pytest.approx(told.collapsed[0], abs=0.006)
    # Drawn anew it stays so.
    assert anew.rechosen().p_reversed()[1] == pytest.approx(anew.p_reversed()[1], abs=1e-6)


@pytest.mark.parametrize(("before", "likely"), [("loose", False), ("tight", True)])
def test_what_the_gauge_said_before_the_turn_shows_a_knobs_sense(before: str, likely: bool) -> None:
    """The first count of a new machine: raised by its declared sense, from a gauge that was loose or tight."""
    screws = HERON.machine.screws
    belief = tram_told.counted(prior(), screws, 2, 5, 0.0)
    assert advice.sense_in_doubt(belief, 2)
    belief = tram_told.felt_before(belief, screws, 2, 5, before)
    assert bool(belief.p_reversed()[2] > 0.9) is likely


def test_new_hypotheses_carry_everything_that_was_told() -> None:
    """Drawn anew, the belief is the same as on very many hypotheses that were never drawn anew."""
    screws, surface = HERON.machine.screws, SURFACE
    truth = coupling(np.full(4, 1 / 0.3 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)

    def tell(belief: Belief) -> Belief:
        rng = np.random.default_rng(4)
        heights = truth @ rng.normal(0, 0.3, 4)
        for j, marks in ((0, 9), (3, -7), (1, 5), (2, -4)):
            for k, screw in enumerate(screws):
                value = heights[k] + rng.normal(0, 0.005)
                belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), value, 0.005)
            belief = tram_told.turned(belief, screws, j, marks)
            heights = heights + truth[:, j] * marks * screws[j].mm_per_mark
        return belief

    few = tell(prior())
    many = first_belief(surface, bias_sd_mm=0.02, hypotheses=20_000)
    many = tell(replace(many, chosen_at=10_000))
    assert few.chosen_at > 0
    assert many.chosen_at == 10_000
    assert np.allclose(few.collapsed[0][:4], many.collapsed[0][:4], atol=0.012)
    assert few.passes_of_twist()[0] == pytest.approx(many.passes_of_twist()[0], abs=0.12)


def test_a_knob_that_gives_less_than_its_pitch_is_learnt() -> None:
    screws = HERON.machine.screws
    belief = prior()
    row = belief.gap_row(screws[1].x_mm, screws[1].y_mm)
    belief = belief.read(row, 0.0, 0.002)
    for k in range(12):
        up = 0.3 if k % 2 == 0 else -0.3
        belief = belief.turned(1, up, 0.004).read(row, 0.27 if k % 2 == 0 else 0.0, 0.004)
    mean, sd = belief.gains()
    passed = float(belief.weight @ belief.passes[:, 1, 1])
    assert (1 + mean[1]) * passed == pytest.approx(0.9, abs=0.03)
    assert np.all(np.abs(np.delete(mean, 1)) < 0.01)
    assert np.all(sd <= 0.025)


def test_a_run_does_not_make_the_next_one_less_certain_of_the_supports() -> None:
    belief = tram_told.counted(prior(), HERON.machine.screws, 0, 3, 0.0)
    _, cov = belief.compliance_learnt()
    assert np.linalg.eigvalsh(belief.prior_of.cov[:4, :4] - cov).min() > -1e-9


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


def test_supports_found_stiff_again_and_again_are_learnt_as_stiff() -> None:
    """Runs that favour the hypotheses which pass all of a twist: the next prior moves there, and stays within reach."""
    belief, passed = prior(), [prior().passes_of_twist()[0]]
    for _ in range(6):
        told = 15 * (SURFACE.twist_passed(np.abs(belief.passes)) - 1)
        belief = replace(belief, log_weight=normalised(belief.log_weight + told))
        mean, cov = belief.compliance_learnt()
        assert (mean >= np.log(LAM_FLOOR) - 1 - 1e-9).all()
        assert np.linalg.eigvalsh(cov).min() > 0
        belief = first_belief(SURFACE, bias_sd_mm=0.02, lam_known=(mean, cov))
        passed.append(belief.passes_of_twist()[0])
    assert passed[0] < 0.7
    assert passed[-1] > 0.98
    assert (np.diff(passed) > 0).all()


@given(st.floats(0.05, 0.3), st.integers(0, 3))
def test_what_is_read_away_from_the_screws_tells_nothing_of_hand_and_supports(off: float, reading: int) -> None:
    """However surprising it is: it may be the plate's form. Over a screw it tells, and knobs' senses it tells from anywhere."""
    belief = first_belief(SURFACE, bias_sd_mm=0.02, reversed_share=0.005)
    for s in HERON.machine.screws:
        belief = belief.read(belief.gap_row(s.x_mm, s.y_mm), 0.0, 0.005)
    x, y = HERON.plate.centre
    row = belief.gap_row(x + 10 * reading, y)
    after = Read(row, off, 0.005).told_to(belief)
    assert after.scatter_learnt() == pytest.approx(belief.scatter_learnt(), rel=1e-6)
    assert after.compliance_learnt()[0] == pytest.approx(belief.compliance_learnt()[0], abs=1e-6)
    screw = HERON.machine.screws[0]
    over = belief.turned(0, 0.2, 0.005)
    there = Read(over.gap_row(screw.x_mm, screw.y_mm), 0.1, 0.005).told_to(over)
    assert there.compliance_learnt()[0] != pytest.approx(over.compliance_learnt()[0], abs=1e-3)


def test_a_reversed_knob_is_told_from_away_from_the_screws() -> None:
    belief = first_belief(SURFACE, bias_sd_mm=0.02, reversed_share=0.02)
    for s in HERON.machine.screws:
        belief = belief.read(belief.gap_row(s.x_mm, s.y_mm), 0.0, 0.005)
    screw = HERON.machine.screws[0]
    turned = belief.turned(0, 0.4, 0.01)
    near = (screw.x_mm + 25, screw.y_mm + 25)
    expected = turned.height([near])[0][0]
    went = Read(turned.gap_row(*near), -float(expected), 0.02).told_to(turned)
    assert went.p_reversed()[0] > 0.5


@pytest.mark.parametrize("times", [0.7, 1.0, 1.15])
def test_what_all_knobs_give_is_learnt_from_one_and_told_of_all(times: float) -> None:
    """Against the closed form: one turn between two readings, the doubt common to all knobs and each knob's own."""
    surface = Surface.of(setup_for("wren").machine, setup_for("wren").plate)
    belief = first_belief(surface, bias_sd_mm=0.02, thread_sd=TRAM.thread_sd)
    row, up, dial = belief.gap_row(*surface.screws[0]), 0.6, 0.006
    belief = belief.read(row, 0.0, dial).turned(0, up, 0.0).read(row, up * times, dial)
    gains, sds = belief.gains()
    common, own = TRAM.thread_sd**2, TRAM.gain_prior_sd**2
    seen = 2 * dial**2 / up**2
    share = (common + own) / (common + own + seen)
    assert gains[0] == pytest.approx(share * (times - 1), abs=0.004)
    assert gains[1] == pytest.approx(gains[0] * common / (common + own), abs=0.002)
    assert sds[1] ** 2 == pytest.approx(common + own - common**2 / (common + own + seen), rel=0.05)


def test_a_learnt_machine_keeps_its_threads_and_loses_them_with_its_hardware() -> None:
    known = (np.full(4, -0.29), np.full(4, 0.01))
    belief = first_belief(SURFACE, bias_sd_mm=0.02, thread_sd=TRAM.thread_sd, gains_known=known)
    assert belief.gains()[1] == pytest.approx([0.01] * 4)
    fresh = belief.with_nothing_learnt()
    assert fresh.gains()[0] == pytest.approx([0.0] * 4)
    assert fresh.gains()[1] == pytest.approx([np.hypot(TRAM.thread_sd, TRAM.gain_prior_sd)] * 4)
