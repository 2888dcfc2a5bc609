"""Prepare and tram through the desk: what changed, rough start, schools, learning, and bad input answered."""

import re
from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from ivory_table.core.defaults import TRAM
from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.gauge import Feel
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.plate import Layer, Screw
from ivory_table.core.thermal import ThermalReading
from ivory_table.demo.tidewater import GAUGES
from ivory_table.desk.desk import Desk
from ivory_table.desk.knowledge import learnt_of
from ivory_table.practice.firmware import Firmware
from ivory_table.runs.common import Resumed, TakenBack, WhereNoted
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations import mesh, prepare, setup, sign_off, tram
from ivory_table.stations.head import head_of
from ivory_table.stations.mesh.entries import MeshKept
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offset.entries import FeelKept, FeelTried, Felt
from ivory_table.stations.offset.feel import feel_by_practice, feel_check
from ivory_table.stations.prepare.entries import ChangeTold, CheckDone, Heated, SchoolChosen, ThermalRead
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.tram.entries import (
    BackedOff,
    Counted,
    NotReached,
    ReadMm,
    ScrewFelt,
    SenseTried,
    SkirtSeen,
    WalkCount,
    Walked,
    WayChosen,
)
from ivory_table.stations.tram.shim import shim, shim_file
from ivory_table.stations.tram.skirt import skirt_for
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.walk_file import walk_for
from ivory_table.stations.turned import Turned, TurnedAll
from ivory_table.store.trouble import Clash

from .test_run import keep, practise, start


def checks(desk: Desk, run_id: str = "run") -> dict[str, prepare.view.Check]:
    return {c.id: c for c in prepare.view.view(desk.open(run_id)).checks}


def renew(desk: Desk, machine_id: str, **part: object) -> None:
    """Change a machine as the set-up does."""
    old = desk.workshop.machine(machine_id)
    desk.workshop.keep_machine(old.model_copy(update=part))


def finish(desk: Desk, run_id: str = "run") -> None:
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"), run_id)
    practise(desk, "tram", run_id)
    keep(desk, "sign_off", SignedOff(), run_id)


# Marks


def test_a_knob_is_told_in_its_own_marks(desk: Desk) -> None:
    screws = tuple(s.model_copy(update={"marks_per_turn": 48}) for s in desk.workshop.machine("heron").screws)
    renew(desk, "heron", screws=screws, seen_from="above")
    run = start(desk, "heron")
    tried = tram.view.view(run)
    # A tenth of a millimetre, whatever thread and marks: one mark of 48 could not be felt.
    assert (tried.step, tried.trial_marks, tried.per_turn) == ("sense", 7, 48)
    run = keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    assert head_of(run).rows[0].words == "front left: 7/48 clockwise felt tighter"
    run = keep(desk, "tram", Counted(screw="front left", marks=-50))
    shown = tram.view.view(run)
    assert shown.left == "front left"  # nothing to add: what comes next is asked at once
    assert {k.per_turn for k in shown.sheet.knobs} == {s.per_turn for s in shown.stops} == {48}
    assert head_of(run).rows[0].words == "front left: 1 turn 2/48 counter-clockwise to the drag"
    # Who looks at the knobs from below has turned the other way round.
    row, below = run.entries[-1], run.setup.machine.model_copy(update={"seen_from": "below"})
    assert row.what.words(below) == "front left: 1 turn 2/48 clockwise (from below) to the drag"


# What changed


def test_a_machine_in_use_is_asked_for_no_rough_start_and_a_new_one_is(desk: Desk) -> None:
    start(desk, "heron", "old")
    assert "rough_compress" not in checks(desk, "old")
    renew(desk, "wren", in_use=False)
    start(desk, "wren", "new")
    listed = checks(desk, "new")
    assert list(listed)[:3] == ["rough_compress", "rough_back_off", "rough_stop_down"]
    assert listed["rough_compress"].because == "because of a new or rebuilt machine"
    assert listed["heat_steady"].right


