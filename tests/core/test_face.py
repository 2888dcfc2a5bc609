"""What a plate's face is made of: how it is cleaned, what holds on it, and what follows for a part's foot."""

from typing import get_args

import numpy as np
import pytest

from ivory_table.core.causes import Causes
from ivory_table.core.defaults import FACES, HOLD_DOWN
from ivory_table.core.face import coat_of, face_of, grip_on, stuck_words
from ivory_table.core.hold_down import hold_down
from ivory_table.core.plate import CoatId, FaceId, Filament, Layer, Plate
from ivory_table.core.recipe import recipes

MATERIALS = get_args(Filament.model_fields["material"].annotation)
PLATE = Plate(id="p", name="p", width_mm=200, depth_mm=200)


def on(face: str | None = None, coat: str | None = None) -> Plate:
    return PLATE.model_copy(update={"face": face, "coat": coat})


def test_every_face_says_how_every_plastic_holds_and_how_it_is_cleaned() -> None:
    assert set(FACES.faces) == set(get_args(FaceId))
    assert set(FACES.coats) == set(get_args(CoatId))
    for face in get_args(FaceId):
        assert set(FACES.faces[face].holds) == set(MATERIALS)
        for material in MATERIALS:
            grip = grip_on(on(face), material)
            assert grip is not None
            assert bool(grip.words) == (grip.holds != "well") == (grip.times != 1.0)
            assert (grip.times > 1) == (grip.holds == "too_well")


def test_nothing_is_said_of_a_face_that_nobody_named() -> None:
    assert grip_on(PLATE, "PETG") is None
    assert face_of(PLATE) is coat_of(PLATE) is None
    assert "in set-up" in stuck_words(None)


@pytest.mark.parametrize("coat", get_args(CoatId))
@pytest.mark.parametrize("material", MATERIALS)
def test_over_a_coat_everything_holds_and_comes_off_with_it(coat: str, material: str) -> None:
    for face in get_args(FaceId):
        grip = grip_on(on(face, coat), material)
        assert grip is not None
        assert (grip.holds, grip.words) == ("well", "")


def test_a_layer_that_is_called_glue_is_a_coat() -> None:
    glued = PLATE.model_copy(update={"layers": (Layer(name="Glue coat"),), "face": "glass"})
    assert glued.coated == "glue"
    grip = grip_on(glued, "PETG")
    assert grip is not None
    assert grip.holds == "well"


def test_where_a_plastic_holds_poorly_it_is_likelier_the_face() -> None:
    """Of five loose patches the same; all else keeps its share of what is left."""
    usual = Causes.before("ABS", 0.0)
    for holds, times in FACES.coat_more.items():
        here = Causes.before("ABS", 0.0, holds)
        assert here.shared["coat"] == pytest.approx(times * usual.shared["coat"])
        assert here.shared["cold_plate"] == usual.shared["cold_plate"]
        assert sum(here.shared.values()) == pytest.approx(1.0)
    assert FACES.coat_more["poorly"] > FACES.coat_more["well"] == 1.0 > FACES.coat_more["too_well"]


def test_what_holds_too_well_is_told_of_its_release_layer_and_never_laid_hotter() -> None:
    grip = grip_on(on("glass"), "PETG")
    assert grip is not None
    assert grip.words.startswith("PETG holds so well on bare glass that it takes chips out of it")
    assert FACES.release in grip.words
    assert stuck_words(grip) == f"{grip.words}."
    usual = {r.name for r in recipes(0.4, "PETG", 235, 75, 0.02)}
    here = {r.name for r in recipes(0.4, "PETG", 235, 75, 0.02, grip=grip)}
    assert usual - here == {"and hotter, for what will not hold"}
    poor = {r.name for r in recipes(0.4, "ABS", 235, 95, 0.02, grip=grip_on(on("glass"), "ABS"))}
    assert "and hotter, for what will not hold" in poor


@pytest.mark.parametrize("material", MATERIALS)
def test_loads_are_measured_against_what_holds_here(material: str) -> None:
    """Twice the hold is half the load, of the knock and of the pull; and never likelier to come off."""
    foot = np.ones((10, 40), dtype=bool)
    usual = hold_down(foot, 1.0, 40.0, material, corner_deg=90)
    twice = hold_down(foot, 1.0, 40.0, material, corner_deg=90, grip=2.0)
    poor = hold_down(foot, 1.0, 40.0, material, corner_deg=90, grip=FACES.poorly_grip)
    assert (twice.knock, twice.pull) == pytest.approx((usual.knock / 2, usual.pull / 2))
    assert twice.p_off < usual.p_off < poor.p_off
    # By hand: the tip's push at the top over the strength and the foot's modulus, 40 x 10 mm on its short side.
    strength = HOLD_DOWN.material[material].strength_mpa
    assert poor.knock == pytest.approx(HOLD_DOWN.knock_n * 40 / (strength * FACES.poorly_grip * 40 * 10**2 / 6))
