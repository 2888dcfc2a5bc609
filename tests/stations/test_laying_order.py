"""In which order patches are laid: what goes with the order is the tip's doing, what stays is the place's; and the file of what comes next."""

import pytest

from ivory_table.core.proof import ProofPlan
from ivory_table.desk.desk import Desk
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.entries import CauseMended, FeedMeasured, ProofStarted, ZoneCleaned
from ivory_table.stations.first_layer.files import plan_of, proof_file
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.stored.entries import OffsetSet
from tests.stations.proofs import judged, printed

from .keeping import keep


def names(laid: ProofPlan) -> list[str]:
    return [zone.name for zone in laid.zones]


def first_did_not_hold(desk: Desk) -> OpenRun:
    """All zones held; on the next print, with nothing changed, the one that is laid first does not."""
    for first in ("sound", "loose"):
        printed(desk, 5)
        run = judged(desk, first, *["sound"] * 4)
    return run


@pytest.mark.parametrize(("grades", "tip"), [(("loose", "sound"), True), (("sound", "loose"), False)])
def test_a_bad_first_patch_is_laid_later_the_next_time_and_tells_the_tip_from_the_place(
    desk: Desk, flat: OpenRun, grades: tuple[str, str], tip: bool
) -> None:
    """Bad again at whatever is laid first, or bad again where it lies."""
    run = first_did_not_hold(desk)
    asked = run.state.wanted.field.shared["priming"]
    assert 0.03 < asked < 0.5
    # Cleaned, it is printed again behind another one, and the tip is not purged.
    run = keep(desk, "first_layer", ZoneCleaned(zone=0))
    best = next_steps(run)[0]
    (row,) = best.keeps
    assert names(row.proof) == ["rear right", "front left"]
    assert best.printing.words.startswith("Begun at rear right this time")
    keep(desk, "first_layer", row)
    run = judged(desk, *grades)
    priming = run.state.zone_field(run.state.open_proof).shared["priming"]
    assert priming > 0.5 if tip else priming < 0.5 * asked


def test_a_purged_tip_and_a_good_first_patch_leave_the_order_as_it_is(desk: Desk, flat: OpenRun) -> None:
    run = first_did_not_hold(desk)
    laid = run.state.proofs[-1].plan
    assert names(plan_of(run, "advised")) == names(laid)[::-1]
    run = keep(desk, "first_layer", CauseMended(cause="priming"))
    assert names(plan_of(run, "advised")) == names(laid)
    keep(desk, "first_layer", ProofStarted(proof=laid))
    run = judged(desk, *["sound"] * 5)
    # Whatever it lays next, it begins where it began.
    assert plan_of(run, "advised").zone_places[0] == laid.zone_places[0]


def test_whoever_wants_the_other_order_has_it(desk: Desk, flat: OpenRun) -> None:
    assert names(plan_of(flat, "reversed")) == names(plan_of(flat, 5))[::-1]
    assert all(p.choice != "reversed" for p in first_layer.view.view(flat).proposals)
    printed(desk, 9)
    judged(desk, *["barely"] * 9)
    run = keep(desk, "offset", OffsetSet(stored_mm=-0.05))
    view = first_layer.view.view(run, "reversed")
    assert [p.choice for p in view.proposals if p.chosen] == ["reversed"]
    assert names(view.plan) == names(run.state.proofs[-1].plan)[::-1]
    assert view.printing.words.startswith("Begun at rear right this time")
    # It is the same proof all the same, so what is seen counts together.
    assert view.plan.shows_the_same(run.state.proofs[-1].plan)


@pytest.mark.parametrize("grades", [("loose", "sound", "sound", "sound", "sound"), ("sound",) * 5])
def test_the_program_at_hand_is_that_of_the_best_next_step(desk: Desk, flat: OpenRun, grades: tuple[str, ...]) -> None:
    printed(desk)
    run = judged(desk, *grades)
    if "loose" in grades:
        run = keep(desk, "first_layer", ZoneCleaned(zone=0))
    prints = [row for row in next_steps(run)[0].keeps if isinstance(row, ProofStarted)]
    assert prints
    assert plan_of(run, "advised") == prints[0].proof
    name, text = proof_file(run, "advised")
    assert text.count("; patch ") == len(prints[0].proof.zones)
    assert name == proof_file(run, "advised")[0]


def test_the_program_of_another_step_than_the_best_one_is_had_by_its_kind(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    printed(desk, 5)
    run = judged(desk, *["parted"] * 5)
    best, *others = next_steps(run)
    assert best.action.kind == "offset"
    again = next(s for s in others if s.action.kind == "print_again")
    (prints,) = [row for row in again.keeps if isinstance(row, ProofStarted)]
    assert plan_of(run, "advised", step="print_again") == prints.proof
    # What prints nothing has the proof that comes next.
    assert plan_of(run, "advised", step="offset") == plan_of(run, "advised")
