"""What holds a part down: against closed forms, and what must grow with what."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.ndimage import rotate

from ivory_table.core.defaults import HOLD_DOWN
from ivory_table.core.hold_down import HoldDown, _pull, hold_down, modulus_mm3


def box(width: float, depth: float, cell: float = 0.5) -> np.ndarray:
    return np.ones((round(depth / cell), round(width / cell)), dtype=bool)


def of(width: float, depth: float, height: float, material: str = "PLA", **more) -> HoldDown:
    return hold_down(box(width, depth), 0.5, height, material, corner_deg=90.0, **more)


@pytest.mark.parametrize(("width", "depth"), [(20, 10), (10, 10), (50, 3), (4, 80)])
def test_the_modulus_of_a_box_is_that_of_the_book(width: float, depth: float) -> None:
    short, long = sorted((width, depth))
    assert modulus_mm3(box(width, depth), 0.5) == pytest.approx(long * short**2 / 6, rel=1e-9)


def test_the_modulus_of_a_disc_and_of_a_turned_box_are_those_of_the_book() -> None:
    y, x = np.mgrid[-30:30.01:0.25, -30:30.01:0.25]
    assert modulus_mm3(np.hypot(x, y) <= 20, 0.25) == pytest.approx(np.pi * 20**3 / 4, rel=0.03)
    turned = rotate(np.pad(box(40, 10, 0.25), 80).astype(float), 30, order=1, reshape=False) > 0.5
    assert modulus_mm3(turned, 0.25) == pytest.approx(40 * 10**2 / 6, rel=0.06)


def test_what_is_known_of_parts_comes_out() -> None:
    pin, tower, cube = of(3, 3, 10), of(5, 5, 30), of(20, 20, 20)
    assert pin.p_off > 0.5
    assert tower.p_off > 0.3
    assert cube.p_off < 0.1
    assert (cube.brim_mm, cube.words[:13]) == (0.0, "It stays down")
    # What shrinks more is pulled up more; a warm enclosure helps it.
    open_, shut = of(100, 100, 60, "ABS"), of(100, 100, 60, "ABS", enclosed=True)
    assert of(100, 100, 60).p_off < shut.p_off < open_.p_off
    assert open_.pull > open_.knock
    assert "corners" in open_.words
    assert "knock" in pin.words
    assert of(100, 100, 60, "TPU").p_off < 0.01


def test_a_brim_takes_the_pull_down_to_a_seventh_for_each_reach_of_it() -> None:
    bare, one, two = (_pull(80, 40, "ABS", 90.0, n * HOLD_DOWN.brim_reach_mm, enclosed=False) for n in range(3))
    assert one / bare == pytest.approx(0.1353, abs=1e-4)
    assert two / one == pytest.approx(one / bare)


def test_the_brim_named_is_the_least_that_is_enough() -> None:
    bare = of(5, 5, 30)
    assert bare.brim_mm is not None
    assert bare.p_off_with_brim <= 0.1 < bare.p_off
    # A part with that brim needs no more of it.
    side = 5 + 2 * bare.brim_mm
    assert hold_down(box(side, side), 0.5, 30, "PLA", corner_deg=90, brim_mm=bare.brim_mm).brim_mm == 0.0
    hopeless = of(1, 1, 5000)
    assert hopeless.brim_mm is None
    # Then the chance is that with the widest brim there is, and that with a narrow one is worse.
    assert hopeless.p_off_with_brim < of(5, 5, 5000).p_off
    assert hopeless.p_off_with_brim < hopeless.p_off
    assert "no brim" in hopeless.words


def test_a_foot_of_nothing_is_refused() -> None:
    with pytest.raises(ValueError, match="stands on"):
        hold_down(np.zeros((3, 3), dtype=bool), 0.5, 10, "PLA")


@given(
    st.floats(2, 40),
    st.floats(2, 40),
    st.floats(1, 150),
    st.sampled_from(["PLA", "PETG", "ABS", "ASA", "TPU"]),
    st.floats(20, 180),
)
@settings(max_examples=20)
def test_higher_and_sharper_is_worse_and_wider_is_better(
    w: float, d: float, h: float, material: str, corner: float
) -> None:
    foot = box(w, d)
    here = hold_down(foot, 0.5, h, material, corner_deg=corner)
    assert 0 <= here.p_off <= 1
    assert here.p_off_with_brim <= here.p_off + 1e-12
    higher = hold_down(foot, 0.5, 1.5 * h, material, corner_deg=corner)
    assert higher.knock > here.knock
    sharper = hold_down(foot, 0.5, h, material, corner_deg=corner * 0.8)
    assert sharper.pull >= here.pull
    wider = hold_down(np.pad(foot, 4, constant_values=True), 0.5, h, material, corner_deg=corner)
    assert wider.knock < here.knock


def test_a_part_of_one_layer_is_pulled_a_little_and_one_of_no_height_not_at_all() -> None:
    pulls = [of(80, 80, h, "ABS").p_off for h in (0.001, 0.5, 0.9, 5.0)]
    assert pulls == sorted(pulls)
    flat, low, tall = (_pull(80, h, "ABS", 90.0, 0.0, enclosed=False) for h in (0.0, 0.5, 1.0))
    assert flat == 0.0
    # Of a low, long part it grows with the height.
    assert tall / low == pytest.approx(2.0, rel=0.1)
