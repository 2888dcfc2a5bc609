"""The map from a state to a height: exact where it must be, and the forms leave the screws alone."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.defaults import TRAM
from ivory_table.core.plate import Plate
from ivory_table.core.surface import FORMS, Surface, matern
from ivory_table.trial.tram_plates import PLATE, screws_of, surface_of

COUNTS = [3, 4, 6, 9]
places = st.lists(st.tuples(st.floats(0, PLATE.width_mm), st.floats(0, PLATE.depth_mm)), min_size=1, max_size=6)
slope = st.floats(-2, 2)


@pytest.mark.parametrize("count", COUNTS)
@given(xy=places, level=slope, along=slope, back=slope)
def test_a_plane_through_the_screws_is_that_plane_everywhere(
    count: int, xy: list[tuple[float, float]], level: float, along: float, back: float
) -> None:
    surface = surface_of(screws_of(count))

    def plane(at: np.ndarray) -> np.ndarray:
        return level + along * at[:, 0] / 100 + back * at[:, 1] / 100

    found = surface.weights(xy) @ plane(surface.screws)
    assert found == pytest.approx(plane(np.array(xy)), abs=1e-7)


@pytest.mark.parametrize("count", COUNTS)
def test_at_a_screw_the_height_is_the_screws_own_and_no_form_is_seen(count: int) -> None:
    surface = surface_of(screws_of(count))
    rows = surface.rows(surface.screws)
    assert rows[:, :count] == pytest.approx(np.eye(count), abs=1e-9)
    assert rows[:, count:] == pytest.approx(np.zeros((count, surface.size - count)), abs=1e-9)


@given(xy=places, twist=slope)
def test_four_screws_carry_a_twist_as_u_v(xy: list[tuple[float, float]], twist: float) -> None:
    surface = surface_of(screws_of(4))
    (x0, y0), (x1, y1) = surface.screws.min(axis=0), surface.screws.max(axis=0)

    def saddle(at: np.ndarray) -> np.ndarray:
        return twist * (2 * (at[:, 0] - x0) / (x1 - x0) - 1) * (2 * (at[:, 1] - y0) / (y1 - y0) - 1)

    assert surface.weights(xy) @ saddle(surface.screws) == pytest.approx(saddle(np.array(xy)), abs=1e-7)


def test_a_bow_is_lowest_in_the_middle_of_the_screws() -> None:
    surface = surface_of(screws_of(4))
    bow = surface.forms([(122, 118), (60, 60), (29, 29)])[:, FORMS.index("bow")]
    assert bow[0] < bow[1] < bow[2] == pytest.approx(0, abs=1e-9)


def test_without_knobs_three_anchors_stand_for_the_plane() -> None:
    disc = Plate(id="disc", name="disc", shape="round", width_mm=200, depth_mm=200)
    surface = Surface(disc, np.zeros((0, 2)))
    assert surface.knobs == 0
    assert surface.weights([(30, -40)]).sum() == pytest.approx(1)
    assert surface.weights(surface.anchors) == pytest.approx(np.eye(3), abs=1e-9)
    assert not surface.many


@pytest.mark.parametrize("count", COUNTS)
def test_a_local_place_is_seen_there_and_nowhere_else(count: int) -> None:
    surface = Surface(PLATE, surface_of(screws_of(count)).screws, ((50.0, 60.0), (150.0, 20.0)))
    rows = replace(surface, alike=False).rows([(50, 60), (50, 61), (150, 20)])[:, surface.first_local :]
    assert rows == pytest.approx(np.array([[1, 0], [0, 0], [0, 1]]))
    assert surface.unit(surface.bias).sum() == 1


@pytest.mark.parametrize("count", COUNTS)
def test_neighbours_deviate_alike_and_nothing_deviates_at_a_screw(count: int) -> None:
    """Against the joint normal of the deviations at the places asked for, at the known ones and at the screws."""
    known = ((50.0, 60.0), (150.0, 20.0))
    surface = Surface(PLATE, surface_of(screws_of(count)).screws, known)
    asked = np.array([(52.0, 61.0), (100.0, 100.0), *surface.screws])
    rows, rest = surface.rows(asked)[:, surface.first_local :], surface.local_rest(asked)
    assert rows[2:] == pytest.approx(0, abs=1e-9)
    assert rest[2:] == pytest.approx(0, abs=1e-9)

    every = np.vstack([asked, known])
    length = TRAM.local_length * max(PLATE.width_mm, PLATE.depth_mm)
    both = np.vstack([every, surface.screws])
    like = matern(np.linalg.norm(both[:, None] - both[None], axis=2) / length)
    # A place's deviation less what the base surface through the screws makes of theirs.
    n, k = len(asked), len(known)
    less = np.hstack([np.eye(n + k), -surface.weights(every)])
    cov = less @ like @ less.T
    weights = cov[:n, n:] @ np.linalg.inv(cov[n:, n:])
    assert rows == pytest.approx(weights, abs=1e-3)
    left = np.diag(cov)[:n] - (weights * cov[:n, n:]).sum(axis=1)
    assert rest == pytest.approx(np.clip(left, 0, None), abs=1e-3)
    assert surface.rows(known)[:, surface.first_local :] == pytest.approx(np.eye(k), abs=1e-3)
    assert surface.local_rest(known) == pytest.approx(0, abs=1e-4)
    assert rows[0, 0] > 0.5 > rows[0, 1]


@pytest.mark.parametrize("count", COUNTS)
def test_the_softest_mode_bends_and_is_of_length_one(count: int) -> None:
    surface = surface_of(screws_of(count))
    assert surface.many is (count > 4)
    if count == 3:
        assert not surface.twist.any()
        assert surface.twist_passed(np.eye(3)[None]) == pytest.approx([1])
        return
    u = surface.twist
    assert u @ u == pytest.approx(1)
    assert surface.bends @ u == pytest.approx(u, abs=1e-8)
    assert u @ surface.bending @ u == pytest.approx(1)
