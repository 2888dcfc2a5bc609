"""Forms: fitted against known polynomials, named from a belief that was told a known shape, and filled by shims."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.belief import Belief
from ivory_table.core.form import believed_forms, fit, form_words, named_form, remedies
from ivory_table.core.plate import Plate
from ivory_table.core.prior import first_belief
from ivory_table.core.shim import ShimPlan, shim_plan
from ivory_table.core.surface import Surface

PLATE = Plate(id="p", name="plate", width_mm=240, depth_mm=160)
SCREWS = np.array([[20.0, 20.0], [220.0, 20.0], [20.0, 140.0], [220.0, 140.0]])
SPOTS = np.array([(x, y) for x in np.linspace(15, 225, 7) for y in np.linspace(15, 145, 6)])
mm = st.floats(-0.3, 0.3)


def shaped(height, locals_: tuple[tuple[float, float], ...] = (), sd_mm: float = 0.003) -> Belief:
    """A belief that has read a height(u, v) all over the plate."""
    surface = Surface(PLATE, SCREWS, locals_, alike=False)
    belief = first_belief(surface, bias_sd_mm=0.02)
    cx, cy = PLATE.centre
    for x, y in SPOTS:
        u, v = (x - cx) / 120, (y - cy) / 80
        belief = belief.read(belief.gap_row(float(x), float(y)), float(height(u, v)), sd_mm)
    return belief


@given(mm, mm, mm, mm, mm, mm)
def test_a_polynomial_is_given_back(mean: float, tx: float, ty: float, bow: float, saddle: float, twist: float) -> None:
    u, v = 2 * SPOTS[:, 0] / 240 - 1, 2 * SPOTS[:, 1] / 160 - 1
    heights = mean + tx / 2 * u + ty / 2 * v - bow * (u * u + v * v) + saddle * (u * u - v * v) + twist * u * v
    found = fit(SPOTS, heights, PLATE.bounds)
    assert (found.tilt_x_mm, found.tilt_y_mm) == pytest.approx((tx, ty), abs=1e-6)
    assert [f.amount_mm for f in found.forms] == pytest.approx([bow, saddle, twist], abs=1e-6)
    assert [f.form for f in found.forms] == ["bow", "saddle", "twist"]
    assert found.mean_mm == pytest.approx(heights.mean())
    assert found.range_mm == pytest.approx(np.ptp(heights))


def test_what_a_plane_leaves_is_its_rms_and_the_sd_is_that_of_repeats() -> None:
    r = np.random.default_rng(4)
    found = [fit(SPOTS, r.normal(0, 0.01, len(SPOTS)), PLATE.bounds) for _ in range(300)]
    amounts = np.array([[f.amount_mm for f in one.forms] for one in found])
    said = np.array([[f.sd_mm for f in one.forms] for one in found])
    assert amounts.std(axis=0) == pytest.approx(said.mean(axis=0), rel=0.15)
    # Three terms are taken out of as many points.
    left = np.mean([one.left_over_mm**2 for one in found]) ** 0.5
    assert left == pytest.approx(0.01 * (1 - 3 / len(SPOTS)) ** 0.5, rel=0.05)


def test_few_points_are_a_plane_and_two_are_refused() -> None:
    at = np.array([[0.0, 0.0], [240.0, 0.0], [0.0, 160.0], [240.0, 160.0]])
    found = fit(at, np.array([0.0, 0.2, 0.1, 0.3]), PLATE.bounds)
    assert found.forms == ()
    assert (found.tilt_x_mm, found.tilt_y_mm) == pytest.approx((0.2, 0.1))
    # Six on one line see no plane's forms either.
    line = np.column_stack([np.linspace(0, 240, 6), np.zeros(6)])
    assert fit(line, np.zeros(6), PLATE.bounds).forms == ()
    with pytest.raises(ValueError, match="Three points"):
        fit(at[:2], np.zeros(2), PLATE.bounds)


@pytest.mark.parametrize(
    ("height", "name", "amount", "says"),
    [
        (lambda u, v: -0.10 * (u * u + v * v), "bow", 0.10, "bowed, centre high"),
        (lambda u, v: 0.10 * (u * u + v * v), "cup", -0.10, "cupped, centre low"),
        (lambda u, v: 0.10 * (u * u - v * v), "saddle", 0.10, "left and right high"),
        (lambda u, v: 0.10 * (v * v - u * u), "saddle", -0.10, "front and rear high"),
        (lambda u, v: 0.20 * u * u, "roll along y", 0.20, "rolled about y"),
        (lambda u, v: -0.20 * v * v, "roll along x", -0.20, "rolled about x"),
    ],
)
def test_a_form_is_named_by_its_shape(height, name: str, amount: float, says: str) -> None:
    found = named_form(shaped(height), can_mesh=True, passes_twist=None)
    assert found is not None
    assert found.name == name
    assert found.amount_mm == pytest.approx(amount, abs=0.02)
    assert abs(found.amount_mm - amount) < 4 * found.sd_mm + 0.01
    assert says in found.words


def test_a_tilt_is_no_form_and_one_place_off_is_named_where_it_lies() -> None:
    assert named_form(shaped(lambda u, v: 0.3 * u - 0.2 * v), can_mesh=True, passes_twist=None) is None
    at = (float(SPOTS[17][0]), float(SPOTS[17][1]))
    belief = shaped(lambda u, v: 0.0, (at,))
    for _ in range(3):
        belief = belief.read(belief.gap_row(*at), 0.15, 0.002)
    found = named_form(belief, can_mesh=False, passes_twist=None)
    assert found is not None
    assert found.name == "local"
    assert f"near ({at[0]:.0f}, {at[1]:.0f})" in found.words
    assert any("crumb" in r for r in found.remedies)


def test_amounts_and_remedies_in_words() -> None:
    belief = shaped(lambda u, v: -0.1 * (u * u + v * v))
    bow, saddle, twist = believed_forms(belief)
    assert bow.amount_mm == pytest.approx(0.1, abs=0.01)
    assert abs(saddle.amount_mm) < 3 * saddle.sd_mm + 0.01
    assert (bow.form, saddle.form, twist.form) == ("bow", "saddle", "twist")
    assert [form_words(f, s) for f, s in (("bow", 1), ("bow", -1), ("saddle", 1), ("twist", -1))] == [
        "bowed, centre high", "cupped, centre low", "saddle", "twisted",
    ]  # fmt: skip
    assert remedies("twist", can_mesh=False, passes_twist=0.4)[0].startswith("Knobs reach 40%")
    assert not any("Knobs" in r for r in remedies("twist", can_mesh=True, passes_twist=None))
    assert remedies("bow", can_mesh=True, passes_twist=0.4)[0].startswith("Mesh")
    assert any("stiffer" in r for r in remedies("cup", can_mesh=False, passes_twist=None))
    assert not any("stiffer" in r for r in remedies("saddle", can_mesh=False, passes_twist=None))


def area_by_counting(plan: ShimPlan, number: int, n: int = 400) -> float:
    """The layer's area by asking of even places whether they lie in it: crossings of a ray, even or odd."""
    xs, ys = (np.arange(n) + 0.5) / n * 240, (np.arange(n) + 0.5) / n * 160
    gx, gy = np.meshgrid(xs, ys)
    inside = np.zeros(gx.shape, dtype=bool)
    for outline in plan.layers[number - 1].outlines:
        points = np.array(outline.points_mm)
        for (x1, y1), (x2, y2) in pairwise(points):
            if y1 == y2:
                continue
            crosses = (gy > min(y1, y2)) & (gy <= max(y1, y2))
            inside ^= crosses & (gx < x1 + (gy - y1) / (y2 - y1) * (x2 - x1))
    return float(inside.mean() * 240 * 160)


