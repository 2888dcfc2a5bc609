"""Machines, plates and gauges as values: what is accepted, and what is refused with a sentence."""

import itertools

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from ivory_table.core.defaults import FEEL
from ivory_table.core.gauge import FEELS, FeelScale, Gauge, feel_interval
from ivory_table.core.plate import Filament, KeepOut, Machine, Plate, Screw
from tests.conftest import setup_for

HERON = setup_for("heron").machine
SQUARE = HERON.plates[0]
DISC = setup_for("bittern").plate


@pytest.mark.parametrize(
    ("x", "y", "margin", "inside"),
    [
        (0, 0, 0, True),
        (244, 236, 0, True),
        (244.1, 0, 0, False),
        (-0.1, 5, 0, False),
        (5, 5, 6, False),
        (6, 6, 6, True),
    ],
)
def test_a_rectangle_holds_its_places(x: float, y: float, margin: float, inside: bool) -> None:
    assert SQUARE.holds(x, y, margin) is inside


@pytest.mark.parametrize(
    ("x", "y", "inside"), [(0, 0, True), (131, 0, True), (0, -131, True), (100, 100, False), (92, 92, True)]
)
def test_a_disc_holds_its_places_about_its_centre(x: float, y: float, inside: bool) -> None:
    assert DISC.holds(x, y) is inside


@given(st.floats(-200, 500), st.floats(-200, 500), st.floats(0, 50))
def test_more_margin_never_holds_more(x: float, y: float, margin: float) -> None:
    for plate in (SQUARE, DISC):
        assert plate.holds(x, y, margin) <= plate.holds(x, y)


def test_a_place_off_the_plate_is_named_with_the_plates_reach() -> None:
    with pytest.raises(ValueError, match=r"\(300, 10\) is not on the plate, which reaches from 0 to 244 in x"):
        SQUARE.refuse_outside(300, 10)
    with pytest.raises(ValueError, match="within 131 mm of its centre"):
        DISC.refuse_outside(120, 120)


def test_a_keep_out_keeps_its_clearance() -> None:
    clip = KeepOut(name="clip", x_min_mm=10, y_min_mm=0, x_max_mm=20, y_max_mm=5)
    plate = SQUARE.model_copy(update={"keep_outs": (clip,)})
    assert plate.kept_out(15, 3) == "clip"
    assert plate.kept_out(22, 3) is None
    assert plate.kept_out(22, 3, 2) == "clip"


@pytest.mark.parametrize(
    "change",
    [
        {"width_mm": 0},
        {"width_mm": float("nan")},
        {"width_mm": 1e9},
        {"name": ""},
        {"name": "   "},
        {"id": "has space"},
        {"shape": "round"},
        {"surprise": 1},
    ],
)
def test_an_impossible_plate_is_refused(change: dict) -> None:
    with pytest.raises(ValidationError):
        Plate.model_validate(SQUARE.model_dump() | change)


@pytest.mark.parametrize("change", [{"pitch_mm": 0}, {"pitch_mm": -0.7}, {"sense": 0}, {"marks_per_turn": 0}])
def test_an_impossible_screw_is_refused(change: dict) -> None:
    with pytest.raises(ValidationError):
        Screw.model_validate({"name": "s", "x_mm": 0, "y_mm": 0} | change)


def test_a_keep_out_without_area_is_refused() -> None:
    with pytest.raises(ValidationError, match="right edge right of its left"):
        KeepOut(name="clip", x_min_mm=20, y_min_mm=0, x_max_mm=10, y_max_mm=5)


def test_names_are_found_and_missing_ones_said_with_what_there_is() -> None:
    assert HERON.screw("rear left") == 2
    with pytest.raises(ValueError, match="it has front left, front right, rear left, rear right"):
        HERON.screw("middle")
    with pytest.raises(ValueError, match="no plate wood"):
        HERON.plate("wood")


def test_twin_names_and_twin_plates_are_refused() -> None:
    twins = (*HERON.screws[:3], HERON.screws[0].model_copy(update={"x_mm": 215.0, "y_mm": 207.0}))
    with pytest.raises(ValidationError, match="same name"):
        Machine.model_validate(HERON.model_dump() | {"screws": [s.model_dump() for s in twins]})
    with pytest.raises(ValidationError, match="same id"):
        Machine.model_validate(HERON.model_dump() | {"plates": [SQUARE.model_dump()] * 2})


def test_an_m4_mark_moves_0044_mm() -> None:
    assert Screw(name="s", x_mm=0, y_mm=0, pitch_mm=0.7).mm_per_mark == pytest.approx(0.04375)


def test_values_are_frozen() -> None:
    with pytest.raises(ValidationError):
        HERON.name = "other"


def test_feels_lie_side_by_side_without_a_hole() -> None:
    intervals = [feel_interval(f, 0.1, FeelScale()) for f in FEELS]
    assert intervals[0][0] == -float("inf")
    assert intervals[-1][1] == float("inf")
    assert all(a[1] == b[0] for a, b in itertools.pairwise(intervals))
    low, high = feel_interval("drag", 0.1, FeelScale())
    assert (low, high) == (pytest.approx(0.088), pytest.approx(0.108))


def test_an_unmeasured_thickness_does_not_count_and_is_less_sure() -> None:
    guessed = Gauge(id="g", name="g", thickness_mm=0.2, measured=False)
    known = Gauge(id="g", name="g", thickness_mm=0.2, measured=True)
    shim = Gauge(id="g", name="g", kind="shim", thickness_mm=0.2, measured=False)
    assert known.drags_at() == (0.2, FEEL.bias_sd_mm)
    # Paper is what paper usually is, whatever was typed; of a shim nobody can say.
    assert guessed.drags_at() == (0.095, 0.03)
    assert shim.drags_at() == (0.0, FEEL.unmeasured_sd_mm)
    assert guessed.drags_at(usual=False) == shim.drags_at()
    assert FEEL.bias_sd_mm < guessed.drags_at()[1] < FEEL.unmeasured_sd_mm


@pytest.mark.parametrize("text", ["a\x00", "a\u202e b", "line\nbreak"])
def test_what_cannot_be_shown_is_no_name(text: str) -> None:
    with pytest.raises(ValidationError, match="cannot be shown"):
        Gauge(id="g", name=text)


@pytest.mark.parametrize("change", [{"bed_c": 200}, {"nozzle_c": 20}, {"material": "wood"}, {"diameter_mm": 0}])
def test_an_impossible_filament_is_refused(change: dict) -> None:
    with pytest.raises(ValidationError):
        Filament.model_validate({"id": "f", "name": "f", "material": "PLA", "bed_c": 60, "nozzle_c": 210} | change)


def test_screws_on_one_line_are_refused_wherever_the_line_lies() -> None:
    plate = setup_for("heron").plate

    def machine(*at: tuple[float, float]) -> Machine:
        screws = tuple(Screw(name=f"s{k}", x_mm=x, y_mm=y) for k, (x, y) in enumerate(at))
        return Machine(id="m", name="m", plates=(plate,), screws=screws, convention="live_only")

    for line in (
        [(20, 20), (120, 120), (220, 220)],
        [(20, 200), (120, 200.5), (220, 201)],
        [(30, 20), (30, 90), (31, 200)],
    ):
        with pytest.raises(ValueError, match="on one line"):
            machine(*line)
    assert len(machine((20, 20), (120, 160), (220, 20)).screws) == 3
