"""The tram policy: which screw next, how far, and what a visit is worth."""

from dataclasses import replace
from typing import Literal

import numpy as np
import pytest

from ivory_table.core import advice, tram_told
from ivory_table.core.belief import LAM_FLOOR, Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.further import further
from ivory_table.core.gauge import FeelScale
from ivory_table.core.plate import Plate, Screw
from ivory_table.core.prior import first_belief
from ivory_table.core.surface import Surface
from ivory_table.trial import tram as trial
from ivory_table.trial.tram import new_belief
from ivory_table.trial.tram_plates import TOL, screws_of

SCREWS = screws_of()


def test_the_next_stop_is_never_the_last_one_again() -> None:
    belief = new_belief(SCREWS)
    for last in range(4):
        assert advice.next_stop(belief, SCREWS, 0.0, TOL, last).screw != last


def test_visits_are_worth_the_same_whatever_a_knobs_sense() -> None:
    """A visit ends at the drag whichever way the knob works: mirror one knob, and the plan stays.

    Else the doubt would make the visit look useless, and that knob would be left alone.
    """
    straight = first_belief(trial.surface_of(SCREWS), bias_sd_mm=0.02, reversed_share=1e-9)
    mirrored = replace(
        straight,
        signs=straight.signs * [1, 1, -1, 1],
        passes=straight.passes * np.array([1.0, 1, -1, 1])[None, None, :],
    )
    costs = [advice.Ahead.of(b, SCREWS).costs(b, 0.02) for b in (straight, mirrored)]
    assert np.allclose(*costs)


def test_the_second_visit_goes_across_the_diagonal() -> None:
    belief = tram_told.counted(new_belief(SCREWS), SCREWS, 0, 3, 0.0)
    assert advice.next_stop(belief, SCREWS, 0.0, TOL, 0).screw == 3


def test_nothing_is_turned_further_on_a_level_known_plate() -> None:
    belief = new_belief(SCREWS)
    for j in (0, 3, 1, 2, 0, 3, 1, 2):
        belief = tram_told.counted(belief, SCREWS, j, 0, 0.0)
    more = further(belief, SCREWS, 2, TOL, 0.0)
    assert more.marks == 0
    assert more.p_within > 0.9


def test_a_corner_known_to_be_low_is_foretold_its_turn() -> None:
    belief = new_belief(SCREWS)
    for j in (0, 3, 1, 2):
        belief = tram_told.counted(belief, SCREWS, j, 0, 0.0)
    lowered = tram_told.turned(belief, SCREWS, 1, -5)
    assert advice.next_stop(lowered, SCREWS, 0.0, TOL, 2).screw in (1, 2)
    assert advice.at_stop(lowered, SCREWS, 0.0, 1).about_marks == pytest.approx(5, abs=1)


def test_a_count_is_as_likely_as_the_height_it_stands_for_times_its_lever() -> None:
    """Under the true supports, the likelihood ratio of any others has mean 1, whatever was counted."""
    surface = trial.surface_of(SCREWS)
    level = {kappa: np.full(4, np.log(1 / kappa - 1 + LAM_FLOOR)) for kappa in (0.8, 0.2)}
    start = {
        kappa: first_belief(
            surface, bias_sd_mm=0.02, lam_known=(mean, 1e-9 * np.eye(4)), reversed_share=1e-12, hypotheses=1
        )
        for kappa, mean in level.items()
    }
    both = replace(
        start[0.8],
        **{
            part: np.concatenate([getattr(start[k], part) for k in (0.8, 0.2)])
            for part in ("theta", "signs", "drag_sd", "answer_sd", "passes", "mean", "cov")
        },
        log_weight=np.log([0.5, 0.5]),
        log_start=np.log([0.5, 0.5]),
    )
    rng = np.random.default_rng(5)
    root = np.linalg.cholesky(both.cov[0])
    a, mark, ratios = both.passes[0, 0, 0], SCREWS[0].mm_per_mark, []
    for _ in range(3000):
        state = both.mean[0] + root @ rng.normal(size=len(root))
        drags_at = -state[surface.bias] + rng.normal(0, both.drag_sd[0])
        marks = round((drags_at - state[0]) / a / mark)
        told = tram_told.counted(both, SCREWS, 0, marks, 0.0)
        ratios.append(np.exp(told.log_weight[1] - told.log_weight[0]))
    assert np.mean(ratios) == pytest.approx(1, abs=4 * np.std(ratios) / len(ratios) ** 0.5)


