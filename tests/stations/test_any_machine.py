"""A machine nobody here has heard of: taught from three samples of every line, proved step by step, then worked with."""

import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import pytest

from ivory_table.core.manner import manner_file
from ivory_table.core.teach.catalogue import words
from ivory_table.core.teach.proving import steps
from ivory_table.core.teach.teaching import WordShown
from ivory_table.demo.tidewater import GAUGES, MACHINES, furnish
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.link.door import Address, Doors
from ivory_table.link.manners import Manners
from ivory_table.practice.serve import Served
from ivory_table.runs.doubts import Refused
from ivory_table.stations import after_change, mesh, on_line, tram
from ivory_table.stations.lines import Lines
from ivory_table.stations.manner.catch import Catch, caught
from ivory_table.stations.manner.pages import Pages
from ivory_table.stations.manner.proving import ByHand, Proving, StartStep
from ivory_table.stations.manner.shapes import Begin, BringManner, Settings, TeachWord
from ivory_table.stations.mesh.entries import MeshPlanned
from ivory_table.stations.stored.quick import quick_change
from ivory_table.stations.tram.entries import WayChosen
from ivory_table.store.trouble import Clash
from ivory_table.store.workshop import Workshop
from tests.dialects import INNER, Dialect, DialectPlug
from tests.stations.floor import Floor
from tests.teacher import shown_by

#: One here; another is taught and proved in the browser, the others are worked with in `make slow`.
A_FEW = (33,)


@contextmanager
def a_floor(seed: int, folder: Path) -> Iterator[tuple[Floor, Pages, DialectPlug]]:
    """Kestrel, speaking a dialect that nobody has taught yet."""
    machine = next(m for m in MACHINES if m.id == "kestrel")
    plug = DialectPlug(Dialect(seed))
    served = Served(machine, GAUGES[0], INNER, plug, seed=3, pace=1500, file=None)
    practice = folder / "practice"
    practice.mkdir(parents=True)
    address = Address(line=plug.name, door=served.door.port, pace=1500)
    (practice / "kestrel.address.json").write_text(address.model_dump_json())
    workshop = Workshop(folder / "workshop.db")
    furnish(workshop)
    doors, manners = Doors(practice), Manners(folder / "manners", workshop.teachings.get, workshop.teachings.ids)
    desk = Desk(workshop, doors.hands_for, manners.get)
    floor = Floor(desk, Lines(desk, manners, doors, folder / "lines"), served, "kestrel")
    try:
        yield floor, Pages(workshop, manners), plug
    finally:
        floor.lines.close()
        served.end()
        workshop.close()


def taught(pages: Pages, dialect: Dialect) -> None:
    """Every word shown as a person shows it, then put in use."""
    version = pages.begin(Begin(id="own", name="Our own", by="mk")).version
    for word in words():
        shown = shown_by(dialect, word)
        if shown is not None:
            found = pages.teach("own", word.id, TeachWord(shown=shown, seen_version=version, by="mk"))
            assert found.lesson.settled is not None, (word.id, found.lesson)
            version = found.view.version
    dialect.said = dialect.numbered = 0
    pages.use("kestrel", "own")


