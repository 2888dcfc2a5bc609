"""Judging a proof: the field against importance sampling, the advice against brute force."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import BEAD
from ivory_table.core.judge import (
    Mark,
    best_shift,
    best_turns,
    estimate_field,
    field_prior,
    learn_proof,
    next_actions,
    p_all_sound,
    parts,
)
from ivory_table.core.proof import plan
from ivory_table.core.run import RunState
from tests.conftest import setup_for

BEAD_042 = Bead(0.42, 0.2)
LOW, HIGH = BEAD_042.bands_mm()["sound"]


def zones_prior(z: int = 5) -> tuple[np.ndarray, np.ndarray]:
    cov = 0.05**2 * np.ones((z, z)) + 0.02**2 * np.eye(z)
    full = np.zeros((z + 1, z + 1))
    full[:z, :z] = cov
    full[z, z] = 0.03**2
    return np.append(np.full(z, 0.2), 0.0), full


def importance(mean: np.ndarray, cov: np.ndarray, marks: tuple[Mark, ...]) -> tuple[np.ndarray, np.ndarray]:
    """The same posterior by weighing half a million draws."""
    rng = np.random.default_rng(0)
    draws = rng.multivariate_normal(mean, cov, 500_000)
    log_w = np.zeros(len(draws))
    for m in marks:
        if m.grade:
            low, high = BEAD_042.bands_mm()[m.grade]
            x, s = draws[:, m.zone] - 0.2 * draws[:, -1], BEAD.grade_sd * 0.2
            p = norm.cdf((high - x) / s) - norm.cdf((low - x) / s)
            log_w += np.log((1 - BEAD.slip) * p + BEAD.slip / 7)
        if m.caliper_mm:
            log_w += norm.logpdf(m.caliper_mm, draws[:, m.zone], BEAD.caliper_sd_mm)
    w = np.exp(log_w - log_w.max())
    w /= w.sum()
    at = w @ draws
    return at, np.sqrt(w @ (draws - at) ** 2)


@pytest.mark.parametrize(
    "marks",
    [
        (Mark(0, "parted"), Mark(1, "parted"), Mark(2, "sound"), Mark(3, "sound"), Mark(4, "sound")),
        (Mark(0, "ridged"), Mark(1, "squeezed"), Mark(2, "ridged")),
        (Mark(0, "sound", 0.21), Mark(1, "parted"), Mark(4, "sound", 0.19)),
        (Mark(0, "barely"),),
    ],
)
def test_expectation_propagation_agrees_with_importance_sampling(marks: tuple[Mark, ...]) -> None:
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, marks, BEAD_042)
    other, other_sd = importance(mean, cov, marks)
    assert np.allclose(field.gaps[0], other[:5], atol=0.006)
    assert np.allclose(field.gaps[1], other_sd[:5], rtol=0.2, atol=0.002)


def test_nothing_seen_leaves_the_prior() -> None:
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, (), BEAD_042)
    assert np.array_equal(field.mean, mean)
    assert field.sites == ()


def test_one_mark_that_contradicts_four_is_taken_for_a_slip() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.05**2 + 0.004**2 * np.eye(5)
    sound = tuple(Mark(k, "sound", 0.2) for k in range(4))
    field = estimate_field(mean, cov, (*sound, Mark(4, "starved")), BEAD_042)
    assert field.gaps[0][4] > LOW


def test_a_zone_that_is_not_there_is_refused() -> None:
    mean, cov = zones_prior()
    with pytest.raises(ValueError, match="no zone 6"):
        estimate_field(mean, cov, (Mark(5, "sound"),), BEAD_042)


def test_sites_put_back_into_the_belief_give_the_same_field() -> None:
    setup = setup_for("heron")
    belief = RunState.start(setup).belief
    laid = plan(setup.machine, setup.plate, setup.filament, 5)
    rows, mean, cov = field_prior(belief, laid.places, 0.2, np.zeros(5))
    field = estimate_field(mean, cov, (Mark(0, "parted"), Mark(2, "sound", 0.2), Mark(4, "ridged")), laid.bead)
    learnt = learn_proof(belief, rows, field, np.append(np.full(5, 0.2), 0.0))
    _, again, again_cov = field_prior(learnt, laid.places, 0.2, np.zeros(5))
    # The belief is a mixture, the field its collapsed Gaussian: equal means where one hypothesis would do.
    assert np.allclose(again[:5], field.mean[:5], atol=0.02)
    assert np.all(np.diag(again_cov)[:5] < np.diag(cov)[:5])


errors = st.lists(st.floats(-0.08, 0.08), min_size=5, max_size=5)


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
    assert list(found) == sorted(found, key=lambda a: a.total_minutes)
    return [a.kind for a in found]


def test_all_sound_by_caliper_is_done() -> None:
    assert advise(tuple(Mark(k, "sound", 0.19) for k in range(5)))[0] == "done"


def test_all_parted_asks_for_the_offset() -> None:
    assert advise(tuple(Mark(k, "parted") for k in range(5)))[0] == "offset"


def test_a_loose_zone_of_the_right_height_asks_for_cleaning() -> None:
    marks = (*(Mark(k, "sound", 0.19) for k in range(4)), Mark(4, "loose", greasy=True))
    assert advise(marks)[0] == "clean"


def test_done_is_never_said_while_a_zone_is_not_judged() -> None:
    assert "done" not in advise(tuple(Mark(k, "sound", 0.19) for k in range(4)))


@given(st.floats(-0.1, 0.1), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05))
def test_parts_give_back_a_made_up_offset_and_tilt(offset: float, tx: float, ty: float) -> None:
    zones = np.array([[0.0, 0], [200, 0], [100, 100], [0, 200], [200, 200]])
    u, v = (zones / 100 - 1).T
    found = {p.name: p.amount_mm for p in parts(offset + u * tx / 2 + v * ty / 2, 1e-6 * np.eye(5), zones)}
    assert found["offset"] == pytest.approx(offset, abs=1e-9)
    assert found["tilt_x"] == pytest.approx(tx, abs=1e-9)
    assert found["tilt_y"] == pytest.approx(ty, abs=1e-9)
    assert found["bow"] == pytest.approx(0, abs=1e-9)
