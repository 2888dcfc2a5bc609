"""A run's rows: kept once, taken back, replayed, refused with nothing lost, and what they teach."""

import numpy as np
import pytest

from ivory_table.core.gauge import FeelScale
from ivory_table.core.grid_layout import Layout
from ivory_table.core.mesh import believed_by_machine
from ivory_table.core.thermal import ThermalReading
from ivory_table.demo.tidewater import GAUGES
from ivory_table.desk.desk import Desk, Keep
from ivory_table.desk.knowledge import study_of
from ivory_table.runs.common import TakenBack, WhereNoted
from ivory_table.runs.doubts import Refused
from ivory_table.stations import first_layer, mesh, prepare, sign_off, tram
from ivory_table.stations.first_layer.entries import Judged
from ivory_table.stations.mesh.paste import KnownHeight, MeshPaste
from ivory_table.stations.offset.entries import FeelKept
from ivory_table.stations.prepare.entries import CheckDone, ThermalRead
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.tram.entries import Counted, ReadMm, SenseTried
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.turned import Turned
from ivory_table.store.trouble import Clash
from ivory_table.store.workshop import Workshop
from tests.stations.keeping import keep, practise, start


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
