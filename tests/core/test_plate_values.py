"""What a plate will need is the value of the one before it and what the two differ by."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.plate_values import PlateValue, foretold_for

BEGAN = datetime(2026, 3, 2, 9, tzinfo=UTC)


def values(*told: tuple[str, float]) -> tuple[PlateValue, ...]:
    return tuple(PlateValue(at=BEGAN + timedelta(days=k), plate_id=p, stored_mm=v) for k, (p, v) in enumerate(told))


def test_nothing_is_foretold_of_a_plate_that_was_never_mounted_or_is_mounted_now() -> None:
    assert foretold_for("glass", values(("steel", 1.0)), 1.0) is None
    assert foretold_for("steel", values(("glass", 1.2), ("steel", 1.0)), 1.0) is None
    assert foretold_for("glass", (), 1.0) is None


@given(st.floats(-2, 2), st.floats(-0.3, 0.3), st.floats(-0.5, 0.5))
def test_the_machine_s_own_wandering_is_shared_by_its_plates(stored: float, differ: float, wandered: float) -> None:
    told = values(("steel", stored), ("glass", stored + differ), ("steel", stored + wandered))
    found = foretold_for("glass", told, stored + wandered)
    assert found is not None
    # One change each way, of which the second took the wandering with it.
    assert found.stored_mm == pytest.approx(stored + wandered + (2 * differ - wandered) / 2, abs=1e-3)
    assert found.changes == 2


def test_the_surer_the_more_often_it_was_mounted_and_the_more_alike() -> None:
    alike = [("steel", 1.0), ("glass", 1.3)] * 6 + [("steel", 1.0)]
    once = foretold_for("glass", values(*alike[:3]), 1.0)
    often = foretold_for("glass", values(*alike), 1.0)
    rough = foretold_for("glass", values(*[(p, v + (k % 3) * 0.08) for k, (p, v) in enumerate(alike)]), 1.0)
    assert once is not None
    assert often is not None
    assert rough is not None
    assert often.sd_mm < once.sd_mm < rough.sd_mm


@pytest.mark.parametrize("seats_mm", [0.012, 0.02, 0.03])
def test_stated_intervals_hold_for_plates_that_seat_better_or_worse(seats_mm: float) -> None:
    rng, held = np.random.default_rng(5), []
    for _ in range(600):
        now, told = 1.0, []
        for k in range(int(rng.integers(3, 10))):
            now += rng.normal(0, 0.004)
            told.append(("steel" if k % 2 else "glass", now + 0.3 * (k % 2) + rng.normal(0, seats_mm / 2**0.5)))
        here = "glass" if told[-1][0] == "steel" else "steel"
        found = foretold_for(here, values(*told), told[-1][1])
        assert found is not None
        truth = now + 0.3 * (here == "steel") + rng.normal(0, seats_mm / 2**0.5)
        held.append(abs(truth - found.stored_mm) <= 1.645 * found.sd_mm)
    assert 0.80 <= np.mean(held) <= 0.99