def test_a_cup_is_filled_by_layers_that_grow_downwards() -> None:
    plan = shim_plan(shaped(lambda u, v: 0.25 * (u * u + v * v)), PLATE, 0.1)
    areas = [layer.area_mm2 for layer in plan.layers]
    assert [layer.number for layer in plan.layers] == list(range(1, len(areas) + 1))
    assert areas == sorted(areas, reverse=True)
    for layer in plan.layers:
        assert area_by_counting(plan, layer.number) == pytest.approx(layer.area_mm2, rel=0.03)
    # No place stands out by more than half a sheet, but the few above the 98th of a hundred.
    assert plan.range_after_mm < plan.range_before_mm / 2
    assert f"{len(areas)} layers of 0.1 mm" in plan.sentence
    low = np.array([p for o in plan.layers[-1].outlines for p in o.points_mm])
    assert np.hypot(*(low - PLATE.centre).T).max() < 110


def test_a_hollow_at_any_edge_is_filled_out_to_the_same_line() -> None:
    """A trough along the front is that along the rear, turned round."""
    found = []
    for side in (-1, 1):
        plan = shim_plan(shaped(lambda u, v, s=side: -0.3 * max(s * v, 0.0) ** 2), PLATE, 0.1)
        ys = np.array([p[1] for layer in plan.layers for o in layer.outlines for p in o.points_mm])
        found.append((plan.layers[0].area_mm2, np.abs(ys - 80).max(), np.abs(ys - 80).min()))
    assert found[0] == pytest.approx(found[1], rel=0.02)


