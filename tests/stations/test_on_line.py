"""The stations over a real line: what they let a practice machine do, and what is left when it fails."""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pytest

from ivory_table.core.manner import shipped
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.demo.tidewater import GAUGES, MACHINES, furnish
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.link.door import Address, Doors
from ivory_table.link.manners import Manners
from ivory_table.practice.serve import Served, TcpPlug
from ivory_table.runs.doubts import Refused
from ivory_table.stations import after_change, first_layer, mesh, offset, on_line, tram
from ivory_table.stations.after_change import TakeSnapshot
from ivory_table.stations.first_layer.entries import Nudged, SpeedSet
from ivory_table.stations.lines import Connect, Leave, Lines
from ivory_table.stations.mesh.entries import MeshKept, MeshPlanned, MeshPoint
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.offset.entries import ZeroDoubted
from ivory_table.stations.offset.feel import feel_check
from ivory_table.stations.offset.state import Offset
from ivory_table.stations.prepare.entries import ChangeTold
from ivory_table.stations.stored.entries import Readback
from ivory_table.stations.tram.entries import ScrewFelt, SenseTried, WayChosen
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.turned import Turned
from ivory_table.store.workshop import Workshop

#: So many times faster than life the practice machine works here.
PACE = 3000.0


@dataclass
class Floor:
    """A workshop whose practice machines are on real ports, and one run on one of them."""

    desk: Desk
    lines: Lines
    served: Served
    machine: str
    ids: int = 0

    @property
    def run(self):
        return self.desk.open("run")

    @property
    def status(self):
        return self.lines.status(self.machine)

    def connect(self) -> None:
        self.lines.connect(self.machine, Connect())
        self.until(lambda: self.status.state != "connecting")

    def until(self, true: Callable[[], object], seconds: float = 20) -> None:
        ends = time.monotonic() + seconds
        while not true():
            assert time.monotonic() < ends, f"it did not come true: {self.status}"
            self.wait()

    def wait(self) -> None:
        """Until the line says something new, or a little while: to look all the time takes the time of what is looked at."""
        seen, ends = self.lines.version, time.monotonic() + 0.1
        while self.lines.version == seen and time.monotonic() < ends:
            time.sleep(0.005)

    def start(self, station: str, job: str) -> None:
        self.ids += 1
        on_line.start(self.lines, "run", station, job, f"start-{self.ids}", 5)

    def do(self, station: str, job: str, answer: bool = True) -> str:
        """One job to its end, the practice person answering; what the line then says."""
        self.start(station, job)
        name = on_line.JOBS[job].name
        ends = time.monotonic() + 40
        while time.monotonic() < ends:
            now = self.status
            if now.state == "waiting" and answer:
                on_line.practice_answer(self.lines, "run")
            elif now.state in ("lost", "halted") or (now.job != name and not now.queued and now.state != "waiting"):
                return now.words
            self.wait()
        raise AssertionError(f"it did not end: {self.status}")

    def keep(self, station: str, what: object) -> None:
        self.ids += 1
        self.desk.keep("run", station, Keep(id=f"k{self.ids}", seen_seq=self.run.seq, what=what))
        self.desk.settled()

    def practise(self, station: str, act: Callable) -> None:
        self.ids += 1
        self.desk.ask_hands("run", station, f"p{self.ids}", self.run.seq, lambda run: act(self.desk, run))

    def prove(self) -> None:
        self.do("prepare", "prove")
        assert self.run.state.checks.get("stops_proved") == "done"


