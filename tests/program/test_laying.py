"""Time and filament of a program, against motion integrated step by step."""

from math import pi

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import PROOF
from ivory_table.core.manner import shipped
from ivory_table.program.laying import Writer, ascii_only, moving_time_s, seconds_by_line
from ivory_table.program.reader import read_program
from tests.conftest import setup_for


def integrated_s(length: float, speed: float, step_s: float = 2e-5) -> float:
    """Speeds up until braking must begin, then brakes: the length is passed after this time."""
    at = v = t = 0.0
    while at < length and t < 100:
        braking = v * v / (2 * PROOF.acceleration_mm_s2)
        v = v - PROOF.acceleration_mm_s2 * step_s if length - at <= braking else v + PROOF.acceleration_mm_s2 * step_s
        v = min(max(v, PROOF.acceleration_mm_s2 * step_s), speed)
        at, t = at + v * step_s, t + step_s
    return t


@pytest.mark.parametrize(
    ("length", "speed"), [(0.3, 20), (5, 20), (40, 20), (1, 120), (14, 120), (60, 120), (200, 120)]
)
def test_a_move_takes_as_long_as_its_ramps_and_its_way(length: float, speed: float) -> None:
    assert moving_time_s(length, speed) == pytest.approx(integrated_s(length, speed), rel=0.02, abs=2e-3)


@given(st.floats(0.01, 500), st.floats(1, 200), st.floats(1.01, 3))
def test_further_takes_longer_and_faster_takes_less(length: float, speed: float, more: float) -> None:
    assert moving_time_s(length * more, speed) > moving_time_s(length, speed)
    assert moving_time_s(length, speed * more) <= moving_time_s(length, speed) + 1e-9


def drawn(relative: bool) -> Writer:
    s = setup_for("heron")
    machine = s.machine.model_copy(update={"relative_extrusion": relative})
    out = Writer(machine, s.filament, Bead(0.42, 0.2), shipped("harbour"))
    out.say("G21", "G90", "M83" if relative else "M82", "G92 E0")
    out.path([(20, 20), (120, 20), (120, 60)], 0.2)
    out.path([(30, 30), (30, 80)], 0.2)
    return out


def test_absolute_and_relative_filament_lay_the_same() -> None:
    read = [read_program("\n".join(drawn(relative).lines)).moves for relative in (True, False)]
    assert len(read[0]) == len(read[1])
    for one, other in zip(*read, strict=True):
        assert one.end == other.end
        assert one.filament_mm == pytest.approx(other.filament_mm, abs=2e-5)


def test_what_is_pushed_is_what_lies_there() -> None:
    out = drawn(True)
    moves = read_program("\n".join(out.lines)).moves
    laid = sum(m.filament_mm for m in moves if m.start[:2] != m.end[:2])
    filament = setup_for("heron").filament
    assert laid == pytest.approx(190 * Bead(0.42, 0.2).area_mm2 / (pi / 4 * filament.diameter_mm**2), rel=1e-4)
    # Drawn back and pushed again: nothing of it lies anywhere.
    assert out.filament_mm == pytest.approx(laid, rel=1e-4)


def test_seconds_by_line_sum_up_to_the_writers_own() -> None:
    out = drawn(True)
    seconds = seconds_by_line(read_program("\n".join(out.lines)), len(out.lines))
    # The reader knows the ramps of a push as well; the writer counts it at full speed.
    assert seconds.sum() == pytest.approx(out.seconds, rel=0.15)
    slowest = out.lines[int(np.argmax(seconds))]
    assert slowest.startswith("G1 X120.000 Y20.000")


@pytest.mark.parametrize(("text", "plain"), [("Heron; hot", "Heron? hot"), ("Å\nB", "??B"), ("plain", "plain")])
def test_a_comment_stays_one_line_a_machine_can_swallow(text: str, plain: str) -> None:
    assert ascii_only(text) == plain
