"""How a plate moves as it warms: curves, the still range, settling, and the same tram from every school."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.defaults import HEAT, TRAM
from ivory_table.core.surface import Surface
from ivory_table.core.thermal import CENTRE, ThermalReading, ThermalStudy, moves, settling, still_range, warp
from ivory_table.runs.state import RunState
from ivory_table.stations.prepare.entries import Heated, SchoolChosen
from ivory_table.stations.tram.entries import Counted
from ivory_table.stations.turned import Turned
from tests.conftest import NOON, after, setup_for

HERON = setup_for("heron")
SURFACE = Surface.of(HERON.machine, HERON.plate)


def reading(place: str, x: float, y: float, c: float, h: float, held: float = 10) -> ThermalReading:
    return ThermalReading(place=place, x_mm=x, y_mm=y, bed_c=c, height_mm=h, held_min=held)


def study(rise: dict[str, float], temperatures: tuple[float, ...] = (22, 40, 60, 80)) -> ThermalStudy:
    """Every place rises evenly, by so much from 22 to 60 °C."""
    at = {CENTRE: HERON.plate.centre} | {s.name: (s.x_mm, s.y_mm) for s in HERON.machine.screws}
    rows = [reading(p, *at[p], c, mm * (c - 22) / 38) for p, mm in rise.items() for c in temperatures]
    return ThermalStudy(plate_id="heron-steel", readings=tuple(rows))


ALL = {CENTRE: 0.08, "front left": 0.01, "front right": 0.03, "rear left": -0.02, "rear right": 0.0}


def test_a_place_rises_by_what_was_read_between_two_temperatures() -> None:
    assert moves(study(ALL), CENTRE, 22, 60)[0] == pytest.approx(0.08)
    assert moves(study(ALL), CENTRE, 31, 50)[0] == pytest.approx(0.04)


@given(st.floats(20, 82), st.floats(20, 82), st.floats(20, 82))
def test_rises_add_up_and_turn_round(a: float, b: float, c: float) -> None:
    s = study(ALL)
    there, back = moves(s, CENTRE, a, b)[0], moves(s, CENTRE, b, a)[0]
    assert there == pytest.approx(-back)
    assert there + moves(s, CENTRE, b, c)[0] == pytest.approx(moves(s, CENTRE, a, c)[0])


def test_nobody_is_told_of_temperatures_that_were_not_read() -> None:
    with pytest.raises(ValueError, match="reaches from 22 to 80 °C; 110 °C lies outside"):
        moves(study(ALL), CENTRE, 22, 110)
    beyond = HEAT.study_beyond_c
    for edge in (22 - beyond, 80 + beyond):
        assert moves(study(ALL), CENTRE, 22, edge)[1] >= 0
    with pytest.raises(ValueError, match="no two temperatures"):
        moves(study(ALL, (60,)), CENTRE, 22, 60)


def test_the_range_in_which_nothing_moves() -> None:
    rows = [reading(CENTRE, 122, 118, c, h) for c, h in ((22, 0.0), (40, 0.004), (60, 0.006), (80, 0.05))]
    low, high = still_range(ThermalStudy(plate_id="p", readings=tuple(rows)))
    assert (low, high) == (22, 60)
    assert still_range(study({CENTRE: 0.2})) is None
    assert still_range(ThermalStudy(plate_id="p")) is None


def test_settling_is_fitted_to_an_exponential() -> None:
    tau, rise = 4.0, 0.06
    rows = [reading(CENTRE, 122, 118, 60, 0.2 - rise * np.exp(-t / tau), t) for t in (0.5, 2, 4, 8, 15)]
    found = settling(ThermalStudy(plate_id="p", readings=tuple(rows)))
    assert found.minutes == pytest.approx(tau, rel=0.02)
    assert found.still_to_come_mm(0) == pytest.approx(rise, rel=0.02)
    # 0.06 exp(-t / 4) = 0.01
    assert found.settled_after_min == pytest.approx(4 * np.log(6), rel=0.03)
    assert settling(study(ALL)) is None
    # Three holds are enough, and needed.
    assert settling(ThermalStudy(plate_id="p", readings=tuple(rows[::2]))).minutes == pytest.approx(tau, rel=0.02)
    assert settling(ThermalStudy(plate_id="p", readings=tuple(rows[:2]))) is None


def test_the_warp_is_what_was_read_at_every_place_read() -> None:
    s = study(ALL)
    at = np.array([HERON.plate.centre, *[(k.x_mm, k.y_mm) for k in HERON.machine.screws]])
    assert warp(s, SURFACE, 22, 60, at) == pytest.approx(list(ALL.values()), abs=1e-9)
    assert warp(s, SURFACE, 60, 60, at) == pytest.approx(np.zeros(5))


def test_screws_too_few_for_a_plane_rise_together_and_the_middle_as_a_bow_on_top() -> None:
    front = [s for s in HERON.machine.screws if s.name.startswith("front")]
    rows = [
        reading(name, x, y, c, rise * (c - 22) / 38)
        for name, x, y, rise in (
            (CENTRE, *HERON.plate.centre, 0.07),
            *((s.name, s.x_mm, s.y_mm, r) for s, r in zip(front, (0.03, 0.05), strict=True)),
        )
        for c in (22, 60)
    ]
    at = np.array([HERON.plate.centre, *[(s.x_mm, s.y_mm) for s in HERON.machine.screws]])
    found = warp(ThermalStudy(plate_id="p", readings=tuple(rows)), SURFACE, 22, 60, at)
    assert found == pytest.approx([0.07, 0.04, 0.04, 0.04, 0.04], abs=1e-9)


@pytest.mark.parametrize(("school", "bed_c"), [("hot", 57.0), ("warm", 45.0), ("cold", 22.0)])
def test_every_school_believes_in_the_same_plate(school: str, bed_c: float) -> None:
    """The gauge is brought to the drag at each screw, cold or hot: hot, the heights are the same to 0.005 mm."""
    setup = HERON.model_copy(update={"study": study(ALL)})
    state = after(
        RunState.start(setup),
        SchoolChosen(school=school),
        Heated(bed_c=bed_c, nozzle_c=0, held_since=NOON),
    )
    # What stands out hot by these is lower by its rise when it is read at bed_c.
    hot = {"front left": 0.0, "front right": 0.05, "rear left": -0.03, "rear right": 0.02}
    at_c = {name: h - moves(setup.study, name, bed_c, 57)[0] for name, h in hot.items()}
    for j, screw in enumerate(state.screws):
        row = state.belief.gap_row(screw.x_mm, screw.y_mm) + state.belief.surface.unit(state.belief.surface.bias)
        rise = float(state.warp_mm([(screw.x_mm, screw.y_mm)])[0])
        belief = state.belief.read(row, at_c[screw.name] + rise, 0.001)
        state = after(state)
        state = state.__class__(**{**state.__dict__, "belief": belief})
        assert j >= 0
    mean, _ = state.belief.height(state.belief.surface.anchors)
    wanted = np.array(list(hot.values()))
    assert mean - mean.mean() == pytest.approx(wanted - wanted.mean(), abs=0.005)


def test_a_count_made_cold_is_corrected_by_the_study() -> None:
    setup = HERON.model_copy(update={"study": study(ALL)})
    cold = (SchoolChosen(school="cold"), Heated(bed_c=22, nozzle_c=0, held_since=NOON))
    state = after(RunState.start(setup), *cold)
    for screw in state.screws:
        state = after(state, Counted(screw=screw.name, marks=0), Turned(screw=screw.name, marks=0))
    mean, _ = state.belief.height(state.belief.surface.anchors)
    rises = np.array([moves(setup.study, s.name, 22, setup.filament.bed_c)[0] for s in state.screws])
    # All drag cold: hot, each stands out by its own rise.
    assert mean - mean.mean() == pytest.approx(rises - rises.mean(), abs=0.006)


def test_a_cold_tram_without_a_study_says_that_it_cannot_know() -> None:
    state = after(RunState.start(HERON), SchoolChosen(school="cold"))
    assert "No thermal study" in state.warp_unknown
    assert state.warp_mm([(0, 0)]) == pytest.approx([0.0])


def test_a_move_is_known_as_well_as_two_readings_and_standing_still_wholly() -> None:
    told = study({"front left": 0.05})
    assert moves(told, "front left", 22, 60) == pytest.approx((0.05, TRAM.dial_sd_mm * 2**0.5))
    assert moves(told, "front left", 40, 40) == (0.0, 0.0)


def test_three_screws_that_were_read_tell_a_plane() -> None:
    names = [s.name for s in HERON.machine.screws]
    at = {s.name: (s.x_mm, s.y_mm) for s in HERON.machine.screws}
    told = study(dict(zip(names[:3], (0.0, 0.06, 0.02), strict=True)))
    places = np.array([at[n] for n in names[:3]])
    assert warp(told, SURFACE, 22, 60, places) == pytest.approx([0.0, 0.06, 0.02], abs=1e-9)
    # By two it is known how far they rise on average, and no more.
    two = study(dict(zip(names[:2], (0.0, 0.06), strict=True)))
    assert warp(two, SURFACE, 22, 60, places) == pytest.approx([0.03] * 3)