def test_a_told_change_puts_its_checks_on_the_list_and_forgets_what_was_learnt(desk: Desk) -> None:
    start(desk, "heron")
    finish(desk)
    assert learnt_of(desk.workshop, "heron") is not None
    run = start(desk, "heron", "next")
    assert run.setup.learnt is not None
    assert run.state.belief.prior_of.mean[0] != start(desk, "kestrel", "other").state.belief.prior_of.mean[0]
    run = keep(desk, "prepare", ChangeTold(change="springs"), "next")
    assert "rough_back_off" in checks(desk, "next")
    assert learnt_of(desk.workshop, "heron") is None
    assert run.state.belief.prior_of.mean[:4] == pytest.approx(np.full(4, np.log(TRAM.lam_median)))


def test_another_nozzle_is_found_by_comparing_runs(desk: Desk) -> None:
    start(desk, "heron")
    renew(desk, "heron", nozzle_mm=0.6)
    run = start(desk, "heron", "next")
    assert run.setup.changes == ("nozzle",)
    assert "extrusion_right" in checks(desk, "next")
    assert prepare.view.view(run).changes[0].found


def test_a_thicker_stack_foretells_the_stored_value(desk: Desk) -> None:
    start(desk, "heron")
    plates = desk.workshop.machine("heron").plates
    thicker = plates[0].model_copy(update={"layers": (Layer(name="spring steel", thickness_mm=1.0),)})
    renew(desk, "heron", plates=(thicker, *plates[1:]))
    view = prepare.view.view(start(desk, "heron", "next"))
    # Stop position: larger is closer; 0.2 mm thicker needs 0.2 mm further.
    assert view.foretold.new_mm == pytest.approx(1.14)
    assert view.foretold.words == "0.20 mm further"


def test_an_unknown_change_is_refused(desk: Desk) -> None:
    start(desk, "heron")
    with pytest.raises(Refused, match="no change called 'paint'"):
        keep(desk, "prepare", ChangeTold(change="paint"))


