"""Travel of springs, the hold of a heat, a beam on two drives: each against arithmetic done by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.beam import BeamReading, level
from ivory_table.core.defaults import HEAT
from ivory_table.core.hold import hold
from ivory_table.core.plate import Beam, Screw
from ivory_table.core.travel import NEAR_MM, backed_off, preload_after, room, runs_out

FOUR = tuple(
    Screw(name=f"s{k}", x_mm=x, y_mm=y, pitch_mm=0.7, travel_mm=6.0, preload_mm=p)
    for k, (x, y, p) in enumerate([(0, 0, 3.0), (100, 0, 1.0), (0, 100, 5.2), (100, 100, 2.0)])
)
ways = st.tuples(*[st.floats(-3, 3)] * 4)


def test_what_is_left_of_a_spring_both_ways() -> None:
    left = room(FOUR, (0.0, 0.4, -0.5, 1.0))
    assert [(r.screw, round(r.up_mm, 6), round(r.down_mm, 6)) for r in left] == [
        ("s0", 3.0, 3.0), ("s1", 0.6, 5.4), ("s2", 5.7, 0.3), ("s3", 1.0, 5.0),
    ]  # fmt: skip
    unknown = (FOUR[0].model_copy(update={"preload_mm": None}), *FOUR[1:])
    assert [r.screw for r in room(unknown, (0.0,) * 4)] == ["s1", "s2", "s3"]


@given(ways)
def test_moving_all_together_keeps_the_tilt_and_every_worst_spring_its_margin(plan: tuple[float, ...]) -> None:
    found = runs_out(FOUR, (0.0,) * 4, plan)
    lacking = [
        NEAR_MM - (s.preload_mm - up if up > 0 else s.travel_mm - s.preload_mm + up)
        for s, up in zip(FOUR, plan, strict=True)
        if up
    ]
    worst = max(lacking, default=0.0)
    if worst <= 1e-9:
        assert found is None
        return
    assert found is not None
    assert found.missing_mm == pytest.approx(worst)
    assert abs(found.stop_mm) == pytest.approx(worst)
    j = [s.name for s in FOUR].index(found.screw)
    assert (found.end == "come loose") == (plan[j] > 0) == (found.stop_mm < 0)
    # Back in mm, to half a mark: the plan and one common amount.
    made = np.array(found.together) * FOUR[0].mm_per_mark
    assert made == pytest.approx(np.array(plan) + found.stop_mm, abs=FOUR[0].mm_per_mark / 4 + 1e-9)
    assert f"{worst:.2f} mm" in found.sentence
    assert ("lower" if found.stop_mm < 0 else "raise") in found.sentence


def test_what_does_not_move_needs_no_room_and_a_turned_knob_counts_its_own_way() -> None:
    assert runs_out(FOUR, (0.0,) * 4, (0.0,) * 4) is None
    near = runs_out(FOUR, (2.9, 0.0, 0.0, 0.0), (0.1, 0.0, 0.0, 0.0))
    assert near is not None
    assert (near.screw, near.missing_mm) == ("s0", pytest.approx(0.3))
    turned = (FOUR[0].model_copy(update={"sense": -1}), *FOUR[1:])
    other = runs_out(turned, (2.9, 0.0, 0.0, 0.0), (0.1, 0.0, 0.0, 0.0))
    assert other is not None
    assert other.together[0] == -near.together[0]
    assert other.together[1:] == near.together[1:]


def test_preloads_go_on_within_the_travel() -> None:
    after = preload_after(FOUR, (1.0, 4.0, -2.0, 0.0))
    assert [s.preload_mm for s in after] == [2.0, 0.0, 6.0, 2.0]
    plain = Screw(name="p", x_mm=0, y_mm=0)
    assert preload_after((plain,), (1.0,)) == (plain,)
    off = backed_off((*FOUR[:1], plain), 2.0)
    assert off[0].preload_mm == pytest.approx(6.0 - 1.4)
    assert off[1] == plain
    assert backed_off(FOUR, 20)[0].preload_mm == 0.0


# A heat that is held


def test_a_heat_is_held_since_it_last_was_elsewhere() -> None:
    t = np.arange(0, 601, 30.0)
    c = np.where(t < 240, 40 + t / 20, 60.0)
    found = hold(list(t), list(c), 60)
    assert found is not None
    # The last reading outside is the one before it was reached to within two degrees.
    last = t[np.abs(c - 60) > HEAT.within_c][-1]
    assert found.held_minutes == pytest.approx((600 - last) / 60)
    assert (found.rate_c_min, found.swing_c, found.steady) == (pytest.approx(0.0), pytest.approx(0.0), True)
    assert found.words.startswith("held for")


def test_the_rate_and_the_swing_are_those_of_the_last_minutes() -> None:
    t = np.arange(0, 901, 10.0)
    c = 59 + t / 600 + 0.4 * np.where((t / 10) % 2 == 0, 1, -1)
    found = hold(list(t), list(c), 60)
    assert found is not None
    recent = t >= t[-1] - 60 * HEAT.window_minutes
    assert found.rate_c_min == pytest.approx(60 * np.polyfit(t[recent], c[recent], 1)[0])
    assert found.rate_c_min == pytest.approx(0.1, abs=0.02)
    assert found.swing_c == pytest.approx(0.4, abs=0.02)
    assert found.steady


@pytest.mark.parametrize(
    ("celsius", "steady", "says"),
    [
        ([20, 25, 30, 35], False, "35.0 of 60 °C, rising 10.0 °C a minute"),
        ([75, 74, 73, 72], False, "72.0 of 60 °C, falling 2.0 °C a minute"),
        ([60, 60, 60, 40], False, "40.0 of 60 °C"),
        ([58.5, 59.2, 59.9, 60.6], False, "still moving +1.4 °C a minute"),
        ([61.5, 58.5, 61.5, 58.5, 61.5, 58.5], False, "tune the heater"),
        ([60, 60.1, 60, 60.1], True, "held for"),
    ],
)
def test_what_is_not_steady_is_said(celsius: list[float], steady: bool, says: str) -> None:
    found = hold([30.0 * k for k in range(len(celsius))], celsius, 60)
    assert found is not None
    assert found.steady == steady
    assert says in found.words
    assert (found.held_minutes > 0) == (abs(celsius[-1] - 60) <= HEAT.within_c)


def test_how_it_came_there_is_no_swing_of_what_is_held() -> None:
    """A plate that rose by ten degrees a minute a moment ago: nobody is sent to tune its heater for that."""
    t = np.arange(0, 301, 10.0)
    for minutes in (0.2, 1.0, 3.0):
        reached = t[-1] - 60 * minutes
        c = np.minimum(60 + (t - reached) / 6, 60 + 0.2 * np.sin(t / 7))
        found = hold(list(t), list(c), 60)
        assert found is not None
        assert "tune the heater" not in found.words
        if minutes < 1:
            assert not found.steady  # three readings are the least
        else:
            assert found.swing_c <= HEAT.swing_c


def test_one_reading_tells_nothing() -> None:
    assert hold([0.0], [60.0], 60) is None
    two = hold([0.0, 0.5], [60.0, 60.0], 60)
    assert two is not None
    assert (two.rate_c_min, two.swing_c) == (0.0, 0.0)


# A beam


@given(st.floats(-2, 2), st.floats(-2, 2))
def test_the_right_drive_makes_up_for_the_whole_difference(left: float, right: float) -> None:
    beam = Beam(left_mm=-50, right_mm=350, pitch_mm=8, steps_per_turn=200)
    found = level(beam, BeamReading(left_x_mm=20, right_x_mm=220, left_mm=left, right_mm=right))
    slope = (right - left) / 200
    if abs(slope * 400) <= 0.05:
        assert found.level
        assert (found.up_mm, found.turns, found.steps, found.hangs) == (0.0, 0.0, 0, "neither")
        return
    # Once the right drive is raised by so much, the beam has no slope left.
    assert slope + found.up_mm / 400 == pytest.approx(0.0, abs=1e-9)
    assert found.turns == pytest.approx(found.up_mm / 8)
    assert found.steps == round(found.turns * 200)
    assert found.hangs == ("left" if right > left else "right")
    assert ("Raise" if found.up_mm > 0 else "Lower") in found.words
    assert f"{abs(found.turns):.3f} turns, or {abs(found.steps)} full steps" in found.words
    assert found.drive == "right"


def test_two_readings_too_close_say_little() -> None:
    beam = Beam(left_mm=0, right_mm=300, pitch_mm=8, steps_per_turn=200)
    for left, right in ((100, 130), (200, 100)):
        with pytest.raises(ValueError, match="40 mm apart"):
            level(beam, BeamReading(left_x_mm=left, right_x_mm=right, left_mm=0, right_mm=0))
    assert level(beam, BeamReading(left_x_mm=100, right_x_mm=140, left_mm=0, right_mm=0)).level
