"""The practice machine: it behaves as a real one would, and its truth stays its own."""

import itertools
import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.optimize import minimize_scalar

from ivory_table.core.bending import held_at
from ivory_table.core.gauge import FEELS
from ivory_table.core.manner import shipped
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.plate import Machine
from ivory_table.core.proof import plan
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import ThermalReading, ThermalStudy
from ivory_table.core.tram import coupling
from ivory_table.demo.tidewater import GAUGES
from ivory_table.practice.elastic import ElasticPlate, Truth, crooked
from ivory_table.practice.heat import bed
from ivory_table.practice.machine import IDLE_S, CannotMove, PracticeMachine
from ivory_table.practice.person import PracticePerson
from ivory_table.practice.room import PracticeRoom
from ivory_table.practice.serve import Served, TcpPlug
from ivory_table.runs.state import RunState
from ivory_table.stations.prepare.entries import Heated, SchoolChosen
from ivory_table.stations.tram.entries import ReadMm
from ivory_table.trial.tram_plates import SprungPlate, screws_of
from tests.conftest import NOON, after, setup_for

HERON, KESTREL = setup_for("heron"), setup_for("kestrel")
SURFACE = Surface.of(HERON.machine, HERON.plate)


def level(machine: Machine = HERON.machine, **changes: object) -> PracticeMachine:
    """A level plate on even supports, with a steady hand, homed and ready."""
    m = len(machine.screws)
    body = {
        "seed": 1,
        "supports": [0.0] * m,
        "stiffness": [60.0] * m,
        "senses": [1] * m,
        "pitch_share": [1.0] * m,
        "relaxed": [4.0] * m,
        "lowest": [-4.0] * m,
        "mount": machine.plates[0].id,
        "backlash_mm": 0.0,
    }
    found = PracticeMachine(machine, HERON.gauge, Truth(**(body | changes)))
    found.homed = True
    return found


def hands(**changes: object) -> PracticePerson:
    return PracticePerson(level(**changes))


# The plate


def test_the_same_seed_is_the_same_plate_and_another_is_another() -> None:
    one, same, other = (crooked(HERON.machine, HERON.plate, seed) for seed in (3, 3, 4))
    assert one == same
    assert one != other


def test_a_plane_passes_whole_and_a_twist_is_damped() -> None:
    plate = level().plate
    passes = plate.passes()
    at = plate.anchors
    for plane in (np.ones(4), at[:, 0], at[:, 1]):
        assert passes @ plane == pytest.approx(plane, rel=1e-6)
    assert 0.2 < SURFACE.twist_passed(passes) < 0.9


def test_even_supports_couple_as_the_closed_form_says() -> None:
    plate = level().plate
    kappa = float(SURFACE.twist_passed(plate.passes()))
    closed = coupling(np.full(4, 1 / kappa - 1), SURFACE.bending)
    assert plate.passes() == pytest.approx(closed, abs=0.01)


@pytest.mark.parametrize("count", [6, 9])
def test_many_uneven_supports_couple_as_the_core_says(count: int) -> None:
    """Two programs of the same plate: quadrature over Legendre polynomials here, closed integrals there."""
    screws = screws_of(count)
    plate = SprungPlate(np.random.default_rng(count), screws).plate
    stiffness, (bending, _) = np.array(plate.truth.stiffness), held_at(plate.plate, plate.anchors)
    # The core knows compliance only relative to the plate's own stiffness: one number is free.
    closest = minimize_scalar(lambda c: float(np.abs(coupling(np.exp(c) / stiffness, bending) - plate.passes()).max()))
    assert closest.fun < 1e-4


@settings(max_examples=25)
@given(st.floats(10, 400), st.floats(1.5, 5))
def test_stiffer_supports_pass_more_and_thicker_plates_less(stiffness: float, thick: float) -> None:
    def kappa(k: float, t: float) -> float:
        plate = level(stiffness=[k] * 4, base_mm=t).plate
        return float(SURFACE.twist_passed(plate.passes()))

    assert kappa(2 * stiffness, thick) > kappa(stiffness, thick)
    assert kappa(stiffness, thick) > kappa(stiffness, 1.5 * thick)


