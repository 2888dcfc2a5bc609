"""A second tip over graded pads: an interval, the right turn, and an end to it."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import SECOND
from ivory_table.core.manner import shipped
from ivory_table.core.second_tip import _GRID, Pads, SecondTip
from ivory_table.program.pads import program, row
from ivory_table.program.reader import read_program
from tests.conftest import setup_for


def unknown(wanted: float = 0.0, *, clockwise_raises: bool = True) -> SecondTip:
    return SecondTip.unknown(wanted, 0.5, clockwise_raises=clockwise_raises)


def test_a_gauge_is_the_product_of_two_normals() -> None:
    mean, sd = unknown().gauge(0.2).above
    weight = SECOND.by_eye_sd_mm**2 / (SECOND.by_eye_sd_mm**2 + SECOND.gauge_sd_mm**2)
    assert mean == pytest.approx(0.2 * weight, abs=1e-3)
    assert sd == pytest.approx((weight * SECOND.gauge_sd_mm**2) ** 0.5, abs=1e-3)


def test_what_was_touched_is_the_textbook_update() -> None:
    """Against the same product summed by brute force over draws of the height."""
    tops = (0.32, 0.36, 0.40)
    tip = unknown().gauge(0.0).lay(Pads(tops_mm=tops)).passed(0.37, (False, False, True))
    rng = np.random.default_rng(4)
    draws = rng.normal(*unknown().gauge(0.0).above, 200_000)
    weight = np.ones(len(draws))
    for top, hit in zip(tops, (False, False, True), strict=True):
        p = norm.cdf((top - 0.37 - draws) / SECOND.pad_sd_mm)
        weight *= (1 - SECOND.slip) * (p if hit else 1 - p) + SECOND.slip / 2
    mean = float(weight @ draws / weight.sum())
    assert tip.above[0] == pytest.approx(mean, abs=5e-4)
    assert tip.above[1] == pytest.approx(float((weight @ (draws - mean) ** 2 / weight.sum()) ** 0.5), abs=5e-4)
    assert tip.fresh == (0.32, 0.36)


@given(st.floats(-0.5, 0.5), st.booleans())
def test_the_turn_goes_towards_what_is_wanted(above: float, way: bool) -> None:
    tip = unknown(clockwise_raises=way).gauge(above)
    coming = tip.next
    if abs(above) < 2 * SECOND.gauge_sd_mm:
        return
    assert coming.step == "turn"
    assert np.sign(coming.turns * (1 if way else -1)) == -np.sign(above)
    assert abs(tip.turned(coming.turns).above[0]) < abs(tip.above[0])


@settings(max_examples=40, deadline=None)
@given(st.integers(0, 10_000), st.floats(-0.9, 0.9), st.floats(0, 0.3))
def test_it_ends_and_ends_near(seed: int, true: float, wanted: float) -> None:
    rng = np.random.default_rng(seed)
    tip = unknown(wanted)
    real: dict[float, float] = {}
    for _ in range(40):
        coming = tip.next
        if coming.step == "done":
            break
        if coming.step == "gauge":
            tip = tip.gauge(float(np.clip(true + rng.normal(0, SECOND.gauge_sd_mm), -2.5, 2.5)))
        elif coming.step == "turn":
            true += coming.turns * 0.5
            tip = tip.turned(coming.turns)
        else:
            if coming.step == "print":
                tip = tip.lay(coming.pads)
                real = {top: top + rng.normal(0, SECOND.pad_sd_mm) for top in coming.pads.tops_mm}
            # Never so low that the second tip would be believed to run into the plate.
            assert coming.pass_z_mm + tip.above[0] - 3 * tip.above[1] > 0.15
            tip = tip.passed(coming.pass_z_mm, tuple(coming.pass_z_mm + true < real[top] for top in tip.fresh))
    assert tip.next.step == "done"
    assert abs(true - wanted) < 0.06


def test_a_pass_says_of_every_pad_and_a_screw_has_a_thread() -> None:
    with pytest.raises(ValueError, match="Say of each of the 2 pads"):
        unknown().lay(Pads(tops_mm=(0.3, 0.4))).passed(0.3, (True,))
    with pytest.raises(ValueError, match="thread"):
        SecondTip.unknown(0.0, 0.0, clockwise_raises=True)


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren", "bittern"])
def test_every_pad_is_laid_to_its_height_on_the_plate(machine: str) -> None:
    s = setup_for(machine)
    pads = unknown().gauge(0.0).pads()
    made = program(s.machine, s.plate, s.filament, Bead(0.4, 0.2), pads, shipped(s.machine.manner), mesh_on=False)
    at = row(s.plate, len(pads.tops_mm))
    laid = [m for m in read_program(made.text).moves if m.filament_mm > 0 and m.start[:2] != m.end[:2]]
    for x, top in zip(at.xs_mm, pads.tops_mm, strict=True):
        here = [m for m in laid if abs(m.end[0] - x) <= 4.01]
        assert max(m.end[2] for m in here) == pytest.approx(top, abs=1e-3)
        # What is laid fills the pad to its height, give or take its round ends.
        volume = sum(m.filament_mm for m in here) * np.pi / 4 * s.filament.diameter_mm**2
        assert volume == pytest.approx(64 * top, rel=0.12)


def test_a_plate_without_room_says_so() -> None:
    plate = setup_for("wren").plate.model_copy(update={"width_mm": 90.0})
    with pytest.raises(ValueError, match="no room for a row of 9 pads"):
        row(plate, 9)


def test_what_a_pass_is_expected_to_leave_is_that_of_passing_often() -> None:
    """Many tips drawn from the belief, each passed over the pads in order: the sd within each number of pads touched."""
    tip = SecondTip.unknown(0.0, 0.5, clockwise_raises=True).gauge(0.05)
    tops, z = (0.1, 0.14, 0.18, 0.22), 0.12
    r = np.random.default_rng(9)
    above = r.choice(_GRID, 200_000, p=tip.p / tip.p.sum())
    # One slip for all of a row: the highest pads are touched first.
    touched = (
        np.array(tops)[None] - z - above[:, None] + SECOND.pad_sd_mm * r.standard_normal((len(above), 1)) > 0
    ).sum(axis=1)
    left = sum(((above[touched == k] - above[touched == k].mean()) ** 2).sum() for k in np.unique(touched))
    assert tip._doubt_after(z, tops) == pytest.approx((left / len(above)) ** 0.5, rel=0.02)


def test_pads_span_what_is_believed_and_no_finer_than_can_be_laid() -> None:
    tip = SecondTip.unknown(0.0, 0.5, clockwise_raises=True)
    tops = np.array(tip.pads().tops_mm)
    assert tops[0] == SECOND.lowest_top_mm
    assert np.diff(tops) == pytest.approx(np.full(SECOND.pads - 1, tops[1] - tops[0]))
    assert np.ptp(tops) == pytest.approx(2 * SECOND.spread_sd * tip.above[1], abs=0.001 * SECOND.pads)
    sharp = tip
    for _ in range(40):
        sharp = sharp.gauge(0.0)
    assert np.diff(sharp.pads().tops_mm) == pytest.approx(np.full(SECOND.pads - 1, SECOND.finest_mm))
