"""A run through the desk: the fold of its rows, taking back, and the four machines' differences."""

import itertools

import numpy as np
import pytest

from ivory_table.core import advice
from ivory_table.core.gauge import FeelScale
from ivory_table.core.grid_layout import Layout
from ivory_table.core.mesh import believed_by_machine
from ivory_table.core.proof import plan
from ivory_table.core.thermal import ThermalReading
from ivory_table.demo.tidewater import GAUGES
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.desk.knowledge import study_of
from ivory_table.runs.common import TakenBack, WhereNoted
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer, mesh, offset, prepare, sign_off, tram
from ivory_table.stations.first_layer.entries import Judged, Nudged, ProofStarted, ZoneCleaned
from ivory_table.stations.mesh.entries import MeshPlanned
from ivory_table.stations.mesh.paste import KnownHeight, MeshPaste
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offset.entries import FeelKept
from ivory_table.stations.prepare.entries import CheckDone, ThermalRead
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import NudgeMerged, OffsetSet, Readback
from ivory_table.stations.tram.entries import BackedOff, BeamTurned, Counted, ReadMm, SenseTried, WayChosen
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.standing import against_sense
from ivory_table.stations.turned import Turned, TurnedAll
from ivory_table.store.trouble import Clash
from ivory_table.store.workshop import Workshop

PLATES = {"heron": "heron-steel", "kestrel": "kestrel-smooth", "wren": "wren-sheet", "bittern": "bittern-disc"}


