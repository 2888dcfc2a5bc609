"""The advice after a proof: against brute force."""

from typing import Literal

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.action import Action, Before
from ivory_table.core.bead import Bead
from ivory_table.core.defaults import BEAD, JUDGE
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.judge import _steps_back, next_actions
from ivory_table.core.look_ahead import again_left, caliper
from ivory_table.core.moves import Aims, best_shift, best_turns, lift_clear, might_scrape, p_all_sound
from ivory_table.core.proof_field import estimate_field
from ivory_table.core.recipe import forgiving_layers
from ivory_table.core.remedies import Remedies
from ivory_table.core.signs import Mark
from tests.core.judging import BEAD_042, HIGH, LOW, by_causes, errors, zones_prior

#: A machine with no knobs and no mesh in use: nothing but its offset moves.
ALONE = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False}


def all_at(gap_mm: float, common_mm: float, own_mm: float) -> FieldPosterior:
    """Five zones believed at one gap, with what they share and have for themselves of its error; the feed known."""
    mean, cov = zones_prior()
    mean[:5], cov[:5, :5], cov[5, 5] = gap_mm, common_mm**2 + own_mm**2 * np.eye(5), 1e-8
    return estimate_field(mean, cov, (), BEAD_042)


@settings(deadline=None, max_examples=40)
@given(errors)
def test_the_best_shift_is_no_worse_than_any_other(error: list[float]) -> None:
    rng = np.random.default_rng(2)
    gaps = 0.19 + np.array(error) + rng.normal(0, 0.01, (400, 5))
    shift = best_shift(gaps, LOW, HIGH, 0.19, 0.01)
    ideal = 0.19 - gaps.mean()
    score = p_all_sound(gaps + shift, LOW, HIGH) - 0.4 * abs(shift - ideal)
    for other in np.arange(-12, 13) * 0.01:
        assert p_all_sound(gaps + other, LOW, HIGH) - 0.4 * abs(other - ideal) <= score + 1e-6


@given(st.floats(0.03, 0.1))
def test_too_far_everywhere_is_brought_closer(far: float) -> None:
    gaps = 0.19 + far + np.random.default_rng(1).normal(0, 0.004, (400, 5))
    assert best_shift(gaps, LOW, HIGH, 0.19, 0.01) < 0
    assert best_shift(2 * 0.19 - gaps, LOW, HIGH, 0.19, 0.01) > 0


def test_turns_undo_a_tilt() -> None:
    moves = 0.044 * np.array([[1, 0, 0, 0], [0, 1, 0, 0], [0.25] * 4, [0, 0, 1, 0], [0, 0, 0, 1]], dtype=float)
    gaps = 0.19 + np.array([0.09, 0.09, 0.045, 0, 0]) + np.random.default_rng(1).normal(0, 0.005, (600, 5))
    turn = best_turns(gaps, moves, LOW, HIGH, 0.19)
    assert list(turn) == [2, 2, 0, 0]
    assert p_all_sound(gaps - turn @ moves.T, LOW, HIGH) > 0.9


def advise(marks: tuple[Mark, ...], **more: object) -> list[str]:
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, marks, BEAD_042)
    found = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, **more)
    return [a.kind for a in found]


def test_all_sound_by_caliper_is_done() -> None:
    assert advise(tuple(Mark(k, "sound", 0.19) for k in range(5)))[0] == "done"


def test_all_parted_asks_for_the_offset() -> None:
    assert advise(tuple(Mark(k, "parted") for k in range(5)))[0] == "offset"


def test_a_loose_zone_of_the_right_height_asks_for_cleaning() -> None:
    marks = (*(Mark(k, "sound", 0.19) for k in range(4)), Mark(4, "loose", greasy=True))
    assert advise(marks)[0] == "clean"


def test_cleaning_goes_with_the_step_that_does_not_disturb_it() -> None:
    """Four zones too far and a greasy one: cleaned and brought closer in one go, not cleaned first with no zone sound."""
    mean, cov = zones_prior()
    marks = (*(Mark(k, "parted", 0.25) for k in range(4)), Mark(4, "loose", greasy=True))
    field = estimate_field(mean, cov, marks, BEAD_042)
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)[0]
    assert (best.kind, best.clean) == ("offset", (4,))
    assert best.shift_mm < -0.03


