"""What a screw does to the plate, against closed forms and brute force."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.defaults import TRAM
from ivory_table.core.plate import Machine, Plate, Screw
from ivory_table.core.surface import Surface
from ivory_table.core.tram import coupling

SQUARE = np.array([[0.0, 0], [200, 0], [0, 200], [200, 200]])
PLATE = Surface(Plate(id="p", name="p", width_mm=220, depth_mm=220), SQUARE)
compliance = st.floats(0, 60)


@pytest.mark.parametrize("kappa", [1.0, 0.7, 0.4, 0.15, 0.02])
def test_square_of_four_passes_the_reference_shares(kappa: float) -> None:
    a = coupling(np.full(4, 1 / kappa - 1), PLATE.bending)
    assert a[0, 0] == pytest.approx((3 + kappa) / 4)
    assert a[0, 1] == pytest.approx((1 - kappa) / 4)
    assert a[0, 2] == pytest.approx((1 - kappa) / 4)
    assert a[0, 3] == pytest.approx(-(1 - kappa) / 4)
    assert PLATE.twist_passed(a) == pytest.approx(kappa)


def test_rigid_plate_lowers_the_opposite_corner_by_a_quarter() -> None:
    a = coupling(np.full(4, 1e9), PLATE.bending)
    assert a[3, 0] == pytest.approx(-0.25, abs=1e-6)


def test_soft_plate_moves_each_corner_alone() -> None:
    assert np.allclose(coupling(np.zeros(4), PLATE.bending), np.eye(4))


def test_three_screws_make_exactly_a_plane() -> None:
    screws = np.array([[18.0, 20], [154, 20], [86, 156]])
    surface = Surface(Plate(id="p", name="p", width_mm=172, depth_mm=172), screws)
    assert np.allclose(coupling(np.full(3, 5.0), surface.bending), np.eye(3))
    a, b, c = 0.3, 0.002, -0.001
    heights = a + screws @ [b, c]
    places = np.array([[0.0, 0], [172, 0], [100, 77]])
    assert np.allclose(surface.weights(places) @ heights, a + places @ [b, c])


@given(st.lists(compliance, min_size=4, max_size=4), st.floats(-2, 2), st.floats(-0.01, 0.01), st.floats(-0.01, 0.01))
def test_a_plane_passes_whole_whatever_the_supports(lam: list[float], a: float, b: float, c: float) -> None:
    plane = a + SQUARE @ [b, c]
    assert np.allclose(coupling(np.array(lam), PLATE.bending) @ plane, plane, atol=1e-9)


@given(st.lists(compliance, min_size=4, max_size=4))
def test_unequal_supports_take_one_mode_out(lam: list[float]) -> None:
    a = coupling(np.array(lam), PLATE.bending)
    v = np.array([1, -1, -1, 1]) / 2
    lost = np.eye(4) - a
    assert np.linalg.matrix_rank(lost, tol=1e-9) <= 1
    assert np.allclose(lost, np.outer(lost @ v, v), atol=1e-9)
    assert np.all(np.linalg.eigvals(a).real > 0)


def test_negative_compliance_is_refused() -> None:
    with pytest.raises(ValueError, match="zero or more"):
        coupling([-0.1, 0, 0, 0], PLATE.bending)


@pytest.mark.parametrize("shape", ["rectangle", "round"])
def test_the_plate_bends_as_its_energy_says(shape: str) -> None:
    """h' K h against the bending energy of the deflection between the screws, by finite differences over the plate."""
    plate = Plate(id="p", name="p", shape=shape, width_mm=240, depth_mm=240 if shape == "round" else 180)
    cx, cy = plate.centre
    off = np.array([[-80.0, -60], [80, -60], [-80, 60], [80, 60], [10, 70], [0, -5]])
    screws = off + np.array([cx, cy])
    surface = Surface(plate, screws)
    x0, y0, x1, y1 = plate.bounds
    step = 1.0
    gx, gy = np.meshgrid(np.arange(x0 - 3, x1 + 4, step), np.arange(y0 - 3, y1 + 4, step))
    weights = surface.weights(np.column_stack([gx.ravel(), gy.ravel()]))
    inside = np.vectorize(plate.holds)(gx, gy)
    rng, ratios = np.random.default_rng(5), []
    for _ in range(4):
        h = rng.normal(size=6)
        z = (weights @ h).reshape(gx.shape)
        zy, zx = np.gradient(z, step)
        zxy, zxx = np.gradient(zx, step)
        zyy, _ = np.gradient(zy, step)
        nu = TRAM.plate_poisson
        density = zxx**2 + zyy**2 + 2 * nu * zxx * zyy + 2 * (1 - nu) * zxy**2
        ratios.append(density[inside].sum() / (h @ surface.bending @ h))
    assert np.ptp(ratios) / np.mean(ratios) < 0.02


@given(st.lists(st.floats(-1, 1), min_size=9, max_size=9))
def test_many_screws_are_met_and_a_plane_bends_nothing(heights: list[float]) -> None:
    screws = np.array([[x, y] for y in (20.0, 110, 200) for x in (25.0, 120, 215)])
    surface = Surface(Plate(id="p", name="p", width_mm=240, depth_mm=220), screws)
    h = np.array(heights)
    assert np.allclose(surface.weights(screws) @ h, h, atol=1e-7)
    assert h @ surface.bending @ h >= -1e-9
    plane = screws @ [0.002, -0.003] + 0.4
    assert np.allclose(surface.bending @ plane, 0, atol=1e-8)
    places = np.array([[0.0, 0], [240, 220], [77, 31]])
    assert np.allclose(surface.weights(places) @ plane, places @ [0.002, -0.003] + 0.4, atol=1e-8)


def test_screws_on_one_line_hold_no_plate() -> None:
    surface = Surface(
        Plate(id="p", name="p", width_mm=240, depth_mm=220), np.array([[x, x] for x in (10.0, 60, 110, 160, 210)])
    )
    with pytest.raises(ValueError, match="one line"):
        _ = surface.bending


def test_bilinear_surface_does_not_overshoot_its_twist() -> None:
    surface = Surface(Plate(id="p", name="p", width_mm=244, depth_mm=236), SQUARE + 20)
    twist = np.array([1.0, -1, -1, 1])
    assert abs(surface.weights([(120, 120)]) @ twist)[0] < 1e-9
    u = (244 - 120) / 100
    assert surface.weights([(244, 220)]) @ twist == pytest.approx(u)


def test_screws_at_the_middles_of_the_edges_fall_back_to_the_spline() -> None:
    diamond = np.array([[100.0, 0], [200, 100], [100, 200], [0, 100]])
    weights = Surface(Plate(id="p", name="p", width_mm=200, depth_mm=200), diamond).weights(diamond)
    assert np.allclose(weights, np.eye(4), atol=1e-9)


@pytest.mark.parametrize(
    ("places", "sentence"),
    [
        ([(0, 0), (100, 100)], "Fewer than three"),
        ([(0, 0), (100, 100), (200, 200)], "on one line"),
        ([(0, 0), (0, 0), (0, 0)], "same place"),
        ([(0, 0), (100, 0), (200, 0), (50, 0)], "on one line"),
    ],
)
def test_screws_that_cannot_tram_are_refused(places: list[tuple[int, int]], sentence: str) -> None:
    screws = tuple(Screw(name=f"s{k}", x_mm=x, y_mm=y) for k, (x, y) in enumerate(places))
    plate = Plate(id="p", name="p", width_mm=244, depth_mm=236)
    with pytest.raises(ValueError, match=sentence):
        Machine(id="m", name="m", plates=(plate,), screws=screws, convention="probe_offset")
