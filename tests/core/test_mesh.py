"""What the machine makes of a mesh, whose zero is in it, and the named forms."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import LinearNDInterpolator, RegularGridInterpolator

from ivory_table.core.form import fit
from ivory_table.core.mesh import (
    MeshGrid,
    MeshLaw,
    MeshSurvey,
    Sounding,
    believed_by_machine,
    drift_taken_out,
    fade_for,
    grid_on,
)
from ivory_table.runs.state import RunState
from ivory_table.stations.mesh.entries import MeshKept, MeshPoint
from tests.conftest import after, setup_for


def survey(owns_zero: bool = True) -> MeshSurvey:
    setup = setup_for("heron")
    grid = grid_on(setup.plate, 3, 3)
    values = np.random.default_rng(4).normal(0, 0.03, (3, 3)).round(3)
    return MeshSurvey(
        grid=grid, heights_mm=tuple(map(tuple, values.tolist())), owns_zero=owns_zero, plate_id=setup.plate_id
    )


def test_the_machine_interpolates_as_scipy_does() -> None:
    mesh = survey()
    inside = np.random.default_rng(1).uniform(25, 210, (30, 2))
    other = RegularGridInterpolator((mesh.grid.ys_mm, mesh.grid.xs_mm), mesh.values)(inside[:, ::-1])
    assert np.allclose(believed_by_machine(mesh, inside), other)
    assert believed_by_machine(mesh, [(0, 0)])[0] == mesh.values[0, 0]


def test_every_law_goes_through_the_points_and_follows_a_plane() -> None:
    mesh = survey()
    plane = mesh.model_copy(update={"heights_mm": tuple(map(tuple, (mesh.grid.places @ (1e-3, -2e-3)).reshape(3, 3)))})
    inside = np.random.default_rng(2).uniform(30, 200, (40, 2))
    for between in ("bilinear", "bicubic", "triangles"):
        for divided in (1, 3):
            law = MeshLaw(between=between, divided=divided)
            assert believed_by_machine(mesh, mesh.grid.places, law) == pytest.approx(mesh.values.ravel(), abs=1e-9)
            assert believed_by_machine(plane, inside, law) == pytest.approx(inside @ (1e-3, -2e-3), abs=1e-9)


def test_triangles_are_flat_and_meet_at_the_diagonal() -> None:
    """Against scipy's linear interpolation over the same two triangles of one cell."""
    grid = MeshGrid(xs_mm=(0.0, 10.0), ys_mm=(0.0, 10.0))
    mesh = MeshSurvey(grid=grid, heights_mm=((0.0, 0.1), (0.3, 0.0)), owns_zero=True, plate_id="p")
    at = np.random.default_rng(5).uniform(0, 10, (50, 2))
    right = at[:, 0] >= at[:, 1]
    corners = np.array([(0, 0), (10, 0), (0, 10), (10, 10)], dtype=float)
    for side, three in ((right, [0, 1, 3]), (~right, [0, 2, 3])):
        flat = LinearNDInterpolator(corners[three], np.array([0.0, 0.1, 0.3, 0.0])[three])(at[side])
        found = believed_by_machine(mesh, at[side], MeshLaw(between="triangles"))
        assert found[~np.isnan(flat)] == pytest.approx(flat[~np.isnan(flat)], abs=1e-9)


def test_what_a_machine_takes_off_a_mesh_is_the_same_everywhere() -> None:
    mesh, places = survey(), np.random.default_rng(3).uniform(30, 200, (9, 2))
    plain = believed_by_machine(mesh, places)
    against_mean = believed_by_machine(mesh, places, MeshLaw(zero_at="mean"))
    assert plain - against_mean == pytest.approx(mesh.values.mean())
    centre = believed_by_machine(mesh, [mesh.grid.centre], MeshLaw(zero_at="centre"))
    assert centre == pytest.approx([0])


def test_a_fade_height_keeps_layers_within_a_share() -> None:
    mesh = survey()
    high = fade_for(mesh, 0.02)
    worst = np.abs(mesh.values - mesh.values.mean()).max()
    # Between two layers the correction changes by worst * step / high.
    assert worst * 0.2 / high == pytest.approx(0.02 * 0.2)


