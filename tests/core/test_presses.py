"""Button presses, slips of whoever types a value, and conventions by their sign."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.offset import convention, conventions_of, presses, slipped

SIZES = (1.0, 0.1, 0.05, 0.01)
hundredths = st.integers(-300, 1500).map(lambda k: k / 100)


@given(hundredths, hundredths, st.floats(0, 2))
def test_presses_lead_there_end_downwards_and_one_more_large_one_is_still_safe(
    start: float, end: float, room: float
) -> None:
    lowest = end - room
    made = presses(start, end, SIZES, lowest)
    if abs(start - end) < 1e-9 and not made:
        return
    at, moves = start, []
    for press in made:
        assert press.times > 0
        assert press.mm in SIZES
        at += press.times * press.mm * (1 if press.up else -1)
        moves.append(press.up)
        if not press.up and press.mm > 0.01:
            assert at - press.mm >= lowest - 1e-6
    assert at == pytest.approx(end, abs=1e-6)
    # Backlash stays on one side: only the first may go up, and the last never does.
    assert not moves[-1]
    assert not any(moves[1:])
    assert moves[0] == (end >= start - 1e-9)
    # Large ones first.
    down = [p.mm for p in made if not p.up]
    assert down == sorted(down, reverse=True)


def test_presses_by_hand() -> None:
    def told(*given: object) -> list[tuple[float, int, bool]]:
        return [(p.mm, p.times, p.up) for p in presses(*given)]  # type: ignore[arg-type]

    assert told(5.0, 2.87, SIZES, 0.0) == [(1.0, 2, False), (0.1, 1, False), (0.01, 3, False)]
    # So near the plate that a press too many of 0.1 would scrape.
    assert told(0.3, 0.08, SIZES, 0.05) == [(0.1, 1, False), (0.05, 2, False), (0.01, 2, False)]
    assert told(0.0, 0.03, (0.05, 0.02), -1.0) == [(0.05, 1, True), (0.02, 1, False)]
    assert told(0.0, 0.05, (0.05,), -1.0) == [(0.05, 2, True), (0.05, 1, False)]
    assert told(1.0, 0.5, (), 0.0) == []
    # No multiple of the smallest step.
    assert told(1.0, 0.505, (0.1, 0.02), 0.0) == []


SLIPS = [
    (lambda wanted, old: -wanted, "sign"),
    (lambda wanted, old: wanted * 10, "decimal"),
    (lambda wanted, old: wanted / 10, "decimal"),
    (lambda wanted, old: wanted * 1000, "thousandths"),
    (lambda wanted, old: wanted / 25.4, "inches"),
    (lambda wanted, old: wanted + 0.1, "gauge"),
    (lambda wanted, old: wanted - 0.1, "gauge"),
    (lambda wanted, old: wanted - old, "change"),
]


@pytest.mark.parametrize(("slip", "says"), SLIPS)
def test_every_slip_is_named_with_what_was_meant(slip, says: str) -> None:
    wanted, old = -1.370, -0.820
    found = slipped(old, slip(wanted, old), wanted, 0.1, 0.04)
    assert found is not None
    assert says in found[0]
    assert found[1] == pytest.approx(wanted, abs=2e-4)


@given(st.floats(-3, 3), st.floats(-3, 3))
def test_what_is_near_is_no_slip_and_what_is_meant_is_near(typed: float, wanted: float) -> None:
    found = slipped(-0.8, typed, wanted, 0.1, 0.04)
    if abs(typed - wanted) <= 0.04:
        assert found is None
    elif found is not None:
        assert abs(found[1] - wanted) <= 0.04 + 1e-4


def test_a_gauge_is_so_thin_that_only_a_close_hit_counts() -> None:
    assert slipped(-0.82, -1.370 + 0.1 + 0.013, -1.370, 0.1, 0.04) is not None
    assert slipped(-0.82, -1.370 + 0.1 + 0.02, -1.370, 0.1, 0.04) is None


def test_conventions_are_told_apart_by_what_a_larger_number_does() -> None:
    further, closer = conventions_of(1), conventions_of(-1)
    assert set(further) | set(closer) == {"probe_offset", "home_offset", "stop_position", "live_only"}
    assert not set(further) & set(closer)
    assert all(convention(c).sign == 1 for c in further)
    assert all(convention(c).sign == -1 for c in closer)
    assert np.sign(len(further)) == np.sign(len(closer)) == 1
