"""Which way round a grid lies, and whether an earlier mesh still holds."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.grid_layout import LAYOUTS, Layout, LayoutChance, layout_chances, sure, telling
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.mesh_check import CheckRead, OldMesh, compare
from ivory_table.core.mesh_plan import used_places
from ivory_table.core.plate import Plate

PLATE = Plate(id="p", name="p", width_mm=220, depth_mm=200)
GRID = grid_on(PLATE, 4, 4)


@given(st.sampled_from(LAYOUTS), st.integers(2, 5), st.integers(2, 5), st.integers(0, 99))
def test_what_is_written_one_way_is_read_back_that_way(layout: Layout, rows: int, columns: int, seed: int) -> None:
    heights = np.random.default_rng(seed).normal(size=(rows, columns))
    assert np.array_equal(layout.turned(layout.written(heights)), heights)


def test_every_way_is_another_one() -> None:
    heights = np.arange(12.0).reshape(3, 4) + 0.5
    seen = {layout.written(heights).tobytes() + bytes(layout.written(heights).shape) for layout in LAYOUTS}
    assert len(seen) == len(LAYOUTS) == 16


@pytest.mark.parametrize("truly", LAYOUTS, ids=lambda layout: layout.words)
def test_a_plain_plate_shows_which_way_round_a_grid_lies(truly: Layout) -> None:
    u, v = ((GRID.places - PLATE.centre) / 100).T
    z = (0.3 * u + 0.1 * v - 0.15 * u * u).reshape(4, 4)
    text = truly.written(z)
    ways = {layout: layout.turned(text).ravel() for layout in LAYOUTS}
    places = telling(np.array(list(ways.values())), np.ones(16), 5)
    chances = layout_chances(
        {layout: heights[places] for layout, heights in ways.items()}, z.ravel()[places] + 0.7, 1e-4 * np.eye(5)
    )
    assert sure(chances)
    assert chances[0].layout == truly
    assert sum(c.p for c in chances) == pytest.approx(1)


def test_a_plate_that_looks_the_same_from_both_sides_is_asked_about() -> None:
    u, v = ((GRID.places - PLATE.centre) / 100).T
    bow = (-0.1 * (u * u + v * v)).reshape(4, 4)
    ways = {layout: layout.turned(bow).ravel() for layout in LAYOUTS}
    chances = layout_chances(ways, bow.ravel(), 1e-4 * np.eye(16))
    assert not sure(chances)
    assert not sure(())
    assert sure((LayoutChance(layout=Layout(), p=0.999),))


def mesh(z: np.ndarray, owns_zero: bool = True) -> MeshSurvey:
    rows = tuple(map(tuple, np.round(z, 6).reshape(4, 4).tolist()))
    return MeshSurvey(grid=GRID, heights_mm=rows, owns_zero=owns_zero, plate_id="p")


U, V = ((GRID.places - PLATE.centre) * 2 / (220, 200)).T


def test_two_meshes_are_compared_as_shift_tilt_form_and_rest() -> None:
    one = mesh(0.05 + 0.02 * U - 0.03 * (U * U + V * V))
    same = compare(one, one, PLATE)
    assert (same.shift_mm, same.form_mm, same.local_mm) == pytest.approx((0, 0, 0), abs=1e-9)
    shifted = compare(mesh(0.05 + one.values.ravel()), one, PLATE)
    assert shifted.shift_mm == pytest.approx(0.05)
    assert "0.05 mm higher as a whole" in shifted.words
    tilted = compare(mesh(one.values.ravel() + 0.04 * U), one, PLATE)
    assert tilted.tilt_x_mm == pytest.approx(0.08, abs=1e-6)
    assert tilted.tilt_y_mm == pytest.approx(0, abs=1e-6)
    bent = compare(mesh(one.values.ravel() + 0.05 * U * V), one, PLATE)
    assert bent.form_mm > 0.04
    # What is off on one side alone counts as well.
    raised = one.values.copy()
    raised[:, -1] += 0.1
    assert compare(mesh(raised.ravel()), one, PLATE).tilt_x_mm > 0.03
    # A probed mesh has no zero of its own.
    assert "as a whole" not in compare(mesh(0.1 + one.values.ravel(), owns_zero=False), one, PLATE).words


def old(days: float = 7.0) -> OldMesh:
    return OldMesh(mesh(0.02 * U - 0.03 * (U * U + V * V)), PLATE, used_places(PLATE, GRID, 9), days, 0.03)


def reads_of(one: OldMesh, off: np.ndarray, count: int) -> list[CheckRead]:
    heights = one.survey.values.ravel() + off
    chosen = one.to_read(GRID.places, count, 0.01)
    return [CheckRead(*map(float, GRID.places[k]), float(heights[k]), 0.01) for k in chosen]


def test_an_old_mesh_that_fits_holds_and_one_that_does_not_is_found_out() -> None:
    zero = np.full(16, 0.2)
    assert replace(old(), reads=tuple(reads_of(old(), zero, 5))).verdict == "holds"
    assert replace(old(), reads=tuple(reads_of(old(), zero + 0.1 * U, 3))).verdict == "does not hold"
    assert replace(old(), reads=tuple(reads_of(old(), zero + 0.15 * (U * U + V * V), 4))).verdict == "does not hold"


def test_age_alone_makes_it_less_likely_to_hold() -> None:
    p = [old(days).p_holds for days in (0, 7, 60, 700)]
    assert p == sorted(p, reverse=True)
    assert 0 < p[-1] < p[0] < 1


def test_three_places_read_are_far_apart() -> None:
    chosen = GRID.places[old().to_read(GRID.places, 3, 0.01)]
    assert np.linalg.norm(chosen[:, None] - chosen[None], axis=2)[np.triu_indices(3, 1)].min() > 80


def test_the_first_place_is_the_middle_and_the_next_are_far_from_it() -> None:
    chosen = GRID.places[old().to_read(GRID.places, 4, 0.01)]
    from_middle = np.linalg.norm(chosen - GRID.centre, axis=1)
    every = np.linalg.norm(GRID.places - GRID.centre, axis=1)
    assert from_middle[0] == every.min()
    assert from_middle[1] > np.median(every)
    assert len(np.unique(chosen, axis=0)) == 4