@pytest.fixture
def floor(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Floor]:
    machine_id = getattr(request, "param", "kestrel")
    machine = next(m for m in MACHINES if m.id == machine_id)
    plug = TcpPlug(0)
    served = Served(machine, GAUGES[0], shipped(machine.manner), plug, seed=3, pace=PACE, file=None)
    practice = tmp_path / "practice"
    practice.mkdir()
    address = Address(line=plug.name, door=served.door.port, pace=PACE)
    (practice / f"{machine_id}.address.json").write_text(address.model_dump_json())
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    doors, manners = Doors(practice), Manners(tmp_path / "manners")
    desk = Desk(workshop, doors.hands_for, manners.get)
    desk.start(
        StartRun(
            id="run",
            machine_id=machine_id,
            plate_id=machine.plates[0].id,
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    found = Floor(desk, Lines(desk, manners, doors, tmp_path / "lines"), served, machine_id)
    yield found
    found.lines.close()
    served.end()
    workshop.close()


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


@pytest.mark.parametrize("floor", ["bittern"], indirect=True)
def test_a_heat_sensitive_probe_waits_well_above(floor: Floor) -> None:
    floor.connect()
    floor.do("prepare", "heat")
    assert floor.served.body.at[2] == 60


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


def test_probing_waits_for_the_trigger_to_be_proved(floor: Floor) -> None:
    floor.connect()
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    offer = on_line.view(floor.lines, floor.run, "mesh").offers[0]
    assert "Prove the probe's trigger first" in offer.why_not
    with pytest.raises(Refused, match="trigger"):
        floor.start("mesh", "survey")


def test_a_probed_mesh_is_stopped_resumed_sent_and_followed(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    floor.keep("mesh", MeshPlanned(columns=4, rows=3, owns_zero=False))
    floor.start("mesh", "survey")
    floor.until(lambda: len(Mesh.of(floor.run.state).points) >= 3)
    floor.lines.cancel(floor.machine)
    floor.until(lambda: floor.status.state == "idle")
    so_far = len(Mesh.of(floor.run.state).points)
    assert 3 <= so_far < 12
    assert floor.do("mesh", "survey") == ""
    points = [e.what for e in floor.run.entries if isinstance(e.what, MeshPoint)]
    assert len(points) == 12  # none was measured twice
    assert sum(s.point is None for s in Mesh.of(floor.run.state).soundings) >= 3  # the base point, again and again
    floor.practise("mesh", mesh.practice.practice)
    floor.do("mesh", "send_mesh")
    body = floor.served.body
    assert body.mesh_on
    places = floor.run.state.mesh.grid.places
    gaps = body.gaps(np.column_stack([places, np.full(len(places), 0.2)]))
    assert np.ptp(gaps) < 0.03
    state = floor.run.state
    assert (state.mesh_sent, state.mesh_stored, state.mesh_on_told) == (True, True, True)
    assert state.mesh_back_mm is not None
    assert state.mesh_back_mm <= 0.001
    assert body.mesh_stored
    assert floor.do("prepare", "home") == ""
    assert not body.mesh_on  # this manner's homing ends it
    # Somebody has put another mesh in: the readback finds it.
    heights = [list(row) for row in body.mesh.heights_mm]
    heights[0][1] += 0.04
    body.mesh = body.mesh.model_copy(update={"heights_mm": tuple(map(tuple, heights))})
    assert "another mesh" in floor.do("mesh", "read_mesh")
    assert mesh.view.view(floor.run).use.states[1].seen == "no"


@pytest.mark.parametrize("floor", ["heron", "wren"], indirect=True)
def test_a_mesh_is_felt_on_the_line_until_it_is_enough(floor: Floor) -> None:
    while tram.step.now_at(floor.run).step != "done":
        floor.practise("tram", tram.practice.practice)
    floor.connect()
    floor.keep("mesh", MeshPlanned(columns=4, rows=4, owns_zero=True))
    assert floor.do("mesh", "survey") == ""
    assert mesh.step.step_of(floor.run) == "keep"
    assert 5 <= len(Mesh.of(floor.run.state).points) <= 16
    floor.practise("mesh", mesh.practice.practice)
    assert floor.do("mesh", "send_mesh") == ""
    body = floor.served.body
    places = floor.run.state.mesh.grid.places
    assert np.std(body.gaps(np.column_stack([places, np.full(len(places), 0.2)]))) < 0.02
    assert floor.served.person.crashes() == []


def test_two_corners_are_driven_to_and_asked_for(floor: Floor) -> None:
    floor.connect()
    assert floor.do("prepare", "home") == ""
    offers = {o.job: o for o in on_line.view(floor.lines, floor.run, "mesh").offers}
    assert offers["where"].why_not == ""
    assert floor.do("mesh", "where") == ""
    assert floor.status.position_mm is not None
    x, y = floor.status.position_mm[:2]
    assert (x, y) == pytest.approx(tuple(floor.served.body.at[:2]), abs=0.01)


def test_a_power_cut_takes_a_mesh_that_was_not_stored(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    floor.do("mesh", "survey")
    floor.practise("mesh", mesh.practice.practice)
    session = floor.lines.session(floor.machine)
    does = session.manner.does.model_copy(update={"mesh_store": ""})
    session.manner = session.manner.model_copy(update={"does": does})
    floor.do("mesh", "send_mesh")
    assert floor.served.body.mesh is not None
    floor.served.firmware.start()
    assert floor.served.body.mesh is None


def test_a_probe_that_never_triggers_ends_the_survey(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    floor.served.fault("probe_too_high")
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    assert "did not trigger" in floor.do("mesh", "survey")
    assert Mesh.of(floor.run.state).points == {}


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


def settled(floor: Floor) -> None:
    """Trammed, the offset found and stored, so that a proof may be printed."""
    while tram.step.now_at(floor.run).step != "done":
        floor.practise("tram", tram.practice.practice)
    floor.connect()
    floor.do("offset", "bracket")
    floor.do("offset", "store")


def test_a_proof_prints_with_a_nudge_and_a_speed_that_are_kept_and_merged(floor: Floor) -> None:
    settled(floor)
    floor.start("first_layer", "print")
    floor.until(lambda: "patch 2" in floor.status.words)
    on_line.change_while_printing(floor.lines, "run", "nudge", 0.03)
    on_line.change_while_printing(floor.lines, "run", "speed", 120)
    floor.until(lambda: floor.status.state == "waiting")
    assert "Merge it" in floor.status.question
    stored = floor.run.state.stored_mm
    floor.lines.answer(floor.machine, "merge")
    floor.until(
        lambda: floor.run.state.stored_changes and not floor.run.state.readback_due and floor.run.state.nudged_mm == 0
    )
    kinds = [e.what for e in floor.run.entries]
    nudge = next(w for w in kinds if isinstance(w, Nudged))
    assert 1 <= nudge.from_zone <= 4
    assert [w.percent for w in kinds if isinstance(w, SpeedSet)] == [120, 100]
    assert floor.run.state.stored_mm == pytest.approx(stored + 0.03)
    body = floor.served.body
    assert body.nudge_mm == pytest.approx(0)
    assert body.truth.stored_mm == pytest.approx(floor.run.state.stored_mm)
    assert body.at[2] == 30  # lifted
    zone = first_layer.view.view(floor.run).next_zone
    assert zone == 0  # the proof can still be judged
    for _ in range(5):
        floor.practise("first_layer", lambda desk, run: first_layer.practice.practice(desk, run, 5))
    assert len(floor.run.state.proofs) == 1
    gaps, _ = floor.run.state.zone_field(floor.run.state.proofs[-1]).gaps
    truth = [floor.served.person._patch(floor.run.state.proofs[-1].plan, k)[0] for k in range(5)]
    assert np.abs(gaps - truth).max() < 0.06
    assert floor.served.person.crashes() == []


def test_a_cancelled_proof_ends_lifted_and_warm_and_only_whole_zones_are_judged(floor: Floor) -> None:
    settled(floor)
    floor.start("first_layer", "print")
    floor.until(lambda: "patch 3" in floor.status.words)
    floor.lines.cancel(floor.machine)
    floor.until(lambda: floor.status.job == "Lifted and warm")
    assert floor.served.body.at[2] == 30
    assert floor.served.body.bed.target_c == 57
    proof = floor.run.state.proofs[-1]
    assert proof.printed == 2
    view = first_layer.view.view(floor.run)
    assert view.next_zone == 0
    floor.until(lambda: floor.status.state == "idle")  # after some minutes it cools down by itself
    assert floor.served.body.bed.target_c == 0
    assert not floor.status.homed


@pytest.mark.parametrize("choice", ["skirt", pytest.param("pair", marks=pytest.mark.slow)])
def test_other_kinds_of_proof_are_printed_over_the_line(floor: Floor, choice: str) -> None:
    settled(floor)
    floor.ids += 1
    on_line.start(floor.lines, "run", "first_layer", "print", f"start-{floor.ids}", choice)
    floor.until(lambda: floor.status.job == "Lifted and warm")
    proof = floor.run.state.proofs[-1]
    assert proof.plan.kind == choice
    assert proof.printed == len(proof.plan.zones)
    gaps = floor.run.state.zone_field(proof).gaps[0]
    truth = [floor.served.person._patch(proof.plan, k)[0] for k in range(len(proof.plan.zones))]
    assert np.abs(gaps - truth).max() < 0.05
    assert floor.served.person.crashes() == []


def test_a_ladder_is_stopped_on_the_line_at_the_step_that_holds(floor: Floor) -> None:
    settled(floor)
    person = floor.served.person
    away = 0.5
    person.move_nozzle(away)  # as after a crash: nobody knows by how much
    floor.keep("offset", ZeroDoubted(why="crash"))
    floor.ids += 1
    on_line.start(floor.lines, "run", "first_layer", "print", f"start-{floor.ids}", "ladder")
    ends = time.monotonic() + 60
    asked = 0
    while floor.status.job != "Lifted and warm" and time.monotonic() < ends:
        if floor.status.state == "waiting":
            asked += 1
            on_line.practice_answer(floor.lines, "run")
        floor.wait()
    proof = floor.run.state.proofs[-1]
    assert proof.plan.kind == "ladder"
    assert proof.printed == asked
    assert 1 < asked < len(proof.plan.zones)
    # It stopped about where the layer is right, and nothing was scraped on the way.
    stopped = person._patch(proof.plan, proof.printed - 1)[0]
    assert 0.1 < stopped < 0.25
    assert person.crashes() == []


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


def test_a_proof_on_a_plate_that_nobody_measured_is_refused(floor: Floor) -> None:
    floor.connect()
    assert "it might scrape" in floor.do("first_layer", "print")
    assert not floor.run.state.proofs


def test_a_nudge_too_close_and_one_with_nothing_printing_are_refused(floor: Floor) -> None:
    settled(floor)
    with pytest.raises(Refused, match="Nothing is being printed"):
        on_line.change_while_printing(floor.lines, "run", "nudge", 0.02)
    floor.start("first_layer", "print")
    floor.until(lambda: floor.status.job == "Print the proof")
    with pytest.raises(Refused, match="closer than the program"):
        on_line.change_while_printing(floor.lines, "run", "nudge", -0.2)


# When the line fails in the middle


@pytest.mark.parametrize("fault", ["drop", "silence", "restart", "halt"])
def test_a_mesh_that_breaks_off_keeps_its_points_and_goes_on_after_homing(floor: Floor, fault: str) -> None:
    floor.connect()
    floor.prove()
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    floor.start("mesh", "survey")
    floor.until(lambda: len(Mesh.of(floor.run.state).points) >= 2)
    floor.served.fault(fault)
    # From now on only: a busy machine of the tests confirms late without being silent.
    session = floor.lines.session(floor.machine)
    quick = session.manner.line.model_copy(update={"silence_s": 1.5})
    session.manner = session.manner.model_copy(update={"line": quick})
    floor.until(lambda: floor.status.state in ("lost", "halted"))
    words = floor.status.words
    assert words.endswith(("home first.", "home before anything else."))
    kept = dict(Mesh.of(floor.run.state).points)
    before = list(floor.served.body.at)
    time.sleep(0.2)
    assert floor.served.body.at == before  # nothing moves by itself
    floor.served.fault("none")
    if floor.status.state == "halted":
        floor.lines.recover(floor.machine)
        floor.until(lambda: floor.status.state == "idle")
    else:
        floor.connect()
    assert not floor.status.homed
    assert on_line.view(floor.lines, floor.run, "mesh").offers[0].moves[0].startswith("every axis runs to its stop")
    assert floor.do("mesh", "survey") == ""
    after = Mesh.of(floor.run.state).points
    assert len(after) == 9
    assert set(kept) <= set(after)


def test_a_proof_that_breaks_off_is_started_and_judged_no_further(floor: Floor) -> None:
    settled(floor)
    floor.start("first_layer", "print")
    floor.until(lambda: "patch 2" in floor.status.words)
    floor.served.fault("drop")
    floor.until(lambda: floor.status.state == "lost")
    assert floor.run.state.proofs
    assert any(isinstance(e.what, Readback) for e in floor.run.entries)  # what was kept before is there
    with pytest.raises(Refused, match="Connect the machine"):
        floor.start("first_layer", "print")


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


def test_a_pasted_mesh_is_sent_as_it_is_owned(floor: Floor) -> None:
    floor.connect()
    grid = grid_on(floor.run.setup.plate, 3, 3)
    survey = MeshSurvey(
        grid=grid, heights_mm=((0.1, 0.2, 0.3),) * 3, owns_zero=False, plate_id=floor.run.setup.plate_id
    )
    floor.keep("mesh", MeshKept(survey=survey))
    floor.do("mesh", "send_mesh")
    assert floor.served.body.mesh.values == pytest.approx(np.array([[-0.1, 0.0, 0.1]] * 3))


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


# Heat that nobody watches


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


def test_the_probe_touches_one_place_again_and_again(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    assert floor.do("offset", "touch_again") == ""
    found = offset.probe.probe_check(floor.run).repeats
    assert found.touches == 10
    assert found.sd_mm == pytest.approx(floor.served.body.machine.probe.sd_mm, rel=0.8)
    assert floor.served.body.at[2] >= 5
    assert floor.served.person.crashes() == []


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


@pytest.mark.parametrize("floor", ["heron", "bittern"], indirect=True)
def test_a_machine_that_counts_its_prints_is_asked_when_it_is_met(floor: Floor) -> None:
    """Two machines that talk in two manners."""
    floor.connect()
    log = floor.desk.workshop.log
    # Its own count is asked after the greeting, before anything else.
    floor.until(lambda: log(floor.machine))
    assert [e.counter for e in log(floor.machine)] == [floor.served.body.truth.prints]
    floor.served.body.truth.prints += 12
    floor.lines.disconnect(floor.machine)
    floor.connect()
    floor.until(lambda: len(log(floor.machine)) == 2)
    newest = log(floor.machine)[0]
    assert (newest.kind, newest.count, newest.by) == ("prints", 12, "the line")


def test_a_printed_proof_is_one_print_by_the_machines_own_count(floor: Floor) -> None:
    settled(floor)
    before = floor.served.body.truth.prints
    floor.do("first_layer", "print")
    floor.do("prepare", "home")
    floor.until(lambda: floor.served.body.truth.prints == before + 1)
