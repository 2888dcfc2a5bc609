"""Waiting for heat and filling from below: against what it does to the same zones when it is done."""

import numpy as np
import pytest

from ivory_table.core.bead import Bead
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.form_actions import shim, wait_for_heat
from ivory_table.core.moves import p_all_sound
from ivory_table.core.proof_field import estimate_field
from ivory_table.core.signs import Mark

BEAD = Bead(0.42, 0.2)
ZONES = np.array([[20.0, 20.0], [200.0, 20.0], [110.0, 110.0], [20.0, 200.0], [200.0, 200.0]])
LOW, HIGH = BEAD.bands_mm()["sound"]


def measured(*gaps: float) -> FieldPosterior:
    """Zones whose gaps a caliper has told."""
    z = len(gaps)
    cov = np.zeros((z + 1, z + 1))
    cov[:z, :z] = 0.05**2 * np.ones((z, z)) + 0.06**2 * np.eye(z)
    cov[z, z] = 0.01**2
    marks = tuple(Mark(k, None, g) for k, g in enumerate(gaps))
    return estimate_field(np.append(np.full(z, 0.2), 0.0), cov, marks, BEAD)


def shimmed(field: FieldPosterior, *, knobs: bool, so_far: float = 0.0):
    return shim(field, BEAD, ZONES, 0.01, 0.19, knobs=knobs, so_far=so_far)


def test_a_hollow_middle_is_filled_and_a_tilt_is_the_knobs() -> None:
    hollow = measured(0.19, 0.19, 0.29, 0.19, 0.19)
    for knobs in (True, False):
        told = shimmed(hollow, knobs=knobs)
        assert told is not None
        # Held against filling it by hand: two sheets of 0.05 or one of 0.1 in the middle, nothing elsewhere.
        filled = hollow.gaps[0] - np.array([0, 0, 0.1, 0, 0])
        r = np.random.default_rng(3)
        p = max(
            p_all_sound(r.normal(filled + s, hollow.gaps[1], (20_000, 5)), LOW, HIGH)
            for s in np.arange(-0.03, 0.04, 0.01)
        )
        assert told.p_all_sound == pytest.approx(p, abs=0.12)
        assert "sheet" in told.reason
    tilted = measured(0.15, 0.23, 0.19, 0.15, 0.23)
    assert shimmed(tilted, knobs=True) is None
    assert shimmed(tilted, knobs=False) is not None


def test_a_shim_is_not_spoken_of_where_something_else_does() -> None:
    hollow = measured(0.19, 0.19, 0.29, 0.19, 0.19)
    assert shimmed(hollow, knobs=True, so_far=0.7) is None
    assert shimmed(measured(0.19, 0.19, 0.19, 0.19, 0.19), knobs=True) is None


def test_a_plate_that_still_moves_is_waited_for() -> None:
    field = measured(0.19, 0.19, 0.23, 0.19, 0.19)
    bow = np.array([0.0, 0.0, 1.0, 0.0, 0.0])
    told = wait_for_heat(field, BEAD, 0.04 * bow, 6.0)
    assert told is not None
    # The middle rises and its gap with it closes: it is likelier sound then, and less likely where it sinks.
    sinks = wait_for_heat(field, BEAD, -0.04 * bow, 6.0)
    assert sinks is not None
    assert told.p_all_sound > sinks.p_all_sound + 0.1
    assert told.minutes > 6.0
    assert "still rises by 0.040 mm" in told.reason
    assert "still sinks by 0.040 mm" in sinks.reason
    assert wait_for_heat(field, BEAD, 0.005 * bow, 6.0) is None
    assert wait_for_heat(field, BEAD, 0.04 * bow, 0.0) is None


def test_without_knobs_what_is_shimmed_keeps_its_height_but_for_the_offset() -> None:
    """A hollow a tenth deep, a tenth too far in all: the sheet fills it, and the height is the offset's."""
    told = shimmed(measured(0.29, 0.29, 0.39, 0.29, 0.29), knobs=False)
    near = shimmed(measured(0.19, 0.19, 0.29, 0.19, 0.19), knobs=False)
    assert told is not None
    assert near is not None
    assert told.p_all_sound == pytest.approx(near.p_all_sound, abs=0.05)
