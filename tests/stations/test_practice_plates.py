"""Runs on the practice plates, by the stations' own advice to the end."""

import numpy as np
import pytest

from ivory_table.core.proof import plan
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.stations import first_layer, offset, tram
from ivory_table.stations.first_layer.entries import Judged, Nudged, ProofStarted, ZoneCleaned
from ivory_table.stations.mesh.entries import MeshPlanned
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import NudgeMerged, OffsetSet, Readback
from ivory_table.stations.tram.entries import BackedOff, BeamTurned, SenseTried, WayChosen
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.turned import TurnedAll
from tests.stations.keeping import keep, practise, start


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren"])
def test_the_practice_plate_is_trammed_in_truth(desk: Desk, machine: str) -> None:
    start(desk, machine)
    run = practise(desk, "tram")
    view = tram.view.view(run)
    assert view.step == "done"
    assert view.p_within >= 0.9
    plate = desk.hands(run).body.plate  # the test may look, the advice cannot
    assert np.ptp(plate.heights(plate.anchors)) <= 2.2 * 2 * view.tol_mm
    assert len(Tram.of(run.state).stops) <= 16


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren", "bittern"])
def test_the_offset_lands_where_the_tip_meets_the_plate(desk: Desk, machine: str) -> None:
    start(desk, machine)
    practise(desk, "tram")
    run = practise(desk, "offset")
    assert offset.view.view(run).step == "done"
    hands = desk.hands(run)
    cx, cy = run.setup.plate.centre
    assert abs(hands.body.gap(cx, cy, 0.0)) < 0.06
    assert desk.workshop.machine(machine).stored_mm == run.state.stored_mm


def test_bittern_has_no_knobs_and_stores_nothing(desk: Desk) -> None:
    run = start(desk, "bittern")
    assert tram.view.view(run).step == "beam"
    for _ in range(9):
        if tram.view.view(run).step != "beam":
            break
        run = practise(desk, "tram", times=1)
    assert tram.view.view(run).step == "no_knobs"
    assert abs(desk.hands(run).body.truth.beam_mm) < 0.06
    practise(desk, "offset", times=1)
    run = keep(desk, "offset", OffsetSet(stored_mm=-0.05))
    view = offset.view.view(run)
    assert view.step == "read_back"
    assert view.last_change.lines == ("OFF_L Z-0.050",)
    assert offset.view.view(keep(desk, "offset", Readback(confirmed=True))).step == "done"


def follow_the_advice(desk: Desk, run_id: str, proofs: int) -> bool:
    """Tram, set, print and do what is advised. Whether done was said; then it must nearly be true."""
    start(desk, "heron", run_id)
    for station in ("tram", "offset"):
        practise(desk, station, run_id)
    for _ in range(proofs):
        run = practise(desk, "first_layer", run_id)
        view = first_layer.view.view(run)
        best = view.steps[0]
        again = ProofStarted(proof=view.plan)
        match best.action.kind:
            case "done":
                truth = desk.hands(run)
                low, high = view.sound_from_mm - 0.02, view.sound_to_mm + 0.02
                assert all(low < truth.body.gap(z.x_mm, z.y_mm, 0.2) < high for z in view.plan.zones)
                return True
            case "offset":
                keep(desk, "first_layer", OffsetSet(stored_mm=best.stored.new_mm), run_id)
            case "knobs":
                keep(desk, "first_layer", TurnedAll(marks=tuple(t.marks for t in best.turns)), run_id)
            case "mesh" | "measure":
                if desk.open(run_id).state.mesh_on:
                    keep(desk, "mesh", MeshUsed(on=False), run_id)
                keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True), run_id)
                practise(desk, "mesh", run_id)
                practise(desk, "offset", run_id)  # the mesh moved the zero, and the station says so
            case "clean":
                keep(desk, "first_layer", ZoneCleaned(zone=best.action.zone), run_id)
                keep(desk, "first_layer", again, run_id)
            case _:
                keep(desk, "first_layer", again, run_id)
    return False


def test_following_the_advice_leads_to_sound_zones(desk: Desk) -> None:
    done = [follow_the_advice(desk, f"run{k}", 8) for k in range(5)]
    assert sum(done) >= 4