def test_backing_off_makes_the_travel_known_and_the_heights_unknown(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    before = practise(desk, "tram", times=6)
    run = keep(desk, "prepare", BackedOff(turns=3))
    assert run.state.belief.spread()[1] > before.state.belief.spread()[1]
    assert desk.workshop.machine("heron").screws[0].preload_mm == pytest.approx(6 - 3 * 0.7)
    assert Tram.of(run.state).stops == ()


def test_where_to_find_a_step_stays_with_the_machine(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "prepare", WhereNoted(step="homed", line="third page, second from below"))
    start(desk, "heron", "next")
    assert checks(desk, "next")["homed"].where == "third page, second from below"
    keep(desk, "prepare", WhereNoted(step="homed", line=""), "next")
    assert desk.workshop.machine("heron").where == ()


# A run that lay still


def test_a_run_a_week_old_asks_what_was_changed_before_it_goes_on(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    assert head_of(run).resume is None
    old = run.entries[-1].model_copy(update={"at": datetime.now(UTC) - timedelta(days=7)})
    aged = run.__class__(run.setup, (*run.entries[:-1], old), run.state, run.manner)
    assert "7 days" in head_of(aged).resume.words


def test_taken_up_with_another_plate_the_form_and_mesh_are_open_again(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    practise(desk, "tram")
    keep(desk, "prepare", Heated(bed_c=57, nozzle_c=150, held_since=datetime.now(UTC)))
    before = desk.open("run").state.belief
    still = keep(desk, "prepare", Resumed())
    assert still.state.heated is None
    assert still.state.belief.p_within(0.03) <= before.p_within(0.03)
    assert "springs" in keep(desk, "prepare", Resumed(changes=("springs",))).state.changes
    assert desk.open("run").state.belief.p_within(0.03) < 0.2


# Bad input


def test_a_count_the_other_way_is_asked_about_with_what_was_meant(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    for name in ("front left", "rear right", "front right", "rear left"):
        keep(desk, "tram", Counted(screw=name, marks=0))
        keep(desk, "tram", Turned(screw=name, marks=0))
    keep(desk, "tram", Turned(screw="front left", marks=12))
    with pytest.raises(Refused, match=r"did you mean 1. marks counter-clockwise") as wrong:
        keep(desk, "tram", Counted(screw="front left", marks=12))
    assert wrong.value.field == "marks"
    keep(desk, "tram", Counted(screw="front left", marks=12, sure=True))


def test_two_readings_that_cannot_both_be_true_are_said_with_which(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="read_all"))
    first = ReadMm(x_mm=29, y_mm=29, instrument="dial", value_mm=0.1, screw="front left")
    keep(desk, "tram", first)
    with pytest.raises(Refused, match=r"front left cannot read \+0.451 mm now and \+0.100 mm at ..:..") as wrong:
        keep(desk, "tram", first.model_copy(update={"value_mm": 0.451}))
    assert wrong.value.code == "readings_contradict"
    keep(desk, "tram", Turned(screw="front left", marks=8))
    keep(desk, "tram", first.model_copy(update={"value_mm": 0.4}))


def test_a_feel_that_contradicts_the_one_before_is_said(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "offset", Felt(x_mm=122, y_mm=118, z_mm=0.3, feel="stuck"))
    with pytest.raises(Refused, match=r"cannot be free at z 0.100 when it was stuck at z 0.300"):
        keep(desk, "offset", Felt(x_mm=122, y_mm=118, z_mm=0.1, feel="free"))


def test_a_turn_other_than_advised_is_kept_as_it_was_made(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", Counted(screw="front left", marks=3))
    run = keep(desk, "tram", Turned(screw="front left", marks=-5.5))
    assert Tram.of(run.state).stops[-1].further == -5.5
    mean, _ = run.state.belief.collapsed
    assert mean[0] - run.state.belief.shift_mm < -0.15


# Tram


def test_turning_while_the_skirt_runs_levels_by_eye(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="skirt"))
    view = tram.view.view(desk.open("run"))
    assert view.step == "skirt"
    assert len(view.grades) == 7
    run = keep(desk, "tram", SkirtSeen(screw=view.screw, grade="squeezed"))
    low = tram.view.view(run)
    # Squeezed: the plate is high there, so its knob is turned to lower it, or left and the next one looked at.
    assert low.left == view.screw if low.further is None else low.further.up_mm < 0


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren"])
def test_a_skirt_is_given_once_it_cannot_scrape_and_the_practice_machine_prints_it(desk: Desk, machine: str) -> None:
    run = start(desk, machine)
    with pytest.raises(Refused, match=r"the skirt near .* might scrape\. Bring every screw to the gauge first"):
        skirt_for(run)
    keep(desk, "tram", SenseTried(screw=run.state.screws[0].name, felt="tighter"))
    run = practise(desk, "tram")
    told, text = skirt_for(run)
    assert told.loops == 12
    assert 2 < told.minutes < 15
    body = desk.hands(run).body
    firmware = Firmware(body, run.manner)
    list(firmware.start())
    for line in (raw.split(";")[0].strip() for raw in text.splitlines()):
        said = list(firmware.obey(line)) if line else []
        assert not any(s.startswith(("error", "halt")) for s in said), (line, said)
    assert body.crashes == []
    assert body.at[2] >= 20


def test_without_knobs_there_is_no_skirt_to_turn_beside(desk: Desk) -> None:
    with pytest.raises(Refused, match="no knobs to turn"):
        skirt_for(start(desk, "bittern"))


def test_taking_back_any_stop_of_the_story(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    practise(desk, "tram", times=6)
    story = tram.view.view(desk.open("run")).rounds
    second = story[0].stops[1]
    run = keep(desk, "tram", TakenBack(entry_id=second.entry_id))
    assert len(Tram.of(run.state).stops) >= len(story[0].stops) - 1
    assert second.entry_id not in {s.entry_id for r in tram.view.view(run).rounds for s in r.stops}


def test_read_all_tells_what_was_foretold_beside_what_was_found(desk: Desk) -> None:
    start(desk, "kestrel")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="read_all"))
    run = practise(desk, "tram", times=9)
    rounds = tram.view.view(run).rounds
    assert rounds[0].spread_foretold_mm is None
    later = [r for r in rounds[1:] if r.spread_foretold_mm is not None]
    for r in later:
        assert abs(r.spread_mm - r.spread_foretold_mm) < 0.15


def test_nothing_is_said_of_a_knob_before_it_is_beyond_two_sd(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    assert tram.view.view(practise(desk, "tram")).learnt == ()


def test_a_finished_run_teaches_preload_sense_and_feel(desk: Desk) -> None:
    start(desk, "heron")
    finish(desk)
    machine = desk.workshop.machine("heron")
    moved = desk.open("run").state.moved_mm
    assert [s.preload_mm for s in machine.screws] == pytest.approx([3 - up for up in moved])
    assert desk.workshop.person_by("mk").feel_on(GAUGES[0]).scatter_ln_sd > 0
    learnt = learnt_of(desk.workshop, "heron")
    assert (len(learnt.gains), learnt.runs) == (4, 1)


def test_the_feel_check_finds_the_practice_persons_scatter(desk: Desk) -> None:
    start(desk, "heron")
    assert "step down to the drag" in feel_check(desk.open("run")).why_not
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    practise(desk, "tram")
    practise(desk, "offset")
    for _ in range(27):
        run = desk.open("run")
        what = feel_by_practice(desk, run)
        assert isinstance(what, FeelTried)
        keep(desk, "offset", what)
    found = feel_check(desk.open("run"))
    assert found.next_z_mm is None
    assert 0.006 < found.scale.scatter_mm < 0.022
    keep(desk, "offset", FeelKept(scale=found.scale))
    assert desk.workshop.person_by("mk").feel_on(GAUGES[0]) == found.scale
    assert start(desk, "heron", "next").setup.feel == found.scale


def test_a_feel_check_of_eight_tries_tells_nothing_yet(desk: Desk) -> None:
    start(desk, "heron")
    for _ in range(8):
        keep(desk, "offset", FeelTried(feel_try=FeelTry(above_mm=0.01, feel="brush")))
    assert feel_check(desk.open("run")).scale is None


def test_a_thermal_study_is_kept_with_the_plate_and_corrects_the_cold_school(desk: Desk) -> None:
    start(desk, "heron")
    for c, h in ((22, 0.0), (57, 0.08)):
        one = ThermalReading(place="centre", x_mm=122, y_mm=118, bed_c=c, height_mm=h, held_min=10)
        keep(desk, "prepare", ThermalRead(reading=one))
    run = start(desk, "heron", "next")
    assert len(run.setup.study.readings) == 2
    cold = prepare.view.view(keep(desk, "prepare", SchoolChosen(school="cold"), "next"))
    assert cold.thermal.correction["centre"] == pytest.approx(0.08, abs=0.002)
    assert cold.hold_words == "Trammed cold: nothing to hold."


def test_shim_plan_and_walk_come_as_files(desk: Desk) -> None:
    start(desk, "heron")
    run = practise(desk, "tram", times=1)
    name, svg = shim_file(run, 0.05, "svg")
    assert name == "shim-heron-heron-steel.svg"
    assert b"check line: 100 mm" in svg
    _, pdf = shim_file(run, 0.05, "pdf")
    assert pdf.startswith(b"%PDF")
    with pytest.raises(Refused, match=r"between 0.01 and 1"):
        shim(run, 7)
    with pytest.raises(Refused, match="one to six"):
        walk_for(run, 12, "ring")


def test_a_walk_is_one_row_and_its_count_that_cannot_be_is_asked_about(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    counts = [("front left", 3), ("front right", -2), ("rear right", 1), ("rear left", 4), ("front left", 90)]

    def row(sure: bool) -> Walked:
        return Walked(counts=tuple(WalkCount(screw=s, marks=m) for s, m in counts), sure=sure)

    with pytest.raises(Refused, match="front left: 90 marks clockwise is far") as wrong:
        keep(desk, "tram", row(False))
    assert wrong.value.field == "counts.4"
    run = keep(desk, "tram", row(True))
    view = tram.view.view(run)
    assert view.step == "count"
    assert len(view.stops) == 5
    assert max(head_of(run).rows, key=lambda r: r.at).words == "walked: 5 counts"
    assert re.fullmatch(r"about 0\.\d\d mm", sign_off.view.view(run).lines[0].before)
    back = tram.view.view(keep(desk, "tram", TakenBack(entry_id=run.entries[-1].id)))
    assert back.stops == ()


# Set-up


def test_moving_a_screw_sets_aside_what_was_learnt(desk: Desk) -> None:
    start(desk, "heron")
    finish(desk)
    kept = next(k for k in setup.view(desk.workshop).machines if k.machine.id == "heron")
    screws = (kept.machine.screws[0].model_copy(update={"x_mm": 40.0}), *kept.machine.screws[1:])
    moved = kept.machine.model_copy(update={"screws": screws})
    setup.keep_machine(desk, "heron", setup.KeepMachine(machine=moved, seen_revision=kept.revision))
    assert learnt_of(desk.workshop, "heron") is None
    with pytest.raises(Clash, match="changed meanwhile"):
        setup.keep_machine(desk, "heron", setup.KeepMachine(machine=moved, seen_revision=kept.revision))


def test_a_copy_has_nothing_learnt_and_no_line(desk: Desk) -> None:
    setup.copy_machine(desk, "heron", setup.CopyMachine(id="egret", name="Egret"))
    copy = desk.workshop.machine("egret")
    assert not copy.practice
    assert not any(s.sense_proved for s in copy.screws)
    with pytest.raises(Refused, match="called Egret already"):
        setup.copy_machine(desk, "heron", setup.CopyMachine(id="egret2", name="Egret"))


def test_a_set_up_travels_and_what_differs_is_left_alone(desk: Desk) -> None:
    file = setup.setup_file(desk.workshop, None)
    changed = file.gauges[0].model_copy(update={"name": "other paper"})
    fresh = file.nozzles[0].model_copy(update={"id": "fresh", "name": "fresh nozzle"})
    told = setup.bring(
        desk.workshop, file.model_copy(update={"gauges": (changed, *file.gauges[1:]), "nozzles": (fresh,)})
    )
    assert told.new == ("fresh nozzle",)
    assert told.left_alone == ("other paper",)
    assert {"Heron", "Kestrel", "Wren", "Bittern"} <= set(told.same)


@pytest.mark.parametrize(
    ("screws", "sentence"),
    [
        ([(30, 30), (100, 100), (170, 170)], "on one line"),
        ([(30, 30), (30, 30), (170, 30)], "same place"),
        ([(30, 30), (900, 30), (30, 170)], "more than 30 mm off"),
    ],
)
def test_screws_that_cannot_be_are_refused_with_a_sentence(desk: Desk, screws: list, sentence: str) -> None:
    machine = desk.workshop.machine("heron")
    placed = tuple(Screw(name=f"s{k}", x_mm=x, y_mm=y) for k, (x, y) in enumerate(screws))
    with pytest.raises(ValueError, match=sentence):
        machine.__class__.model_validate(machine.model_dump() | {"screws": [s.model_dump() for s in placed]})


def test_a_thermal_reading_of_nowhere_is_refused(desk: Desk) -> None:
    start(desk, "heron")
    one = ThermalReading(place="the shelf", x_mm=1, y_mm=1, bed_c=22, height_mm=0, held_min=1)
    with pytest.raises(Refused, match="there is no 'the shelf' here"):
        keep(desk, "prepare", ThermalRead(reading=one))
    elsewhere = keep(desk, "prepare", ThermalRead(reading=one.model_copy(update={"place": "centre"})))
    assert (elsewhere.state.thermal[0].x_mm, elsewhere.state.thermal[0].y_mm) == elsewhere.setup.plate.centre


@pytest.mark.parametrize(("more", "long"), [(2, False), (3, True)])
def test_many_screws_are_told_that_counts_take_long(desk: Desk, more: int, long: bool) -> None:
    old = desk.workshop.machine("heron")
    places = (("front", 122.0, 29.0), ("rear", 122.0, 207.0), ("left", 29.0, 118.0))[:more]
    middle = [old.screws[0].model_copy(update={"name": n, "x_mm": x, "y_mm": y}) for n, x, y in places]
    renew(desk, "heron", screws=(*old.screws, *middle))
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    counting = tram.view.view(desk.open("run"))
    assert ("so many screws take long" in counting.doubt) == long
    assert counting.stops_left is None
    keep(desk, "tram", WayChosen(way="read_all"))
    assert tram.view.view(desk.open("run")).doubt == ""


def test_four_screws_are_foretold_their_stops(desk: Desk) -> None:
    start(desk, "heron")
    view = tram.view.view(desk.open("run"))
    assert view.doubt == ""
    assert view.stops_left > 4


def on_six(desk: Desk) -> tuple[Screw, ...]:
    """Heron with six screws, and a run on it."""
    places = [(x, y) for y in (36, 200) for x in (36, 120, 204)]
    six = tuple(Screw(name=f"screw {k}", x_mm=x, y_mm=y, sense_proved=True) for k, (x, y) in enumerate(places))
    renew(desk, "heron", screws=six)
    start(desk, "heron")
    return six


def levelled(desk: Desk) -> OpenRun:
    """A run on six screws, each brought to the drag twice, but for the last."""
    six = on_six(desk)
    for screw, marks in zip((six * 2)[:-1], (3, -2, 2, -3, 1, -1, 1, 1, -1, 0, 0), strict=True):
        keep(desk, "tram", Counted(screw=screw.name, marks=marks))
        run = keep(desk, "tram", Turned(screw=screw.name, marks=0))
    return run


def feel_here(desk: Desk, name: str, feel: Feel) -> OpenRun:
    return keep(desk, "tram", ScrewFelt(screw=name, z_mm=0, feel=feel))


def test_a_screw_near_the_drag_is_felt_and_asks_for_no_turn(desk: Desk) -> None:
    view = tram.view.view(levelled(desk))
    assert view.step == "feel"
    stops = len(view.stops)
    run = feel_here(desk, view.screw, "drag")
    view = tram.view.view(run)
    assert view.step in ("further", "centre")
    assert len(view.stops) == stops + 1
    assert view.stops[-1].feel == "drag"
    run = keep(desk, "tram", TakenBack(entry_id=view.stops[-1].entry_id))
    assert tram.view.view(run).step == "feel"


@pytest.mark.parametrize("feel", ["free", "stuck"])
def test_a_feel_that_cannot_be_sized_is_counted_at_the_same_screw(desk: Desk, feel: Feel) -> None:
    asked = tram.view.view(levelled(desk))
    assert asked.step == "feel"
    view = tram.view.view(feel_here(desk, asked.screw, feel))
    assert (view.step, view.screw) == ("count", asked.screw)
    assert len(view.stops) == len(asked.stops)


def test_a_knob_without_drag_goes_back_and_another_is_asked_for(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    asked = tram.view.view(run)
    assert (asked.step, asked.most_marks) == ("count", 32)
    at = run.setup.machine.screw(asked.screw)
    truth, moved = desk.hands(run).body.truth.supports[at], run.state.moved_mm[at]
    run = keep(desk, "tram", NotReached(screw=asked.screw, marks=32, still="loose"))
    view = tram.view.view(run)
    assert view.screw != asked.screw
    assert view.step == "count"
    assert view.stops[-1].still == "loose"
    assert run.state.moved_mm[at] == moved
    assert desk.hands(run).body.truth.supports[at] == truth  # the practice plate is where it was
    assert asked.screw not in {k.name for k in view.sheet.knobs if k.visited}
    back = keep(desk, "tram", TakenBack(entry_id=view.stops[-1].entry_id))
    assert tram.view.view(back).screw == asked.screw


def test_the_practice_person_says_when_the_drag_does_not_come(desk: Desk) -> None:
    run = start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    for j in range(4):
        desk.hands(run).turn(j, -55)
    run = practise(desk, "tram", times=1)
    last = run.entries[-1].what
    assert isinstance(last, NotReached)
    assert last.still == "loose"
    assert tram.view.view(run).stops[-1].still == "loose"


def test_of_many_screws_done_is_read_and_not_only_foretold(desk: Desk) -> None:
    on_six(desk)
    keep(desk, "tram", WayChosen(way="read_all"))
    for _ in range(200):
        run = practise(desk, "tram", times=1)
        if tram.view.view(run).step == "centre":
            break
    assert tram.view.view(run).step == "centre"
    rounds = [e.what for e in run.entries if isinstance(e.what, TurnedAll)]
    assert any(rounds[0].marks)
    assert not any(rounds[-1].marks)
    heights = [r for r in Tram.of(run.state).readings if r.round == Tram.of(run.state).rounds]
    assert len(heights) == 6
    assert np.ptp([r.value_mm for r in heights]) <= 2 * run.state.tol_mm + 0.02


def test_heat_that_the_filament_does_not_stand_is_asked_about(desk: Desk) -> None:
    start(desk, "heron")
    hot = Heated(bed_c=110, nozzle_c=130, held_since=datetime.now(UTC))
    with pytest.raises(Refused, match="110 °C is a lot for the plate with PLA") as asked:
        keep(desk, "prepare", hot)
    assert (asked.value.insist, asked.value.field) == (True, "bed_c")
    assert keep(desk, "prepare", hot.model_copy(update={"sure": True})).state.heated is not None


def test_what_to_lay_out_and_where_to_look_are_shown(desk: Desk) -> None:
    run = start(desk, "heron")
    view = prepare.view.view(run)
    assert "copy paper" in view.tools
    assert any("knob" in tool for tool in view.tools)
    assert [s.label for s in view.sheet.spots] == ["tip"]
    for check in view.checks:
        run = keep(desk, "prepare", CheckDone(check=check.id, outcome="done"))
        spots = prepare.view.view(run).sheet.spots
        if (
            left := next((c for c in prepare.view.view(run).checks if not c.outcome), None)
        ) and left.id == "clips_clear":
            assert [s.label for s in spots] == ["front clip", "rear clip"]
    assert prepare.view.view(run).sheet.spots == ()


def test_a_mesh_is_switched_off_before_knobs_are_turned_to_it(desk: Desk) -> None:
    """With a felt mesh the gauge drags at z 0 everywhere, however the plate lies: the tram would find nothing to do."""
    run = start(desk, "heron")
    heights = tuple(tuple(0.1 * c + 0.02 * r for c in range(3)) for r in range(3))
    survey = MeshSurvey(
        grid=grid_on(run.setup.plate, 3, 3), heights_mm=heights, owns_zero=True, plate_id=run.setup.plate_id
    )
    run = keep(desk, "mesh", MeshKept(survey=survey))
    assert tram.step.now_at(run).step == "mesh_off"
    assert tram.view.view(run).mesh_off_line == "CHART_USE S0"
    run = practise(desk, "tram", times=1)
    assert not run.state.mesh_on
    assert tram.step.now_at(run).step in ("sense", "count")
    # Mesh is not done any more, and says why; it is once it is switched on again.
    assert not mesh.standing.standing(run).done
    assert "switched off before the knobs were turned" in mesh.view.view(run).mesh_words
    run = keep(desk, "mesh", MeshUsed(on=True))
    assert mesh.standing.standing(run).done
    # A run that ends its tram before a mesh is measured is not asked to go back.
    assert tram.step.now_at(run).step == "mesh_off"
    practise(desk, "tram")
    run = keep(desk, "mesh", MeshUsed(on=True))
    assert tram.step.now_at(run).step == "done"
