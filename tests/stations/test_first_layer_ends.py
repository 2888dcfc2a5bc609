"""How the judging ends: done, left in part, another layer, a shim, or nothing printed after a sure move."""

from datetime import timedelta

import numpy as np
import pytest
from pydantic import ValidationError

from ivory_table.core.bead import Bead, Grade
from ivory_table.core.defaults import JUDGE
from ivory_table.core.proof import plan
from ivory_table.core.thermal import ThermalReading
from ivory_table.desk.desk import Desk
from ivory_table.runs.common import TakenBack
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import record_lines, station_lines
from ivory_table.stations import first_layer, sign_off
from ivory_table.stations.first_layer.entries import (
    FeedCorrected,
    FeedMeasured,
    Judged,
    LayerChosen,
    LeftFor,
    ProofStarted,
    ToolTold,
)
from ivory_table.stations.first_layer.settings import placing_view, recipe_view
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.prepare.entries import Heated, ThermalRead
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.tram.entries import CentreFelt, Counted
from tests.stations.proofs import by_truth, judged, printed

from .keeping import keep, start


def test_another_first_layer_ends_what_no_height_and_no_print_would(desk: Desk) -> None:
    machine = desk.workshop.machine("heron").model_copy(update={"can_mesh": False, "screws": ()})
    desk.workshop.keep_machine(machine)
    run = start(desk, "heron")
    run = keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
    gaps = (0.165, 0.24, 0.19, 0.2, 0.235)
    for _ in range(2):
        run = keep(desk, "first_layer", ProofStarted(proof=plan(machine, run.setup.plate, run.setup.filament, 5)))
        for zone, gap in enumerate(gaps):
            mark = Judged(zone=zone, grade=run.state.bead.grade_at(gap), caliper_mm=gap, sure=True)
            run = keep(desk, "first_layer", mark)
    best = next_steps(run)[0]
    assert best.action.kind == "settings"
    layer = best.action.layer
    assert layer is not None
    assert best.words.startswith(f"Print the parts with a first layer of {layer.layer_mm:.2f} mm")
    assert ("lines" in best.words) == layer.wider
    was = run.state
    for row in best.keeps:
        run = keep(desk, "first_layer", row)
    assert run.state.bead == Bead(layer.line_mm, layer.layer_mm)
    # What is printed next, and what the sheet calls sound, follow; the plate lies as it lay.
    for choice in (5, "advised", "three_heights"):
        assert next_proof(run.state, choice).bead == run.state.bead
    moved = layer.layer_mm - was.bead.layer_mm + (best.action.shift_mm or 0.0)
    found = run.state.wanted.field.gaps[0] - was.wanted.field.gaps[0]
    assert found == pytest.approx([moved] * 5, abs=0.003)
    view = first_layer.view.view(run)
    assert view.plan.layer_mm == layer.layer_mm
    assert view.sound_to_mm - view.sound_from_mm > 1.3 * np.ptp(was.bead.bands_mm()["sound"])
    assert recipe_view(run).recipes[0].layer_mm == layer.layer_mm
    assert "the usual one" in {r.name for r in recipe_view(run).recipes}
    lines = {line.name: (line.before, line.after) for line in record_lines(run)}
    assert lines["First layer"] == ("0.20 mm", f"{layer.layer_mm:.2f} mm, lines {layer.line_mm:.2f} mm wide")
    run = keep(desk, "first_layer", TakenBack(entry_id=run.kept[-1].id))
    assert run.state.bead == was.bead