def test_read_all_turn_all_by_dial(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="read_all"))
    for _ in range(3):
        run = practise(desk, "tram", times=5)
        if tram.view.view(run).step in ("centre", "done"):
            break
    truth = desk.hands(run).body.truth
    assert np.ptp(truth.supports) < 0.1
    assert Tram.of(run.state).rounds >= 1


def test_a_signed_run_teaches_the_next_one(desk: Desk) -> None:
    start(desk, "heron", "first")
    practise(desk, "tram", "first")
    keep(desk, "sign_off", SignedOff(), "first")
    wide = desk.open("first").setup
    known = start(desk, "heron", "second")
    assert wide.learnt is None
    assert known.setup.learnt is not None
    taught = known.state.belief.passes_of_twist()
    assert taught[0] == pytest.approx(desk.open("first").state.belief.passes_of_twist()[0], abs=0.15)


def test_backing_off_turning_the_beam_and_trying_a_sense_by_hand_reach_the_practice_machine(desk: Desk) -> None:
    run = start(desk, "heron")
    before = list(desk.hands(run).body.truth.supports)
    run = keep(desk, "prepare", BackedOff(turns=4))
    truth = desk.hands(run).body.truth
    pitch = run.setup.machine.screws[0].pitch_mm
    assert truth.supports != before
    for j, support in enumerate(truth.supports):
        assert support == pytest.approx(truth.lowest[j] + 4 * pitch * truth.pitch_share[j])
    before = list(truth.supports)
    run = keep(desk, "tram", SenseTried(screw="rear left", felt="tighter"))
    moved = [abs(a - b) > 0.01 for a, b in zip(before, desk.hands(run).body.truth.supports, strict=True)]
    assert moved == [s.name == "rear left" for s in run.state.screws]
    run = start(desk, "bittern", "beam")
    hangs = desk.hands(run).body.truth.beam_mm
    keep(desk, "tram", BeamTurned(up_mm=0.15), "beam")
    assert desk.hands(run).body.truth.beam_mm == pytest.approx(hangs + 0.15)


@pytest.mark.parametrize(
    ("station", "what"),
    [("tram", SenseTried(screw="front left", felt="tighter")), ("tram", BeamTurned(up_mm=0.1))],
    ids=lambda w: getattr(w, "kind", w),
)
def test_a_sense_test_and_a_beam_turned_end_the_judging(desk: Desk, station: str, what: Row) -> None:
    machine = "bittern" if isinstance(what, BeamTurned) else "heron"
    run = start(desk, machine)
    laid = plan(run.setup.machine, run.setup.plate, run.setup.filament, 5)
    keep(desk, "first_layer", ProofStarted(proof=laid))
    keep(desk, "first_layer", Judged(zone=0, grade="sound"))
    keep(desk, station, what)
    assert first_layer.view.view(desk.open("run"), 5).step == "print_again"
    with pytest.raises(Refused, match="printed before the last change"):
        keep(desk, "first_layer", Judged(zone=1, grade="sound"))


def test_a_change_of_height_made_by_hand_while_it_printed_is_merged_or_put_back(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    practise(desk, "offset")
    run = practise(desk, "first_layer", times=1)
    desk.settled()
    before = desk.hands(run).body.truth.shift
    run = keep(desk, "first_layer", Nudged(away_mm=-0.05, from_zone=2))
    desk.settled()
    assert desk.hands(run).body.truth.shift == pytest.approx(before - 0.05)
    live = first_layer.view.view(run).live
    assert live is not None
    assert live.words == "0.05 mm closer"
    # Stop position: larger is closer.
    assert live.merge.new_mm == pytest.approx(run.state.stored_mm + 0.05)
    gap = run.state.belief.shift_mm
    run = keep(desk, "first_layer", NudgeMerged(stored_mm=live.merge.new_mm))
    desk.settled()
    assert desk.hands(run).body.truth.shift == pytest.approx(before - 0.05)
    assert run.state.belief.shift_mm == pytest.approx(gap)
    assert run.state.readback_due
    assert first_layer.view.view(run).live is None
    run = keep(desk, "first_layer", Nudged(away_mm=0.03))
    run = keep(desk, "first_layer", Nudged(away_mm=-0.03))
    assert first_layer.view.view(run).live is None
