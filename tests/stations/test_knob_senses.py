"""Which way a knob works: believed, proved, reported where it is another."""

import itertools

import numpy as np
import pytest

from ivory_table.core import advice
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.stations import tram
from ivory_table.stations.tram.entries import Counted, ReadMm, SenseTried, WayChosen
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.standing import against_sense
from ivory_table.stations.turned import Turned
from tests.stations.keeping import keep, practise, start


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