@pytest.mark.parametrize("sense", [1, -1])
def test_a_knob_is_proved_where_the_plate_wants_it(sense: Literal[1, -1]) -> None:
    """Nothing known: away from the tip by a quarter turn. Else towards the others, but no more than a turn."""
    screws = tuple(s.model_copy(update={"sense": sense}) for s in SCREWS)
    quarter, whole = 4 * sense, 16 * sense
    nothing = new_belief(screws)
    assert advice.proving_turns(nothing, screws, 0) == (-quarter, -quarter, quarter)
    for off, wanted in ((1.5, -whole), (0.3, None), (0.06, -quarter), (-0.06, quarter), (-1.5, whole)):
        belief = nothing
        for j, height in enumerate((0.0, 0.0, 0.0, off)):
            belief = belief.read(belief.gap_row(screws[j].x_mm, screws[j].y_mm), height, 0.006)
        best, less, other = advice.proving_turns(belief, screws, 3)
        assert less == -other == quarter * (-1 if off > 0 else 1)
        if wanted is not None:
            assert best == wanted
            continue
        # Of all turns by whole marks, the one after which the least is expected to be left.
        ups = np.arange(-16, 17) * 0.7 / 16
        after = [tram_told.turned(belief, screws, 3, up / screws[3].mm_per_mark * sense) for up in ups]
        left = [
            b.weight @ np.square(b.mean[:, :4] - b.mean[:, :4].mean(axis=1, keepdims=True)).sum(axis=1) for b in after
        ]
        assert best * screws[3].mm_per_mark * sense == pytest.approx(ups[int(np.argmin(left))])


@pytest.mark.parametrize("seed", range(6))
def test_a_knob_that_has_shown_its_sense_is_not_asked_about_again(seed: int) -> None:
    """Readings move the small chance that it is reversed a little: that is no reason to have it proved again."""
    known = first_belief(trial.surface_of(SCREWS), bias_sd_mm=0.02, reversed_share=TRAM.reversed_proved)
    rng = np.random.default_rng(seed)
    read, plate = known, trial.plate_for(0.4, rng, SCREWS, 0.0)
    for s, height in zip(SCREWS, plate.heights, strict=True):
        read = read.read(read.gap_row(s.x_mm, s.y_mm), float(height), 0.006)
        assert not any(advice.sense_in_doubt(read, k) for k in range(4))
    new = new_belief(SCREWS)
    assert all(advice.sense_in_doubt(new, k) for k in range(4))


def test_a_crown_is_no_reason_not_to_be_done() -> None:
    """Form is not the knobs' business: a plate bowed by 0.10 mm is trammed all the same."""
    screws = screws_of()
    within = []
    for seed in range(10):
        rng = np.random.default_rng(seed)
        person = trial.Person(rng, screws, trial.plate_for("elastic", rng, screws, 0.10))
        tally, _ = trial.counting(person, new_belief(screws))
        assert tally.stops < trial.cap(screws)
        within.append(person.within())
    # Declared at 90 %.
    assert sum(within) >= 8


def test_the_look_ahead_agrees_with_doing_it() -> None:
    """What is left after a visit, as foretold on one known hypothesis, against many simulated visits."""
    plate = Plate(id="p", name="p", width_mm=244, depth_mm=236)
    surface = Surface(plate, np.array([[s.x_mm, s.y_mm] for s in SCREWS]))
    lam = (np.full(4, np.log(1.1)), 1e-6 * np.eye(4))
    belief = first_belief(surface, bias_sd_mm=1e-6, lam_known=lam, reversed_share=1e-9, hypotheses=16)
    for j in (0, 3, 1):
        belief = tram_told.counted(belief, SCREWS, j, 2, 0.0)
    ahead = advice.Ahead.of(belief, SCREWS)
    foretold = float(ahead.costs(belief, 0.0)[0, ahead.sets.tolist().index([0, 0, 1, 0])])
    rng = np.random.default_rng(3)
    a = belief.passes[0]
    left = []
    cov = np.tensordot(belief.weight, belief.cov[:, :4, :4], axes=1)
    for _ in range(4000):
        h = rng.multivariate_normal(belief.weight @ belief.mean[:, :4], cov)
        h = h - a[:, 2] * (h[2] / a[2, 2]) + a[:, 2] * rng.normal(0, 0.015)
        # then as much further as is best, knowing everything else only by its mean
        left.append(h)
    after = np.array(left)
    centre = ahead.centre
    mean = after.mean(axis=0)
    best = -(a[:, 2] @ centre @ mean) / (a[:, 2] @ centre @ a[:, 2])
    after = after + best * a[:, 2]
    simulated = float(np.einsum("ki,ij,kj->k", after, centre, after).mean())
    assert foretold == pytest.approx(simulated, rel=0.35)


