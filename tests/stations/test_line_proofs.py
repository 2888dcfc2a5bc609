"""Proofs over a real line: printed, nudged, cancelled, broken off."""

import time

import numpy as np
import pytest

from ivory_table.demo.tidewater import FILAMENTS
from ivory_table.runs.doubts import Refused
from ivory_table.stations import first_layer, on_line, tram
from ivory_table.stations.first_layer.entries import Nudged, OtherFilamentTold, SpeedSet
from ivory_table.stations.first_layer.line import GOES_ON
from ivory_table.stations.offset.entries import ZeroDoubted
from ivory_table.stations.stored.entries import Readback
from tests.stations.floor import Floor


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


def test_two_filaments_are_changed_when_the_line_asks_for_it(floor: Floor) -> None:
    settled(floor)
    other = next(f for f in FILAMENTS if f.id != floor.run.setup.filament.id)
    floor.keep("first_layer", OtherFilamentTold(filament=other))
    floor.ids += 1
    on_line.start(floor.lines, "run", "first_layer", "print", f"start-{floor.ids}", "two_filaments")
    floor.until(lambda: floor.status.state == "waiting")
    assert floor.status.question.startswith(f"Load {other.name}, push until it comes clean")
    body, laid = floor.served.body, floor.run.state.proofs[-1].plan
    assert body.at[2] == 30
    assert body.tip.target_c == max(laid.nozzle_c, other.nozzle_c)
    assert {p.y_mm for p in body.laid}
    on_line.practice_answer(floor.lines, "run")
    floor.until(lambda: floor.status.job == "Lifted and warm")
    assert floor.run.state.proofs[-1].printed == 6
    for _ in range(6):
        floor.practise("first_layer", lambda desk, run: first_layer.practice.practice(desk, run, "advised"))
    view = first_layer.view.view(floor.run)
    assert f"Load {floor.run.setup.filament.name} again" in view.beside
    # What lies over the middle is no proof of the corners.
    assert view.steps[0].action.kind != "done"


def ladder_begun(floor: Floor) -> None:
    settled(floor)
    floor.served.person.move_nozzle(0.5)  # as after a crash: nobody knows by how much
    floor.keep("offset", ZeroDoubted(why="crash"))
    floor.ids += 1
    on_line.start(floor.lines, "run", "first_layer", "print", f"start-{floor.ids}", "ladder")


@pytest.mark.parametrize("asked", [True, False])
def test_a_ladder_that_is_cancelled_on_the_line_keeps_what_was_answered(floor: Floor, asked: bool) -> None:
    """Between two steps: none before held. At a question: that step lies there whole, and which holds is asked on the page."""
    ladder_begun(floor)
    for _ in range(3):
        floor.until(lambda: floor.status.state == "waiting")
        floor.lines.answer(floor.machine, GOES_ON, floor.status.question)
        floor.until(lambda: floor.status.state != "waiting")
    if asked:
        floor.until(lambda: floor.status.state == "waiting")
    floor.lines.cancel(floor.machine)
    floor.until(lambda: floor.status.job == "Lifted and warm")
    proof = floor.run.state.proofs[-1]
    assert proof.printed == (4 if asked else 3)
    assert [k for k, m in proof.marks.items() if m.open] == ([] if asked else [0, 1, 2])
    assert proof.next_zone == (0 if asked else None)


def test_a_ladder_is_stopped_on_the_line_at_the_step_that_holds(floor: Floor) -> None:
    ladder_begun(floor)
    person = floor.served.person
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
    # What was answered at each step is known of it; how the one that holds looks is asked now.
    assert [k for k, m in proof.marks.items() if m.open] == list(range(asked - 1))
    assert proof.next_zone == asked - 1
    # It stopped about where the layer is right, and nothing was scraped on the way.
    stopped = person._patch(proof.plan, proof.printed - 1)[0]
    assert 0.1 < stopped < 0.25
    assert person.crashes() == []


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
