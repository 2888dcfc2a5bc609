"""The stations over a real line: what they let a practice machine do, and what is left when it fails."""

from pathlib import Path

import numpy as np
import pytest

from ivory_table.runs.doubts import Refused
from ivory_table.stations import after_change, offset, on_line, tram
from ivory_table.stations.after_change import TakeSnapshot
from ivory_table.stations.lines import Connect, Leave, Lines
from ivory_table.stations.offset.entries import ZeroDoubted
from ivory_table.stations.offset.feel import feel_check
from ivory_table.stations.offset.state import Offset
from ivory_table.stations.prepare.entries import ChangeTold
from ivory_table.stations.tram.entries import ScrewFelt, SenseTried, WayChosen
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.turned import Turned
from tests.stations.floor import Floor


def test_its_settings_are_asked_for_and_compared(floor: Floor) -> None:
    floor.connect()
    for k in (1, 2):
        view = after_change.take(floor.lines, "kestrel", TakeSnapshot(id=f"s{k}", by="mk"))
        floor.until(lambda: floor.status.state == "idle")
        floor.served.body.truth.stored_mm = -1.234
    assert view.asks == ("ZERO_PROBE", "CHART")
    assert view.on_line
    found = after_change.compare(floor.desk.workshop, "kestrel", "s1", "s2")
    assert [d.numbers[0][1] for d in found.differences] == [-1.234]


def test_a_screw_near_the_drag_is_visited_to_be_felt_and_not_turned(floor: Floor) -> None:
    screws = floor.run.state.screws
    for j in (0, 3, 1, 2) * 3:
        floor.served.person.turn_until_drag(j, 160)
    floor.connect()
    floor.prove()
    floor.keep("tram", SenseTried(screw=screws[0].name, felt="tighter"))
    for s, feel in zip(screws, ("drag", "snag", "snag", "brush"), strict=True):
        floor.keep("tram", ScrewFelt(screw=s.name, z_mm=0.0, feel=feel))
    floor.keep("tram", Turned(screw=screws[-1].name, marks=0))
    now = tram.step.now_at(floor.run)
    assert now.step == "feel"
    floor.do("tram", "visit")
    screw = screws[now.at]
    assert floor.served.body.at == pytest.approx((screw.x_mm, screw.y_mm, 0.0), abs=0.02)
    supports = list(floor.served.body.truth.supports)
    floor.practise("tram", tram.practice.practice)
    assert isinstance(floor.run.entries[-1].what, ScrewFelt)
    assert floor.served.body.truth.supports == supports
    assert floor.served.person.crashes() == []


