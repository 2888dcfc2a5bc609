"""Plates, nozzles and clips nobody thought of: the proof and the mesh still fit, or say why not."""

from itertools import combinations

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.defaults import PROOF
from ivory_table.core.mesh import grid_on
from ivory_table.core.plate import Filament, KeepOut, Machine, Plate
from ivory_table.core.proof import plan, zones_on
from ivory_table.core.surface import Surface
from ivory_table.program.check import check_program
from ivory_table.program.proof import program
from ivory_table.program.reader import read_program

sides = st.integers(130, 420)
rectangles = st.builds(lambda w, d: Plate(id="p", name="p", width_mm=w, depth_mm=d), sides, sides)
discs = st.builds(lambda w: Plate(id="p", name="p", shape="round", width_mm=w, depth_mm=w), st.integers(150, 420))
plates = st.one_of(rectangles, discs)
FILAMENT = Filament(id="f", name="f", material="PETG", bed_c=80, nozzle_c=235)


def machine(plate: Plate, nozzle: float, relative: bool) -> Machine:
    return Machine(
        id="m",
        name="m",
        plates=(plate,),
        nozzle_mm=nozzle,
        relative_extrusion=relative,
        convention="probe_offset",
    )


@settings(max_examples=25, deadline=None)
@given(plates, st.sampled_from([0.25, 0.4, 0.6, 0.8]), st.sampled_from([5, 9]), st.booleans())
def test_a_proof_fits_any_plate_and_nozzle(plate: Plate, nozzle: float, zones: int, relative: bool) -> None:
    m = machine(plate, nozzle, relative)
    laid = plan(m, plate, FILAMENT, zones)
    made = program(m, plate, FILAMENT, laid, mesh_on=True)
    check_program(made.text, m, plate, laid.layer_mm)
    pushed = sum(move.filament_mm for move in read_program(made.text).moves)
    # What is drawn back at the end is not in the print.
    assert pushed == pytest.approx(made.filament_mm, abs=0.05)
    assert 0 < made.minutes < 60


@settings(max_examples=25, deadline=None)
@given(st.one_of(plates, st.builds(lambda w: Plate(id="p", name="p", width_mm=w, depth_mm=100), st.integers(60, 130))))
def test_three_patches_to_a_zone_never_touch_or_are_said_to_have_no_room(plate: Plate) -> None:
    m = machine(plate, 0.4, True)
    try:
        laid = plan(m, plate, FILAMENT, "three_heights")
    except ValueError as wrong:
        assert "no room" in str(wrong)
        assert plate.width_mm < (110 if plate.shape == "rectangle" else 160)
        return
    for a, b in combinations(laid.zones, 2):
        assert max(abs(a.x_mm - b.x_mm), abs(a.y_mm - b.y_mm)) >= laid.patch_mm + PROOF.third_gap_mm - 1e-6
    check_program(program(m, plate, FILAMENT, laid, mesh_on=False).text, m, plate, laid.layer_mm + laid.away_mm.min())


@given(plates, st.sampled_from([5, 9]))
def test_zones_lie_apart_and_mirror_each_other(plate: Plate, count: int) -> None:
    zones = zones_on(plate, count)
    places = np.array([[z.x_mm, z.y_mm] for z in zones])
    apart = np.linalg.norm(places[:, None] - places[None], axis=2) + 1e9 * np.eye(count)
    assert apart.min() > 20
    cx, cy = plate.centre
    assert np.allclose(places.mean(axis=0), [cx, cy], atol=0.02)


@settings(max_examples=40, deadline=None)
@given(rectangles, st.floats(0, 1), st.floats(0, 1), st.floats(5, 40))
def test_a_clip_anywhere_is_respected_or_said_to_leave_no_room(plate: Plate, u: float, v: float, size: float) -> None:
    x, y = u * (plate.width_mm - size), v * (plate.depth_mm - size)
    clip = KeepOut(name="clip", x_min_mm=x, y_min_mm=y, x_max_mm=x + size, y_max_mm=y + size)
    blocked = plate.model_copy(update={"keep_outs": (clip,)})
    m = machine(blocked, 0.4, True)
    try:
        made = program(m, blocked, FILAMENT, plan(m, blocked, FILAMENT), mesh_on=False)
    except ValueError as wrong:
        assert "keep-out" in str(wrong)
        return
    for move in read_program(made.text).moves:
        if move.filament_mm > 0:
            assert blocked.kept_out(move.end[0], move.end[1]) is None


@given(plates, st.integers(2, 7), st.integers(2, 7))
def test_mesh_points_are_even_and_inside(plate: Plate, nx: int, ny: int) -> None:
    grid = grid_on(plate, nx, ny)
    assert all(plate.holds(x, y) for x, y in grid.places)
    assert np.ptp(np.diff(grid.xs_mm)) < 0.03
    assert np.ptp(np.diff(grid.ys_mm)) < 0.03


@given(plates, st.floats(-0.2, 0.2), st.floats(-0.2, 0.2))
def test_without_knobs_a_plane_is_still_a_plane(plate: Plate, tx: float, ty: float) -> None:
    surface = Surface.of(machine(plate, 0.4, True), plate)
    anchors = surface.anchors
    cx, cy = plate.centre

    def plane(p: np.ndarray) -> np.ndarray:
        return tx * (p[:, 0] - cx) / plate.width_mm + ty * (p[:, 1] - cy) / plate.depth_mm

    places = grid_on(plate, 4, 4).places
    assert np.allclose(surface.weights(places) @ plane(anchors), plane(places), atol=1e-9)
    assert np.allclose(surface.forms(anchors), 0, atol=1e-9)


def test_zones_and_meshes_lie_as_far_out_as_their_margins_say() -> None:
    flat = Plate(id="p", name="p", width_mm=200, depth_mm=140)
    inset = PROOF.margin_mm + PROOF.patch_mm / 2
    xs, ys = zip(*((z.x_mm, z.y_mm) for z in zones_on(flat, 5)), strict=True)
    assert (min(xs), max(xs), min(ys), max(ys)) == pytest.approx((inset, 200 - inset, inset, 140 - inset))
    disc = Plate(id="p", name="p", width_mm=180, depth_mm=180, shape="round")
    corner = np.array(grid_on(disc, 4, 4, margin_mm=15.0).places[0])
    assert np.hypot(*corner) == pytest.approx(90 - 15, abs=0.02)
    # A patch's outer corner, too, stays the margin away from the disc's edge.
    for zone in zones_on(disc, 9):
        if abs(zone.x_mm) > 1 and abs(zone.y_mm) > 1:
            out = np.hypot(abs(zone.x_mm) + PROOF.patch_mm / 2, abs(zone.y_mm) + PROOF.patch_mm / 2)
            assert out == pytest.approx(90 - PROOF.margin_mm, abs=0.02)
