"""A plate on springs under the gauge: against the springs solved one by one, and what it does to a run's reading."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from ivory_table.core.defaults import FEEL
from ivory_table.core.plate import Machine
from ivory_table.core.springy import NEWTON_A_GRAM, GivesWay, in_words, sinking, softness_mm_n, under_gauge_mm
from ivory_table.runs.state import RunState
from ivory_table.stations.offset.entries import Felt
from tests.conftest import after, setup_for

SCREWS = np.array([[25.0, 25.0], [225.0, 25.0], [25.0, 205.0], [225.0, 205.0]])


def solved(screws: np.ndarray, stiffness: float, place: np.ndarray, force: float) -> float:
    """mm that a place sinks: forces of the springs balance the load, and the plate stays flat."""
    m = len(screws)
    flat = np.column_stack([np.ones(m), screws])  # sink of each spring = flat @ plane
    balance = np.vstack([np.ones(m), screws.T]) @ (stiffness * flat)
    plane = np.linalg.solve(balance, force * np.array([1.0, *place]))
    return float(np.array([1.0, *place]) @ plane)


@given(st.floats(20, 230), st.floats(20, 210), st.floats(0.5, 40), st.floats(0.1, 20))
def test_it_sinks_as_its_springs_say(x: float, y: float, stiffness: float, force: float) -> None:
    for screws in (SCREWS, SCREWS[:3], np.vstack([SCREWS, [[125.0, 25.0], [125.0, 205.0]]])):
        place = np.array([x, y])
        ours = force / stiffness * sinking(screws, [place])[0]
        assert ours == pytest.approx(solved(screws, stiffness, place, force), rel=1e-8)


def test_a_quarter_in_the_middle_and_three_quarters_over_a_screw() -> None:
    assert sinking(SCREWS, [SCREWS.mean(axis=0)])[0] == pytest.approx(0.25)
    assert sinking(SCREWS, SCREWS) == pytest.approx(np.full(4, 0.75))


@given(st.floats(50, 3000), st.floats(0.5, 40), st.integers(0, 3))
def test_the_weight_tells_the_springs(weight: float, stiffness: float, j: int) -> None:
    sinks = solved(SCREWS, stiffness, SCREWS[j], weight * NEWTON_A_GRAM)
    if sinks <= 3:
        tried = GivesWay(screw="any", weight_g=weight, sinks_mm=sinks)
        assert softness_mm_n(SCREWS, j, tried) == pytest.approx(1 / stiffness, rel=1e-6)


def springy(sinks_mm: float = 0.4) -> Machine:
    machine = setup_for("heron").machine
    tried = GivesWay(screw=machine.screws[0].name, weight_g=500, sinks_mm=sinks_mm)
    return machine.model_copy(update={"gives_way": tried})


def test_what_is_felt_is_the_plate_pressed_down_and_the_belief_knows() -> None:
    """The gauge drags in the middle and over a screw of a flat plate that gives way: with it told, the plate is flat."""
    setup = setup_for("heron")
    centre, screw = setup.plate.centre, setup.machine.screws[0]
    screws = springy().screws_mm
    way = under_gauge_mm(screws, springy().softness_mm_n, "slide", [centre, (screw.x_mm, screw.y_mm)])
    assert way[1] > 2 * way[0] > 0.02

    def bow(machine: Machine) -> float:
        state = RunState.start(setup.model_copy(update={"machine": machine}))
        for (x, y), sinks in zip((centre, (screw.x_mm, screw.y_mm)), way, strict=True):
            for k in range(6):
                # A flat plate at height 0: the gauge drags with the tip at its thickness, less what the plate sinks there.
                z = setup.gauge.drags_at()[0] - float(sinks)
                state = after(state, Felt(x_mm=x, y_mm=y, z_mm=z + 0.001 * (k % 2), feel="drag"), station="offset")
        heights = state.belief.height([centre, (screw.x_mm, screw.y_mm)])[0]
        return float(heights[0] - heights[1])

    assert abs(bow(springy())) < 0.008
    assert bow(setup.machine) > 0.015


def test_a_mesh_felt_on_springs_has_no_bow_of_them() -> None:
    setup = setup_for("heron").model_copy(update={"machine": springy()})
    state = RunState.start(setup)
    corner = [(s.x_mm, s.y_mm) for s in setup.machine.screws]
    low = -state.mesh_reads_high_mm([setup.plate.centre, *corner], felt=True)
    assert low[0] == pytest.approx(0)
    assert (low[1:] > 0.01).all()
    assert RunState.start(setup_for("heron")).mesh_reads_high_mm(corner, felt=True) == pytest.approx(np.zeros(4))


def test_it_is_said_where_it_counts_with_the_gauge_that_presses_less() -> None:
    machine, centre = springy(), setup_for("heron").plate.centre
    words = in_words(machine.screws_mm, machine.softness_mm_n, "slide", centre)
    assert "pushed until it buckles" in words
    assert "counted in" in words
    assert "presses it less" not in in_words(machine.screws_mm, machine.softness_mm_n, "push", centre)
    stiff = springy(sinks_mm=0.01)
    assert in_words(stiff.screws_mm, stiff.softness_mm_n, "slide", centre) == ""
    assert FEEL.press_n["push"] < FEEL.press_n["slide"]


def test_a_screw_that_is_not_there_is_refused() -> None:
    body = setup_for("heron").machine.model_dump()
    with pytest.raises(ValidationError, match="no screw called"):
        Machine.model_validate(body | {"gives_way": {"screw": "middle", "weight_g": 500, "sinks_mm": 0.2}})