def test_three_screws_carry_exactly_a_plane() -> None:
    wren = setup_for("wren").machine
    plate = level(wren, supports=[0.1, -0.2, 0.3]).plate
    assert plate.heights(plate.anchors) == pytest.approx([0.1, -0.2, 0.3], abs=1e-9)


def test_a_screw_turned_past_its_preload_goes_slack_and_moves_nothing_more() -> None:
    body = level(relaxed=[0.5] * 4, stiffness=[30.0] * 4)
    body.truth.supports[0] = 3.0
    before = body.plate.heights(body.plate.anchors)
    assert body.plate.slack() == [0]
    body.truth.supports[0] = 4.0
    assert body.plate.heights(body.plate.anchors) == pytest.approx(before, abs=0.02)


def test_heat_raises_the_middle_and_hardly_the_screws() -> None:
    plate = level(heat_bow_mm_c=0.0004).plate
    centre = np.array([HERON.plate.centre])
    cold, hot = plate.heights(centre, 0.0)[0], plate.heights(centre, 60.0)[0]
    assert hot - cold > 0.01
    assert np.abs(plate.heights(plate.anchors, 60.0)).max() < 0.2 * (hot - cold)


def test_the_middle_follows_the_bed_with_a_delay() -> None:
    body = level(heat_bow_mm_c=0.0004, heat_minutes=3.0)
    body.bed.target_c = 60
    body.wait(120)
    assert body.core_c < body.bed.body_c - 5
    body.wait(1200)
    assert body.core_c == pytest.approx(60, abs=3)


def test_a_thicker_plate_stands_higher() -> None:
    body = level()
    before = body.gap(120, 120, 5.0)
    body.remount("heron-glass")
    assert before - body.gap(120, 120, 5.0) == pytest.approx(3.0 - 0.8)


# The hand and the gauge


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


# The machine


def test_a_tip_sent_into_the_plate_or_a_clip_crashes_and_says_nothing() -> None:
    body = level()
    body.move(60, 60, 5, 50)
    body.move(60, 60, -0.2, 5)
    assert [c.into for c in body.crashes] == ["the plate"]
    body.move(60, 60, 5, 50)
    body.move(122, 4, 5, 50)
    body.move(122, 4, 1.0, 5)
    assert body.crashes[-1].into == "front clip"


def test_limits_and_unknown_positions_refuse_to_move() -> None:
    body = level()
    with pytest.raises(CannotMove, match="outside the limits"):
        body.move(400, 0, 5, 50)
    with pytest.raises(CannotMove, match="outside the limits"):
        body.move(60, 60, -2.5, 5)
    body.let_go()
    with pytest.raises(CannotMove, match="home first"):
        body.move(60, 60, 5, 50)


def test_idle_motors_let_go_and_may_have_moved() -> None:
    body = level()
    body.move(60, 60, 5, 50)
    body.wait(700)
    assert not body.homed
    assert body.drifted_mm != 0


def test_in_fast_time_a_person_still_has_as_long_to_answer(tmp_path: Path) -> None:
    """A question answered after half a minute must not find the motors timed out because the machine's time runs fast."""
    fast = Served(KESTREL.machine, GAUGES[0], shipped("harbour"), TcpPlug(0), seed=1, pace=20, file=tmp_path / "t.json")
    try:
        assert fast.body.idle_s == 20 * IDLE_S
    finally:
        fast.end()
    body = level()
    body.idle_s = 20 * IDLE_S
    body.pass_time(19 * IDLE_S)
    assert body.homed
    body.pass_time(2 * IDLE_S)
    assert not body.homed


def test_coming_from_below_leaves_the_backlash() -> None:
    body = level(backlash_mm=0.02)
    body.move(60, 60, 5, 50)
    body.move(60, 60, 0.5, 5)
    from_above = body.gap(60, 60, 0.5)
    body.move(60, 60, 0.4, 5)
    body.move(60, 60, 0.5, 5)
    assert body.gap(60, 60, 0.5) - from_above == pytest.approx(0.02)