def test_a_tilt_is_the_knobs_and_a_sheet_can_be_too_thick() -> None:
    flat = shim_plan(shaped(lambda u, v: 0.5 * u), PLATE, 0.05)
    assert flat.layers == ()
    assert "Nothing to shim" in flat.sentence
    thick = shim_plan(shaped(lambda u, v: 0.05 * (u * u + v * v)), PLATE, 0.15)
    assert thick.layers == ()
    assert thick.range_after_mm == thick.range_before_mm
    vague = first_belief(Surface(PLATE, SCREWS), bias_sd_mm=0.02)
    row = vague.surface.unit(4)
    told = shim_plan(vague.read(row, 0.4, 0.1), PLATE, 0.03)
    assert "not known well enough" in told.sentence
    assert told.sd_mm > 0.05
    for wrong in (0.005, 1.5):
        with pytest.raises(ValueError, match="thickness"):
            shim_plan(vague, PLATE, wrong)


def test_a_disc_is_cut_at_its_margin() -> None:
    disc = Plate(id="d", name="disc", shape="round", width_mm=200, depth_mm=200)
    surface = Surface(disc, np.array([[-60.0, -60.0], [60.0, -60.0], [0.0, 80.0]]))
    belief = first_belief(surface, bias_sd_mm=0.02)
    belief = belief.read(belief.surface.unit(3), 0.3, 0.005)
    plan = shim_plan(belief, disc, 0.1, margin_mm=8)
    points = np.array([p for layer in plan.layers for o in layer.outlines for p in o.points_mm])
    assert len(points)
    assert np.hypot(*points.T).max() <= 92 + 4


def test_a_place_counts_in_shares_of_its_own_side() -> None:
    """A plate that is wider than deep: forms are 1 at either edge, and a corner has both."""
    surface = Surface(PLATE, SCREWS[:3])
    cx, cy = PLATE.centre
    bend = surface.forms([(cx + 120, cy), (cx, cy + 80), (cx, cy)])
    # Less what the plane through the screws has of it, the same at every place along one axis.
    base = surface.weights([(cx + 120, cy), (cx, cy + 80), (cx, cy)])
    u, v = np.array([[1, 0], [0, 1], [0, 0]], dtype=float).T
    us, vs = (SCREWS[:3, 0] - cx) / 120, (SCREWS[:3, 1] - cy) / 80
    wanted = u * u + v * v - base @ (us * us + vs * vs)
    assert bend[:, 0] == pytest.approx(wanted)


def test_a_slight_saddle_makes_no_roll_of_a_bow() -> None:
    """Bent along both axes, along one of them less: no sheet rolled about an axis."""
    found = named_form(shaped(lambda u, v: -0.08 * u * u - 0.03 * v * v), can_mesh=False, passes_twist=None)
    assert found is not None
    assert found.name == "bow"
    rolled = named_form(shaped(lambda u, v: -0.08 * v * v), can_mesh=False, passes_twist=None)
    assert rolled is not None
    assert rolled.name == "roll along x"


def test_of_two_odd_places_the_worse_is_named() -> None:
    at = ((60.0, 40.0), (180.0, 120.0))
    belief = first_belief(Surface(PLATE, SCREWS, at, alike=False), bias_sd_mm=0.02)
    for x, y in SPOTS:
        belief = belief.read(belief.gap_row(float(x), float(y)), 0.0, 0.02)
    for (x, y), height in zip(at, (0.03, 0.06), strict=True):
        for _ in range(6):
            belief = belief.read(belief.gap_row(x, y), height, 0.003)
    found = named_form(belief, can_mesh=False, passes_twist=None)
    assert found is not None
    assert (found.name, found.words) == ("local", "one place off, near (180, 120)")