@pytest.mark.parametrize("count", [4, 6])
def test_what_a_visit_leaves_is_what_simulation_finds(count: int) -> None:
    """Supports known: draw heights, read one screw, turn it as is best by what is then believed, with a hand's error."""
    screws = screws_of(count)
    lam = (np.full(count, np.log(1.1)), 1e-8 * np.eye(count))
    belief = first_belief(trial.surface_of(screws), bias_sd_mm=1e-6, lam_known=lam, reversed_share=1e-9, hypotheses=16)
    for j in range(count - 1):
        belief = tram_told.counted(belief, screws, j, 3 - 2 * j, 0.0)
    rng = np.random.default_rng(4)
    mean, cov = (part[..., :count] for part in belief.collapsed)
    cov = cov[:count]
    noise = float(belief.weight @ np.square(belief.drag_sd)) + 0.008**2
    j, centre = 1, np.eye(count) - 1 / count
    lever = np.tensordot(belief.weight, belief.passes * belief.signs[:, None, :], axes=1)[:, j]
    heights = rng.multivariate_normal(mean, cov, size=20000)
    seen = heights[:, j] + rng.normal(0, noise**0.5, len(heights))
    now = mean + np.outer(seen - mean[j], cov[:, j] / (cov[j, j] + noise))
    ups = -(now @ centre @ lever) / (lever @ centre @ lever)
    ups += rng.normal(0, (0.008**2 + screws[j].mm_per_mark ** 2 / 12) ** 0.5, len(ups))
    left = heights + np.outer(ups, lever)
    simulated = float(np.einsum("ki,ij,kj->k", left, centre, left).mean())
    assert advice._left_by(belief, screws, j) == pytest.approx(simulated, rel=0.05)


def test_a_hand_does_not_slip_as_its_plate_is_crooked() -> None:
    """Plain seeds [7, 3] and [7, 3, 0] are one stream, and once flattered every policy of the table."""
    plates, hands = (np.array([trial.draws(7, k, of).normal(size=4) for k in range(500)]) for of in (0, 1))
    assert np.abs(np.corrcoef(plates.T, hands.T)[:4, 4:]).max() < 0.2
    assert np.array_equal(trial.draws(7, 3, 1).normal(size=4), hands[3])


@pytest.mark.parametrize("way", ["ring", "diagonal", "pairs"])
def test_each_way_round_visits_every_screw_once(way: str) -> None:
    at = np.array([[s.x_mm, s.y_mm] for s in SCREWS])
    assert sorted(advice.order_of(at, way)) == [0, 1, 2, 3]


@pytest.mark.parametrize("per_turn", [4, 16, 20, 64])
def test_a_knob_gives_back_as_far_whatever_its_marks(per_turn: int) -> None:
    """The same knob with other marks on it: the turn after a count is the same to half a mark."""
    rocks = (np.full(4, np.log(1.5 + LAM_FLOOR)), 1e-3 * np.eye(4))
    up_mm = {}
    for marks in (16, per_turn):
        screws = tuple(s.model_copy(update={"marks_per_turn": marks}) for s in SCREWS)
        belief = first_belief(trial.surface_of(screws), bias_sd_mm=0.02, lam_known=rocks, reversed_share=0.0005)
        for s, height_mm in zip(screws, (0.0, -0.06, -0.2, 0.1), strict=True):
            belief = belief.read(belief.gap_row(s.x_mm, s.y_mm), height_mm, 0.004)
        more = further(belief, screws, 0, TOL, 0.0)
        assert 2 * more.marks == round(2 * more.marks)
        up_mm[marks] = more.up_mm
    assert up_mm[16] < -0.1
    assert up_mm[per_turn] == pytest.approx(up_mm[16], abs=SCREWS[0].pitch_mm * (0.5 / per_turn + 0.5 / 16))


def test_half_a_mark_is_never_reduced() -> None:
    from ivory_table.core.words import marks_words

    assert marks_words(2, 16) == "2/16"
    assert marks_words(-3.5, 16) == "7/32"
    assert marks_words(23, 20) == "1 turn 3/20"
    assert marks_words(-64, 32) == "2 turns"
    assert Screw(name="s", x_mm=0, y_mm=0).mm_per_mark == pytest.approx(0.04375)


