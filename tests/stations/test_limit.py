"""A soft limit that is opened for the measurement, and what is told before the tip comes down."""

import pytest

from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.stations import first_layer, offset
from ivory_table.stations.first_layer.entries import ProofStarted
from ivory_table.stations.offset.entries import Felt, LimitClosed, LimitOpened, ZeroDoubted
from ivory_table.stations.sign_off.entries import SignedOff
from tests.stations.keeping import keep, practise, start


def test_nothing_is_printed_or_signed_while_the_limit_is_open(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = keep(desk, "offset", LimitOpened(by_mm=3))
    shown = offset.view.view(run).limit
    assert (shown.open_mm, shown.close_line) == (3, "FLOOR Z0")
    assert shown.open_line == "FLOOR Z-3.00"
    practise(desk, "offset")
    proof = first_layer.view.view(desk.open("run")).plan
    for station, row in (("first_layer", ProofStarted(proof=proof)), ("sign_off", SignedOff(note=""))):
        with pytest.raises(Refused, match="soft limit is open by 3 mm"):
            keep(desk, station, row)
    keep(desk, "offset", LimitClosed())
    assert keep(desk, "first_layer", ProofStarted(proof=proof)).state.proofs


@pytest.mark.parametrize("by_mm", [0, -1, 50])
def test_a_limit_is_opened_by_a_few_mm_only(by_mm: float) -> None:
    with pytest.raises(ValueError, match="by_mm"):
        LimitOpened(by_mm=by_mm)


def test_the_way_to_open_it_is_said_where_the_tip_must_go_below_zero(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = desk.open("run")
    x, y = run.setup.plate.centre
    run = keep(desk, "offset", Felt(x_mm=x, y_mm=y, z_mm=0.0, feel="free"))
    view = offset.view.view(run)
    assert view.next_z_mm < 0
    assert view.limit.needed


@pytest.mark.parametrize("why", ["probe", "stop", "nozzle", "crash", "unknown"])
def test_what_was_believed_of_the_height_no_longer_counts_after_a_change(desk: Desk, why: str) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    practise(desk, "offset")
    known = desk.open("run").state.drag_height(*desk.open("run").setup.plate.centre)[1]
    run = keep(desk, "offset", ZeroDoubted(why=why))
    assert run.state.drag_height(*run.setup.plate.centre)[1] > 0.3 > known
    # The form of the plate is what it was.
    spread = run.state.belief.spread()[1]
    assert spread < 0.2
