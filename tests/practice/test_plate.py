"""The practice plate: it answers as a real thing would, and its truth stays its own."""

import itertools
import json
from pathlib import Path

import numpy as np
import pytest

from ivory_table.core.gauge import FEELS
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.proof import plan
from ivory_table.practice.plate import PracticePlate, PracticeRoom, Truth, crooked
from tests.conftest import setup_for

HERON = setup_for("heron")


def flat(**changes: object) -> PracticePlate:
    """A level plate of middling supports, with a steady hand and no bumps."""
    body = {
        "seed": 1,
        "heights": [0.0] * 4,
        "lam": [1.0] * 4,
        "senses": [1, 1, 1, 1],
        "forms": [0.0, 0.0, 0.0],
        "bumps": [],
        "feel_bias": 0.0,
        "greasy": [],
    }
    return PracticePlate(HERON.machine, HERON.plate, HERON.gauge, Truth(**(body | changes)))


def test_the_same_seed_is_the_same_plate_and_another_is_another() -> None:
    one, same, other = (crooked(HERON.machine, HERON.plate, seed) for seed in (3, 3, 4))
    assert one == same
    assert one != other


def test_new_plates_are_crooked_but_not_absurd() -> None:
    ranges = [np.ptp(crooked(HERON.machine, HERON.plate, seed).heights) for seed in range(60)]
    assert 0.15 < np.mean(ranges) < 0.9
    assert max(ranges) < 1.6


def test_the_gauge_feels_looser_the_higher_the_tip() -> None:
    hands = flat()
    order = [FEELS.index(hands.slide_gauge(122, 118, z)) for z in np.linspace(-0.1, 0.4, 26)]
    assert order[0] == 0
    assert order[-1] == 4
    # With its scatter a feel may slip by one, never by two.
    assert all(b >= a - 1 for a, b in itertools.pairwise(order))


def test_turning_until_the_drag_ends_at_the_drag() -> None:
    hands = flat(heights=[-0.3, 0.0, 0.1, 0.2])
    ends = []
    for j, screw in enumerate(HERON.machine.screws):
        hands.turn_until_drag(j)
        ends.append(hands._height(screw.x_mm, screw.y_mm))
    assert ends[-1] == pytest.approx(-0.1, abs=0.06)  # the gauge is 0.1 thick, the tip at 0


def test_marks_count_what_the_knob_did() -> None:
    hands = flat(heights=[-0.5, -0.1, -0.1, -0.1])
    marks = hands.turn_until_drag(0)
    needed = (-0.1 + 0.5) / hands._passes[0, 0] / HERON.machine.screws[0].mm_per_mark
    assert marks == pytest.approx(needed, abs=1.5)


def test_a_rocking_plate_takes_the_opposite_corner_down() -> None:
    hands = flat(lam=[50.0] * 4)
    hands.turn(0, 10)
    heights = hands._truth.heights
    assert heights[0] > 0.2
    assert heights[3] < -0.05


def test_a_reversed_knob_lowers_and_feels_looser() -> None:
    hands = flat(senses=[-1, 1, 1, 1])
    assert hands.try_sense(0) == "looser"
    assert hands._truth.heights[0] < 0
    assert hands.try_sense(1) == "tighter"


def test_a_dial_repeats_over_a_zero_of_its_own() -> None:
    hands = flat()
    values = [hands.read_height(50, 50) for _ in range(40)]
    assert np.std(values) < 0.012
    assert abs(np.mean(values)) > 0.2  # not the nozzle's zero


def test_a_felt_height_carries_the_gauge() -> None:
    hands = flat(feel_bias=0.02)
    assert np.mean([hands.felt_height(122, 118) for _ in range(60)]) == pytest.approx(0.12, abs=0.01)


def test_moving_the_nozzle_away_widens_every_gap() -> None:
    hands = flat()
    before = hands._gap(40, 40, 0.2)
    hands.move_nozzle(0.05)
    assert hands._gap(40, 40, 0.2) - before == pytest.approx(0.05)


@pytest.mark.parametrize("owns_zero", [True, False])
def test_a_mesh_in_use_follows_the_plate(owns_zero: bool) -> None:
    hands = flat(forms=[0.06, 0.0, 0.0])
    grid = grid_on(HERON.plate, 5, 5)
    rows = tuple(tuple(round(hands._height(x, y) + 0.1 * owns_zero, 4) for x in grid.xs_mm) for y in grid.ys_mm)
    without = [hands._gap(x, y, 0.2) for x, y in grid.places]
    hands.use_mesh(MeshSurvey(grid=grid, heights_mm=rows, owns_zero=owns_zero, plate_id=HERON.plate_id))
    followed = [hands._gap(x, y, 0.2) for x, y in grid.places]
    assert np.ptp(followed) < 0.001 < np.ptp(without)
    hands.use_mesh(None)
    assert [hands._gap(x, y, 0.2) for x, y in grid.places] == without


@pytest.mark.parametrize(("shift", "grade"), [(0.0, "sound"), (0.06, "parted"), (-0.05, "ridged"), (0.3, "loose")])
def test_a_zone_shows_what_its_gap_lays(shift: float, grade: str) -> None:
    hands = flat(shift=shift)
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    looks = [hands.print_zone(proof, 2) for _ in range(15)]
    grades = [look.grade for look in looks]
    assert max(set(grades), key=grades.count) == grade
    for look in looks:
        if look.caliper_mm is not None:
            assert look.caliper_mm == pytest.approx(0.2 + shift, abs=0.05)
        else:
            assert look.grade not in ("sound", "ridged")


def test_a_greasy_place_will_not_hold_until_it_is_cleaned() -> None:
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    at = proof.zones[0]
    hands = flat(greasy=[(at.x_mm + 5, at.y_mm)])
    assert hands.print_zone(proof, 0).greasy
    assert not hands.print_zone(proof, 4).greasy
    hands.clean(proof, 0)
    assert hands.print_zone(proof, 0).grade == "sound"


def test_a_turned_knob_stays_turned_after_a_restart(tmp_path: Path) -> None:
    room = PracticeRoom(tmp_path)
    hands = room.hands_for(HERON)
    hands.turn(1, 5)
    again = PracticeRoom(tmp_path).hands_for(HERON)
    assert again._truth == hands._truth
    assert json.loads((tmp_path / "run.json").read_text())["draws"] == hands._truth.draws


def test_only_a_practice_machine_has_a_practice_plate(tmp_path: Path) -> None:
    machine = HERON.machine.model_copy(update={"practice": False})
    assert PracticeRoom(tmp_path).hands_for(HERON.model_copy(update={"machine": machine})) is None


def test_two_runs_have_two_plates(tmp_path: Path) -> None:
    room = PracticeRoom(tmp_path)
    one, two = room.hands_for(setup_for("heron", "one")), room.hands_for(setup_for("heron", "two"))
    assert one._truth.heights != two._truth.heights
    one.turn(0, 3)
    assert room.hands_for(setup_for("heron", "two"))._truth == two._truth
