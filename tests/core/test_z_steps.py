"""Steps per mm from printed heights: against scipy's line, and what a caliper cannot tell is not said."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import linregress

from ivory_table.core.z_steps import PrintedHeight, z_steps


def heights(pairs) -> tuple[PrintedHeight, ...]:
    return tuple(PrintedHeight(drawn_mm=d, measured_mm=m) for d, m in pairs)


def test_the_line_is_scipys_and_the_foot_falls_out() -> None:
    drawn = np.array([5.0, 20.0, 40.0, 60.0])
    measured = 0.12 + 1.02 * 0.998 * drawn + np.array([0.01, -0.01, 0.0, 0.01])
    line = linregress(drawn, measured)
    found = z_steps(heights(zip(drawn, measured, strict=True)), "PLA", 400.0)
    assert found.foot_mm == pytest.approx(line.intercept, abs=1e-4)
    assert found.per_mm == pytest.approx(line.slope / 0.998, abs=1e-5)
    assert found.new_steps_per_mm == pytest.approx(400 / found.per_mm, abs=1e-3)
    assert "home" in found.words


def test_what_the_plastic_does_is_not_put_into_the_steps() -> None:
    """ABS that shrinks as it does: the steps stay."""
    found = z_steps(heights([(5, 4.97), (60, 59.6)]), "ABS", 400.0)
    assert found.new_steps_per_mm is None
    assert "leave the steps" in found.words
    assert z_steps(heights([(5, 5.1), (60, 63.1)]), "ABS").new_steps_per_mm is None


@given(st.floats(0.9, 1.1), st.floats(-0.3, 0.3), st.sampled_from(["PLA", "PETG", "ABS", "ASA", "TPU"]))
def test_a_scale_put_right_is_right(scale: float, foot: float, material: str) -> None:
    pairs = [(d, foot + 5 + scale * d) for d in (10.0, 30.0, 80.0)]
    found = z_steps(heights(pairs), material, 800.0)
    if found.new_steps_per_mm is None:
        assert abs(found.per_mm - 1) <= 2 * found.sd + 1e-4
    else:
        assert found.new_steps_per_mm * found.per_mm == pytest.approx(800, rel=1e-4)
        assert (found.new_steps_per_mm < 800) == (found.per_mm > 1)


@pytest.mark.parametrize("pairs", [[], [(20, 20)], [(20, 20), (22, 22)]])
def test_one_height_alone_is_refused(pairs) -> None:
    with pytest.raises(ValueError, match="two heights"):
        z_steps(heights(pairs), "PLA")