def test_what_the_hypotheses_disagree_about_is_worth_a_visit() -> None:
    """Two hypotheses, each sure of a screw's height, but not of the same: going there is what tells."""
    screws = screws_of(6)
    belief = new_belief(screws)
    for j in range(6):
        belief = tram_told.counted(belief, screws, j, 0, 0.0)
    one = int(np.argmax(belief.weight))
    pair = [one, one]
    torn = replace(
        belief,
        **{
            part: getattr(belief, part)[pair].copy()
            for part in ("theta", "signs", "drag_sd", "answer_sd", "passes", "mean", "cov")
        },
        log_weight=np.log([0.5, 0.5]),
        log_start=np.log([0.5, 0.5]),
    )
    torn.mean[0, 4] += 0.08
    torn.mean[1, 4] -= 0.08
    assert advice.next_stop(torn, screws, 0.0, TOL, 0).screw == 4


def level(screws: tuple[Screw, ...], rounds: int = 2) -> Belief:
    """A plate whose screws were all counted and found at the drag."""
    belief = new_belief(screws)
    for j in [*range(len(screws))] * rounds:
        belief = tram_told.counted(belief, screws, j, 0, 0.0)
    return belief


def test_a_screw_near_the_drag_is_felt_and_one_that_may_be_off_is_counted() -> None:
    assert not advice.at_stop(new_belief(SCREWS), SCREWS, 0.0, 0).feel
    near = level(SCREWS)
    assert all(advice.at_stop(near, SCREWS, 0.0, j).feel for j in range(4))
    off = tram_told.turned(near, SCREWS, 2, 3)
    assert not advice.at_stop(off, SCREWS, 0.0, 2).feel


def test_a_feel_tells_the_height_and_moves_nothing_else() -> None:
    before = tram_told.turned(level(SCREWS, 1), SCREWS, 2, 0.5)
    s = SCREWS[2]
    seen = {
        feel: tram_told.felt(before, s.x_mm, s.y_mm, 0.0, feel, 0.0, FeelScale()).collapsed
        for feel in ("free", "stuck")
    }
    drag = tram_told.felt(before, s.x_mm, s.y_mm, 0.0, "drag", 0.0, FeelScale())
    assert seen["free"][0][2] < drag.collapsed[0][2] < seen["stuck"][0][2]
    assert drag.collapsed[1][2, 2] < before.collapsed[1][2, 2]
    assert np.allclose(drag.passes, before.passes)


def test_a_feel_teaches_the_persons_own_scatter() -> None:
    """Where the height is known to a hair, a gauge that slides free at the drag is a person of little feel."""
    sharp = level(SCREWS)
    row = sharp.gap_row(SCREWS[0].x_mm, SCREWS[0].y_mm) + sharp.surface.unit(sharp.surface.bias)
    for _ in range(30):
        sharp = sharp.read(row, 0.0, 0.002)
    s = SCREWS[0]
    odd = tram_told.felt(sharp, s.x_mm, s.y_mm, 0.0, "free", 0.0, FeelScale())
    usual = tram_told.felt(sharp, s.x_mm, s.y_mm, 0.0, "drag", 0.0, FeelScale())
    assert usual.scatter_learnt()[0] < sharp.scatter_learnt()[0] < odd.scatter_learnt()[0]


def test_a_knob_that_does_not_reach_the_drag_is_believed_to_do_little() -> None:
    before = new_belief(SCREWS)
    after = tram_told.not_reached(before, SCREWS, 1, 32, "loose", 0.0, dragged_before=True)
    own = [float(b.weight @ b.passes[:, 1, 1]) for b in (before, after)]
    assert own[1] < own[0]
    assert after.collapsed[0][1] < before.collapsed[0][1] - 0.1  # it stands low, still
    mirrored = tram_told.not_reached(before, SCREWS, 1, -32, "tight", 0.0, dragged_before=True)
    assert mirrored.collapsed[0][1] == pytest.approx(-after.collapsed[0][1], abs=0.1)


def test_where_the_drag_is_out_of_reach_others_come_first() -> None:
    screws = screws_of(6)
    belief = tram_told.not_reached(new_belief(screws), screws, 1, 32, "loose", 0.0, dragged_before=True)
    visits, last = [], 1
    for _ in range(3):
        stop = advice.next_stop(belief, screws, 0.0, TOL, last)
        visits.append(stop.screw)
        belief = tram_told.counted(belief, screws, stop.screw, 2, 0.0)
        last = stop.screw
    assert abs(advice.at_stop(belief, screws, 0.0, 1).about_marks) > 0
    assert 1 not in visits


def test_a_knob_is_turned_further_where_more_is_expected() -> None:
    assert advice.most_marks(SCREWS[0]) == 32
    assert advice.most_marks(SCREWS[0], -40) == 50
    assert advice.most_marks(SCREWS[0], 1e9) == 160