@pytest.mark.parametrize("caliper", [True, False])
def test_a_caliper_is_asked_for_only_where_there_is_one(caliper: bool) -> None:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "ridged" if k % 2 else "sound") for k in range(5))
    field = by_causes(marks, mean, cov)
    found = next_actions(
        field,
        BEAD_042,
        "PLA",
        marks,
        z_step_mm=0.01,
        knob_moves=None,
        mesh_in_use=False,
        before=Before(caliper=caliper, fed=True),
    )
    assert ("caliper" in [a.kind for a in found]) == caliper


def test_a_step_closer_from_far_away_is_bounded() -> None:
    """All loose, a quarter of a millimetre too high and nobody knows: closer in steps, never so that it scrapes."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.5**2 + 0.01**2 * np.eye(5)
    marks = tuple(Mark(k, "loose") for k in range(5))
    field = estimate_field(mean, cov, marks, BEAD_042)
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)[0]
    assert best.kind == "offset"
    # By the prior weighed by what a loose line can be, not by a normal around it.
    draws = np.random.default_rng(3).multivariate_normal(mean, cov, 400_000)
    seen = (draws[:, :5] - 0.2 * draws[:, 5:] - BEAD_042.bands_mm()["loose"][0]) / (BEAD.grade_sd * 0.2)
    weight = norm.cdf(seen).prod(axis=1)
    scraped = weight @ ((draws[:, :5] + best.shift_mm).min(axis=1) < JUDGE.scrape_mm) / weight.sum()
    assert scraped <= 1.5 * JUDGE.scrape_p
    # It goes as far as it may: a loose line is not nearer than where lines come loose.
    assert -0.45 < best.shift_mm < -0.2
    assert best.proofs_left > 1.5


def test_a_step_back_asks_for_evidence_first() -> None:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "ridged") for k in range(5))
    field = estimate_field(mean, cov, marks, BEAD_042)

    def first(before: Before) -> str:
        return next_actions(
            field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, before=before
        )[0].kind

    assert first(Before()) == first(Before(shift_mm=0.02)) == "offset"
    certain = p_all_sound(
        np.random.default_rng(0).multivariate_normal(field.mean[:5], field.cov[:5, :5], 5000), LOW, HIGH
    )
    # What is plainly wrong is taken back at once; what may be right is looked at again.
    assert first(Before(shift_mm=-0.03)) == ("print_again" if certain > JUDGE.gain else "offset")


def test_advice_ends_where_an_eye_can_tell_no_more() -> None:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "sound" if k % 2 else "parted") for k in range(5))
    field = estimate_field(mean, cov, marks, BEAD_042)
    many = Before(proofs=JUDGE.proofs_at_most, repeats=1)
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, before=many)[
        0
    ]
    assert best.kind == "done"
    assert "does not tell it any better" in best.reason


def test_a_mesh_is_not_advised_for_an_error_that_all_zones_share() -> None:
    marks = tuple(Mark(k, "parted", 0.25) for k in range(5))
    assert advise(marks, can_mesh=True)[0] == "offset"
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, marks, BEAD_042)
    found = next_actions(
        field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, can_mesh=True
    )
    assert all(a.p_all_sound < 0.5 for a in found if a.kind == "mesh")


def test_done_is_never_said_while_a_zone_is_not_judged() -> None:
    assert "done" not in advise(tuple(Mark(k, "sound", 0.19) for k in range(4)))


def test_what_was_mended_in_vain_is_not_mended_again_before_a_ladder() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.01**2 * np.eye(5)
    marks = tuple(Mark(k, "loose") for k in range(5))
    field = by_causes(marks, mean, cov)
    first = next_actions(field, BEAD_042, "PLA", marks, **ALONE, before=Before(fallen=True))[0]
    assert first.kind == "remedy"
    again = Before(fallen=True, mended_in_vain=frozenset(first.causes))
    second = next_actions(field, BEAD_042, "PLA", marks, **ALONE, before=again)[0]
    assert second.kind == "ladder"
    assert "mended already" in second.reason
    # Of something else than that, the remedy is still the first.
    other = Before(fallen=True, mended_in_vain=frozenset({"fan"}))
    assert next_actions(field, BEAD_042, "PLA", marks, **ALONE, before=other)[0].kind == "remedy"


def test_a_step_back_is_one_to_where_the_last_came_from() -> None:
    step = Action(kind="offset", p_all_sound=0.9, minutes=1, total_minutes=5, reason="", shift_mm=-0.02)
    assert _steps_back(step, Before(shift_mm=0.02), 0.01)
    assert _steps_back(step, Before(shift_mm=0.03), 0.01)
    # A small correction after a large step is none.
    assert not _steps_back(step, Before(shift_mm=0.16), 0.01)
    assert not _steps_back(step, Before(shift_mm=-0.02), 0.01)
    # On in the same way is none either, however little.
    on = step.model_copy(update={"shift_mm": 0.005})
    assert not _steps_back(on, Before(shift_mm=0.005), 0.01)
    assert not _steps_back(step, Before(), 0.01)


def test_after_a_sure_move_no_print_is_counted() -> None:
    """The zones are known well and all a little too far: moved, they are sound, and nothing more is printed for it."""
    rng = np.random.default_rng(5)
    gaps = np.clip(0.232 + rng.normal(0, 0.003, (2048, 5)), 0.2, 0.26)
    mean, cov = np.append(gaps.mean(axis=0), np.zeros(3)), np.zeros((8, 8))
    cov[:5, :5] = np.cov(gaps.T)
    field = FieldPosterior(mean, cov, (), greasy=np.zeros(5))
    whole = frozenset(range(5))
    for before, unseen in (
        (Before(judged=whole), True),
        (Before(judged=whole, fallen=True), False),
        (Before(judged=frozenset({0, 1})), False),
        (Before(), False),
    ):
        can = Remedies(field, gaps, BEAD_042, "PLA", 0.01, None, False, before)
        move = can.by_height()[0]
        assert move.p_all_sound > JUDGE.unseen_at
        if unseen:
            assert move.total_minutes == pytest.approx(
                JUDGE.minutes.offset + (1 - move.p_all_sound) * JUDGE.minutes.failed
            )
            assert move.proofs_left == 0
        else:
            assert move.total_minutes >= JUDGE.minutes.offset + JUDGE.minutes.proof


def test_three_heights_are_expected_to_leave_fewer_minutes_than_one() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.012**2 + 0.01**2 * np.eye(5)
    field = estimate_field(mean, cov, (), BEAD_042)
    gaps = np.random.default_rng(1).multivariate_normal(mean[:5], cov[:5, :5], 2048)
    aims = Aims(LOW, HIGH, 0.2, 0.01)
    left = [again_left(field, BEAD_042, gaps, aims, 1.0, apart) for apart in (0.0, 0.038)]
    assert left[1] < left[0]


def test_a_plate_that_is_rather_sound_is_seen_twice_before_it_is_moved() -> None:
    field = all_at(0.219, 0.006, 0.002)
    first = next_actions(field, BEAD_042, "PLA", (), **ALONE, before=Before(judged=frozenset(range(5)), proofs=2))
    assert first[0].kind == "print_again"
    assert JUDGE.rather_sound < first[0].p_all_sound < JUDGE.done_at
    assert first[1].kind == "offset"
    assert first[1].p_all_sound > 0.95
    everywhere = frozenset(range(5))
    for seen, kind in (
        (Before(judged=everywhere, proofs=3, repeats=1), "offset"),
        (Before(judged=everywhere, proofs=3, several_heights=True), "offset"),
        (Before(judged=everywhere, proofs=1, several_heights=True), "print_again"),
    ):
        assert next_actions(field, BEAD_042, "PLA", (), **ALONE, before=seen)[0].kind == kind


#: Further apart than the usual layer forgives, and nothing evens it out.
APART = (0.165, 0.24, 0.19, 0.2, 0.235)


THICKER = forgiving_layers(BEAD_042, 0.4)


def apart(before: Before, gaps: tuple[float, ...] = APART, layers: tuple[Bead, ...] = THICKER) -> tuple[Action, ...]:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, BEAD_042.grade_at(gap), gap) for k, gap in enumerate(gaps))
    field = estimate_field(mean, cov, marks, BEAD_042)
    known = {**ALONE, "can_mesh": False}
    return next_actions(field, BEAD_042, "PLA", marks, layers=layers, before=before, **known)


def test_another_first_layer_comes_first_once_nothing_else_ends_it() -> None:
    twice = Before(proofs=2, repeats=1)
    first = apart(twice)[0]
    assert first.kind == "settings"
    assert first.p_all_sound >= JUDGE.done_at
    assert first.layer is not None
    assert (first.layer.layer_mm, first.layer.wider) == (pytest.approx(0.28), False)
    assert max(a.p_all_sound for a in apart(twice, layers=())) < JUDGE.rather_sound
    # By one proof nobody changes every job, and a plate that is rather sound is left with its layer.
    assert apart(Before(proofs=1))[0].kind != "settings"
    assert apart(twice, (0.18, 0.215, 0.19, 0.2, 0.205))[0].kind != "settings"
    assert all(a.kind != "settings" for a in apart(twice, layers=()))


def test_what_another_first_layer_promises_is_what_its_bead_forgives() -> None:
    """By independent draws of the same gaps, the nozzle higher by what the layer is thicker, and the move it names."""
    mean, cov = zones_prior()
    marks = tuple(Mark(k, BEAD_042.grade_at(gap), gap) for k, gap in enumerate(APART))
    field = estimate_field(mean, cov, marks, BEAD_042)
    settings_ = apart(Before(proofs=2, repeats=1))[0]
    assert settings_.layer is not None
    other = Bead(settings_.layer.line_mm, settings_.layer.layer_mm)
    draws = np.random.default_rng(8).multivariate_normal(field.mean[:5], field.cov[:5, :5], 200_000)
    gaps = draws + (other.layer_mm - BEAD_042.layer_mm) + (settings_.shift_mm or 0.0)
    low, high = other.bands_mm()["sound"]
    held = float(((gaps > low) & (gaps < high)).all(axis=1).mean())
    assert settings_.p_all_sound == pytest.approx(held, abs=0.04)


def test_a_height_nobody_knows_is_looked_for_by_a_ladder() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] += 0.3**2
    field = estimate_field(mean, cov, (), BEAD_042)
    first = next_actions(field, BEAD_042, "PLA", (), **ALONE, before=Before(height_unknown=True))[0]
    assert (first.kind, first.minutes) == ("ladder", JUDGE.minutes.proof)
    assert first.total_minutes == 2 * JUDGE.minutes.proof + JUDGE.minutes.offset + JUDGE.minutes.at_last
    assert f"known to ±{np.sqrt(field.cov[:5, :5].mean()):.2f} mm only" in first.reason


def test_what_a_part_of_the_plate_showed_is_taken_up_before_the_rest_is_printed() -> None:
    mean, cov = zones_prior()
    mean[:5] = 0.30
    cov[:5, :5] = 0.01**2 + 0.02**2 * np.eye(5)
    field = estimate_field(mean, cov, (), BEAD_042)
    first = next_actions(field, BEAD_042, "PLA", (), **ALONE, before=Before(judged=frozenset({0, 1}), proofs=1))[0]
    assert first.kind == "offset"
    assert first.shift_mm is not None
    assert first.shift_mm < -0.05


def test_a_stored_value_that_nothing_is_printed_after_need_not_win_as_much() -> None:
    """Sound enough to be done, and a hundredth further surer still: it is stored, and no print is spent on it."""
    field = all_at(0.212, 0.005, 0.006)
    seen = Before(judged=frozenset(range(5)), proofs=2)
    ranked = next_actions(field, BEAD_042, "PLA", (), **ALONE, before=seen)
    done = next(a for a in ranked if a.kind == "done")
    assert JUDGE.done_at < done.p_all_sound < ranked[0].p_all_sound - JUDGE.unseen_gain
    assert ranked[0].kind == "offset"
    assert ranked[0].p_all_sound - done.p_all_sound < JUDGE.gain
    assert ranked[0].proofs_left == 0
    # What is surer than that is done, and where a print would have to show it the same gain is not worth one.
    surer = next_actions(all_at(0.209, 0.005, 0.006), BEAD_042, "PLA", (), **ALONE, before=seen)
    assert surer[0].kind == "done"
    doubted = Before(judged=frozenset(range(5)), proofs=2, trust=0.9)
    assert next_actions(field, BEAD_042, "PLA", (), **ALONE, before=doubted)[0].kind == "print_again"


def test_a_caliper_goes_to_the_patch_that_tells_most_of_all_zones() -> None:
    """Zone 3 moves with all the others, the rest stand by themselves: what is read there is known everywhere."""
    r = np.random.default_rng(4)
    shared = r.normal(0, 0.03, (2048, 1))
    gaps = 0.2 + 0.7 * shared + r.normal(0, 0.012, (2048, 5))
    gaps[:, 3] = 0.2 + shared[:, 0]
    aims = Aims(LOW, HIGH, 0.2, 0.01)
    told = caliper(gaps, aims, {0: 0, 3: 3}, 1.0, 60.0)
    assert told is not None
    assert told.measure[0] in (0, 3)
    alone = caliper(gaps, aims, {0: 0, 1: 1, 2: 2, 3: 3, 4: 4}, 1.0, 60.0)
    one = caliper(gaps, aims, {3: 7}, 1.0, 60.0)
    assert one is not None
    assert (one.zone, one.measure) == (7, (7,))
    assert "on this patch" in one.reason
    assert alone is not None
    # Known nothing of the height it is hardly ever sound; measured and moved once it mostly is.
    assert one.p_all_sound > p_all_sound(gaps, LOW, HIGH) + 0.2
    # Of one zone only what follows from its own patch is learnt: less.
    other = caliper(gaps, aims, {1: 1}, 1.0, 60.0)
    assert other is not None
    assert other.total_minutes > one.total_minutes
    assert caliper(gaps, aims, {}, 1.0, 60.0) is None


def test_a_feed_nobody_has_measured_is_measured_before_anything_is_moved_by_grades() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.03**2 + 0.01**2 * np.eye(5)
    marks = tuple(Mark(k, "parted") for k in range(5))
    field = by_causes(marks, mean, cov)
    unknown = Before(judged=frozenset(range(5)), proofs=1, feed_unknown=True)
    assert next_actions(field, BEAD_042, "PLA", marks, **ALONE, before=unknown)[0].kind == "feed"
    fed = Before(judged=frozenset(range(5)), proofs=1, fed=True)
    assert next_actions(field, BEAD_042, "PLA", marks, **ALONE, before=fed)[0].kind == "offset"


def test_no_knob_is_turned_where_turning_makes_nothing_better() -> None:
    gaps = 0.19 + np.random.default_rng(1).normal(0, 0.004, (512, 5))
    moves = np.array([[0.04, 0.0], [0.0, 0.04], [0.02, 0.02], [0.0, 0.0], [0.04, 0.04]])
    assert best_turns(gaps, moves, LOW, HIGH, 0.19).tolist() == [0.0, 0.0]


def test_what_a_caliper_has_measured_need_not_be_seen_on_another_print() -> None:
    field = all_at(0.215, 0.005, 0.006)

    def first(calipered: int) -> Action:
        before = Before(judged=frozenset(range(5)), proofs=2, calipered=calipered)
        return next_actions(field, BEAD_042, "PLA", (), **ALONE, before=before)[0]

    # Rather sound and seen once: the same again. Most of it measured: it is moved at once, and nothing is printed after it.
    assert [first(n).kind for n in (0, 2, 3, 5)] == ["print_again", "print_again", "offset", "offset"]
    assert first(5).proofs_left == 0


def test_minutes_left_know_no_millimetres() -> None:
    """All lengths twice as large, the eye's scatter a share of the layer: the same looks, the same minutes."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.012**2 + 0.01**2 * np.eye(5)
    field = estimate_field(mean, cov, (), BEAD_042)
    gaps = np.random.default_rng(1).multivariate_normal(mean[:5], cov[:5, :5], 1024)
    double = Bead(2 * BEAD_042.line_mm, 2 * BEAD_042.layer_mm)
    low, high = double.bands_mm()["sound"]
    assert (low, high) == pytest.approx((2 * LOW, 2 * HIGH), rel=1e-3)
    small = again_left(field, BEAD_042, gaps, Aims(LOW, HIGH, 0.2, 0.01), 1.0)
    assert again_left(field, double, 2 * gaps, Aims(2 * LOW, 2 * HIGH, 0.4, 0.02), 1.0) == pytest.approx(
        small, rel=1e-3
    )


