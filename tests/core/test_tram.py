"""What a screw does to the plate, against closed forms and brute force."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.interpolate import RBFInterpolator

from ivory_table.core.plate import Machine, Plate, Screw
from ivory_table.core.surface import Surface, bending_energy, spline_weights
from ivory_table.core.tram import coupling, twist_passed

SQUARE = np.array([[0.0, 0], [200, 0], [0, 200], [200, 200]])
compliance = st.floats(0, 60)


@pytest.mark.parametrize("kappa", [1.0, 0.7, 0.4, 0.15, 0.02])
def test_square_of_four_passes_the_reference_shares(kappa: float) -> None:
    a = coupling(np.full(4, 1 / kappa - 1), bending_energy(SQUARE))
    assert a[0, 0] == pytest.approx((3 + kappa) / 4)
    assert a[0, 1] == pytest.approx((1 - kappa) / 4)
    assert a[0, 2] == pytest.approx((1 - kappa) / 4)
    assert a[0, 3] == pytest.approx(-(1 - kappa) / 4)
    assert twist_passed(a, SQUARE) == pytest.approx(kappa)


def test_rigid_plate_lowers_the_opposite_corner_by_a_quarter() -> None:
    a = coupling(np.full(4, 1e9), bending_energy(SQUARE))
    assert a[3, 0] == pytest.approx(-0.25, abs=1e-6)


def test_soft_plate_moves_each_corner_alone() -> None:
    assert np.allclose(coupling(np.zeros(4), bending_energy(SQUARE)), np.eye(4))


def test_three_screws_make_exactly_a_plane() -> None:
    screws = np.array([[18.0, 20], [154, 20], [86, 156]])
    assert np.allclose(coupling(np.full(3, 5.0), bending_energy(screws)), np.eye(3))
    surface = Surface(Plate(id="p", name="p", width_mm=172, depth_mm=172), screws)
    a, b, c = 0.3, 0.002, -0.001
    heights = a + screws @ [b, c]
    places = np.array([[0.0, 0], [172, 0], [100, 77]])
    assert np.allclose(surface.weights(places) @ heights, a + places @ [b, c])


@given(st.lists(compliance, min_size=4, max_size=4), st.floats(-2, 2), st.floats(-0.01, 0.01), st.floats(-0.01, 0.01))
def test_a_plane_passes_whole_whatever_the_supports(lam: list[float], a: float, b: float, c: float) -> None:
    plane = a + SQUARE @ [b, c]
    assert np.allclose(coupling(np.array(lam), bending_energy(SQUARE)) @ plane, plane, atol=1e-9)


@given(st.lists(compliance, min_size=4, max_size=4))
def test_unequal_supports_take_one_mode_out(lam: list[float]) -> None:
    a = coupling(np.array(lam), bending_energy(SQUARE))
    v = np.array([1, -1, -1, 1]) / 2
    lost = np.eye(4) - a
    assert np.linalg.matrix_rank(lost, tol=1e-9) <= 1
    assert np.allclose(lost, np.outer(lost @ v, v), atol=1e-9)
    assert np.all(np.linalg.eigvals(a).real > 0)


def test_negative_compliance_is_refused() -> None:
    with pytest.raises(ValueError, match="zero or more"):
        coupling([-0.1, 0, 0, 0], bending_energy(SQUARE))


def test_thin_plate_spline_agrees_with_scipy() -> None:
    rng = np.random.default_rng(3)
    anchors, heights = rng.uniform(0, 300, (6, 2)), rng.normal(0, 0.1, 6)
    places = rng.uniform(0, 300, (20, 2))
    other = RBFInterpolator(anchors, heights, kernel="thin_plate_spline", degree=1)(places)
    assert np.allclose(spline_weights(anchors, places) @ heights, other, atol=1e-9)


def test_bending_energy_is_what_the_spline_bends() -> None:
    """h' K h against the integral of squared second derivatives, up to one factor, by finite differences."""
    rng = np.random.default_rng(5)
    anchors = np.array([[0.0, 0], [1, 0], [0, 1], [1, 1], [0.4, 0.6]])
    grid = np.linspace(-4, 5, 361)
    step = grid[1] - grid[0]
    gx, gy = np.meshgrid(grid, grid)
    weights = spline_weights(anchors, np.column_stack([gx.ravel(), gy.ravel()]))
    ratios = []
    for _ in range(3):
        h = rng.normal(size=5)
        z = (weights @ h).reshape(gx.shape)
        zx, zy = np.gradient(z, step, axis=1), np.gradient(z, step, axis=0)
        zxx, zxy, zyy = np.gradient(zx, step, axis=1), np.gradient(zx, step, axis=0), np.gradient(zy, step, axis=0)
        ratios.append(np.sum(zxx**2 + 2 * zxy**2 + zyy**2) * step**2 / (h @ bending_energy(anchors) @ h))
    assert np.ptp(ratios) / np.mean(ratios) < 0.08


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
