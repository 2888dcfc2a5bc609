"""Grids as people paste them, the machine's own interpolation, and the named forms."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import RegularGridInterpolator

from ivory_table.core.form import fit
from ivory_table.core.mesh import MeshGrid, MeshSurvey, believed_by_machine, grid_on, read_grid
from ivory_table.runs.state import RunState
from ivory_table.stations.mesh.entries import MeshKept, MeshPoint
from tests.conftest import after, setup_for

ROWS = ((0.1, 0.2, 0.3), (-0.1, 0.0, 0.15))


@pytest.mark.parametrize(
    "text",
    [
        "0.1,0.2,0.3\n-0.1,0,0.15",
        "0.1\t0.2\t0.3\n-0.1\t0.0\t0.15\n\n",
        "  0.1 0.2   .3\n-.1 0 1.5e-1",
        "0.1;0.2;0.3\r\n−0.1;0;0.15\r\n",
        "\ufeff+0.1,+0.2,+0.3\n-0.1,0,0.15",
        "20,120,220\n0.1,0.2,0.3\n-0.1,0,0.15",
        ",20,120,220\n20,0.1,0.2,0.3\n200,-0.1,0,0.15",
        "y\\x\t20\t120\t220\n20\t0.1\t0.2\t0.3\n200\t-0.1\t0\t0.15",
    ],
)
def test_a_grid_is_read_however_it_is_written(text: str) -> None:
    assert read_grid(text, "front_first").heights_mm == ROWS


def test_rows_from_the_back_are_turned_round() -> None:
    assert read_grid("0.1,0.2,0.3\n-0.1,0,0.15", "back_first").heights_mm == ROWS[::-1]


def test_positions_beside_the_rows_settle_their_order() -> None:
    found = read_grid(",20,120,220\n200,-0.1,0,0.15\n20,0.1,0.2,0.3", "front_first")
    assert found.ys_mm == (20, 200)
    assert found.heights_mm == ROWS


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("", "no numbers"),
        ("0.1,0.2\n0.3", "Line 2 has 1 numbers where the first row has 2"),
        ("0.1,,0.3\n0.1,0.2,0.3", "Line 1, number 2 is missing"),
        ("0.1,0.2\nnan,0.3", "'nan', which is not a number"),
        ("0.1,0.2\ninf,0.3", "not a number"),
        ("0.1,1e9\n0.2,0.3", "no height"),
        ("100,200\n150,300\n120,90", "Divide them by 1000"),
        ("0.1\n0.2", "at least two"),
        ("left,right\n0.1,0.2\n0.1,0.2", "words, not positions"),
        ("\n".join(["0.1 0.2"] * 26), "more than 25"),
        ("x" * 300_000, "Paste the grid alone"),
    ],
)
def test_what_is_no_grid_is_refused_with_the_place_and_the_reason(text: str, sentence: str) -> None:
    with pytest.raises(ValueError, match=sentence):
        read_grid(text, "front_first")


@given(st.text(max_size=200))
def test_any_text_is_read_or_refused_with_a_sentence(text: str) -> None:
    try:
        found = read_grid(text, "back_first")
    except ValueError as wrong:
        assert str(wrong).endswith((".", ".)"))
    else:
        assert len({len(r) for r in found.heights_mm}) == 1


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
