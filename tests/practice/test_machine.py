"""The practice machine: it moves, heats, probes and keeps as a real one would, and its truth stays its own."""

import json
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import numpy as np
import pytest

from ivory_table.core.manner import shipped
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.thermal import ThermalReading, ThermalStudy
from ivory_table.demo.tidewater import GAUGES
from ivory_table.practice.elastic import crooked
from ivory_table.practice.heat import bed
from ivory_table.practice.machine import IDLE_S, CannotMove, PracticeMachine
from ivory_table.practice.person import PracticePerson
from ivory_table.practice.room import PracticeRoom
from ivory_table.practice.serve import Served, TcpPlug
from ivory_table.runs.state import RunState
from ivory_table.stations.prepare.entries import Heated, SchoolChosen
from ivory_table.stations.tram.entries import ReadMm
from tests.conftest import NOON, after, setup_for
from tests.practice.practising import HERON, KESTREL, hands, level


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
