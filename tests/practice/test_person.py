"""The practice person: what a hand feels, and what its eyes see of a first layer."""

import itertools

import numpy as np
import pytest

from ivory_table.core.gauge import FEELS
from ivory_table.core.proof import plan
from ivory_table.practice.person import PracticePerson
from tests.practice.practising import HERON, hands, level


def test_the_gauge_feels_looser_the_higher_the_tip() -> None:
    person = hands()
    order = [FEELS.index(person.slide_gauge(122, 118, z)) for z in np.linspace(0.0, 0.4, 26)]
    assert order[0] == 0
    assert order[-1] == 4
    # With its scatter a feel may slip by one, never by two.
    assert all(b >= a - 1 for a, b in itertools.pairwise(order))


def test_turning_until_the_drag_ends_at_the_drag_and_counts_what_it_took() -> None:
    person = hands(supports=[-0.4, 0.0, 0.0, 0.0])
    before = person._height(0)
    marks, still = person.turn_until_drag(0)
    assert still is None
    assert person._height(0) == pytest.approx(-0.1, abs=0.05)  # the gauge is 0.1 thick, the tip at 0
    passed = person.body.plate.passes()[0, 0]
    per_mark = HERON.machine.screws[0].mm_per_mark
    assert marks == pytest.approx((person._height(0) - before) / passed / per_mark, abs=0.6)


def test_on_the_line_it_drags_where_the_tip_is() -> None:
    person = hands(supports=[-0.4, 0.0, 0.0, 0.0])
    person.body.at = [32.0, 32.0, 0.2]
    person.turn_until_drag(0)
    assert person._height(0) == pytest.approx(0.1, abs=0.05)


def test_a_reversed_knob_lowers_and_feels_looser() -> None:
    person = hands(senses=[-1, 1, 1, 1])
    assert person.try_sense(0) == "looser"
    assert person.try_sense(1) == "tighter"


def test_a_knob_ends_at_its_travel() -> None:
    person = hands(lowest=[-0.1] * 4)
    person.turn(0, -60)
    assert person.body.truth.supports[0] == -0.1


def test_a_dial_repeats_over_a_zero_of_its_own() -> None:
    person = hands()
    values = [person.read_height(50, 50) for _ in range(40)]
    assert np.std(values) < 0.012
    assert abs(np.mean(values)) > 0.2  # not the nozzle's zero


def test_pressing_the_gauge_too_hard_is_a_crash_that_only_the_trainer_sees() -> None:
    person = hands()
    person.slide_gauge(122, 118, 0.05)
    assert person.crashes() == []
    assert person.slide_gauge(122, 118, -0.05) == "stuck"
    assert len(person.crashes()) == 1


@pytest.mark.parametrize(("shift", "grade"), [(0.0, "sound"), (0.06, "parted"), (-0.05, "ridged"), (0.3, "loose")])
def test_a_zone_shows_what_its_gap_lays(shift: float, grade: str) -> None:
    person = hands(shift=shift)
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    looks = [person.print_zone(proof, 2) for _ in range(15)]
    grades = [look.grade for look in looks]
    assert max(set(grades), key=grades.count) == grade
    assert person.see_zone(proof, 2).grade == grade
    for look in looks:
        if look.caliper_mm is not None:
            assert look.caliper_mm == pytest.approx(0.2 + shift, abs=0.05)
        else:
            assert look.grade not in ("sound", "ridged")


def test_a_patch_laid_over_the_line_is_the_one_that_is_looked_at() -> None:
    body = level()
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    at = proof.zones[0]
    body.tip.body_c, body.bed.body_c = 206.0, 57.0
    body.move(at.x_mm - 5, at.y_mm, 5, 50)
    body.move(at.x_mm - 5, at.y_mm, 0.2, 5)
    body.nudge_mm = 0.07
    body.move(at.x_mm + 5, at.y_mm, None, 20, 0.4)
    body.nudge_mm = 0.0
    assert PracticePerson(body).see_zone(proof, 0).gap_mm == pytest.approx(0.27, abs=0.01)


def laid_patch(tip_c: float, bed_c: float, speed: float) -> PracticePerson:
    body = level()
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    at = proof.zones[0]
    body.move(at.x_mm - 8, at.y_mm, 5, 50)
    body.move(at.x_mm - 8, at.y_mm, 0.2, 5)
    body.tip.body_c = body.tip.element_c = tip_c
    body.bed.body_c = body.bed.element_c = bed_c
    body.move(at.x_mm + 8, at.y_mm, None, speed, 0.5)
    return PracticePerson(body)


def test_a_cold_tip_or_haste_starves_a_patch_and_a_cold_plate_does_not_hold_it() -> None:
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    right, cold, hasty = (laid_patch(*how) for how in ((206, 57, 20), (168, 57, 20), (206, 57, 90)))
    assert right.see_zone(proof, 0).grade == "sound"
    fill = right.see_zone(proof, 0).fill
    assert cold.see_zone(proof, 0).fill < 0.9 * fill
    assert hasty.see_zone(proof, 0).fill < 0.9 * fill
    assert laid_patch(206, 25, 20).print_zone(proof, 0).grade == "loose"


def test_a_greasy_place_will_not_hold_until_it_is_cleaned() -> None:
    proof = plan(HERON.machine, HERON.plate, HERON.filament)
    at = proof.zones[0]
    person = hands(greasy=[(at.x_mm + 5, at.y_mm)])
    assert person.print_zone(proof, 0).greasy
    assert not person.print_zone(proof, 4).greasy
    person.clean(proof, 0)
    assert person.print_zone(proof, 0).grade == "sound"
