"""Settings and what they forgive, and places on a plate, against brute force."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.bead import Bead
from ivory_table.core.belief import Belief
from ivory_table.core.causes import FAIL_FIRST, Causes, holds_at
from ivory_table.core.defaults import LAYER
from ivory_table.core.placing import Footprint, _drawn_sound, grid_of, largest_sound, placing, share_sound
from ivory_table.core.plate import KeepOut, Plate
from ivory_table.core.prior import first_belief
from ivory_table.core.recipe import all_sound, forgives, recipes, thicker_layer, widest_layer
from ivory_table.core.surface import Surface


@given(st.floats(0.2, 1.2), st.floats(0.3, 0.75), st.floats(1.0, 1.5))
def test_what_is_forgiven_is_what_grades_as_sound(nozzle: float, layer: float, line: float) -> None:
    bead = Bead(line * nozzle, layer * nozzle)
    middle, half = forgives(bead)
    for off, sound in ((-1.02, False), (-0.98, True), (0.98, True), (1.02, False)):
        assert (bead.grade_at(middle + off * half) == "sound") is sound


@given(st.floats(0.2, 1.0))
def test_forgiveness_grows_with_the_nozzle(nozzle: float) -> None:
    assert forgives(Bead(nozzle, nozzle / 2))[1] == pytest.approx(nozzle * forgives(Bead(1.0, 0.5))[1])


@pytest.mark.parametrize("sd", [0.01, 0.02, 0.04])
def test_the_chance_that_all_are_sound_is_that_of_counting(sd: float) -> None:
    draws = np.random.default_rng(2).normal(0, sd, (200_000, 5))
    assert all_sound(0.03, sd, 5) == pytest.approx((np.abs(draws).max(axis=1) < 0.03).mean(), abs=0.004)


@pytest.mark.parametrize("nozzle", [0.25, 0.4, 0.6, 0.8])
def test_recipes_keep_to_their_limits_and_forgive_more_each(nozzle: float) -> None:
    found = recipes(nozzle, "PETG", 235, 75, 0.02)
    forgiven = [r.forgives_mm for r in found]
    assert forgiven == sorted(forgiven)
    assert found[0].layer_mm == pytest.approx(nozzle / 2)
    for r in found:
        assert r.layer_mm <= 0.75 * nozzle + 1e-3
        assert r.line_mm >= 1.3 * r.layer_mm
        assert r.melt_share <= 0.6 + 1e-9
        assert r.fan == 0
    # As fast as is usual, or as fast as the hot end melts.
    melts = LAYER.recipe.melt_mm3_s["PETG"] * nozzle / 0.4
    for r in found[:-1]:
        area = Bead(r.line_mm, r.layer_mm).area_mm2
        assert r.speed_mm_s == pytest.approx(
            min(LAYER.recipe.speed_mm_s, LAYER.recipe.melt_share * melts / area), abs=0.06
        )


def test_a_weak_hot_end_lays_more_slowly() -> None:
    wide = recipes(1.0, "TPU", 225, 45, 0.02)
    assert wide[0].speed_mm_s < 20
    assert wide[0].melt_share == pytest.approx(0.6, abs=0.02)


def test_the_thickest_layer_is_not_made_thicker() -> None:
    thick = thicker_layer(Bead(0.4, 0.2), 0.4)
    assert thick is not None
    assert thicker_layer(thick, 0.4) is None


# Where on a plate

PLATE = Plate(
    id="p",
    name="p",
    width_mm=200,
    depth_mm=160,
    keep_outs=(KeepOut(name="clip", x_min_mm=90, y_min_mm=0, x_max_mm=110, y_max_mm=10),),
)
SCREWS = np.array([(20.0, 20.0), (180.0, 20.0), (20.0, 140.0), (180.0, 140.0)])


def tilted(right_mm: float) -> tuple[Belief, np.ndarray]:
    """A plate known to a hundredth, its right side higher by so much, at a gap of 0.2 on its left."""
    surface = Surface(PLATE, SCREWS)
    belief = first_belief(surface, bias_sd_mm=0.001, hypotheses=8)
    for x in (20.0, 100.0, 180.0):
        for y in (20.0, 80.0, 140.0):
            height = right_mm * (x - 20) / 160
            belief = belief.read(surface.rows([(x, y)])[0], height, 0.004)
    return belief, np.zeros(grid_of(PLATE).shape[:2])


def test_parts_go_where_the_plate_is_right() -> None:
    belief, believes = tilted(0.09)
    found = placing(belief, PLATE, Bead(0.4, 0.2), believes, grid_of(PLATE), Footprint(width_mm=40, depth_mm=30))
    assert found.places[0].x_mm < 70
    assert found.places[0].p_sound > 0.8
    chances = np.array(found.p_sound)
    assert chances[:, 3].mean() > chances[:, -4].mean() + 0.5


def test_where_the_rim_is_cold_or_blown_at_parts_go_nearer_to_the_middle() -> None:
    """The plate is right on its left; a draught that is likely there, at the rim, moves the part inwards, and not where it would not hold."""
    belief, believes = tilted(0.1)
    cells, part = grid_of(PLATE), Footprint(width_mm=20, depth_mm=20)
    usual = Causes.before("ABS", 0.0)
    blown = replace(usual, shared={n: 0.8 * (n == "draught") + 0.2 * p for n, p in usual.shared.items()})
    by_hand = {}
    for name, causes in (("usual", usual), ("blown", blown)):
        holds = holds_at(causes, cells.reshape(-1, 2)).reshape(cells.shape[:2])
        middle, corner = holds[12, 12], holds[0, 0]
        each = {n: (LAYER.causes[n].fails, LAYER.causes[n].fails_edge) for n in LAYER.causes if n not in FAIL_FIRST}
        for at, k in ((middle, 0), (corner, 1)):
            assert at == pytest.approx(1 - sum(causes.shared[n] * each[n][k] for n in each))
        place = placing(belief, PLATE, Bead(0.4, 0.2), believes, cells, part, holds).places[0]
        by_hand[name] = float(np.hypot(place.x_mm - 100, place.y_mm - 80)), place.p_sound
    assert by_hand["blown"][0] < by_hand["usual"][0] - 5
    assert by_hand["blown"][1] > 0.95


def test_parts_stay_apart_and_out_of_clips() -> None:
    belief, believes = tilted(0.0)
    found = placing(
        belief, PLATE, Bead(0.4, 0.2), believes, grid_of(PLATE), Footprint(width_mm=50, depth_mm=30, count=6)
    )
    assert found.left_over == 0
    boxes = []
    for p in found.places:
        w, d = (30, 50) if p.turned else (50, 30)
        boxes.append((p.x_mm - w / 2, p.y_mm - d / 2, p.x_mm + w / 2, p.y_mm + d / 2))
        assert boxes[-1][0] >= 0
        assert boxes[-1][3] <= 160
        assert boxes[-1][2] <= 90 or boxes[-1][0] >= 110 or boxes[-1][1] >= 10
    clear = LAYER.placing.apart_mm - 1e-6
    for i, a in enumerate(boxes):
        for b in boxes[:i]:
            apart = (b[0] - a[2], a[0] - b[2], b[1] - a[3], a[1] - b[3])
            assert max(apart) >= clear


def test_what_finds_no_room_is_said() -> None:
    belief, believes = tilted(0.0)
    found = placing(
        belief, PLATE, Bead(0.4, 0.2), believes, grid_of(PLATE), Footprint(width_mm=150, depth_mm=120, count=3)
    )
    assert (len(found.places), found.left_over) == (1, 2)


def test_a_part_that_fits_nowhere_is_sound_nowhere() -> None:
    belief, believes = tilted(0.0)
    found = placing(belief, PLATE, Bead(0.4, 0.2), believes, grid_of(PLATE), Footprint(width_mm=900, depth_mm=900))
    assert (found.places, found.left_over, found.p_all) == ((), 1, 0.0)


def test_the_widest_layer_is_that_of_the_nozzle_in_every_size() -> None:
    one, twice = widest_layer(0.4), widest_layer(0.8)
    assert (twice.line_mm, twice.layer_mm) == pytest.approx((2 * one.line_mm, 2 * one.layer_mm))
    assert one.layer_mm <= LAYER.recipe.most_layer * 0.4 + 1e-9
    assert one.line_mm >= LAYER.recipe.least_line_over_layer * one.layer_mm - 1e-9


def test_a_long_part_is_turned_to_fit() -> None:
    belief, believes = tilted(0.0)
    found = placing(belief, PLATE, Bead(0.4, 0.2), believes, grid_of(PLATE), Footprint(width_mm=30, depth_mm=170))
    assert found.places[0].turned


@pytest.mark.parametrize("tilt", [0.0, 0.09, 0.2])
def test_the_largest_part_that_is_sound_is_that_of_brute_force(tilt: float) -> None:
    """Every square of cells tried one by one, over the same draws: none that is larger is sound as surely."""
    belief, believes = tilted(tilt)
    cells, bead = grid_of(PLATE), Bead(0.4, 0.2)
    found = largest_sound(belief, PLATE, bead, believes, cells, 0.7)
    sound, free = _drawn_sound(belief, PLATE, bead, believes, cells)
    n = len(cells)
    best = 0
    for size in range(n // 4 + 1, n + 1):
        for j in range(n - size + 1):
            for i in range(n - size + 1):
                here = (slice(None), slice(j, j + size), slice(i, i + size))
                if free[here[1:]].all() and sound[here].all(axis=(1, 2)).mean() >= 0.7:
                    best = size
    if not best:
        assert found is None
        return
    assert found is not None
    dx = float(cells[0, 1, 0] - cells[0, 0, 0])
    assert found.width_mm == pytest.approx((best - 1) * dx, abs=0.1)
    dy = float(cells[1, 0, 1] - cells[0, 0, 1])
    assert found.depth_mm == pytest.approx((best - 1) * dy, abs=0.1)
    xs, ys = cells[0, :, 0], cells[:, 0, 1]
    assert xs[0] <= found.left_mm <= found.left_mm + found.width_mm <= xs[-1] + 1e-6
    assert ys[0] <= found.front_mm <= found.front_mm + found.depth_mm <= ys[-1] + 1e-6
    assert found.p >= 0.7


@pytest.mark.parametrize("tilt", [0.0, 0.09, 0.2])
def test_the_share_of_the_plate_that_is_sound_is_that_of_draws(tilt: float) -> None:
    belief, believes = tilted(tilt)
    cells, bead = grid_of(PLATE), Bead(0.4, 0.2)
    sound, free = _drawn_sound(belief, PLATE, bead, believes, cells)
    drawn = float(sound[:, free].mean())
    assert share_sound(belief, PLATE, bead, believes, cells) == pytest.approx(drawn, abs=0.02)


def test_something_may_be_laid_inside_the_edge_and_beside_clips_alone() -> None:
    """On a plate wider than deep: counted by hand, side by side."""
    belief, believes = tilted(0.0)
    cells, edge = grid_of(PLATE), LAYER.placing.edge_mm
    _, free = _drawn_sound(belief, PLATE, Bead(0.4, 0.2), believes, cells)
    for (x, y), may in zip(cells.reshape(-1, 2), free.ravel(), strict=True):
        inside = edge <= x <= PLATE.width_mm - edge and edge <= y <= PLATE.depth_mm - edge
        clear = all(
            x < k.x_min_mm - 2 or x > k.x_max_mm + 2 or y < k.y_min_mm - 2 or y > k.y_max_mm + 2
            for k in PLATE.keep_outs
        )
        assert may == (inside and clear)
    assert PLATE.keep_outs
    assert PLATE.width_mm != PLATE.depth_mm


def test_nothing_is_left_where_nothing_is_sound() -> None:
    belief, believes = tilted(0.0)
    assert largest_sound(belief.nozzle_moved(0.4), PLATE, Bead(0.4, 0.2), believes, grid_of(PLATE), 0.7) is None


@pytest.mark.parametrize(("nozzle", "material"), [(0.4, "PLA"), (0.8, "PETG"), (0.25, "TPU")])
def test_a_recipe_says_what_its_own_bead_forgives_and_what_it_melts(nozzle: float, material: str) -> None:
    for recipe in recipes(nozzle, material, 215, 60, 0.02):
        bead = Bead(recipe.line_mm, recipe.layer_mm, recipe.flow)
        gap, half = forgives(bead)
        assert recipe.gap_mm == pytest.approx(gap, abs=6e-4)
        assert recipe.forgives_mm == pytest.approx(half, abs=2e-4)
        melted = recipe.speed_mm_s * bead.area_mm2
        assert recipe.melts_mm3_s == pytest.approx(melted, rel=0.02)
        most = LAYER.recipe.melt_mm3_s[material] * nozzle / 0.4
        assert recipe.speed_mm_s == pytest.approx(recipe.melt_share * most / bead.area_mm2, abs=0.051)
        assert recipe.melt_share == pytest.approx(recipe.melts_mm3_s / most, rel=0.02)
        assert recipe.melt_share <= LAYER.recipe.melt_share + 1e-9
