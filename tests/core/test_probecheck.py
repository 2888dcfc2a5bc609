"""A probe's scatter is known as a chance; heat is told apart from it; a sensor is turned the right way."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from ivory_table.core.defaults import PROBE
from ivory_table.core.probecheck import Touch, repeats, sensor_turn

LIMIT = PROBE.share_of_tol * 0.15 * 0.2


def touches(z: np.ndarray, c: np.ndarray | None = None) -> tuple[Touch, ...]:
    return tuple(Touch(z_mm=float(v), bed_c=None if c is None else float(c[k])) for k, v in enumerate(z))


def test_the_chance_is_the_chi_squared_law_s() -> None:
    z = np.array([0.000, 0.004, -0.003, 0.002, -0.001, 0.003, -0.004, 0.001])
    found = repeats(touches(z), 0.2)
    assert found.sd_mm == pytest.approx(z.std(ddof=1))
    assert found.limit_mm == pytest.approx(LIMIT)
    assert found.p_good == pytest.approx(stats.chi2.sf(7 * z.var(ddof=1) / LIMIT**2, 7))
    low, high = found.sd_between_mm
    assert stats.chi2.cdf(7 * z.var(ddof=1) / low**2, 7) == pytest.approx(0.95)
    assert stats.chi2.cdf(7 * z.var(ddof=1) / high**2, 7) == pytest.approx(0.05)


@pytest.mark.parametrize(("truth", "wrong"), [(0.004, "poor"), (0.02, "good")])
def test_a_plain_case_is_hardly_ever_called_the_other_way(truth: float, wrong: str) -> None:
    rng = np.random.default_rng(3)
    told = [repeats(touches(rng.normal(0, truth, 10)), 0.2).verdict for _ in range(300)]
    assert told.count(wrong) <= 3


def test_few_touches_are_no_verdict() -> None:
    for n in range(5):
        found = repeats(touches(np.zeros(n)), 0.2)
        assert (found.verdict, found.sd_mm) == ("touch_more", None)
        assert f"{5 - n} times more" in found.words


def test_heat_is_told_apart_from_scatter() -> None:
    rng, c = np.random.default_rng(1), np.repeat([22.0, 60.0], 8)
    found = repeats(touches(0.0012 * (c - 22) + rng.normal(0, 0.002, 16), c), 0.2)
    assert found.per_c_mm == pytest.approx(0.0012, abs=3 * found.per_c_sd_mm)
    assert found.verdict == "good"
    # The verdict is said, and what heat does beside it.
    assert found.words.startswith("It repeats to")
    assert f"Heat moves its trigger by {1000 * found.per_c_mm:+.1f} µm" in found.words
    # Left unsaid, the same touches look like scatter.
    assert repeats(touches(0.0012 * (c - 22)), 0.2).verdict == "poor"


def test_what_parking_over_heat_does_is_told_apart_from_the_plates_heat() -> None:
    rng = np.random.default_rng(4)
    c, parked = np.repeat([22.0, 60.0], 8), np.tile([0.0, 5.0, 0.0, 10.0], 4)
    z = 0.0005 * c - 0.0012 * parked + rng.normal(0, 0.002, 16)
    found = repeats(
        tuple(Touch(z_mm=float(v), bed_c=float(t), parked_min=float(m)) for v, t, m in zip(z, c, parked, strict=True)),
        0.2,
    )
    assert found.per_min_mm == pytest.approx(-0.0012, abs=3 * found.per_min_sd_mm)
    assert found.per_c_mm == pytest.approx(0.0005, abs=3 * found.per_c_sd_mm)
    assert f"wanders by {1000 * found.per_min_mm:+.1f} µm a minute" in found.words
    # Both are the least squares of all three together.
    rows = np.column_stack([np.ones(16), c, parked])
    assert (found.per_c_mm, found.per_min_mm) == pytest.approx(tuple(np.linalg.lstsq(rows, z, rcond=None)[0][1:]))
    # Told with some touches only, or always the same, it says nothing.
    some = tuple(Touch(z_mm=float(v), parked_min=5.0 if k else None) for k, v in enumerate(z))
    assert repeats(some, 0.2).per_min_mm is None
    assert repeats(tuple(Touch(z_mm=float(v), parked_min=5.0) for v in z), 0.2).per_min_mm is None


def test_heat_and_time_that_went_together_are_not_told_apart() -> None:
    z, c = np.linspace(0, 0.01, 9), np.linspace(20, 60, 9)
    found = repeats(
        tuple(Touch(z_mm=float(v), bed_c=float(t), parked_min=float(t) / 4) for v, t in zip(z, c, strict=True)), 0.2
    )
    assert (found.per_c_mm, found.per_min_mm) == (None, None)


def test_the_slope_and_its_error_are_least_squares() -> None:
    rng, c = np.random.default_rng(2), np.linspace(20, 60, 9)
    z = 0.0005 * c + rng.normal(0, 0.003, 9)
    found, line = repeats(touches(z, c), 0.2), stats.linregress(c, z)
    assert (found.per_c_mm, found.per_c_sd_mm) == pytest.approx((line.slope, line.stderr))


@given(st.floats(-3, 8), st.floats(0.2, 1.5), st.booleans())
def test_the_turn_that_is_said_brings_the_sensor_to_where_it_should_sit(margin: float, pitch: float, way: bool) -> None:
    said = sensor_turn(margin, pitch, clockwise_raises=way)
    raised = said.turns * pitch * (1 if way else -1)
    # A sensor that is raised triggers with the tip so much lower.
    after = margin - raised
    assert abs(after - PROBE.margin_mm) <= max(PROBE.margin_within_mm, 0.01 * pitch) + 1e-9
    assert said.right == (abs(margin - PROBE.margin_mm) <= PROBE.margin_within_mm)


def test_a_tip_that_touches_first_is_said_and_a_thread_of_nothing_refused() -> None:
    assert "touches before it triggers" in sensor_turn(-0.2, 0.5, clockwise_raises=False).words
    with pytest.raises(ValueError, match="thread"):
        sensor_turn(1.0, 0.0, clockwise_raises=True)