def test_proving_goes_one_by_one_and_stops_at_a_no(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    assert {"fans_proved", "stops_proved", "axes_proved", "trigger_proved"} <= set(floor.run.state.checks)
    floor.start("prepare", "prove")
    floor.until(lambda: floor.status.state == "waiting")
    floor.lines.answer(floor.machine, "no")
    floor.until(lambda: floor.status.state == "idle")
    assert "part fan" in floor.status.words


def test_heating_is_held_and_kept_with_its_time(floor: Floor) -> None:
    floor.connect()
    assert floor.do("prepare", "heat") == ""
    heated = floor.run.state.heated
    assert heated.bed_c == 57
    kept = floor.run.entries[-1]
    assert kept.source == "machine"
    assert (kept.at - heated.held_since).total_seconds() >= 5 * 60 - 1
    assert on_line.view(floor.lines, floor.run, "prepare").hold.steady


@pytest.mark.parametrize("floor", ["heron", "kestrel", "wren"], indirect=True)
def test_a_tram_over_the_line_ends_within_and_without_a_crash(floor: Floor) -> None:
    floor.connect()
    for _ in range(60):
        step = tram.step.now_at(floor.run).step
        if step in ("centre", "done"):
            break
        if step == "count":
            floor.do("tram", "visit")
            at = Tram.of(floor.run.state).at_screw
            screw = floor.run.state.screws[at]
            assert floor.served.body.at == [screw.x_mm, screw.y_mm, 0.0]
            assert tram.step.now_at(floor.run).at == at  # the screw the tip is at is the one that is asked for
        floor.practise("tram", tram.practice.practice)
    assert tram.step.now_at(floor.run).step == "centre"
    floor.do("tram", "centre")
    assert Tram.of(floor.run.state).centre_felt is not None
    plate = floor.served.body.plate
    assert np.ptp(plate.heights(plate.anchors)) < 3 * 2 * floor.run.state.tol_mm
    assert floor.served.person.crashes() == []


@pytest.mark.parametrize("job", ["probe_screws", "step_screws"])
def test_every_screw_is_read_over_the_line(floor: Floor, job: str) -> None:
    floor.connect()
    floor.prove()
    floor.practise("tram", tram.practice.practice)
    floor.keep("tram", WayChosen(way="read_all"))
    assert floor.do("tram", job) == ""
    assert tram.step.now_at(floor.run).step == "turn_all"
    # A probe reads before and after a turn that shows what the knob does; stepping to the drag is too slow for it.
    proved = {s.screw for s in Tram.of(floor.run.state).stops}
    # The first knob has shown its sense by the turn and the feel before.
    assert len(proved) == (len(floor.run.state.screws) - 1 if job == "probe_screws" else 0)
    mean, sd = floor.run.state.belief.height(floor.run.state.belief.surface.anchors)
    truth = floor.served.body.surface(floor.served.body.plate.anchors)
    off = (mean - mean.mean()) - (truth - truth.mean())
    assert np.abs(off).max() < 0.05
    assert sd.max() < 3.0
    assert floor.served.person.crashes() == []


def test_a_visit_that_is_cancelled_leaves_the_tip_lifted(floor: Floor) -> None:
    floor.connect()
    floor.practise("tram", tram.practice.practice)
    floor.start("tram", "visit")
    floor.until(lambda: floor.status.state == "waiting")
    assert floor.served.body.at[2] < 3
    floor.lines.cancel(floor.machine)
    floor.until(lambda: floor.status.state == "idle")
    assert floor.served.body.at[2] > 5


@pytest.mark.parametrize("floor", ["heron", "wren", "kestrel"], indirect=True)
def test_the_offset_is_found_sent_stored_and_read_back(floor: Floor) -> None:
    floor.connect()
    assert floor.do("offset", "bracket") == ""
    assert offset.step.now_at(floor.run).step == "set"
    floor.do("offset", "store")
    assert offset.step.now_at(floor.run).step == "done"
    body, state = floor.served.body, floor.run.state
    assert floor.run.entries[-1].what.reported_mm == state.stored_mm == pytest.approx(body.truth.stored_mm, abs=1e-6)
    x, y = body.mounted.centre
    assert abs(body.gap(x, y, 0.0)) < 0.06
    assert floor.served.person.crashes() == []


def test_a_tip_that_hangs_far_is_brought_down_by_what_goes_under_it(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    body = floor.served.body
    cx, cy = floor.run.setup.plate.centre
    floor.served.person.move_nozzle(1.4 - body.gap(cx, cy, 0.0))
    floor.keep("offset", ZeroDoubted(why="nozzle"))
    floor.start("offset", "bracket")
    asked = 0
    while floor.status.job != "Step down to the gauge at the centre" and floor.status.state != "waiting":
        floor.wait()
    folds = floor.run.setup.folds_mm
    while floor.status.job == "Step down to the gauge at the centre" or floor.status.state == "waiting":
        now = floor.status
        if now.state == "waiting":
            asked += 1
            gap = body.gap(*body.at)
            under = [f"{n} layers" for n, mm in folds.items() if 1.04 * mm < gap and f"{n} layers" in now.answers]
            if under:
                floor.lines.answer(floor.machine, under[-1], now.question)
            else:
                on_line.practice_answer(floor.lines, "run")
            floor.until(lambda was=now: floor.status.question != was.question)
        floor.wait()
    rows = [e.what.kind for e in floor.run.entries]
    assert "thick_tried" in rows
    # It began above z 0, came down by 1.3 mm and found the drag; the gauge alone takes twice as many.
    assert floor.run.state.search.approach.found
    assert asked <= 12
    assert floor.served.person.crashes() == []


def test_a_manner_with_a_mistake_is_named_when_it_is_connected(floor: Floor) -> None:
    folder = floor.lines.manners.folder
    folder.mkdir()
    (folder / "ours.toml").write_text("id = 'ours'\n[line]\nnumbered = maybe\n")
    with pytest.raises(Refused, match=r"ours\.toml has a mistake") as found:
        floor.lines.connect(floor.machine, Connect(manner="ours"))
    assert found.value.field == "manner"
    assert floor.status.state == "nobody"


def test_a_copied_and_edited_manner_is_understood(floor: Floor) -> None:
    folder = floor.lines.manners.folder
    folder.mkdir()
    from importlib.resources import files

    text = files("ivory_table.core").joinpath("manners", "harbour.toml").read_text()
    (folder / "ours.toml").write_text(text.replace('id = "harbour"', 'id = "ours"').replace('"SETTLE"', '"G4 P1"'))
    floor.lines.connect(floor.machine, Connect(manner="ours"))
    floor.until(lambda: floor.status.state == "idle")
    assert floor.status.manner == "ours"
    assert floor.do("prepare", "home") == ""
    assert "G4 P1" not in floor.lines.log(floor.machine)  # homing does not settle
    assert "G28" in floor.lines.log(floor.machine)


def test_asking_twice_under_one_id_starts_once(floor: Floor) -> None:
    floor.connect()
    for _ in range(2):
        on_line.start(floor.lines, "run", "prepare", "home", "same", 5)
    floor.until(lambda: floor.status.state == "idle" and floor.status.homed)
    assert floor.lines.log(floor.machine).count("G28") == 1


@pytest.mark.parametrize("floor", ["kestrel"], indirect=True)
def test_a_feel_check_on_the_line_keeps_every_try_and_hits_nothing(floor: Floor) -> None:
    floor.connect()
    floor.do("offset", "bracket")
    floor.do("offset", "store")
    assert floor.do("offset", "feel_check") == ""
    check = feel_check(floor.run)
    assert check.next_z_mm is None
    assert 0.004 < check.scale.scatter_mm < 0.03
    heights = [t.above_mm for t in Offset.of(floor.run.state).feel_tries]
    assert heights != sorted(heights)
    assert floor.served.person.crashes() == []


def heat(floor: Floor) -> None:
    floor.start("prepare", "heat")
    floor.until(lambda: floor.status.bed_target_c)


def test_leaving_the_line_switches_the_heaters_off(floor: Floor) -> None:
    floor.connect()
    heat(floor)
    floor.lines.leave(floor.machine, Leave())
    assert (floor.served.body.bed.target_c, floor.served.body.tip.target_c) == (0, 0)
    assert floor.status.heat_words == ""


def test_a_machine_that_asks_is_asked_about(floor: Floor) -> None:
    kept = floor.desk.workshop.machine(floor.machine)
    floor.desk.workshop.keep_machine(kept.model_copy(update={"on_leaving": "ask"}))
    floor.connect()
    heat(floor)
    with pytest.raises(Refused, match=r"is told to heat: plate 57") as asked:
        floor.lines.leave(floor.machine, Leave())
    assert asked.value.code == "heaters_on"
    floor.lines.leave(floor.machine, Leave(heaters="leave"))
    assert floor.served.body.bed.target_c == 57
    # It stays on record that it was left hot, until it has said that it is not.
    assert "plate told 57 °C" in floor.status.heat_words


def test_a_server_that_ends_in_order_leaves_no_heater_on(floor: Floor) -> None:
    floor.connect()
    heat(floor)
    floor.lines.close()
    assert floor.served.body.bed.target_c == 0


def test_a_server_that_was_killed_is_told_of_afterwards_and_what_is_hot_is_said(floor: Floor, tmp_path: Path) -> None:
    floor.connect()
    heat(floor)
    # Killed: nobody closes the session. Another server begins on the same folder.
    session = floor.lines.session(floor.machine)
    session._end.set()
    session._port.close()
    again = Lines(floor.desk, floor.lines.manners, floor.lines.doors, tmp_path / "lines")
    now = again.status(floor.machine)
    assert now.bed_target_c is None  # not known is not 0
    assert "doing 'Heat and hold'" in now.heat_words
    assert "plate told 57 °C" in now.heat_words
    again.connect(floor.machine, Connect())
    floor.until(lambda: again.status(floor.machine).state == "idle")
    assert "heating already: plate to 57 °C" in again.status(floor.machine).heat_words
    again.cool(floor.machine)
    floor.until(lambda: floor.served.body.bed.target_c == 0 and not again.status(floor.machine).heat_words)
    again.close()
    assert (
        Lines(floor.desk, floor.lines.manners, floor.lines.doors, tmp_path / "lines").status(floor.machine).heat_words
        == ""
    )


def test_a_machine_whose_sign_nobody_saw_shows_it_over_the_line(floor: Floor) -> None:
    floor.keep("prepare", ChangeTold(change="firmware"))
    assert not floor.desk.workshop.machine(floor.machine).sign_proved
    floor.connect()
    floor.prove()
    before = floor.served.body.truth.stored_mm
    floor.start("offset", "show_sign")
    floor.until(lambda: floor.status.question_kind == "ready")
    floor.lines.answer(floor.machine, "ready")
    floor.until(lambda: floor.status.question_kind == "went")
    # Probe offset: a larger number brings the tip further.
    floor.lines.answer(floor.machine, "further")
    floor.until(lambda: floor.status.state == "idle")
    assert floor.run.state.sign_proved
    assert floor.served.body.truth.stored_mm == before
    assert floor.desk.workshop.machine(floor.machine).sign_proved