def run_on(floor: Floor) -> None:
    floor.desk.start(
        StartRun(
            id="run",
            machine_id="kestrel",
            plate_id="kestrel-smooth",
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )


def prove(floor: Floor, proving: Proving, step: str) -> str:
    """One step on the line to its end, the person at the practice machine saying yes; what it is then."""
    before = len(floor.desk.workshop.teachings.proved("own", "kestrel"))
    proving.start("kestrel", step, StartStep(id=f"prove-{step}-{before}", by="mk"))
    ends = time.monotonic() + 60
    while len(floor.desk.workshop.teachings.proved("own", "kestrel")) == before or floor.status.state != "idle":
        assert time.monotonic() < ends, (step, floor.status)
        if floor.status.state == "waiting":
            proving.practise("kestrel")
        time.sleep(0.01)
    return next(s.state for s in proving.view("kestrel").steps if s.step.id == step)


def _why_not(proving: Proving, step: str) -> str:
    return next(s.why_not for s in proving.view("kestrel").steps if s.step.id == step)


def whole_way(seed: int, folder: Path) -> None:
    with a_floor(seed, folder) as (floor, pages, plug):
        taught(pages, plug.dialect)
        floor.connect()
        assert floor.status.state == "idle", floor.status
        proving = Proving(pages, floor.lines)
        # There is no mesh to list or to follow yet: that is proved once there is one.
        for step in steps():
            if not step.id.startswith("mesh") and not _why_not(proving, step.id):
                assert prove(floor, proving, step.id) == "proved", (
                    step.id,
                    floor.desk.workshop.teachings.proved("own", "kestrel")[-1],
                )
        run_on(floor)
        floor.prove()
        floor.practise("tram", tram.practice.practice)
        floor.keep("tram", WayChosen(way="read_all"))
        assert floor.do("tram", "probe_screws") == ""
        mean, _ = floor.run.state.belief.height(floor.run.state.belief.surface.anchors)
        truth = floor.served.body.surface(floor.served.body.plate.anchors)
        assert np.abs((mean - mean.mean()) - (truth - truth.mean())).max() < 0.05
        floor.keep("mesh", MeshPlanned(columns=4, rows=3, owns_zero=False))
        assert floor.do("mesh", "survey") == ""
        floor.practise("mesh", mesh.practice.practice)
        said = floor.do("mesh", "send_mesh")
        state, body = floor.run.state, floor.served.body
        assert (state.mesh_sent, state.mesh_on_told) == (True, True), said
        assert state.mesh_back_mm is not None, said
        assert state.mesh_back_mm <= 0.001
        places = state.mesh.grid.places
        gaps = body.gaps(np.column_stack([places, np.full(len(places), 0.2)]))
        assert np.ptp(gaps) < 0.03
        assert prove(floor, proving, "mesh_read") == prove(floor, proving, "mesh_switch") == "proved"
        assert proving.view("kestrel").unproved == ()
        assert floor.do("offset", "bracket") == ""
        floor.do("offset", "store")
        assert floor.run.entries[-1].what.reported_mm == floor.run.state.stored_mm
        assert body.truth.stored_mm == pytest.approx(floor.run.state.stored_mm, abs=1e-4)
        floor.ids += 1
        on_line.start(floor.lines, "run", "first_layer", "print", f"start-{floor.ids}", 5)
        floor.until(lambda: floor.status.job == "Lifted and warm", 120)
        assert floor.run.state.proofs[-1].printed == 5
        assert plug.not_understood == ["NOSUCHWORD"]
        assert floor.served.person.crashes() == []


@pytest.mark.parametrize("seed", A_FEW)
def test_it_is_taught_proved_and_worked_with_from_tram_to_proof(seed: int, tmp_path: Path) -> None:
    whole_way(seed, tmp_path)


@pytest.mark.slow
@pytest.mark.parametrize("seed", [s for s in range(40) if s not in A_FEW])
def test_every_other_dialect_as_well(seed: int, tmp_path: Path) -> None:
    whole_way(seed, tmp_path)


def test_a_reply_is_caught_on_the_line_before_anything_is_understood(tmp_path: Path) -> None:
    with a_floor(0, tmp_path) as (floor, pages, plug):
        view = pages.begin(Begin(id="own", name="Our own", by="mk"))
        shown = shown_by(plug.dialect, next(w for w in words() if w.id == "does.where"))
        with pytest.raises(Refused, match="first: its line is what is sent"):
            caught(pages, floor.lines, "kestrel", Catch(word="says.position", manner="own"))
        pages.teach("own", "does.where", TeachWord(shown=shown, seen_version=view.version, by="mk"))
        found = caught(pages, floor.lines, "kestrel", Catch(word="says.position", manner="own"))
        assert found.text.splitlines()[-1] == plug.dialect.confirmed([])[-1]
        assert "at" in found.text
        refused = caught(pages, floor.lines, "kestrel", Catch(word="says.error", manner="own"))
        assert plug.dialect.error("unknown") in refused.text
        with pytest.raises(Refused, match="Only lines that ask"):
            caught(pages, floor.lines, "kestrel", Catch(word="says.touched", manner="own"))


def test_a_wrong_word_is_found_when_it_is_proved_and_a_changed_one_is_proved_anew(tmp_path: Path) -> None:
    with a_floor(5, tmp_path) as (floor, pages, plug):
        taught(pages, plug.dialect)
        # Somebody has taught the tip's line as the plate's.
        word = next(w for w in words() if w.id == "does.heat_bed")
        swapped = shown_by(plug.dialect, word)
        wrong = tuple(t.model_copy(update={"line": plug.dialect.line("heat_tip", t.values)}) for t in swapped.told)
        version = pages.view("own").version
        pages.teach("own", "does.heat_bed", TeachWord(shown=WordShown(told=wrong), seen_version=version, by="mk"))
        floor.connect()
        proving = Proving(pages, floor.lines)
        assert prove(floor, proving, "heat_bed") == "failed"
        last = floor.desk.workshop.teachings.proved("own", "kestrel")[-1]
        assert "told to hold" in last.expected
        assert floor.served.body.tip.target_c == 0
        assert "heat the plate" in proving.view("kestrel").unproved
        pages.teach("own", "does.heat_bed", TeachWord(shown=swapped, seen_version=version + 1, by="mk"))
        assert next(s.state for s in proving.view("kestrel").steps if s.step.id == "heat_bed") == "changed"
        floor.lines.manner_changed("own")
        assert prove(floor, proving, "heat_bed") == "proved"


def test_a_machine_on_no_line_is_proved_by_what_its_own_screen_says(tmp_path: Path) -> None:
    with a_floor(0, tmp_path) as (floor, pages, plug):
        taught(pages, plug.dialect)
        proving = Proving(pages, floor.lines)
        with pytest.raises(Refused, match="Type what its own screen says"):
            proving.by_hand("kestrel", "where", ByHand(by="mk", ok=True))
        proving.by_hand("kestrel", "where", ByHand(by="mk", ok=True, read={"x": 0, "y": 0, "z": 5}))
        found = next(s for s in proving.view("kestrel").steps if s.step.id == "where")
        assert found.state == "proved"
        assert found.proved.how == "hand"
        assert "ask for the position" not in proving.view("kestrel").unproved


def test_two_people_teaching_at_once_lose_nothing(tmp_path: Path) -> None:
    with a_floor(0, tmp_path) as (_, pages, plug):
        view = pages.begin(Begin(id="own", name="Our own", by="mk"))
        shown = shown_by(plug.dialect, next(w for w in words() if w.id == "does.home"))
        pages.teach("own", "does.home", TeachWord(shown=shown, seen_version=view.version, by="mk"))
        with pytest.raises(Clash, match="another tab"):
            pages.teach(
                "own", "does.home", TeachWord(shown=WordShown(without=False), seen_version=view.version, by="jo")
            )


def test_versions_differences_and_files(tmp_path: Path) -> None:
    with a_floor(3, tmp_path) as (floor, pages, plug):
        taught(pages, plug.dialect)
        text = pages.file("own")
        assert manner_file(pages.manners.get("own")) == text
        assert pages.differences("own", "own").found == ()
        assert {d.word for d in pages.differences("own", "harbour").found} > {"does.probe", "says.ack"}
        last = pages.view("own").versions[0]
        pages.back_to("own", 1, "mk")
        assert pages.view("own").missing
        assert not next(line for line in pages.listing() if line.id == "own").complete
        with pytest.raises(Refused, match="not complete"):
            pages.use("heron", "own")
        pages.back_to("own", last.number, "mk")
        assert pages.file("own") == text
        # Somebody else's file comes in under its own id; ours cannot be written over by a shipped one.
        brought = pages.bring(BringManner(text=text.replace('id = "own"', 'id = "theirs"'), by="mk"))
        assert brought.id == "theirs"
        assert floor.lines.manners.get("theirs").does == floor.lines.manners.get("own").does
        with pytest.raises(Refused, match="cannot be written over"):
            pages.bring(BringManner(text=text.replace('id = "own"', 'id = "harbour"'), by="mk"))
        with pytest.raises(Refused, match="no valid TOML"):
            pages.bring(BringManner(text="G28", by="mk"))


def test_a_shipped_manner_stays_as_it_is_and_begins_another(tmp_path: Path) -> None:
    with a_floor(3, tmp_path) as (_, pages, plug):
        with pytest.raises(Refused, match="stays as it is"):
            pages.teach("harbour", "does.home", TeachWord(shown=WordShown(without=True), seen_version=1, by="mk"))
        with pytest.raises(Refused, match="already"):
            pages.begin(Begin(id="lantern", name="Lantern", by="mk"))
        view = pages.begin(Begin(id="mine", name="Mine", start_from="harbour", by="mk"))
        assert view.missing == ()
        settings = Settings(name="Mine", silence_s=12, homing_ends_mesh=False, law=view.law, seen_version=1, by="mk")
        pages.settle("mine", settings)
        assert pages.manners.get("mine").line.silence_s == 12
        jobs = pages.of_job("mine", "; start\nM190 S60 ; wait\nPREHEAT 60\nG1 X1 Y1 E2\nM84")
        assert [(j.number, j.word) for j in jobs.lines] == [(2, "does.heat_bed_wait"), (3, "")]
        assert plug.dialect.seed == 3


def test_a_broken_manner_takes_nothing_else_down(tmp_path: Path) -> None:
    with a_floor(0, tmp_path) as (floor, pages, _):
        folder = tmp_path / "manners"
        folder.mkdir()
        (folder / "broken.toml").write_text('id = "broken"\n[says]\nack = "(("')
        lines = pages.listing()
        assert {line.id for line in lines} == {"harbour", "lantern", "plain", "broken"}
        assert "has a mistake" in next(line.words for line in lines if line.id == "broken")
        workshop = floor.desk.workshop
        workshop.keep_machine(workshop.machine("heron").model_copy(update={"manner": "broken"}))
        with pytest.raises(Refused, match="has a mistake"):
            pages.view("broken")
        assert Proving(pages, floor.lines).view("heron").unproved == ()
        assert floor.lines.status("kestrel").state == "nobody"
        # What needs no line goes on, without words that are another machine's.
        assert quick_change(floor.desk, "heron", 0.02).change.lines == ()
        assert after_change.view(floor.lines, "heron").asks == ()