def test_a_layer_with_wider_lines_says_that_they_are() -> None:
    twice = Before(proofs=2, repeats=1)
    usual = apart(twice)[0].layer
    assert usual is not None
    wide = apart(twice, layers=(Bead(usual.line_mm + 0.04, usual.layer_mm),))[0].layer
    assert wide is not None
    assert (round(wide.line_mm - usual.line_mm, 3), wide.wider) == (0.04, True)


def test_what_one_sure_move_mends_takes_little_longer_than_the_move() -> None:
    """All zones 0.05 mm too far and known to 0.001: they are moved, and nothing more is printed."""
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, (), BEAD_042)
    middle = (LOW + HIGH) / 2
    gaps = middle + 0.05 + np.random.default_rng(2).normal(0, 0.001, (512, 5))
    left = again_left(field, BEAD_042, gaps, Aims(LOW, HIGH, middle, 0.01), 1.0)
    assert left <= JUDGE.minutes.offset + 0.1 * JUDGE.minutes.failed


@pytest.mark.parametrize(
    ("knobs", "proofs", "tram", "ends"),
    [
        (True, 3, "open", "tram"),
        (True, 3, "done", "done"),
        (True, 3, "gave_up", "done"),
        (True, 8, "open", "done"),
        (False, 3, "open", "done"),
    ],
)
def test_what_neither_a_height_nor_a_turn_would_do_is_not_printed_for_ever(
    knobs: bool, proofs: int, tram: Literal["open", "done", "gave_up"], ends: str
) -> None:
    """Zones 0.3 mm apart, seen twice, and knobs that move all of them alike: it is for the tram, or it is left; left as well
    where the tram has nothing left to do, or one would lead to the other for ever."""
    mean, cov = zones_prior()
    mean[:5] = BEAD_042.target_mm("PLA") + np.array([-0.15, 0.15, -0.15, 0.15, 0.0])
    cov[:5, :5] = 0.004**2 * np.eye(5)
    marks = tuple(Mark(k, BEAD_042.grade_at(mean[k])) for k in range(5))
    field = by_causes(marks, mean, cov)
    can = {"knob_moves": np.full((5, 3), 0.04), "mark_mm": np.full(3, 0.04)} if knobs else {"knob_moves": None}
    known = {**ALONE, **can}
    before = Before(repeats=1, proofs=proofs, tram=tram)
    first = next_actions(field, BEAD_042, "PLA", marks, **known, before=before)[0]
    assert first.kind == ends
    assert first.p_all_sound < 0.05