def test_a_stalled_motor_is_off_by_what_it_lost_until_it_is_homed() -> None:
    body = level()
    body.move(60, 60, 5, 50)
    before = body.gap(60, 60, 0.5)
    PracticePerson(body).fault("stall")
    body.move(60, 60, 4, 5)
    assert body.gap(60, 60, 0.5) - before == pytest.approx(0.4)
    body.home()
    assert body.gap(60, 60, 0.5) - before == pytest.approx(0, abs=0.02)


def test_a_slack_screw_creeps_and_a_pressed_one_stays() -> None:
    body = level(relaxed=[4.0, 4.0, 4.0, 0.1])
    body.wait(3600)
    assert body.truth.supports[:3] == [0.0, 0.0, 0.0]
    assert body.truth.supports[3] < -0.01


def test_a_fault_nobody_knows_is_refused_and_none_mends_all() -> None:
    person = hands()
    with pytest.raises(ValueError, match="earthquake"):
        person.fault("earthquake")
    person.fault("heater_stops")
    person.fault("dirty_tip")
    person.fault("none")
    assert person.body.bed.fault == ""
    assert person.body.ways.dirty_tip_mm == 0


def test_moves_take_their_time() -> None:
    body = level()
    assert body.move(body.at[0] + 100, None, None, 50) == pytest.approx(2.1, abs=0.1)
    body.speed_share = 0.5
    assert body.move(body.at[0] + 100, None, None, 50) == pytest.approx(4.05, abs=0.1)


def probing(**changes: object) -> PracticeMachine:
    body = level(KESTREL.machine, **changes)
    body.move(150, 150, 8, 50)
    return body


def test_a_probe_repeats_warms_and_gets_dirty() -> None:
    body = probing()
    clean = [body.probe() for _ in range(30)]
    assert np.std(clean) < 0.008
    body.ways.dirty_tip_mm = -0.06
    assert np.mean([body.probe() for _ in range(30)]) == pytest.approx(np.mean(clean) - 0.06, abs=0.005)
    body.ways.dirty_tip_mm = 0.0
    body.bed.target_c = 60
    body.wait(900)
    body.home()
    body.move(150, 150, 8, 50)
    assert np.mean([body.probe() for _ in range(30)]) > np.mean(clean) + 0.01


def test_a_probe_mounted_too_high_never_triggers() -> None:
    body = probing()
    body.ways.probe_too_high = True
    assert body.probe() is None
    assert len(body.crashes) == 1


def test_without_a_probe_there_is_none() -> None:
    with pytest.raises(CannotMove, match="no probe"):
        level().probe()


def test_a_heater_lags_overshoots_a_little_and_swings() -> None:
    heater = bed()
    heater.target_c = 60
    path = []
    for _ in range(900):
        heater.pass_time(1.0)
        path.append(heater.body_c)
    assert path[20] < 35
    assert 60.2 < max(path) < 64
    assert 0.05 < np.ptp(path[-300:]) / 2 < 1.0
    heater.target_c = 0
    heater.pass_time(3600)
    assert heater.body_c < 25


def test_a_broken_heater_stays_cold_and_an_open_thermistor_reads_far_below() -> None:
    heater = bed()
    heater.target_c, heater.fault = 60, "stopped"
    heater.pass_time(600)
    assert heater.body_c < 25
    heater.fault = "open"
    assert heater.reading_c < 0


# The first layer


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


@pytest.mark.parametrize("owns_zero", [True, False])
def test_a_mesh_in_use_follows_the_plate(owns_zero: bool) -> None:
    person = hands(shape=[0.06, 0.0, 0.0])
    body = person.body
    grid = grid_on(HERON.plate, 5, 5)
    heights = body.surface(grid.places) + 0.1 * owns_zero
    rows = tuple(tuple(round(float(v), 4) for v in row) for row in heights.reshape(5, 5))
    without = [body.gap(x, y, 0.2) for x, y in grid.places]
    person.use_mesh(MeshSurvey(grid=grid, heights_mm=rows, owns_zero=owns_zero, plate_id=HERON.plate_id))
    followed = [body.gap(x, y, 0.2) for x, y in grid.places]
    assert np.ptp(followed) < 0.001 < np.ptp(without)
    person.use_mesh(None)
    assert [body.gap(x, y, 0.2) for x, y in grid.places] == without


