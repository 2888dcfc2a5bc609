"""Travel, the beam, the shim plan and the walk: each against a sum that can be done by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.beam import BeamReading, level
from ivory_table.core.belief import Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.form import named_form
from ivory_table.core.manner import shipped
from ivory_table.core.plate import Beam, Screw, symmetric_screws
from ivory_table.core.prior import first_belief
from ivory_table.core.shim import shim_plan
from ivory_table.core.surface import Surface
from ivory_table.core.travel import backed_off, preload_after, room, runs_out
from ivory_table.program.reader import read_program
from ivory_table.runs.entry import Entry
from ivory_table.runs.row import Row
from ivory_table.runs.state import RunState
from ivory_table.stations.tram.doubts import doubtful_walk
from ivory_table.stations.tram.entries import Counted, Walked
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.state import sunk
from ivory_table.stations.tram.walk import walk
from ivory_table.stations.turned import Turned
from tests.conftest import after, setup_for

HERON = setup_for("heron")
SCREWS = tuple(
    s.model_copy(update={"travel_mm": 4.0, "preload_mm": p})
    for s, p in zip(HERON.machine.screws, (2.0, 2.0, 0.5, 3.8), strict=True)
)
STILL = (0.0,) * 4


# Travel


def test_room_is_preload_upwards_and_the_rest_of_the_travel_downwards() -> None:
    left = room(SCREWS, (0.3, 0, 0, 0))
    assert (left[0].up_mm, left[0].down_mm) == (pytest.approx(1.7), pytest.approx(2.3))
    assert room(HERON.machine.screws[:0], ()) == ()


def test_a_knob_about_to_come_loose_is_foreseen_and_all_moved_together_instead() -> None:
    found = runs_out(SCREWS, STILL, (0.0, 0.0, 0.35, 0.0))
    assert found.screw == "rear left"
    assert "come loose" in found.sentence
    assert found.stop_mm == pytest.approx(-0.15)
    # The tilt is the same: every knob less by the common amount.
    ups = [m * s.mm_per_mark for m, s in zip(found.together, SCREWS, strict=True)]
    assert np.diff(ups) == pytest.approx(np.diff([0, 0, 0.35, 0]), abs=0.03)


def test_a_knob_about_to_bottom_out_is_foreseen() -> None:
    found = runs_out(SCREWS, STILL, (0.0, 0.0, 0.0, -0.1))
    assert (found.screw, found.end) == ("rear right", "bottom out")
    assert found.stop_mm > 0


def test_nothing_runs_out_with_room_to_spare_or_where_nobody_knows_the_travel() -> None:
    assert runs_out(SCREWS, STILL, (0.2, -0.2, 0.1, 0.1)) is None
    plain = tuple(s.model_copy(update={"travel_mm": None, "preload_mm": None}) for s in SCREWS)
    assert runs_out(plain, STILL, (5.0, 0, 0, 0)) is None


@given(st.floats(0.5, 8))
def test_backing_off_leaves_the_travel_less_the_turns(turns: float) -> None:
    for s in backed_off(SCREWS, turns):
        assert s.preload_mm == pytest.approx(max(4.0 - turns * s.pitch_mm, 0.0))


def test_the_next_run_finds_the_preload_that_is_left() -> None:
    assert [s.preload_mm for s in preload_after(SCREWS, (0.5, -0.5, 1.0, -1.0))] == pytest.approx([1.5, 2.5, 0.0, 4.0])


# The beam


def test_the_beam_by_similar_triangles() -> None:
    """Read 200 mm apart, drives 400 mm apart: 0.1 mm becomes 0.2 mm, a fortieth of an 8 mm lead."""
    beam = Beam(left_mm=-100, right_mm=300)
    found = level(beam, BeamReading(left_x_mm=0, right_x_mm=200, left_mm=0.3, right_mm=0.4))
    assert found.hangs == "left"
    assert found.up_mm == pytest.approx(-0.2)
    assert found.turns == pytest.approx(-0.025)
    assert found.steps == -5


@given(st.floats(-0.5, 0.5), st.floats(-1, 1))
def test_doing_what_is_advised_levels_the_beam(tilt: float, both: float) -> None:
    beam = Beam(left_mm=0, right_mm=400)
    first = level(beam, BeamReading(left_x_mm=50, right_x_mm=350, left_mm=both, right_mm=both + tilt))
    right = both + tilt + first.up_mm * 350 / 400
    left = both + first.up_mm * 50 / 400
    again = level(beam, BeamReading(left_x_mm=50, right_x_mm=350, left_mm=left, right_mm=right))
    assert again.level


def test_readings_too_close_together_say_little() -> None:
    with pytest.raises(ValueError, match="40 mm apart"):
        level(Beam(left_mm=0, right_mm=400), BeamReading(left_x_mm=100, right_x_mm=110, left_mm=0, right_mm=0))


# Form and shim plan


def bowed(amount: float, *, saddle: float = 0.0, sd: float = 0.002) -> Belief:
    """A belief that knows a form: `amount` mm high in the middle, read on a grid."""
    belief = first_belief(Surface.of(HERON.machine, HERON.plate), bias_sd_mm=0.02)
    for x in np.linspace(10, 234, 7):
        for y in np.linspace(10, 226, 7):
            u, v = (x - 122) / 122, (y - 118) / 118
            h = -amount * (u * u + v * v) + saddle * (u * u - v * v)
            belief = belief.read(belief.gap_row(x, y), h, sd)
    return belief


@pytest.mark.parametrize(
    ("amount", "saddle", "name"),
    [(0.06, 0.0, "bow"), (-0.06, 0.0, "cup"), (0.0, 0.06, "saddle"), (0.05, -0.05, "roll along y"), (0.05, 0.05, "roll along x")],
)  # fmt: skip
def test_a_form_is_named(amount: float, saddle: float, name: str) -> None:
    found = named_form(bowed(amount, saddle=saddle), can_mesh=True, passes_twist=0.5)
    assert found.name == name
    assert any("Shim" in r for r in found.remedies)
    assert found.remedies[0].startswith("Mesh")


def test_a_flat_plate_has_no_form_to_name() -> None:
    assert named_form(bowed(0.0), can_mesh=True, passes_twist=0.5) is None


def test_a_shim_plan_fills_a_cup_by_whole_sheets() -> None:
    """A cup 0.3 mm deep over the plate, sheets of 0.1: three layers, each smaller, and what is left is about a sheet."""
    plan = shim_plan(bowed(-0.15), HERON.plate, 0.1)
    assert len(plan.layers) in (2, 3)
    areas = [layer.area_mm2 for layer in plan.layers]
    assert areas == sorted(areas, reverse=True)
    assert plan.range_after_mm < 0.5 * plan.range_before_mm
    for layer in plan.layers:
        for outline in layer.outlines:
            assert all(HERON.plate.holds(x, y, -4) for x, y in outline.points_mm)
    # The first layer's area against counting squares of the same surface.
    xs, ys = np.meshgrid(np.linspace(6, 238, 200), np.linspace(6, 230, 200))
    r2 = ((xs - 122) / 122) ** 2 + ((ys - 118) / 118) ** 2
    low = 0.15 * (np.percentile(r2, 98) - r2)
    assert areas[0] == pytest.approx(float((low > 0.05).mean()) * 232 * 224, rel=0.1)


def test_a_sheet_that_would_mend_nothing_is_not_advised() -> None:
    plan = shim_plan(bowed(-0.03), HERON.plate, 0.1)
    assert plan.layers == ()
    assert "thinner" in plan.sentence or "Nothing to shim" in plan.sentence


def test_a_shape_nobody_measured_is_said_to_be_unknown() -> None:
    plan = shim_plan(RunState.start(HERON).belief, HERON.plate, 0.05)
    assert plan.sd_mm > 0.05


@pytest.mark.parametrize("sheet", [0.0, -1.0, 3.0])
def test_an_impossible_sheet_is_refused(sheet: float) -> None:
    with pytest.raises(ValueError, match=r"between 0.01 and 1 mm"):
        shim_plan(bowed(0.1), HERON.plate, sheet)


# The walk


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren"])
@pytest.mark.parametrize("manner", ["harbour", "lantern"])
@pytest.mark.parametrize("way", ["ring", "diagonal", "pairs"])
def test_a_walk_visits_every_screw_and_the_centre_and_calls_at_each(machine: str, manner: str, way: str) -> None:
    setup = setup_for(machine)
    state = RunState.start(setup)
    if not shipped(manner).can("pause"):
        with pytest.raises(ValueError, match="no line that waits"):
            walk(state, shipped(manner), 2, way)
        return
    found = walk(state, shipped(manner), 2, way)
    m = len(setup.machine.screws)
    assert len(found.visits) == 2 * m + 1
    assert {v.name for v in found.visits} == {s.name for s in setup.machine.screws} | {"centre"}
    waits = found.text.count(shipped(manner).send("pause"))
    # Before its second visit a screw of a plate that rocks is turned down while the tip is high.
    again = m if m > 3 else 0
    assert waits == len(found.visits) + again + (1 if found.sink_turns else 0)
    ends = [move.end[2] for move in read_program(found.text).moves]
    assert ends[-1] >= 5


def test_an_unknown_plate_is_sunk_before_the_first_descent_and_a_known_one_is_not() -> None:
    state = RunState.start(HERON)
    assert walk(state, shipped("harbour"), 1).sink_turns > 0
    for name in ("front left", "rear right", "front right", "rear left") * 2:
        state = after(state, Counted(screw=name, marks=0), Turned(screw=name, marks=0))
    assert walk(state, shipped("harbour"), 1).sink_turns == 0


@pytest.mark.parametrize(("machine", "rounds", "sentence"), [("bittern", 1, "no screws"), ("heron", 0, "one to six"), ("heron", 9, "one to six")])  # fmt: skip
def test_a_walk_that_cannot_be_is_refused(machine: str, rounds: int, sentence: str) -> None:
    with pytest.raises(ValueError, match=sentence):
        walk(RunState.start(setup_for(machine)), shipped("harbour"), rounds)


# Symmetric sets


@pytest.mark.parametrize("count", [3, 4, 6, 9])
def test_a_symmetric_set_is_its_own_mirror(count: int) -> None:
    screws = symmetric_screws(HERON.plate, (30, 20), (214, 216), count)
    at = {(s.x_mm, s.y_mm) for s in screws}
    assert len(at) == len({s.name for s in screws}) == count
    assert {(244 - x, y) for x, y in at} == at


@pytest.mark.parametrize(("corner", "count", "sentence"), [((-5, 0), 4, "not on the plate"), ((210, 210), 4, "too close"), ((30, 20), 5, "3, 4, 6 or 9")])  # fmt: skip
def test_a_set_that_cannot_be_is_refused(corner: tuple[float, float], count: int, sentence: str) -> None:
    with pytest.raises(ValueError, match=sentence):
        symmetric_screws(HERON.plate, corner, (214, 216), count)


def test_a_preload_beyond_its_travel_is_refused() -> None:
    with pytest.raises(ValueError, match="cannot be preloaded by 5 mm with 4 mm of travel"):
        Screw(name="s", x_mm=0, y_mm=0, travel_mm=4, preload_mm=5)


def noted(*counts: tuple[str, float], **more: object) -> Walked:
    return Walked.model_validate({"counts": [{"screw": s, "marks": m} for s, m in counts], **more})


def walked_row(what: Row) -> Entry:
    at = setup_for("heron").started_at
    return Entry(id="w", seq=1, at=at, by="mk", source="hand", station="tram", what=what)


def test_a_walk_typed_in_is_its_counts_one_after_the_other() -> None:
    start = RunState.start(setup_for("heron"))
    once = start.apply(walked_row(noted(("front left", 3), ("rear right", -2))))
    one_by_one = start
    for screw, marks in (("front left", 3), ("rear right", -2)):
        one_by_one = one_by_one.apply(walked_row(Counted(screw=screw, marks=marks)))
    for a, b in zip(once.belief.collapsed, one_by_one.belief.collapsed, strict=True):
        assert a == pytest.approx(b)
    assert Tram.of(once).visited == {0, 3}
    # Nobody was told how much further: nothing waits for an answer.
    assert Tram.of(once).pending is None


def test_sinking_the_plate_first_is_told_and_visits_nothing() -> None:
    start = RunState.start(setup_for("heron"))
    sunk_run = sunk(start, 1.5)
    pitch = start.screws[0].pitch_mm
    assert sunk_run.moved_mm == pytest.approx([-1.5 * pitch] * 4)
    # But for the small chance that a knob works the other way.
    assert sunk_run.belief.collapsed[0][:4] == pytest.approx(
        [-1.5 * pitch] * 4, rel=2.5 * (TRAM.reversed_share + TRAM.reversed_common)
    )
    assert Tram.of(sunk_run).visited == set()
    assert sunk(start, 0) is start


def test_the_first_count_of_a_walk_that_cannot_be_is_named() -> None:
    start = RunState.start(setup_for("heron"))
    ring = ("front left", "front right", "rear right", "rear left")
    fine = [(s, m) for s, m in zip(ring, (4, -2, 1, 3), strict=True)]
    again = [(s, 0) for s in ring]
    assert doubtful_walk(start, noted(*fine, *again)) is None
    again[2] = ("rear right", 60)
    found = doubtful_walk(start, noted(*fine, *again))
    assert found is not None
    assert found[0] == 6
    assert doubtful_walk(start, noted(*fine, *again, sure=True)) is None


def test_the_centre_of_a_walk_is_felt_last() -> None:
    state = RunState.start(setup_for("heron"))
    after = state.apply(walked_row(noted(("front left", 1), centre="drag", centre_z_mm=0.02)))
    assert Tram.of(after).centre_felt is not None
    assert Tram.of(after).centre_felt.z_mm == 0.02
    with pytest.raises(ValueError, match="at least 1"):
        noted()