@pytest.mark.parametrize("turned", [0, 1])
def test_the_chance_that_a_visit_ends_it_is_what_simulation_finds(turned: int) -> None:
    """Draw the heights, feel one screw, and make the turn that is best by what is then believed."""
    belief = tram_told.turned(level(SCREWS, 1), SCREWS, 2, turned)
    foretold = advice._chances(belief, SCREWS, TOL)
    rng = np.random.default_rng(5)
    m, bias = 4, belief.surface.bias
    mean, cov = belief.collapsed
    lever = np.tensordot(belief.weight, belief.passes, axes=1)
    state = rng.multivariate_normal(mean, cov, size=300)
    noise = float(belief.weight @ np.square(belief.drag_sd))
    for j in (0, 2):
        row = np.zeros(len(mean))
        row[[j, bias]] = 1.0
        along = cov @ row
        seen = float(row @ along) + noise
        after = cov - np.outer(along, along) / seen
        spread = rng.multivariate_normal(np.zeros(m), after[:m, :m], size=400)
        won = []
        for truth in state:
            found = truth @ row + rng.normal(0, noise**0.5)
            now = (mean + along * (found - mean @ row) / seen)[:m]
            ups = np.arange(-7, 8) / 2 * SCREWS[j].mm_per_mark
            best = max(ups, key=lambda up: float((np.ptp(now + spread + up * lever[:, j], axis=1) <= 2 * TOL).mean()))
            won.append(np.ptp(truth[:m] + best * lever[:, j]) <= 2 * TOL)
        assert foretold[j] == pytest.approx(float(np.mean(won)), abs=0.08)


def test_near_the_end_the_screw_that_is_least_known_is_visited() -> None:
    belief = level(SCREWS)
    for j in (0, 1, 2):
        s = SCREWS[j]
        for _ in range(4):
            belief = tram_told.felt(belief, s.x_mm, s.y_mm, 0.0, "drag", 0.0, FeelScale())
    belief = tram_told.turned(belief, SCREWS, 3, 0.5)
    assert advice.next_stop(belief, SCREWS, 0.0, TOL, 0).screw == 3


@pytest.mark.parametrize(("knobs", "enough"), [(3, 3), (4, 3), (6, 6), (9, 9)])
def test_of_many_screws_each_must_have_been_felt(knobs: int, enough: int) -> None:
    surface = trial.surface_of(screws_of(knobs))
    assert advice.enough_felt(enough, surface)
    assert not advice.enough_felt(enough - 1, surface)


@pytest.mark.parametrize("count", [3, 4, 6])
def test_no_visit_is_expected_to_make_the_spread_larger(count: int) -> None:
    screws = screws_of(count)
    belief = new_belief(screws)
    for j in range(count - 1):
        stop = advice.next_stop(belief, screws, 0.0, TOL)
        assert stop.spread_after_mm < 1.1 * belief.spread()[0]
        belief = tram_told.counted(belief, screws, j, 3 - 2 * j, 0.0)


def test_a_knob_that_was_turned_back_goes_back_again_by_half_as_much_at_most() -> None:
    belief = new_belief(SCREWS)
    mm = SCREWS[1].mm_per_mark

    low = belief
    for j, height in enumerate([0.0, -1.0, 0.0, 0.0]):
        low = low.read(low.gap_row(SCREWS[j].x_mm, SCREWS[j].y_mm), height, 0.005)

    def wanted(*ups_mm: float) -> float:
        """How far up support 1, found low, goes by the plan after these turns; mm."""
        told = low
        for up in ups_mm:
            told = told.turned(1, up, 0.001)
        return float(advice.turn_plan(told, SCREWS, 0.5)[1] * SCREWS[1].sense * mm)

    free = wanted()
    assert free > 0.5
    # Turned once, or further the same way, it may be turned back as far as it takes.
    assert wanted(-0.3) > free
    assert wanted(-0.2, -0.2) > free
    assert wanted(0.5, -0.2, -0.1) == pytest.approx(0.15, abs=mm / 2)
    assert wanted(0.3, 0.2, -0.1) == pytest.approx(0.05, abs=mm / 2)
    # The other way it goes on as far as it takes.
    assert wanted(-0.5, 0.2) > free


def test_how_surely_a_visit_leaves_what_it_does_goes_with_it() -> None:
    """The range of normal heights scatters by 0.43 of its mean (Tippett 1925)."""
    for j in range(4):
        stop = advice.at_stop(new_belief(SCREWS), SCREWS, 0.0, j)
        assert stop.spread_after_sd_mm == pytest.approx(0.43 * stop.spread_after_mm)
