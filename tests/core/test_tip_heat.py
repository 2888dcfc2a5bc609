"""A tip that is longer when it is hot: found by the drag at two heats, counted in, and right at printing heat."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import linregress

from ivory_table.core.plate import TipHeat
from ivory_table.core.tip_heat import TipFelt, shorter_mm, tip_heat_found
from ivory_table.desk.desk import Desk
from ivory_table.runs.state import RunState
from ivory_table.stations import offset
from ivory_table.stations.offset.entries import Felt, TipFeltAt, TipHeatCounted
from ivory_table.stations.offset.tip import tip_heat_view
from ivory_table.stations.prepare.entries import Heated
from ivory_table.stations.stored.entries import OffsetSet
from tests.conftest import NOON, after, setup_for
from tests.stations.keeping import keep, start

HEATS = np.array([120.0, 150.0, 205.0, 205.0])


def felt(drags: np.ndarray, heats: np.ndarray = HEATS) -> tuple[TipFelt, ...]:
    return tuple(TipFelt(tip_c=float(c), drag_z_mm=float(z)) for c, z in zip(heats, drags, strict=True))


@given(st.floats(0.0001, 0.0025), st.floats(-1, 1))
def test_the_growth_is_that_of_a_straight_line(k: float, zero: float) -> None:
    drags = zero + k * HEATS + np.array([0.001, -0.002, 0.001, 0.0])
    found = tip_heat_found(felt(drags), 206, 0.0)
    line = linregress(HEATS, drags)
    assert found.heat is not None
    assert found.heat.mm_per_c == pytest.approx(line.slope, abs=2e-7)
    assert found.heat.sd_mm_per_c == pytest.approx(line.stderr, rel=0.01)


def test_the_hand_is_seldom_taken_for_a_tip_and_a_tip_is_found() -> None:
    r = np.random.default_rng(2)

    def counted(k: float) -> float:
        return float(
            np.mean([tip_heat_found(felt(k * HEATS + r.normal(0, 0.006, 4)), 206, 0.006).counts for _ in range(300)])
        )

    assert counted(0.0) < 0.06
    assert counted(0.0005) > 0.9


@pytest.mark.parametrize(
    ("heats", "drags", "says"),
    [
        ([], [], "at two heats"),
        ([150], [0.0], "40 °C or more away from 150 °C"),
        ([150, 170], [0.0, 0.01], "40 °C or more"),
        ([150, 205], [0.10, 0.02], "does not shrink"),
        ([150, 205], [0.0, 0.001], "too little"),
        ([150, 205], [0.0, 0.011], "the hand may do that"),
    ],
)
def test_what_cannot_be_counted_in_is_said(heats: list[float], drags: list[float], says: str) -> None:
    found = tip_heat_found(felt(np.array(drags), np.array(heats)), 206, 0.008)
    assert not found.counts
    assert says in found.words


def test_nothing_is_counted_in_where_the_heat_is_not_known() -> None:
    assert shorter_mm(None, 150, 206) == 0
    assert shorter_mm(TipHeat(mm_per_c=0.0004), None, 206) == 0
    assert shorter_mm(TipHeat(mm_per_c=0.0004), 156, 206) == pytest.approx(0.02)


def test_a_value_felt_under_a_cool_tip_is_right_when_it_prints() -> None:
    """The drag felt at 0.030 with the tip at 150: the tip will hang 0.0224 mm lower, so the drag lies at 0.052 for it."""
    state = RunState.start(setup_for("kestrel"))
    x, y = state.setup.plate.centre
    heated = Heated(bed_c=57, nozzle_c=150, held_since=NOON)
    rows = [Felt(x_mm=x, y_mm=y, z_mm=0.03, feel="drag")] * 3

    def drag(*first: TipHeatCounted, at_c: float = 150) -> float:
        now = after(state, heated.model_copy(update={"nozzle_c": at_c}), *first, station="offset")
        now = after(now, *rows, station="offset")
        # As it prints, whatever was felt.
        return after(now, heated.model_copy(update={"nozzle_c": 206}), station="prepare").drag_height(x, y)[0]

    plain = drag()
    counted = drag(TipHeatCounted(heat=TipHeat(mm_per_c=0.0004)))
    assert counted - plain == pytest.approx(0.0004 * (206 - 150), abs=0.002)
    # As hot as it prints there is nothing to count in.
    assert drag(TipHeatCounted(heat=TipHeat(mm_per_c=0.0004)), at_c=206) == pytest.approx(plain, abs=1e-9)


def test_it_is_taught_to_the_machine_and_said_at_the_station(desk: Desk) -> None:
    run = keep(desk, "prepare", Heated(bed_c=57, nozzle_c=150, held_since=NOON)) if start(desk, "wren") else None
    assert "some hundredths longer" in offset.view.view(run).tip_words
    for celsius, drag in ((150, 0.100), (206, 0.125), (150, 0.101), (206, 0.124)) * 2:
        run = keep(desk, "offset", TipFeltAt(tip_c=celsius, drag_z_mm=drag))
    found = tip_heat_view(run).found
    assert found.counts
    run = keep(desk, "offset", TipHeatCounted(heat=found.heat))
    assert "+0.024 mm longer than at 150 °C" in offset.view.view(run).tip_words
    assert desk.workshop.machine("wren").tip_heat == found.heat
    assert start(desk, "wren", "next").state.tip_heat == found.heat
    # Another value is stored: the tip hangs elsewhere, and earlier tries tell nothing beside later ones.
    run = keep(desk, "offset", OffsetSet(stored_mm=run.state.stored_mm + 0.01, sure=True))
    assert tip_heat_view(run).felt == ()
    # Whoever saves the set-up as it is does not make it theirs: it can still be taken back.
    desk.workshop.keep_machine(desk.workshop.machine("wren"))
    keep(desk, "offset", TipHeatCounted(heat=None))
    assert desk.workshop.machine("wren").tip_heat is None


def test_the_practice_machine_can_have_such_a_tip(desk: Desk) -> None:
    run = start(desk, "wren")
    hands = desk.hands(run)
    x, y = run.setup.plate.centre
    body = hands.body

    def drag_at(celsius: float) -> float:
        """The highest z at which the gauge is no longer free, over many tries."""
        body.tip.body_c = celsius
        zs = np.linspace(-0.1, 0.4, 25)
        return float(np.mean([[hands.slide_gauge(x, y, float(z)) != "free" for z in zs] for _ in range(3)]))

    hands.fault("tip_grows", 1)
    assert (drag_at(205) - drag_at(105)) * 0.5 == pytest.approx(0.04, abs=0.015)
    hands.fault("none", 1)
    assert (drag_at(205) - drag_at(105)) * 0.5 == pytest.approx(0.0, abs=0.015)


def test_the_growth_is_said_in_thousandths_of_a_mm() -> None:
    said = tip_heat_found(felt(0.0 + 0.0005 * HEATS), 206, 0.002).words
    assert "0.50 ±" in said
    assert "µm for 1 °C" in said