@given(st.integers(2, 7), st.integers(2, 7), st.sampled_from(["heron", "kestrel", "wren", "bittern"]))
def test_every_mesh_point_lies_on_its_plate(nx: int, ny: int, machine: str) -> None:
    plate = setup_for(machine).plate
    assert all(plate.holds(x, y, 5) for x, y in grid_on(plate, nx, ny).places)


@given(st.floats(-0.2, 0.2), st.floats(-0.1, 0.1), st.floats(-0.1, 0.1))
def test_a_made_up_form_is_found_again(tilt: float, bow: float, twist: float) -> None:
    grid = MeshGrid(xs_mm=(0.0, 50, 100, 150, 200), ys_mm=(0.0, 100, 200))
    u, v = (grid.places / 100 - 1).T
    found = fit(grid.places, tilt * u / 2 - bow * (u * u + v * v) + twist * u * v, (0, 0, 200, 200))
    assert found.tilt_x_mm == pytest.approx(tilt, abs=1e-9)
    amounts = {f.form: f.amount_mm for f in found.forms}
    assert amounts["bow"] == pytest.approx(bow, abs=1e-9)
    assert amounts["twist"] == pytest.approx(twist, abs=1e-9)
    assert amounts["saddle"] == pytest.approx(0, abs=1e-9)


def test_a_mesh_felt_by_hand_owns_the_zero_and_a_probed_one_does_not() -> None:
    start = RunState.start(setup_for("heron"))
    cx, cy = start.setup.plate.centre
    felt = after(start, MeshKept(survey=survey(True)), station="mesh")
    probed = after(start, MeshKept(survey=survey(False)), station="mesh")
    assert felt.belief.height([(cx, cy)])[1][0] < 0.03
    assert probed.belief.height([(cx, cy)])[1][0] > 0.2
    # Probed, the machine takes its mesh against the centre.
    assert probed.machine_believes(np.array([[cx, cy]]))[0] == pytest.approx(0)
    # Felt, what is left after the mesh is the drag itself, not the mesh once more.
    left = felt.belief.height([(cx, cy)])[0][0] - felt.machine_believes(np.array([[cx, cy]]))[0]
    assert left == pytest.approx(-0.1, abs=0.03)


def test_a_mesh_of_another_plate_is_refused() -> None:
    state = RunState.start(setup_for("wren"))
    with pytest.raises(ValueError, match="another plate"):
        after(state, MeshKept(survey=survey()), station="mesh")


def test_one_point_of_a_kept_mesh_is_measured_again() -> None:
    kept = after(RunState.start(setup_for("heron")), MeshKept(survey=survey()), station="mesh")
    again = after(kept, MeshPoint(column=2, row=1, height_mm=0.07), station="mesh")
    assert again.mesh.values[1, 2] == 0.07
    changed = again.mesh.values - kept.mesh.values
    assert np.count_nonzero(changed) == 1
    place = again.mesh.grid.places[5:6]
    moved = again.belief.height(place)[0][0] - kept.belief.height(place)[0][0]
    assert np.sign(moved) == np.sign(changed[1, 2])
    with pytest.raises(ValueError, match="no such point"):
        after(kept, MeshPoint(column=3, row=0, height_mm=0.07), station="mesh")


def test_what_the_base_drifted_is_taken_out_along_the_time() -> None:
    """The base rises evenly by 0.1 mm in 100 s, and so does everything read meanwhile."""
    base = [Sounding(0.0, None, 0.5), Sounding(100.0, None, 0.6)]
    points = [Sounding(t, (k, 0), 0.02 * k + 0.001 * t) for k, t in enumerate((10.0, 40.0, 90.0))]
    again = Sounding(95.0, (2, 0), 0.06 + 0.095)
    heights, closing = drift_taken_out([base[0], *points, again, base[1]])
    assert closing == pytest.approx(0.1)
    assert [heights[k, 0] for k in range(3)] == pytest.approx([0.0, 0.02, 0.05])
    # By one visit nothing is known of a drift.
    alone, none = drift_taken_out([base[0], *points])
    assert [alone[k, 0] for k in range(3)] == pytest.approx([0.01, 0.06, 0.13])
    assert none == 0.0
    assert drift_taken_out(points)[1] == 0.0
