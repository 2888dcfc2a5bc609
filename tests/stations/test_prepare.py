"""Preparing: checks and what was changed, heats and a plate that moves with them, set-ups that travel."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from ivory_table.core.defaults import TRAM
from ivory_table.core.plate import Layer, Screw
from ivory_table.core.thermal import ThermalReading
from ivory_table.desk.desk import Desk
from ivory_table.desk.knowledge import learnt_of
from ivory_table.runs.common import Resumed, WhereNoted
from ivory_table.runs.doubts import Refused
from ivory_table.stations import prepare, setup
from ivory_table.stations.asked import cautions
from ivory_table.stations.head import head_of
from ivory_table.stations.prepare.entries import ChangeTold, CheckDone, Heated, SchoolChosen, ThermalRead
from ivory_table.stations.tram.entries import BackedOff, SenseTried
from ivory_table.store.trouble import Clash
from tests.stations.machines import finish, renew

from .keeping import keep, practise, start


def checks(desk: Desk, run_id: str = "run") -> dict[str, prepare.view.Check]:
    return {c.id: c for c in prepare.view.view(desk.open(run_id)).checks}


def test_a_machine_in_use_is_asked_for_no_rough_start_and_a_new_one_is(desk: Desk) -> None:
    start(desk, "heron", "old")
    assert "rough_compress" not in checks(desk, "old")
    renew(desk, "wren", in_use=False)
    start(desk, "wren", "new")
    listed = checks(desk, "new")
    assert list(listed)[:3] == ["rough_compress", "rough_back_off", "rough_stop_down"]
    assert listed["rough_compress"].because == "because of a new or rebuilt machine"
    assert listed["heat_steady"].right


def test_every_check_of_a_new_machine_can_be_ticked_and_the_turns_backed_off_are_one(desk: Desk) -> None:
    renew(desk, "heron", in_use=False)
    run = start(desk, "heron")
    assert "first_descent" in [c.id for c in cautions(run, "tram")]
    for check in checks(desk):
        row = BackedOff(turns=3) if check == "rough_back_off" else CheckDone(check=check, outcome="done")
        assert checks(desk)[check].outcome is None
        keep(desk, "prepare", row)
        assert checks(desk)[check].outcome == "done"
    # The tip was seen above the plate: nobody is told that its zero may be below.
    assert "first_descent" not in [c.id for c in cautions(desk.open("run"), "tram")]
    screw = desk.open("run").state.screws[0]
    assert screw.preload_mm == pytest.approx(screw.travel_mm - 3 * screw.pitch_mm)


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


def test_where_to_find_a_step_stays_with_the_machine(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "prepare", WhereNoted(step="homed", line="third page, second from below"))
    start(desk, "heron", "next")
    assert checks(desk, "next")["homed"].where == "third page, second from below"
    keep(desk, "prepare", WhereNoted(step="homed", line=""), "next")
    assert desk.workshop.machine("heron").where == ()


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