def test_a_mesh_that_nobody_wants_is_not_advised_again_and_something_else_ends_it(desk: Desk) -> None:
    """Said in words, or by printing the same again and again: it was advised for ever."""
    machine = desk.workshop.machine("heron").model_copy(update={"screws": ()})
    desk.workshop.keep_machine(machine)
    run = start(desk, "heron")
    run = keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
    gaps = (0.165, 0.24, 0.19, 0.2, 0.235)

    def again() -> OpenRun:
        run = keep(desk, "first_layer", ProofStarted(proof=plan(machine, run_plate, filament, 5)))
        for zone, gap in enumerate(gaps):
            mark = Judged(zone=zone, grade=run.state.bead.grade_at(gap), caliper_mm=gap, sure=True)
            run = keep(desk, "first_layer", mark)
        return run

    run_plate, filament = run.setup.plate, run.setup.filament
    again()
    run = again()
    assert next_steps(run)[0].action.kind == "mesh"
    said = keep(desk, "first_layer", ToolTold(tool="mesh", here=False))
    assert next_steps(said)[0].action.kind == "settings"
    assert all(s.action.kind != "mesh" for s in next_steps(said))
    back = keep(desk, "first_layer", ToolTold(tool="mesh", here=True))
    assert next_steps(back)[0].action.kind == "mesh"
    run = again()
    assert next_steps(run)[0].action.kind == "settings"


def test_a_tram_that_was_begun_is_done_once_every_zone_is_sound(desk: Desk) -> None:
    """Whatever is left in doubt of the screws: that all zones are sound is what they are turned for."""
    run = start(desk, "heron")

    def tram() -> str:
        return next(line.state for line in station_lines(run) if line.station == "tram")

    run = keep(desk, "tram", Counted(screw=run.setup.machine.screws[0].name, marks=0))
    laid = plan(run.setup.machine, run.setup.plate, run.setup.filament, 5)
    for _ in range(2):
        run = keep(desk, "first_layer", ProofStarted(proof=laid))
        assert tram() == "begun"
        for zone in range(5):
            run = keep(desk, "first_layer", Judged(zone=zone, grade="sound", caliper_mm=0.19, sure=True))
    assert run.state.proof_done
    assert tram() == "done"


def test_a_layer_higher_than_its_line_is_wide_is_refused() -> None:
    with pytest.raises(ValidationError, match="as wide as the layer is high"):
        LayerChosen(layer_mm=0.5, line_mm=0.4)


def test_settings_and_places_follow_what_is_known(desk: Desk, flat: OpenRun) -> None:
    view = recipe_view(flat)
    forgives = [r.forgives_mm for r in view.recipes]
    assert forgives == sorted(forgives)
    assert view.recipes[-1].p_all_sound > view.recipes[0].p_all_sound
    from ivory_table.core.placing import Footprint

    placed = placing_view(flat, Footprint(width_mm=60, depth_mm=40, count=3)).placing
    assert len(placed.places) == 3
    assert placed.p_all <= min(p.p_sound for p in placed.places) + 1e-9
    nothing = placing_view(flat, Footprint(width_mm=900, depth_mm=900)).placing
    assert (nothing.places, nothing.left_over) == ((), 1)


def test_a_part_is_held_down_by_its_foot_and_a_raft_is_spoken_of_only_where_the_layer_forgives_too_little(
    desk: Desk, flat: OpenRun
) -> None:
    from ivory_table.core.placing import Footprint

    pin = placing_view(flat, Footprint(width_mm=4, depth_mm=4, height_mm=60))
    assert pin.held.brim_mm
    assert pin.held.p_off > 0.5 > pin.held.p_off_with_brim
    block = placing_view(flat, Footprint(width_mm=60, depth_mm=40, height_mm=10))
    assert block.held.brim_mm == 0.0
    for view in (pin, block, placing_view(flat, Footprint(width_mm=190, depth_mm=190))):
        assert bool(view.raft) == (bool(view.placing.places) and view.placing.p_all < 0.5)
    # The largest and the thinnest are answered, and soon.
    assert placing_view(flat, Footprint(width_mm=1000, depth_mm=0.5, height_mm=2000)).held.p_off > 0.5


