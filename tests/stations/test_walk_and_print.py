"""A walk whose file goes on into the first proof."""

from dataclasses import replace

import numpy as np
import pytest

from ivory_table.core.defaults import JUDGE
from ivory_table.core.manner import shipped
from ivory_table.core.offset import convention, shift_of
from ivory_table.desk.desk import Desk
from ivory_table.program.reader import read_program
from ivory_table.runs.doubts import Refused
from ivory_table.runs.state import RunState
from ivory_table.stations.first_layer.entries import ProofStarted
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.offset.entries import SignShown
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.tram.entries import WalkCount, Walked
from ivory_table.stations.tram.then_proof import closer_by_mm
from ivory_table.stations.tram.walk import walk
from ivory_table.stations.tram.walk_file import walk_for
from tests.conftest import setup_for
from tests.stations.proofs import by_truth

from .keeping import keep, start

HARBOUR = shipped("harbour")


def proved(machine: str) -> RunState:
    return replace(RunState.start(setup_for(machine)), sign_proved=True)


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren"])
def test_the_value_is_set_closer_by_the_gauge_before_anything_is_laid(machine: str) -> None:
    state = proved(machine)
    found = walk(state, HARBOUR, 1, print_after=True)
    assert found.then_proof is not None
    stored, how = found.then_proof.stored, convention(state.convention_id, HARBOUR)
    shift = shift_of(stored.old_mm, stored.new_mm, how)
    assert -state.drag_gap_mm - 0.01 <= shift < -0.5 * state.drag_gap_mm
    assert "closer" in stored.words
    lines = found.text.splitlines()
    sets = next(k for k, line in enumerate(lines) if f"{stored.new_mm:.3f}" in line and "not stored" in line)
    laid = min(move.line for move in read_program(found.text, own_words=True).moves if move.filament_mm > 0)
    last_wait = max(k for k, line in enumerate(lines) if line.startswith(HARBOUR.send("pause")))
    assert last_wait < sets < laid
    # It homes again before it prints, and stores nothing.
    assert HARBOUR.send("home") in "\n".join(lines[sets:laid])
    assert not any(line.startswith(how.store) for line in lines if how.store)
    # Without it the file is the same up to there.
    assert walk(state, HARBOUR, 1).then_proof is None
    assert max(m.filament_mm for m in read_program(walk(state, HARBOUR, 1).text, own_words=True).moves) <= 0


def test_it_is_refused_where_nobody_has_seen_which_way_the_machine_counts(desk: Desk) -> None:
    start(desk, "heron")
    run = desk.open("run")
    unseen = replace(run.state, sign_proved=False)
    with pytest.raises(ValueError, match="Nobody has seen yet which way"):
        walk(unseen, HARBOUR, 1, print_after=True)
    if not run.state.sign_proved:
        with pytest.raises(Refused, match="Nobody has seen yet which way"):
            walk_for(run, 1, "ring", True)


def test_a_bowed_plate_is_not_scraped() -> None:
    """Its middle is known to stand 0.35 mm above the screws: the tip comes closer by less than the gauge."""
    state = proved("heron")
    laid = walk(state, HARBOUR, 1, print_after=True).then_proof
    assert laid is not None
    flat = closer_by_mm(state, laid.proof)
    belief = state.belief
    for screw in state.screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.005)
    bowed = replace(state, belief=belief.read(belief.gap_row(*state.setup.plate.centre), 0.35, 0.005))
    bow = closer_by_mm(bowed, laid.proof)
    assert bow > flat + 0.1
    lowest = laid.proof.layer_mm + state.drag_gap_mm + bow - 0.35
    assert lowest >= JUDGE.scrape_mm


def test_what_was_noted_the_value_and_the_print_are_kept_in_one_go_and_judged(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "offset", SignShown(larger_by_mm=0.5, went="closer"))
    assert run.state.sign_proved
    found = walk_for(run, 2, "ring", True)
    assert found.then_proof is not None
    names = [v.name for v in found.visits if v.name != "centre"]
    m = len(names) // 2
    counts = tuple(WalkCount(screw=s, marks=3 if k < m else 0) for k, s in enumerate(names))
    keep(desk, "tram", Walked(sunk_turns=found.sink_turns, counts=counts, centre="drag", centre_z_mm=0.0, sure=True))
    keep(desk, "tram", OffsetSet(stored_mm=found.then_proof.stored.new_mm, sure=True))
    run = keep(desk, "tram", ProofStarted(proof=found.then_proof.proof))
    # What was set stands where the drag was: the zones are expected near what is wanted.
    laid = run.state.proofs[-1].plan
    mean, cov = run.state.gaps_before(laid)
    bead = laid.bead
    z = len(laid.zones)
    low, high = bead.bands_mm()["sound"]
    assert abs(float(mean[:z].mean()) - (low + high) / 2) < 2 * float(np.sqrt(cov[:z, :z].mean())) + 0.03
    run = by_truth(desk, [(low + high) / 2] * z)
    assert next_steps(run)[0].action.kind in ("done", "print_again", "feed", "measure")
