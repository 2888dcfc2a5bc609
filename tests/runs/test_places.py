"""A place deviates from the believed surface by the same amount each time it is read."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.defaults import TRAM
from ivory_table.runs.state import RunState
from ivory_table.stations.mesh.entries import MeshKept
from ivory_table.stations.tram.entries import Counted
from tests.conftest import after, setup_for
from tests.runs.test_effects import SURVEY

HERON = setup_for("heron")
KNOWN = after(RunState.start(HERON), *[Counted(screw=s.name, marks=0) for s in HERON.machine.screws])


@settings(max_examples=20, deadline=None)
@given(st.lists(st.floats(-0.1, 0.1), min_size=1, max_size=6), st.floats(0.002, 0.02))
def test_readings_of_one_place_are_told_as_with_a_deviation_of_its_own(values: list[float], noise: float) -> None:
    """Against the joint normal of the surface, the place's deviation and every reading, conditioned in one step."""
    row = KNOWN.belief.gap_row(60.0, 60.0)
    state = KNOWN
    for value in values:
        state = state.read_place((60.0, 60.0), "probe", row, value, noise)
    mean, cov = KNOWN.belief.of(row[None, :]), len(values)
    prior_mean, prior_var = float(mean[0][0]), float(mean[1][0]) ** 2
    own = TRAM.local_sd_mm**2 * float(KNOWN.belief.surface.local_rest([(60.0, 60.0)])[0])
    assert 0 < own < TRAM.local_sd_mm**2  # the zones around tell a part of it
    shared = prior_var + own
    joint = np.full((cov, cov), shared) + noise**2 * np.eye(cov)
    gain = np.full(cov, prior_var) @ np.linalg.inv(joint)
    wanted = prior_mean + gain @ (np.array(values) - prior_mean)
    wanted_sd = np.sqrt(prior_var - gain @ np.full(cov, prior_var))
    found, sd = state.belief.of(row[None, :])
    # Each hypothesis of the belief is conditioned alone, so their mixture differs a little from one normal.
    assert found[0] == pytest.approx(wanted, abs=2e-3)
    assert sd[0] == pytest.approx(wanted_sd, rel=0.1)


def test_the_same_survey_told_again_and_again_does_not_make_the_plate_surer_than_its_places() -> None:
    assert isinstance(SURVEY, MeshKept)
    places = SURVEY.survey.grid.places
    once = after(KNOWN, SURVEY)
    often = after(KNOWN, *[SURVEY] * 21)
    x, y = places[4]
    row = KNOWN.belief.gap_row(float(x), float(y))[None, :]
    sd_once, sd_often = (float(s.belief.of(row)[1][0]) for s in (once, often))
    assert sd_often > 0.6 * sd_once
    assert sd_often > TRAM.local_sd_mm / len(places) ** 0.5 / 2  # nine places at most tell of one form


def test_a_plate_that_was_moved_is_read_anew() -> None:
    turned = after(KNOWN, SURVEY, Counted(screw=HERON.machine.screws[0].name, marks=2))
    assert turned.read_at == {}
    assert after(KNOWN, SURVEY).read_at
