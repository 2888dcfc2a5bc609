"""The walk file on a practice machine: the person does what it calls for, and nothing is hit."""

import re
from dataclasses import replace

import numpy as np
import pytest

from ivory_table.core.defaults import JUDGE
from ivory_table.core.gauge import Gauge
from ivory_table.core.manner import shipped
from ivory_table.core.setup import RunSetup
from ivory_table.practice.elastic import crooked
from ivory_table.practice.firmware import Firmware
from ivory_table.practice.machine import PracticeMachine
from ivory_table.practice.person import PracticePerson
from ivory_table.runs.entry import Entry
from ivory_table.runs.state import RunState
from ivory_table.stations.tram.entries import WalkCount, Walked
from ivory_table.stations.tram.walk import Walk, walk
from tests.conftest import setup_for

PAPER = Gauge(id="paper", name="paper", stack_mm=1.6, stack_sheets=16)


MANNER = shipped("harbour")


def followed(setup: RunSetup, found: Walk, seed: int) -> tuple[PracticeMachine, PracticePerson, list[WalkCount]]:
    """The machine after all of the file, the person doing what it calls for; and the counts they noted."""
    body = PracticeMachine(setup.machine, PAPER, crooked(setup.machine, setup.machine.plates[0], seed))
    person, firmware = PracticePerson(body), Firmware(body, MANNER)
    list(firmware.start())
    visits, calls, words = iter(found.visits), 0, ""
    counts: list[WalkCount] = []
    sunk_here = 0.0
    for raw in found.text.splitlines():
        line = raw.split(";")[0].strip()
        if not line:
            continue
        said = list(firmware.obey(line))
        assert not any(s.startswith(("error", "halt")) for s in said), (line, said)
        if line.startswith("SHOW"):
            words = line
        if line != MANNER.does.pause or "Take the gauge away" in words:
            continue
        calls += 1
        if calls == 1 and found.sink_turns:
            for j, screw in enumerate(setup.machine.screws):
                person.turn(j, -found.sink_turns * screw.marks_per_turn * screw.sense)
            continue
        if "turn it back" in words:
            name = next(s.name for s in setup.machine.screws if s.name in words)
            sunk_here = -sum(c.marks for c in counts if c.screw == name)
            person.turn(setup.machine.screw(name), sunk_here)
            continue
        visit = next(visits)
        assert body.at[:2] == pytest.approx((visit.x_mm, visit.y_mm), abs=0.1)
        if visit.name == "centre":
            person.slide_here()
        else:
            marks = person.turn_until_drag(setup.machine.screw(visit.name), 160).marks
            counts.append(WalkCount(screw=visit.name, marks=marks + sunk_here))
            sunk_here = 0.0
    assert next(visits, None) is None
    assert body.crashes == []
    assert body.at[2] >= 5
    return body, person, counts


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("machine", ["heron", "kestrel"])
def test_a_walk_of_two_rounds_hits_nothing_and_brings_the_screws_to_the_drag(machine: str, seed: int) -> None:
    setup = setup_for(machine)
    found = walk(RunState.start(setup), MANNER, 2)
    body, _, counts = followed(setup, found, seed)
    anchors = np.array([[s.x_mm, s.y_mm] for s in setup.machine.screws])
    assert np.ptp(body.surface(anchors)) < 0.35
    # What was noted, typed in afterwards, tells how the plate stands now.
    what = Walked(sunk_turns=found.sink_turns, counts=tuple(counts))
    entry = Entry(id="w", seq=1, at=setup.started_at, by="mk", source="hand", station="tram", what=what)
    belief = RunState.start(setup).apply(entry).belief
    m = len(anchors)
    centre = np.eye(m) - 1.0 / m
    mean, cov = belief.collapsed
    off = centre @ (body.surface(anchors) - mean[:m])
    assert np.all(np.abs(off) < 4 * np.sqrt(np.diag(centre @ cov[:m, :m] @ centre)))


@pytest.mark.parametrize("seed", range(3))
@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren"])
def test_a_walk_that_goes_on_prints_near_the_plate_and_hits_nothing(machine: str, seed: int) -> None:
    """Patches laid after two rounds: by the gauge they would lie 0.1 mm too far, and so none of them would hold."""
    setup = setup_for(machine)
    state = replace(RunState.start(setup), sign_proved=True)
    found = walk(state, MANNER, 3, print_after=True)
    assert found.then_proof is not None
    _, person, _ = followed(setup, found, seed)
    proof = found.then_proof.proof
    gaps = [person._patch(proof, zone)[0] for zone in range(len(proof.zones))]
    assert min(gaps) > JUDGE.scrape_mm
    # What is left of the tram and of the plate's form, about what is wanted.
    assert abs(float(np.mean(gaps)) - proof.layer_mm) < 0.06


def test_the_file_calls_in_every_way_the_manner_knows() -> None:
    found = walk(RunState.start(setup_for("heron")), shipped("harbour"), 1)
    assert found.calls == ("message", "tone", "pause")
    for needed in (r"^SHOW ", r"^HORN ", r"^HOLD$"):
        assert re.search(needed, found.text, re.MULTILINE)