def test_a_plate_judged_before_it_is_still_is_waited_for(desk: Desk) -> None:
    run = start(desk, "heron")
    x, y = run.setup.plate.centre
    holds = [(20.0, 0.0, 30.0), (57.0, 0.05, 2.0), (57.0, 0.10, 6.0), (57.0, 0.13, 12.0), (57.0, 0.145, 30.0)]
    for c, h, held in holds:
        reading = ThermalReading(place="centre", x_mm=x, y_mm=y, bed_c=c, height_mm=h, held_min=held)
        keep(desk, "prepare", ThermalRead(reading=reading))
    for _ in range(2):
        for screw in run.setup.machine.screws:
            keep(desk, "tram", Counted(screw=screw.name, marks=0, sure=True))
    keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
    now = desk.open("run").entries[-1].at
    keep(desk, "prepare", Heated(bed_c=57, nozzle_c=150, held_since=now - timedelta(minutes=1)))
    printed(desk)
    run = judged(desk, "sound", "sound", "parted", "sound", "sound")
    first = next_steps(run)[0]
    assert first.action.kind == "wait_heat"
    assert "stand for" in first.words
    assert [k.kind for k in first.keeps] == ["proof_started"]
    # On a plate that has stood long enough nothing of it is said.
    keep(desk, "prepare", Heated(bed_c=57, nozzle_c=150, held_since=now - timedelta(hours=1)))
    assert "wait_heat" not in {s.action.kind for s in next_steps(desk.open("run"))}


def test_a_plate_that_is_sound_in_part_may_be_left_for_what_lies_there(desk: Desk, flat: OpenRun) -> None:
    """One corner stays too far: the rest is offered, kept as what the plate was left for, and void once something moves."""
    for _ in range(3):
        run = printed(desk)
        laid = run.state.proofs[-1].plan
        for k, zone in enumerate(laid.zones):
            far = zone.place == run.state.wanted.plan.zone_places[1]
            gap = laid.layer_mm + zone.away_mm + (0.1 if far else 0.0)
            grade, mm = laid.bead.grade_at(gap), round(gap, 3)
            run = keep(desk, "first_layer", Judged(zone=k, grade=grade, caliper_mm=mm))
    steps = next_steps(run)
    stop = next((s for s in steps if s.action.kind == "stop_here"), None)
    assert stop is not None
    assert "every place is sound with" in stop.action.reason
    assert steps[0] is not stop
    (row,) = stop.keeps
    run = keep(desk, "first_layer", row)
    # It is what comes first now, and it is done for this plate as it stands.
    first = next_steps(run)[0]
    assert first.leads_to == "sign_off"
    assert first_layer.standing.standing(run).done
    assert any(line.name == "Left for" for line in first_layer.standing.record(run))
    area = row.area
    loose_at = run.state.proofs[-1].plan.zones[1]
    inside_x = area.left_mm < loose_at.x_mm < area.left_mm + area.width_mm
    assert not (inside_x and area.front_mm < loose_at.y_mm < area.front_mm + area.depth_mm)
    run = keep(desk, "first_layer", OffsetSet(stored_mm=run.state.stored_mm - 0.01, sure=True))
    assert not first_layer.standing.standing(run).done


def twice_judged(desk: Desk, first: tuple[Grade, ...], again: tuple[Grade, ...]) -> OpenRun:
    """The same five patches printed twice and judged by eye; feed and mesh are out of the question."""
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    for tool in ("caliper", "mesh"):
        keep(desk, "first_layer", ToolTold(tool=tool, here=False))
    for grades in (first, again):
        printed(desk, 5)
        run = judged(desk, *grades)
        if grades is first:
            assert not first_layer.standing.standing(run).done
    return run


