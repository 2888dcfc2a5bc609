"""The practice plate: how it bends, what a screw moves, what heat does to it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import minimize_scalar

from ivory_table.core.bending import held_at
from ivory_table.core.surface import Surface
from ivory_table.core.tram import coupling
from ivory_table.practice.elastic import ElasticPlate, crooked
from ivory_table.trial.tram_plates import SprungPlate, screws_of
from tests.conftest import setup_for
from tests.practice.practising import HERON, hands, level

SURFACE = Surface.of(HERON.machine, HERON.plate)


def test_the_same_seed_is_the_same_plate_and_another_is_another() -> None:
    one, same, other = (crooked(HERON.machine, HERON.plate, seed) for seed in (3, 3, 4))
    assert one == same
    assert one != other


def test_a_plane_passes_whole_and_a_twist_is_damped() -> None:
    plate = level().plate
    passes = plate.passes()
    at = plate.anchors
    for plane in (np.ones(4), at[:, 0], at[:, 1]):
        assert passes @ plane == pytest.approx(plane, rel=1e-6)
    assert 0.2 < SURFACE.twist_passed(passes) < 0.9


def test_even_supports_couple_as_the_closed_form_says() -> None:
    plate = level().plate
    kappa = float(SURFACE.twist_passed(plate.passes()))
    closed = coupling(np.full(4, 1 / kappa - 1), SURFACE.bending)
    assert plate.passes() == pytest.approx(closed, abs=0.01)


@pytest.mark.parametrize("count", [6, 9])
def test_many_uneven_supports_couple_as_the_core_says(count: int) -> None:
    """Two programs of the same plate: quadrature over Legendre polynomials here, closed integrals there."""
    screws = screws_of(count)
    plate = SprungPlate(np.random.default_rng(count), screws).plate
    stiffness, (bending, _) = np.array(plate.truth.stiffness), held_at(plate.plate, plate.anchors)
    # The core knows compliance only relative to the plate's own stiffness: one number is free.
    closest = minimize_scalar(lambda c: float(np.abs(coupling(np.exp(c) / stiffness, bending) - plate.passes()).max()))
    assert closest.fun < 1e-4


@settings(max_examples=25)
@given(st.floats(10, 400), st.floats(1.5, 5))
def test_stiffer_supports_pass_more_and_thicker_plates_less(stiffness: float, thick: float) -> None:
    def kappa(k: float, t: float) -> float:
        plate = level(stiffness=[k] * 4, base_mm=t).plate
        return float(SURFACE.twist_passed(plate.passes()))

    assert kappa(2 * stiffness, thick) > kappa(stiffness, thick)
    assert kappa(stiffness, thick) > kappa(stiffness, 1.5 * thick)


def test_three_screws_carry_exactly_a_plane() -> None:
    wren = setup_for("wren").machine
    plate = level(wren, supports=[0.1, -0.2, 0.3]).plate
    assert plate.heights(plate.anchors) == pytest.approx([0.1, -0.2, 0.3], abs=1e-9)


def test_a_screw_turned_past_its_preload_goes_slack_and_moves_nothing_more() -> None:
    body = level(relaxed=[0.5] * 4, stiffness=[30.0] * 4)
    body.truth.supports[0] = 3.0
    before = body.plate.heights(body.plate.anchors)
    assert body.plate.slack() == [0]
    body.truth.supports[0] = 4.0
    assert body.plate.heights(body.plate.anchors) == pytest.approx(before, abs=0.02)


def test_heat_raises_the_middle_and_hardly_the_screws() -> None:
    plate = level(heat_bow_mm_c=0.0004).plate
    centre = np.array([HERON.plate.centre])
    cold, hot = plate.heights(centre, 0.0)[0], plate.heights(centre, 60.0)[0]
    assert hot - cold > 0.01
    assert np.abs(plate.heights(plate.anchors, 60.0)).max() < 0.2 * (hot - cold)


def test_the_middle_follows_the_bed_with_a_delay() -> None:
    body = level(heat_bow_mm_c=0.0004, heat_minutes=3.0)
    body.bed.target_c = 60
    body.wait(120)
    assert body.core_c < body.bed.body_c - 5
    body.wait(1200)
    assert body.core_c == pytest.approx(60, abs=3)


def test_a_thicker_plate_stands_higher() -> None:
    body = level()
    before = body.gap(120, 120, 5.0)
    body.remount("heron-glass")
    assert before - body.gap(120, 120, 5.0) == pytest.approx(3.0 - 0.8)


def test_a_slack_screw_creeps_and_a_pressed_one_stays() -> None:
    body = level(relaxed=[4.0, 4.0, 4.0, 0.1])
    body.wait(3600)
    assert body.truth.supports[:3] == [0.0, 0.0, 0.0]
    assert body.truth.supports[3] < -0.01


def test_disturbing_makes_a_new_crooked_plate_and_keeps_the_zero() -> None:
    person = hands(shift=-0.07)
    person.disturb()
    assert np.ptp(person.body.truth.supports) > 0.05
    assert person.body.truth.shift == -0.07


def test_a_plate_solved_twice_is_the_same() -> None:
    truth = crooked(HERON.machine, HERON.plate, 5)
    at = ElasticPlate(HERON.machine, HERON.plate, truth).anchors
    heights = [ElasticPlate(HERON.machine, HERON.plate, truth).heights(at) for _ in range(2)]
    assert heights[0] == pytest.approx(heights[1])