@given(
    at=st.lists(st.floats(-0.3, 0.5), min_size=2, max_size=6),
    sd=st.floats(0.001, 0.2),
    step=st.sampled_from([0.005, 0.01, 0.05]),
)
def test_a_lift_is_the_least_step_that_scrapes_nowhere(at: list[float], sd: float, step: float) -> None:
    gaps = np.array(at) + np.random.default_rng(3).normal(0, sd, (400, len(at)))
    up = lift_clear(gaps, step)
    assert not might_scrape(gaps + up + 1e-6)
    assert might_scrape(gaps + up - step - 1e-6)


@pytest.mark.parametrize(("tram", "kind"), [("open", "tram"), ("done", "offset"), ("gave_up", "offset")])
def test_a_tip_that_may_scrape_is_lifted_where_the_tram_has_nothing_left_to_do(
    tram: Literal["open", "done", "gave_up"], kind: str
) -> None:
    """Two zones were looked at and hold; the others may lie anywhere, and all are to be printed over."""
    mean, cov = zones_prior()
    mean[:5] = BEAD_042.target_mm("PLA")
    cov[:5, :5] = np.diag([0.004**2, 0.004**2, 0.15**2, 0.15**2, 0.15**2])
    field = by_causes((), mean, cov)
    before = Before(judged=frozenset({0, 1}), tram=tram)
    first = next_actions(field, BEAD_042, "PLA", (), **ALONE, before=before)[0]
    assert first.kind == kind
    assert "may scrape" in first.reason
    if kind == "offset":
        assert first.shift_mm is not None
        assert 0.1 < first.shift_mm < 0.6
