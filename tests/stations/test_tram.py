"""The tram's stops: counted, felt, read, taken back, and what they teach."""

import re

import numpy as np
import pytest

from ivory_table.core.beam import BeamReading
from ivory_table.core.feelcheck import FeelTry
from ivory_table.core.gauge import Feel
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.plate import Screw
from ivory_table.demo.tidewater import GAUGES
from ivory_table.desk.desk import Desk
from ivory_table.desk.knowledge import learnt_of
from ivory_table.practice.firmware import Firmware
from ivory_table.runs.common import TakenBack
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import station_lines
from ivory_table.stations import mesh, sign_off, tram
from ivory_table.stations.head import head_of
from ivory_table.stations.mesh.entries import MeshKept
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offset.entries import FeelKept, FeelTried, Felt
from ivory_table.stations.offset.feel import feel_by_practice, feel_check
from ivory_table.stations.tram.entries import (
    BackedOff,
    BeamRead,
    BeamTurned,
    CentreFelt,
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
from tests.stations.machines import finish, renew

from .keeping import keep, practise, start


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


def test_backing_off_makes_the_travel_known_and_the_heights_unknown(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    before = practise(desk, "tram", times=6)
    run = keep(desk, "prepare", BackedOff(turns=3))
    assert run.state.belief.spread()[1] > before.state.belief.spread()[1]
    assert desk.workshop.machine("heron").screws[0].preload_mm == pytest.approx(6 - 3 * 0.7)
    assert Tram.of(run.state).stops == ()


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
    with pytest.raises(Refused, match=r"cannot be free at z \+0.100 when it was stuck at z \+0.300"):
        keep(desk, "offset", Felt(x_mm=122, y_mm=118, z_mm=0.1, feel="free"))


def test_a_turn_other_than_advised_is_kept_as_it_was_made(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", Counted(screw="front left", marks=3))
    run = keep(desk, "tram", Turned(screw="front left", marks=-5.5))
    assert Tram.of(run.state).stops[-1].further == -5.5
    mean, _ = run.state.belief.collapsed
    assert mean[0] - run.state.belief.shift_mm < -0.15


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


def test_a_machine_without_knobs_is_done_once_its_beam_is_level_and_the_centre_was_felt(desk: Desk) -> None:
    """Its page said so; the list of stations and sign-off had it as open for ever."""
    run = start(desk, "bittern")

    def stands() -> str:
        return next(line.state for line in station_lines(run) if line.station == "tram")

    assert stands() == "open"
    run = keep(desk, "tram", BeamRead(reading=BeamReading(left_x_mm=-100, right_x_mm=100, left_mm=0.1, right_mm=0.1)))
    assert stands() == "begun"
    run = keep(desk, "tram", BeamTurned(up_mm=0.0))
    assert tram.step.now_at(run).step == "no_knobs"
    run = keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
    assert tram.step.now_at(run).step == "done"
    assert stands() == "done"
    assert "Tram" not in sign_off.view.view(run).missing


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
