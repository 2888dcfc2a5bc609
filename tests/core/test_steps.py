"""Steps of the belief that are told at once: each against the covariance written down by hand."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import logsumexp

from ivory_table.core.belief import Belief
from ivory_table.core.causes import Causes, shown
from ivory_table.core.defaults import LAYER, TRAM
from ivory_table.core.eye import Eye
from ivory_table.core.mesh import MeshGrid, MeshSurvey, neighbour_of
from ivory_table.core.plate import Plate, Screw, symmetric_screws
from ivory_table.core.prior import first_belief
from ivory_table.core.second_tip import SecondTip
from ivory_table.core.steps import DeclaredAnew, SaidBefore, ScatterTold, _by_group
from ivory_table.core.surface import Surface
from ivory_table.core.words import first_sentence, knob_words, turn_words
from tests.conftest import setup_for

HERON = setup_for("heron")
SURFACE = Surface.of(HERON.machine, HERON.plate)
sds = st.floats(0, 0.2)


def belief() -> Belief:
    before = first_belief(SURFACE, bias_sd_mm=0.02)
    return before.read(before.gap_row(100, 100), 0.05, 0.01)


@given(sds, sds, sds)
def test_what_may_have_moved_widens_its_own_part_and_nothing_else(common: float, each: float, form: float) -> None:
    before = belief()
    after = before.loosened(common, each, form)
    added = after.cov[0] - before.cov[0]
    a = len(SURFACE.anchors)
    assert added[:a, :a] == pytest.approx(common**2 + each**2 * np.eye(a), abs=1e-9)
    assert np.diag(added)[a : a + 3] == pytest.approx([form**2] * 3, abs=1e-9)
    assert np.abs(added[a + 3 :]).max() < 1e-12
    assert np.abs(added[:a, a:]).max() < 1e-12
    assert np.array_equal(after.mean, before.mean)
    # All in common: no place moves against another.
    together = before.loosened(common, 0.0, 0.0)
    row = SURFACE.rows([(20, 20)])[0] - SURFACE.rows([(150, 150)])[0]
    assert together.of(row[None])[1] == pytest.approx(before.of(row[None])[1], abs=1e-9)


@given(sds, st.floats(-0.2, 0.2), sds)
def test_a_doubt_shifts_the_flow_and_widens_height_and_flow(astray: float, flow: float, flow_sd: float) -> None:
    before = belief()
    after = before.doubted(astray, flow, flow_sd)
    k, unit = SURFACE.extrusion, SURFACE.unit(SURFACE.extrusion)[None]
    assert after.of(unit)[0] == pytest.approx(before.of(unit)[0] + flow)
    assert after.of(unit)[1] ** 2 == pytest.approx(before.of(unit)[1] ** 2 + flow_sd**2)
    added = after.cov[0] - before.cov[0]
    assert added[:4, :4] == pytest.approx(np.full((4, 4), astray**2), abs=1e-9)
    others = [i for i in range(SURFACE.size) if i >= 4 and i != k]
    assert np.abs(added[others]).max() < 1e-12
    assert after.height([(100, 100)])[0] == pytest.approx(before.height([(100, 100)])[0])


@given(st.floats(-0.2, 0.2), st.floats(0.5, 2))
def test_feeding_so_many_times_as_much_multiplies_what_comes_out(flow: float, times: float) -> None:
    unit = SURFACE.unit(SURFACE.extrusion)
    before = belief().read(unit, flow, 1e-4)
    now = before.flow_changed(times).of(unit[None])[0][0]
    assert 1 + now == pytest.approx((1 + before.of(unit[None])[0][0]) * times)


def test_another_scatter_weighs_the_hypotheses_by_how_well_it_fits() -> None:
    before = belief()
    ln = before.theta[:, -2]
    told = before.after(ScatterTold(float(np.log(0.03)), 0.1))
    wanted = before.weight * np.exp(-0.5 * ((ln - np.log(0.03)) / 0.1) ** 2)
    assert told.weight == pytest.approx(wanted / wanted.sum())
    assert abs(told.weight @ ln - np.log(0.03)) < abs(before.weight @ ln - np.log(0.03))


@pytest.mark.parametrize("raises", [True, False])
def test_a_sense_that_was_shown_is_believed_of_that_knob_most(raises: bool) -> None:
    before, knob = belief(), 1
    after = before.sense_shown(knob, raises)
    was, now = before.p_reversed(), after.p_reversed()
    if raises:
        assert now[knob] < 0.02 * was[knob]
    else:
        assert now[knob] > 0.8
    # Bayes' rule, by hand: shown the wrong way round once in 200.
    misread = TRAM.sense_misread
    fits, not_ = (misread, 1 - misread) if raises else (1 - misread, misread)
    wanted = was[knob] * fits / (was[knob] * fits + (1 - was[knob]) * not_)
    assert now[knob] == pytest.approx(wanted, rel=1e-6)


def test_what_the_gauge_was_before_a_count_tells_the_sense_by_how_far_it_went() -> None:
    before = belief()
    up = 0.5
    for loose, expected in ((True, False), (False, True)):
        after = before.after(SaidBefore(0, up, 0.01, loose=loose))
        assert (after.p_reversed()[0] > before.p_reversed()[0]) == expected
    # A gauge that was loose wants the plate up as much as one that was tight wants it down.
    mirrored = before.after(SaidBefore(0, -up, 0.01, loose=False))
    assert mirrored.log_weight == pytest.approx(before.after(SaidBefore(0, up, 0.01, loose=True)).log_weight)
    little = 0.01
    mirrored = before.after(SaidBefore(0, -little, 0.01, loose=False))
    assert mirrored.log_weight == pytest.approx(before.after(SaidBefore(0, little, 0.01, loose=True)).log_weight)


def test_a_knob_declared_anew_turns_the_other_way_and_twice_is_as_before() -> None:
    before = belief()
    once = before.after(DeclaredAnew(1))
    up, down = once.turned(1, 0.1, 1e-6), before.turned(1, -0.1, 1e-6)
    assert up.height([(50, 60)])[0] == pytest.approx(down.height([(50, 60)])[0])
    twice = once.after(DeclaredAnew(1))
    assert np.array_equal(twice.passes, before.passes)
    assert np.array_equal(twice.signs, before.signs)


def test_hardware_that_was_changed_leaves_this_runs_readings_and_a_fresh_start_nothing() -> None:
    before = belief().nozzle_moved(0.04)
    unlearnt = before.with_nothing_learnt()
    assert unlearnt.told == before.told
    assert unlearnt.height([(100, 100)])[0] == pytest.approx(before.height([(100, 100)])[0], abs=0.01)
    afresh = before.afresh()
    assert afresh.shift_mm == pytest.approx(0.04)
    assert afresh.height([(100, 100)])[1] > 5 * before.height([(100, 100)])[1]


def test_a_reading_is_foreseen_within_three_sd() -> None:
    before = belief()
    row = before.gap_row(100, 100)
    mean, sd = (float(v[0]) for v in before.of(row[None]))
    assert before.foresees(row, mean, 0.0) == pytest.approx(1.0)
    far = 3 * float(np.sqrt(sd**2 + 0.01**2))
    assert before.foresees(row, mean + 1.3 * far, 0.01) < 0.05
    assert before.foresees(row, mean + 0.7 * far, 0.01) > 0.95


def test_what_a_knob_gives_is_opened_up_between_runs() -> None:
    mean, sd = belief().gains()
    then, wider = belief().gains_for_next()
    assert then == pytest.approx(mean)
    assert wider == pytest.approx(np.maximum(sd, TRAM.gain_prior_sd / 3))


# Small rules of the core


def test_a_check_leaves_its_share_and_the_others_take_the_rest() -> None:
    before = Causes.before("PLA", 0.3)
    after = before.checked(["coat", "no_such_cause"])
    left = before.shared["coat"] * LAYER.checked_leaves
    total = 1 - before.shared["coat"] + left
    assert after.shared["coat"] == pytest.approx(left / total)
    assert after.shared["fan"] == pytest.approx(before.shared["fan"] / total)
    assert after.usual == after.shared


def test_a_coat_that_was_renewed_takes_the_grease_of_every_zone_with_it() -> None:
    causes = Causes.none().mended("feed")
    greasy = replace(causes, greasy={(10.0, 10.0): 0.6, (50.0, 10.0): 0.2})
    renewed, other = greasy.mended("coat"), greasy.mended("feed")
    left = 1 - LAYER.fails.marked_helps
    assert renewed.greasy == pytest.approx({(10.0, 10.0): 0.6 * left, (50.0, 10.0): 0.2 * left})
    assert other.greasy == greasy.greasy


def test_causes_are_shown_by_their_chance_with_a_word_and_a_remedy() -> None:
    told = shown({"height": 0.3, "coat": 0.5, "fan": 0.15, "fast": 0.049, "feed": 0.05})
    assert [c.id for c in told] == ["coat", "height", "fan", "feed"]
    assert told[1].word == "the height, and nothing else"
    assert (told[1].remedy, told[1].minutes) == ("", 0.0)
    assert told[0].remedy == LAYER.causes["coat"].remedy
    assert told[0].minutes == LAYER.causes["coat"].minutes
    assert [c.id for c in shown({"height": 0.9, "fan": 0.1}, 0.2)] == ["height"]


def test_promises_that_come_short_are_trusted_less_and_kept_ones_not_more() -> None:
    eye = Eye()
    assert eye.trust == 1.0
    poor = eye.kept(0.8, 0.4).kept(0.9, 0.5)
    assert (poor.foretold, poor.promised, poor.came) == (2, pytest.approx(1.7), pytest.approx(0.9))
    assert 0.8 < poor.trust < 1.0
    assert eye.kept(0.5, 1.0).trust == 1.0
    assert poor.scatter == eye.scatter


@pytest.mark.parametrize(
    ("at", "beside"),
    [((0, 0), (1, 0)), ((1, 2), (2, 2)), ((2, 1), (1, 1)), ((4, 3), (3, 3)), ((3, 0), (2, 0))],
)
def test_a_point_is_measured_beside_its_neighbour_towards_the_middle(
    at: tuple[int, int], beside: tuple[int, int]
) -> None:
    grid = MeshGrid(xs_mm=(10, 50, 90, 130, 170), ys_mm=(10, 50, 90, 130))
    survey = MeshSurvey(grid=grid, heights_mm=((0.0,) * 5,) * 4, owns_zero=False, plate_id="p")
    assert neighbour_of(survey, *at) == beside


def test_a_symmetric_set_lies_as_its_names_say() -> None:
    plate = Plate(id="p", name="plate", width_mm=240, depth_mm=180)
    for count in (3, 4, 6, 9):
        screws = symmetric_screws(plate, (220, 20), (30, 160), count)
        assert len({s.name for s in screws}) == len(screws) == count
        for s in screws:
            if "left" in s.name:
                assert s.x_mm == 30
            if "right" in s.name:
                assert s.x_mm == 220
            if "front" in s.name:
                assert s.y_mm == 20
            if s.name.startswith("rear"):
                assert s.y_mm == 160
        xs = {s.x_mm for s in screws}
        assert xs == ({30, 125, 220} if count != 4 else {30, 220})
    assert [s.name for s in symmetric_screws(plate, (30, 20), (220, 160), 3)] == ["front left", "front right", "rear"]
    nine = symmetric_screws(plate, (30, 20), (220, 160), 9)
    assert (nine[4].name, nine[4].x_mm, nine[4].y_mm) == ("middle middle", 125, 90)
    with pytest.raises(ValueError, match="3, 4, 6 or 9"):
        symmetric_screws(plate, (30, 20), (220, 160), 5)
    for corner in ((219, 20), (30, 159)):
        with pytest.raises(ValueError, match="too close together"):
            symmetric_screws(plate, corner, (220, 160) if corner[0] == 219 else (220, 165), 4)
    with pytest.raises(ValueError, match="not on the plate"):
        symmetric_screws(plate, (-5, 20), (220, 160), 4)


def test_the_middle_of_a_belief_holds_as_often_as_it_says() -> None:
    tip = SecondTip.unknown(0.0, 0.5, clockwise_raises=True).gauge(0.1)
    for share in (0.5, 0.9, 0.98):
        low, high = tip.interval(share)
        mean, sd = tip.above
        assert low < mean < high
        # Nearly normal after one gauge.
        assert (high - low) / 2 == pytest.approx(
            sd * {0.5: 0.6745, 0.9: 1.6449, 0.98: 2.3263}[share], rel=0.12, abs=0.003
        )
    assert tip.interval(0.5)[0] > tip.interval(0.9)[0]


def test_turns_are_told_as_the_knob_is_seen() -> None:
    screw = Screw(name="front left", x_mm=20, y_mm=20, marks_per_turn=16)
    assert turn_words(3, screw, "above") == "3/16 clockwise, seen from above"
    assert turn_words(3, screw, "below") == "3/16 counter-clockwise, seen from below"
    assert turn_words(-3, screw, "below") == "3/16 clockwise, seen from below"
    below = HERON.machine.model_copy(update={"seen_from": "below"})
    above = HERON.machine.model_copy(update={"seen_from": "above"})
    name, per = HERON.machine.screws[1].name, HERON.machine.screws[1].marks_per_turn
    assert knob_words(below, name, 2) == f"2/{per} counter-clockwise (from below)"
    assert knob_words(above, name, 2) == f"2/{per} clockwise"
    assert knob_words(above, name, 0) == "no turn"


def test_the_sentence_of_an_error_is_its_own() -> None:
    assert first_sentence(ValueError("So it is.")) == "So it is."
    with pytest.raises(ValueError, match="edge") as wrong:
        setup_for("heron").plate.model_validate(
            {"id": "p", "name": "p", "width_mm": 100, "depth_mm": 100, "keep_outs": [
                {"name": "c", "x_min_mm": 5, "x_max_mm": 1, "y_min_mm": 0, "y_max_mm": 1}]}
        )  # fmt: skip
    assert first_sentence(wrong.value).startswith("A keep-out needs")


@given(st.lists(st.floats(-900, 50), min_size=1, max_size=30), st.integers(0, 2**31))
def test_sums_by_group_are_those_of_each_group_alone(log_x: list[float], seed: int) -> None:
    """However small: weights of hypotheses that are as good as dead do not vanish."""
    of = np.unique(np.random.default_rng(seed).integers(0, 4, len(log_x)), return_inverse=True)[1]
    x = np.array(log_x)
    assert _by_group(x, of) == pytest.approx([logsumexp(x[of == k]) for k in range(of.max() + 1)], rel=1e-12, abs=1e-9)
