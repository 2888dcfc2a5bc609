"""A tip that still primes: the patch that is printed first fails, wherever it lies."""

import numpy as np

from ivory_table.core.causes import Causes, effects
from ivory_table.desk.desk import Desk
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.entries import CauseLookedFor, ProofStarted, ZoneCleaned
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.prepare.entries import CheckDone
from tests.stations.proofs import judged, printed

from .keeping import keep, start


def test_priming_spoils_the_first_patch_alone() -> None:
    places = np.array([[20.0, 20.0], [200.0, 20.0], [110.0, 110.0], [20.0, 200.0], [200.0, 200.0]])
    found = effects(Causes.before("PLA", 0.0), places)
    fails = found.shared_fails[found.names.index("priming")]
    assert fails[0] > 0.5
    assert not fails[1:].any()


def test_a_first_patch_that_fails_again_once_it_was_cleaned_is_the_tips(desk: Desk, flat: OpenRun) -> None:
    printed(desk, 5)
    judged(desk, "sound", "sound", "sound", "sound", "sound")
    printed(desk, 5)
    run = judged(desk, "loose", "sound", "sound", "sound", "sound")
    assert next_steps(run)[0].action.kind == "clean"
    before = run.state.wanted.field.shared["priming"]
    keep(desk, "first_layer", ZoneCleaned(zone=0))
    printed(desk, 5)
    run = judged(desk, "loose", "sound", "sound", "sound", "sound")
    again = run.state.wanted.field.shared["priming"]
    assert again > 1.5 * before
    look = first_layer.view.view(run).look
    assert look is not None
    assert look.cause == "priming"
    run = keep(desk, "first_layer", CauseLookedFor(cause="priming", found=True))
    best = next_steps(run)[0]
    assert best.action.causes == ("priming",)
    assert "Purge" in best.words


def test_another_patch_that_fails_is_not_the_tips(desk: Desk, flat: OpenRun) -> None:
    printed(desk, 5)
    judged(desk, "sound", "sound", "sound", "sound", "sound")
    printed(desk, 5)
    run = judged(desk, "sound", "sound", "loose", "sound", "sound")
    assert run.state.wanted.field.shared["priming"] < 0.01


def test_a_tip_that_was_purged_is_hardly_still_priming(desk: Desk, flat: OpenRun) -> None:
    usual = printed(desk, 5).state.causes.shared["priming"]
    start(desk, "kestrel", "other")
    keep(desk, "prepare", CheckDone(check="tip_purged", outcome="done"), "other")
    proof = next_proof(desk.open("other").state, 5)
    other = keep(desk, "first_layer", ProofStarted(proof=proof), "other")
    assert other.state.causes.shared["priming"] < 0.6 * usual