def start(desk: Desk, machine: str, run_id: str = "run") -> OpenRun:
    desk.start(
        StartRun(
            id=run_id,
            machine_id=machine,
            plate_id=PLATES[machine],
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    return desk.open(run_id)


def keep(desk: Desk, station: str, what: Row, run_id: str = "run") -> OpenRun:
    seq = desk.open(run_id).seq
    return desk.keep(run_id, station, Keep(id=f"{run_id}-{seq + 1}", seen_seq=seq, what=what))


def practise(desk: Desk, station: str, run_id: str = "run", times: int = 60) -> OpenRun:
    """Let the practice plate answer until the station has no more questions."""
    asks = {
        "tram": tram.practice.practice,
        "mesh": mesh.practice.practice,
        "offset": offset.practice.practice,
        "first_layer": lambda at, run: first_layer.practice.practice(at, run, 5),
    }
    for _ in range(times):
        seq = desk.open(run_id).seq
        try:
            desk.ask_hands(run_id, station, f"{run_id}-p{seq + 1}", seq, lambda run: asks[station](desk, run))
        except Refused as done:
            assert done.code == "nothing_to_read"
            break
    return desk.open(run_id)


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


def test_taking_back_leaves_the_state_as_if_it_had_not_been(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", Counted(screw="front left", marks=3))
    before = keep(desk, "tram", Turned(screw="front left", marks=0))
    wrong = keep(desk, "tram", Counted(screw="rear right", marks=-9))
    again = keep(desk, "tram", TakenBack(entry_id=wrong.entries[-1].id))
    assert np.allclose(again.state.belief.mean, before.state.belief.mean)
    assert np.allclose(again.state.belief.cov, before.state.belief.cov)
    assert len(Tram.of(again.state).stops) == 1
    assert len(again.entries) == len(before.entries) + 2
    with pytest.raises(Refused, match="taken back already"):
        keep(desk, "tram", TakenBack(entry_id=wrong.entries[-1].id))


def test_a_second_desk_replays_to_the_very_same_state(desk: Desk, workshop: Workshop) -> None:
    start(desk, "heron")
    first = practise(desk, "tram", times=7)
    second = Desk(workshop).open("run")
    assert np.array_equal(first.state.belief.mean, second.state.belief.mean)
    assert tram.view.view(first).model_dump(exclude={"head"}) == tram.view.view(second).model_dump(exclude={"head"})


def test_two_runs_at_once_do_not_mix(desk: Desk) -> None:
    start(desk, "heron", "a")
    start(desk, "kestrel", "b")
    for _ in range(4):
        practise(desk, "tram", "a", times=1)
        practise(desk, "tram", "b", times=1)
    alone = Desk(desk.workshop)
    for run_id in ("a", "b"):
        assert np.array_equal(alone.open(run_id).state.belief.mean, desk.open(run_id).state.belief.mean)
        assert all(e.id.startswith(f"{run_id}-") for e in desk.open(run_id).entries)


def test_the_same_row_twice_is_kept_once_and_another_under_its_id_is_refused(desk: Desk) -> None:
    start(desk, "heron")
    ask = Keep(id="x", seen_seq=0, what=CheckDone(check="homed", outcome="done"))
    assert desk.keep("run", "prepare", ask).seq == 1
    assert desk.keep("run", "prepare", ask).seq == 1
    with pytest.raises(Clash, match="under this id"):
        desk.keep("run", "prepare", ask.model_copy(update={"what": CheckDone(check="homed", outcome="skipped")}))
    with pytest.raises(Clash, match="meanwhile"):
        desk.keep("run", "prepare", ask.model_copy(update={"id": "y"}))


def test_a_knob_that_lowers_is_believed_to_lower(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "tram", SenseTried(screw="front left", felt="looser"))
    # It tells of its own knob; the others are likelier to lower as well, and are asked when they are turned.
    assert (
        [s.sense for s in run.state.screws] == [s.sense for s in desk.workshop.machine("heron").screws] == [-1, 1, 1, 1]
    )
    assert against_sense(run.state) is None
    likely = run.state.belief.p_reversed()
    assert likely[0] < 0.1 < 0.5 < likely[1:].min() <= likely[1:].max() < 0.9
    assert tram.view.view(run).ask_before
    with pytest.raises(Refused, match="Turn it back first"):
        keep(desk, "tram", SenseTried(screw="front left", felt="same"))


def test_a_knob_against_its_declared_sense_is_reported(desk: Desk) -> None:
    start(desk, "wren")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    for screw in ("front left", "front right"):
        keep(desk, "tram", Counted(screw=screw, marks=2, before="loose"))
        run = keep(desk, "tram", Turned(screw=screw, marks=0))
        assert tram.view.view(run).against_sense is None
    run = keep(desk, "tram", Counted(screw="rear", marks=4, before="tight"))
    assert tram.view.view(run).against_sense == "rear"


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


def test_a_knob_that_has_not_shown_its_sense_is_proved_where_it_is_read(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    run = keep(desk, "tram", WayChosen(way="read_all"))
    run = practise(desk, "tram", times=1)
    proving = tram.view.view(run)
    assert (proving.step, proving.screw) == ("read", "front right")  # the first one has shown its sense
    run = practise(desk, "tram", times=1)
    proving = tram.view.view(run)
    assert (proving.step, proving.screw) == ("prove", "front right")
    made = proving.further.marks
    assert 4 <= abs(made) <= 16
    # What the turn does elsewhere is drawn: on four knobs the one across goes the other way in part.
    up = proving.further.up_mm
    elsewhere = {k.name: k.moves_mm / up for k in proving.sheet.knobs if k.moves_mm is not None}
    assert set(elsewhere) == {"front left", "rear left", "rear right"}
    assert elsewhere["rear left"] < 0 < elsewhere["front left"] < 0.25
    assert not any(k.about for k in proving.sheet.knobs)
    run = practise(desk, "tram", times=1)
    again = tram.view.view(run)
    assert (again.step, again.screw) == ("read", "front right")
    run = practise(desk, "tram", times=1)
    assert run.state.belief.p_reversed()[1] < 1e-3
    assert (tram.view.view(run).step, tram.view.view(run).screw) == ("read", "rear left")
    run = practise(desk, "tram", times=1)
    # Left alone, it is not asked about again.
    run = keep(desk, "tram", Turned(screw="rear left", marks=0))
    assert (tram.view.view(run).step, tram.view.view(run).screw) == ("read", "rear right")
    story = tram.view.view(run).rounds
    # The turns between them moved what was read before: the story tells what is believed.
    assert story[0].spread_mm == pytest.approx(run.state.belief.spread()[0])
    assert [(s.screw, s.further) for s in story[0].stops] == [("front right", made), ("rear left", 0)]
    assert len(story[0].readings) == 4


def test_a_knob_read_before_and_after_its_turn_is_found_reversed_there(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    run = keep(desk, "tram", WayChosen(way="read_all"))
    for at in run.state.screws[:2]:
        first = ReadMm(x_mm=at.x_mm, y_mm=at.y_mm, instrument="dial", value_mm=0.1, screw=at.name)
        run = keep(desk, "tram", first)
    proving = tram.step.now_at(run).further
    keep(desk, "tram", Turned(screw=at.name, marks=proving.marks))
    # The plate went the other way, by as much.
    run = keep(desk, "tram", first.model_copy(update={"value_mm": 0.1 - 0.9 * proving.up_mm}))
    assert tram.view.view(run).against_sense == at.name


def test_a_knob_near_its_end_is_proved_the_other_way(desk: Desk) -> None:
    machine = desk.workshop.machine("heron")
    # One more quarter turn down and this spring would be fully compressed.
    tight = machine.screws[1].model_copy(update={"preload_mm": 3.9, "travel_mm": 4.0})
    desk.workshop.keep_machine(machine.model_copy(update={"screws": (machine.screws[0], tight, *machine.screws[2:])}))
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="read_all"))
    for screw, value in ((machine.screws[0], 0.1), (tight, 0.5)):
        reading = ReadMm(x_mm=screw.x_mm, y_mm=screw.y_mm, instrument="dial", value_mm=value, screw=screw.name)
        run = keep(desk, "tram", reading)
        if screw is not tight:
            run = keep(desk, "tram", Turned(screw=screw.name, marks=0))
    proving = tram.view.view(run)
    # It stands high, and wants down.
    assert advice.proving_turns(run.state.belief, run.state.screws, 1)[0] * tight.mm_per_mark * tight.sense < 0
    assert proving.step == "prove"
    assert proving.further.up_mm > 0
    assert proving.runs_out is None


def test_round_the_ring_goes_from_neighbour_to_neighbour(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    keep(desk, "tram", WayChosen(way="ring"))
    run = practise(desk, "tram", times=4)
    visited = [s.screw for s in Tram.of(run.state).stops]
    at = run.state.belief.surface.screws
    assert len(set(visited)) == 4
    assert all(np.linalg.norm(at[a] - at[b]) < 200 for a, b in itertools.pairwise(visited))


@pytest.mark.parametrize(
    ("machine", "check", "there"),
    [
        ("heron", "clips_clear", True),
        ("wren", "clips_clear", False),
        ("kestrel", "trigger_proved", True),
        ("heron", "trigger_proved", False),
        ("bittern", "springs_preloaded", False),
        ("bittern", "live_cleared", True),
    ],
)
def test_checks_fit_the_machine(desk: Desk, machine: str, check: str, there: bool) -> None:
    view = prepare.view.view(start(desk, machine))
    assert (check in {c.id for c in view.checks}) is there


def test_a_reading_off_the_plate_is_refused_and_loses_nothing(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    with pytest.raises(Refused, match="is not on the plate"):
        keep(desk, "tram", ReadMm(x_mm=900, y_mm=10, instrument="dial", value_mm=0.1))
    assert desk.open("run").seq == 1


def test_a_value_that_would_crash_the_tip_asks_first(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    practise(desk, "offset", times=4)
    with pytest.raises(Refused, match="into the plate") as refused:
        keep(desk, "offset", OffsetSet(stored_mm=2.37))
    assert refused.value.code == "closer_than_proven"
    assert keep(desk, "offset", OffsetSet(stored_mm=2.37, sure=True)).state.stored_mm == 2.37


def test_a_readback_that_differs_is_refused_and_sign_off_waits_for_it(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "offset", OffsetSet(stored_mm=1.32))
    with pytest.raises(Refused, match="not read back"):
        keep(desk, "sign_off", SignedOff())
    with pytest.raises(Refused, match="meant was"):
        keep(desk, "offset", Readback(reported_mm=-1.32))
    keep(desk, "offset", Readback(reported_mm=1.32))
    run = keep(desk, "sign_off", SignedOff(note="rear clip bent"))
    assert sign_off.view.view(run).step == "signed"
    with pytest.raises(Clash, match="signed off"):
        keep(desk, "tram", Counted(screw="rear left", marks=1))


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


def test_marks_land_on_the_proof_they_were_seen_on(desk: Desk) -> None:
    start(desk, "heron")
    with pytest.raises(Refused, match="no proof yet"):
        keep(desk, "first_layer", Judged(zone=0, grade="sound"))
    practise(desk, "first_layer", times=3)
    keep(desk, "first_layer", OffsetSet(stored_mm=1.33))
    with pytest.raises(Refused, match="before the last change"):
        keep(desk, "first_layer", Judged(zone=4, grade="sound"))
    assert first_layer.view.view(desk.open("run")).step == "print_again"


def test_a_pasted_mesh_is_shown_before_it_is_kept(desk: Desk) -> None:
    run = start(desk, "wren")
    text = "0.00 0.02 0.05\n0.01 0.06 0.04\n0.02 0.03 0.09"
    found = mesh.paste.preview(run, MeshPaste(text=text, owns_zero=False))
    # Nothing is known of this plate yet: which way round it lies is asked, with places that would tell.
    assert found.ask
    assert len(found.to_read) == 4
    back = Layout(first="back left")
    said = mesh.paste.preview(run, MeshPaste(text=text, owns_zero=False, layout=back))
    assert not said.ask
    assert said.shown.survey.heights_mm[0] == (0.02, 0.03, 0.09)
    assert said.shown.fit.range_mm == pytest.approx(0.09)
    microns = text.replace("0.0", "")
    assert mesh.paste.preview(
        run, MeshPaste(text=microns, owns_zero=False, layout=back, unit="micron")
    ).shown.fit.range_mm == pytest.approx(0.009)
    assert desk.open("run").seq == 0
    with pytest.raises(Refused, match="not on the plate"):
        mesh.paste.preview(run, MeshPaste(text="0,100,400\n1,2,3\n1,2,3", owns_zero=False))
    with pytest.raises(Refused, match="micrometres"):
        mesh.paste.preview(run, MeshPaste(text="100 200\n150 300\n120 90", owns_zero=False))


def test_a_pasted_mesh_is_turned_by_places_that_were_read_again(desk: Desk) -> None:
    run = start(desk, "wren")
    truly = Layout(first="back right", along="y")
    heights = np.array([[0.0, 0.05, 0.2], [0.02, 0.1, 0.15], [0.1, 0.3, 0.05]])
    text = "\n".join(" ".join(f"{v:.2f}" for v in row) for row in truly.written(heights))
    asked = mesh.paste.preview(run, MeshPaste(text=text, owns_zero=True))
    lies = mesh.paste.preview(run, MeshPaste(text=text, owns_zero=True, layout=truly)).shown.survey
    spots = np.array([(k.x_mm, k.y_mm) for k in asked.to_read])
    known = tuple(
        KnownHeight(x_mm=float(x), y_mm=float(y), height_mm=round(float(z), 3) + 1.0)
        for (x, y), z in zip(spots, believed_by_machine(lies, spots), strict=True)
    )
    found = mesh.paste.preview(run, MeshPaste(text=text, owns_zero=True, known=known))
    assert found.layout == truly
    assert not found.ask


def test_files_carry_the_whole_run(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram", times=5)
    run = desk.open("run")
    rows = sign_off.files.readings_csv(run).splitlines()
    assert len(rows) == 1 + len(run.entries)
    assert sign_off.files.run_file(run).entries == run.entries
    with pytest.raises(Refused, match="No mesh"):
        mesh.files.mesh_csv(run)


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


def test_what_a_run_taught_is_forgotten_when_it_is_taken_back(desk: Desk) -> None:
    """A stored value, where a step is found, a thermal reading, a feel check: each from a row of its own."""
    run = start(desk, "heron")
    machine = desk.workshop.machine("heron")
    reading = ThermalReading(place="centre", x_mm=0, y_mm=0, bed_c=60, height_mm=0.9, held_min=10)
    scale = FeelScale(scatter_mm=0.02, tries=27)
    keep(desk, "offset", OffsetSet(stored_mm=machine.stored_mm + 0.05, sure=True))
    rows = (
        ("offset", Readback(reported_mm=machine.stored_mm + 0.05)),
        ("prepare", WhereNoted(step="home", line="Move, then Home all")),
        ("prepare", ThermalRead(reading=reading)),
        ("offset", FeelKept(scale=scale)),
    )
    for station, what in rows:
        run = keep(desk, station, what)
        known = desk.workshop.machine("heron")
        person = desk.workshop.person_by("mk")
        study = study_of(desk.workshop, "heron", "heron-steel")
        taught = {
            "readback": known.stored_mm != machine.stored_mm,
            "where_noted": known.where != machine.where,
            "thermal_read": study is not None,
            "feel_kept": person is not None and person.feel_on(GAUGES[0]).scatter_mm == 0.02,
        }
        assert taught[what.kind]
        keep(desk, station, TakenBack(entry_id=run.entries[-1].id))
        assert desk.workshop.machine("heron") == machine
        assert study_of(desk.workshop, "heron", "heron-steel") is None
        person = desk.workshop.person_by("mk")
        assert person is None or person.feel_on(GAUGES[0]).scatter_mm != 0.02


def test_a_machine_saved_by_hand_keeps_what_its_runs_teach_apart(desk: Desk) -> None:
    """Renamed in the set-up after a value was stored: the value is still the run's to take back."""
    start(desk, "heron")
    machine = desk.workshop.machine("heron")
    keep(desk, "offset", OffsetSet(stored_mm=1.42, sure=True))
    run = keep(desk, "offset", Readback(reported_mm=1.42))
    desk.workshop.keep_machine(desk.workshop.machine("heron").model_copy(update={"name": "Heron by the window"}))
    keep(desk, "offset", TakenBack(entry_id=run.entries[-1].id))
    known = desk.workshop.machine("heron")
    assert (known.name, known.stored_mm) == ("Heron by the window", machine.stored_mm)
    # A value that somebody typed in the set-up is theirs: no older row changes it.
    keep(desk, "offset", Readback(reported_mm=1.42))
    desk.workshop.keep_machine(desk.workshop.machine("heron").model_copy(update={"stored_mm": 1.5}))
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"))
    assert desk.workshop.machine("heron").stored_mm == 1.5


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
