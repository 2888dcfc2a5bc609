"""What a caliper is off by on one plate: found where gaps are known, handed to the next run, and never taken for surer than it is."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.causes import Causes
from ivory_table.core.defaults import BEAD, LAYER
from ivory_table.core.eye import Eye
from ivory_table.core.proof import plan
from ivory_table.core.proof_field import AS_BOUGHT, caliper_after, judged_field
from ivory_table.core.signs import Mark
from ivory_table.core.thick import CaliperOff
from tests.conftest import setup_for

HERON = setup_for("heron")
LAID = plan(HERON.machine, HERON.plate, HERON.filament, 5)
CAUSES = Causes.before("PLA", 0.0)


def measured(off: float, sd_gap: float, before: CaliperOff = AS_BOUGHT) -> CaliperOff:
    """Five sound patches whose gaps are known to `sd_gap`, each read too thick by `off`."""
    gap = LAID.layer_mm
    mean, cov = np.append(np.full(5, gap), 0.0), np.diag(np.append(np.full(5, sd_gap**2), 1e-8))
    marks = tuple(Mark(zone=k, grade="sound", caliper_mm=round(gap + off, 4)) for k in range(5))
    found, _ = judged_field(mean, cov, marks, LAID.bead, Eye(), CAUSES, LAID.places, before)
    return caliper_after(before, found, marks)


def test_it_is_the_textbook_posterior_where_gaps_are_known() -> None:
    off, prior = 0.01, LAYER.measured.caliper_common_mm
    noise = BEAD.caliper_sd_mm**2 / 5
    share = prior**2 / (prior**2 + noise)
    found = measured(off, 1e-5)
    assert found.off_mm == pytest.approx(share * off, rel=0.05)
    assert found.sd_mm == pytest.approx((prior**2 * (1 - share)) ** 0.5, rel=0.05)
    assert found.values == 5


def test_gaps_that_are_not_known_tell_hardly_anything() -> None:
    found = measured(0.02, 0.1)
    assert abs(found.off_mm) < 0.005
    assert found.sd_mm > 0.8 * LAYER.measured.caliper_common_mm


@settings(max_examples=30)
@given(st.floats(-0.03, 0.03), st.integers(1, 12))
def test_run_after_run_it_comes_to_what_it_is_and_stays_a_little_unsure(off: float, runs: int) -> None:
    known = CaliperOff()
    for _ in range(runs):
        known = measured(off, 0.002, known)
    assert known.sd_mm >= LAYER.measured.least_caliper_common_mm
    assert abs(known.off_mm) <= abs(off) + 1e-3
    if runs >= 6:
        assert known.off_mm == pytest.approx(off, abs=0.004 + 0.2 * abs(off))


def test_without_a_caliper_nothing_is_learnt() -> None:
    mean, cov = np.append(np.full(5, 0.2), 0.0), np.diag(np.append(np.full(5, 1e-4), 1e-6))
    marks = tuple(Mark(zone=k, grade="sound") for k in range(5))
    found, _ = judged_field(mean, cov, marks, LAID.bead, Eye(), CAUSES, LAID.places)
    assert caliper_after(AS_BOUGHT, found, marks) is AS_BOUGHT
