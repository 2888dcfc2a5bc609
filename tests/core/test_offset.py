"""Four conventions both ways, and the readback."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.defaults import CONVENTIONS, FEEL
from ivory_table.core.manner import shipped
from ivory_table.core.offset import convention, direction_words, readback_agrees, shift_of, stored_after
from ivory_table.runs.state import RunState
from ivory_table.stations.offset.entries import Felt
from ivory_table.stations.stored.entries import OffsetSet
from tests.conftest import after, setup_for


@pytest.mark.parametrize(
    ("name", "closer"),
    [("probe_offset", -0.05), ("home_offset", +0.05), ("stop_position", +0.05), ("live_only", -0.05)],
)
def test_each_convention_brings_the_tip_closer_by_its_own_sign(name: str, closer: float) -> None:
    how = convention(name)
    change = stored_after(1.34, -0.05, how, 0.01)
    assert change.new_mm - 1.34 == pytest.approx(closer)
    assert change.words == "0.05 mm closer"
    away = stored_after(1.34, +0.05, how, 0.01)
    assert away.new_mm - 1.34 == pytest.approx(-closer)
    assert away.words == "0.05 mm further"


@given(st.sampled_from(sorted(CONVENTIONS)), st.floats(-5, 5), st.integers(-300, 300))
def test_storing_and_reading_the_shift_are_inverse(name: str, old: float, steps: int) -> None:
    how = convention(name)
    old = round(old, 3)
    change = stored_after(old, steps * 0.01, how, 0.01)
    assert shift_of(old, change.new_mm, how) == pytest.approx(steps * 0.01, abs=1e-5)
    assert change.shift_mm == pytest.approx(steps * 0.01, abs=1e-5)


def test_the_line_to_send_carries_the_new_value() -> None:
    change = stored_after(-1.92, -0.04, convention("probe_offset", shipped("harbour")), 0.01)
    assert "-1.960" in change.lines[0]
    assert len(stored_after(0.0, 0.1, convention("live_only", shipped("harbour")), 0.01).lines) == 1


def test_a_rounded_nothing_is_said_to_be_nothing() -> None:
    assert direction_words(0.0) == "no change"
    assert stored_after(1.34, 0.003, convention("probe_offset"), 0.01).words == "no change"


def test_readback_must_agree_to_half_a_step() -> None:
    assert readback_agrees(0.9, 0.904, 0.01)
    assert not readback_agrees(0.9, 0.91, 0.01)
    assert not readback_agrees(0.9, -0.9, 0.01)


def test_an_unmeasured_gauge_is_what_it_usually_is_and_nothing_in_older_runs() -> None:
    older = setup_for("heron", gauge=1)
    measured, unknown = RunState.start(setup_for("heron")), RunState.start(older)
    assert measured.drag_gap_mm == pytest.approx(0.1)
    assert unknown.drag_gap_mm == 0
    usual = RunState.start(older.model_copy(update={"usual_gauge": True}))
    assert usual.drag_gap_mm == FEEL.usual[older.gauge.kind].mm
    felt = Felt(x_mm=122, y_mm=118, z_mm=0.0, feel="drag")
    sd = [after(s, felt, station="offset").belief.height([(122, 118)])[1][0] for s in (measured, unknown)]
    assert sd[1] > 2 * sd[0]


def test_setting_an_offset_moves_the_nozzle_in_the_belief_and_asks_for_a_readback() -> None:
    state = after(RunState.start(setup_for("heron")), OffsetSet(stored_mm=1.37), station="offset")
    assert state.belief.shift_mm == pytest.approx(-0.03)
    assert state.readback_due


def test_a_readback_off_by_exactly_half_a_step_is_rounding() -> None:
    assert readback_agrees(1.0, 1.005, 0.01)
    assert readback_agrees(1.0, 0.995, 0.01)
    assert not readback_agrees(1.0, 1.0051, 0.01)