def test_a_plate_that_nothing_betters_is_left_and_counts_as_ended(desk: Desk, flat: OpenRun) -> None:
    """Sound rather than not, and no step worth it: the station has ended, and says with what chance; other ways stay open."""
    run = twice_judged(
        desk, ("parted", "sound", "ridged", "sound", "sound"), ("ridged", "sound", "parted", "sound", "sound")
    )
    first, *others = next_steps(run)
    assert first.action.kind == "done"
    assert 0.6 < first.action.p_all_sound < 0.8
    assert {"settings", "stop_here"} <= {s.action.kind for s in others}
    assert max(s.action.p_all_sound for s in others if s.action.kind == "settings") > first.action.p_all_sound
    standing = first_layer.standing.standing(run)
    assert (standing.done, standing.figure) == (True, f"left, sound with {first.action.p_all_sound:.0%}")
    assert "First layer" not in sign_off.view.view(run).missing
    lines = {line.name: line.after for line in record_lines(run)}
    assert lines["Left as it is"].startswith(f"every zone sound with {first.action.p_all_sound:.0%}")
    # What is moved then is to be seen again.
    run = keep(desk, "first_layer", OffsetSet(stored_mm=run.state.stored_mm - 0.05, sure=True))
    assert not first_layer.standing.standing(run).done


def test_nothing_is_left_while_a_small_step_would_save_minutes(desk: Desk, flat: OpenRun) -> None:
    run = twice_judged(
        desk, ("ridged", "sound", "parted", "sound", "sound"), ("sound", "sound", "parted", "sound", "sound")
    )
    first, *others = next_steps(run)
    done = next(s for s in others if s.action.kind == "done")
    assert first.action.kind in ("offset", "knobs")
    assert first.action.total_minutes < done.action.total_minutes
    assert first.action.p_all_sound > done.action.p_all_sound + JUDGE.unseen_gain


@pytest.mark.parametrize("wrong", [{"width_mm": -5}, {"depth_mm": 1e12}, {"p": 7}, {"left_mm": float("nan")}])
def test_an_area_that_no_plate_has_is_refused(wrong: dict[str, float]) -> None:
    area = {"left_mm": 10, "front_mm": 10, "width_mm": 100, "depth_mm": 100, "p": 0.8} | wrong
    with pytest.raises(ValidationError):
        LeftFor.model_validate({"area": area})