# Keeping


def test_a_turned_knob_stays_turned_after_a_restart(tmp_path: Path) -> None:
    room = PracticeRoom(tmp_path)
    person = room.hands_for(HERON)
    person.turn(1, 5)
    again = PracticeRoom(tmp_path).hands_for(HERON)
    assert again.body.truth == person.body.truth
    assert json.loads((tmp_path / "run.json").read_text())["draws"] == person.body.truth.draws


def test_two_who_keep_at_once_do_not_take_each_others_file(tmp_path: Path) -> None:
    """A request and what was done by hand just before may open the same machine together."""
    room = PracticeRoom(tmp_path)
    with ThreadPoolExecutor(8) as many:
        found = list(many.map(lambda _: room.hands_for(HERON), range(40)))
    assert all(found)
    assert [f.suffix for f in tmp_path.iterdir()] == [".json"]


def test_only_a_practice_machine_has_a_practice_person(tmp_path: Path) -> None:
    machine = HERON.machine.model_copy(update={"practice": False})
    assert PracticeRoom(tmp_path).hands_for(HERON.model_copy(update={"machine": machine})) is None


def test_two_runs_have_two_plates(tmp_path: Path) -> None:
    room = PracticeRoom(tmp_path)
    one, two = room.hands_for(HERON), room.hands_for(setup_for("heron", "another"))
    assert one.body.truth.supports != two.body.truth.supports


def test_disturbing_makes_a_new_crooked_plate_and_keeps_the_zero() -> None:
    person = hands(shift=-0.07)
    person.disturb()
    assert np.ptp(person.body.truth.supports) > 0.05
    assert person.body.truth.shift == -0.07


def test_a_plate_solved_twice_is_the_same() -> None:
    truth = crooked(HERON.machine, HERON.plate, 5)
    at = ElasticPlate(HERON.machine, HERON.plate, truth).anchors
    heights = [ElasticPlate(HERON.machine, HERON.plate, truth).heights(at) for _ in range(2)]
    assert heights[0] == pytest.approx(heights[1])


@pytest.mark.parametrize("machine_id", ["heron", "kestrel", "wren"])
def test_hot_warm_and_cold_lead_to_the_same_tram(machine_id: str) -> None:
    """Noise off: with its thermal study, what each school believes of the hot plate is the hot plate, to 0.005 mm."""
    setup = setup_for(machine_id)
    machine, plate = setup.machine, setup.plate
    truth = crooked(machine, plate, 5)
    truth.heat_bow_mm_c, truth.bumps = 0.0012, []
    body = PracticeMachine(machine, setup.gauge, truth)
    names = ["centre", *(s.name for s in machine.screws)]
    places = np.array([plate.centre, *((s.x_mm, s.y_mm) for s in machine.screws)])

    def heights(celsius: float) -> np.ndarray:
        body.core_c = celsius
        return body.surface(places)

    rows = tuple(
        ThermalReading(place=n, x_mm=x, y_mm=y, bed_c=c, height_mm=round(float(h), 4), held_min=30)
        for c in (22.0, 45.0, 60.0)
        for n, (x, y), h in zip(names, places, heights(c), strict=True)
    )
    studied = setup.model_copy(update={"study": ThermalStudy(plate_id=plate.id, readings=rows)})
    hot = heights(60.0)
    for school, celsius in (("hot", 60.0), ("warm", 45.0), ("cold", 22.0)):
        state = after(
            RunState.start(studied),
            SchoolChosen(school=school),
            Heated(bed_c=celsius, nozzle_c=0, held_since=NOON),
            *(
                ReadMm(x_mm=x, y_mm=y, instrument="dial", value_mm=round(float(h), 4), screw=n)
                for n, (x, y), h in list(zip(names, places, heights(celsius), strict=True))[1:]
            ),
        )
        mean, _ = state.belief.height(places[1:])
        assert mean - mean.mean() == pytest.approx(hot[1:] - hot[1:].mean(), abs=0.005), school