def test_after_a_sure_move_nothing_more_is_printed(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    printed(desk)
    run = by_truth(desk, [0.222, 0.218, 0.22, 0.224, 0.22], measured=True)
    best = next_steps(run)[0]
    assert best.action.kind == "offset"
    assert best.stored.shift_mm < 0
    assert best.action.p_all_sound > 0.87
    for row in best.keeps:
        run = keep(desk, "first_layer", row)
    moved = run.state
    assert moved.sound_unseen == pytest.approx(best.action.p_all_sound, abs=0.06)
    view = first_layer.view.view(run)
    assert (view.step, view.unseen) == ("done", True)
    assert [s.action.kind for s in view.steps] == ["done", "print_again"]
    assert "of 100 cases" in view.steps[0].action.reason
    assert moved.proof_done
    # The value that was set is read back before anything ends; the record says what was seen and what was not.
    assert view.steps[0].leads_to == "offset"
    assert view.whole_plate.startswith("The 5 zones are what was looked at. Of the whole plate about")
    lines = {line.name: line.after for line in record_lines(run)}
    assert lines["Proof 1"] == "5 of 5 zones sound, each laid at several heights"
    assert lines["Last move"] == f"not printed since; every zone sound with {moved.sound_unseen:.0%}"
    read = keep(desk, "offset", Readback(reported_mm=moved.stored_mm))
    assert next_steps(read)[0].leads_to == "sign_off"
    run = keep(desk, "offset", TakenBack(entry_id=read.entries[-1].id))
    # Whoever wants to see it prints whole patches, and they are judged as ever.
    assert view.plan.kind == "patches"
    run = keep(desk, "first_layer", view.steps[1].keeps[0])
    assert run.state.sound_unseen is None
    assert not run.state.proof_done
    keep(desk, "first_layer", TakenBack(entry_id=run.entries[-1].id))
    # After another feed it is seen printed first, whatever is computed.
    fed = keep(desk, "first_layer", FeedCorrected(times=1.001))
    assert fed.state.sound_unseen is None
    keep(desk, "first_layer", TakenBack(entry_id=fed.kept[-1].id))
    # A step further off, and it must be printed.
    run = keep(desk, "first_layer", OffsetSet(stored_mm=moved.stored_mm - 0.06, sure=True))
    assert run.state.sound_unseen is None
    assert first_layer.view.view(run).step == "print_again"


def test_nothing_is_done_without_a_print_where_something_fell(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    judged(desk, "sound", "sound", "loose", "sound", "sound")
    run = desk.open("run")
    run = keep(desk, "first_layer", OffsetSet(stored_mm=run.state.stored_mm - 0.01, sure=True))
    assert run.state.sound_unseen is None
    assert not run.state.proof_done


def test_the_record_counts_zones_and_not_patches_or_steps(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    printed(desk, "ladder")
    run = judged(desk, "loose", "sound")
    step = run.state.proofs[-1].plan.zones[1].name
    assert [line.after for line in record_lines(run) if line.name == "Proof 1"] == [f"ladder, sound at {step}"]
    assert run.state.proofs[-1].zones_sound is None
    printed(desk, "three_heights")
    # A zone counts by the patch that is laid as the nozzle runs.
    run = judged(desk, *["ridged", "sound", "parted"] * 3, *["sound", "parted", "parted"] * 2)
    assert run.state.proofs[-1].zones_sound == (3, 5)
    # What did not hold closer to the plate is not sound there.
    run = keep(desk, "first_layer", Judged(zone=0, grade="loose"))
    assert run.state.proofs[-1].zones_sound == (2, 5)


def test_a_first_layer_that_was_chosen_is_that_of_the_next_run_until_it_is_taken_back(
    desk: Desk, flat: OpenRun
) -> None:
    usual = flat.state.bead
    run = keep(desk, "first_layer", LayerChosen(layer_mm=0.28, line_mm=0.48))
    at = run.kept[-1].at
    run = keep(desk, "first_layer", ProofStarted(proof=next_proof(run.state, 5)))
    assert run.state.open_proof.plan.layer_mm == 0.28
    again = start(desk, "heron", "again")
    assert again.state.bead == Bead(0.48, 0.28)
    view = first_layer.view.view(again)
    assert (view.plan.layer_mm, view.plan.line_mm) == (0.28, 0.48)
    assert (
        view.layer_words
        == f"Not the usual first layer: 0.28 mm, as chosen on {at:%Y-%m-%d}. Parts are printed so as well."
    )
    line = next(r for r in sign_off.view.view(again).lines if r.name == "First layer")
    assert (line.before, line.after) == ("", "0.28 mm, lines 0.48 mm wide, as before")
    # The usual one is among the settings, and choosing it holds as well.
    assert any(r.layer_mm == usual.layer_mm for r in recipe_view(again).recipes)
    back = keep(desk, "first_layer", LayerChosen(layer_mm=usual.layer_mm, line_mm=usual.line_mm), "again")
    assert (back.state.bead, first_layer.view.view(back).layer_words) == (usual, "")
    assert start(desk, "heron", "usual").setup.layer is None
    # Taken back it is as it was before; another machine, or another nozzle, never knew of it.
    keep(desk, "first_layer", TakenBack(entry_id=back.kept[-1].id), "again")
    assert start(desk, "heron", "third").setup.layer.bead == Bead(0.48, 0.28)
    assert start(desk, "wren", "other").setup.layer is None
    heron = desk.workshop.machine("heron")
    desk.workshop.keep_machine(heron.model_copy(update={"nozzle_mm": 0.6}))
    assert start(desk, "heron", "wider").setup.layer is None
