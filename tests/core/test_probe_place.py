"""Where a probe sits beside the tip, and what a wrong place does to a mesh."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.changes import found_changes
from ivory_table.core.plate import ProbePlace
from ivory_table.core.prior import first_belief
from ivory_table.core.probe_place import MarkSeen, mesh_wrong_mm, place_found
from ivory_table.core.surface import Surface
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.stations.offset.entries import MarkSighted, ProbePlaced
from ivory_table.stations.offset.probe import probe_check
from tests.conftest import setup_for
from tests.stations.keeping import keep, start

KESTREL = setup_for("kestrel")
PLATE = KESTREL.plate
TAKEN = ProbePlace(x_mm=-41, y_mm=-9)
BELIEF = first_belief(Surface.of(KESTREL.machine, PLATE), bias_sd_mm=0.02)
SPOTS = ((80.0, 70.0), (230.0, 210.0), (80.0, 210.0))


def marks(place: ProbePlace, error: np.ndarray | None = None, count: int = 2) -> tuple[MarkSeen, ...]:
    """So many marks sighted with a probe that sits there, each off by `error` (count, 2)."""
    off = np.zeros((count, 2)) if error is None else error
    return tuple(
        MarkSeen(tip_x_mm=x, tip_y_mm=y, probe_x_mm=x - place.x_mm + dx, probe_y_mm=y - place.y_mm + dy)
        for (x, y), (dx, dy) in zip(SPOTS[:count], off, strict=True)
    )


@given(x=st.floats(-60, 60), y=st.floats(-60, 60))
@settings(max_examples=30, deadline=None)
def test_marks_tell_where_it_sits_whatever_side_it_is_on(x: float, y: float) -> None:
    found = place_found(marks(ProbePlace(x_mm=x, y_mm=y)), TAKEN, BELIEF, PLATE)
    assert found.place is not None
    assert (found.place.x_mm, found.place.y_mm) == pytest.approx((x, y), abs=0.006)


def test_where_it_was_taken_to_sit_is_said_to_be_right() -> None:
    found = place_found(marks(TAKEN), TAKEN, BELIEF, PLATE)
    assert not found.elsewhere
    assert "41.0 mm left and 9.0 mm in front" in found.words
    assert found.mesh_mm is not None
    assert found.mesh_mm < 0.001


def test_a_probe_that_sits_elsewhere_is_told_with_what_it_does_to_a_mesh() -> None:
    near = place_found(marks(ProbePlace(x_mm=-39, y_mm=-9)), TAKEN, BELIEF, PLATE)
    far = place_found(marks(ProbePlace(x_mm=-31, y_mm=-9)), TAKEN, BELIEF, PLATE)
    assert near.elsewhere
    assert far.elsewhere
    assert "10.0 mm from where it is taken to be" in far.words
    assert near.mesh_mm is not None
    assert far.mesh_mm is not None
    assert near.mesh_mm < far.mesh_mm / 2 < 0.05
    assert "measure the mesh anew" in far.words
    assert "the mesh may stay as it is" in near.words


def test_how_often_a_right_one_is_doubted_and_how_well_it_is_known() -> None:
    rng = np.random.default_rng(3)
    doubted, off = 0, []
    for _ in range(300):
        found = place_found(marks(TAKEN, rng.normal(0, 0.3 * 2**0.5, (2, 2))), TAKEN, BELIEF, PLATE)
        doubted += found.elsewhere
        if found.place is not None and found.sd_mm is not None:
            off.append((found.place.x_mm - TAKEN.x_mm) / found.sd_mm)
    assert doubted <= 6
    assert 0.75 < np.std(off) < 1.1


@pytest.mark.parametrize("count", [0, 1])
def test_one_mark_is_not_enough(count: int) -> None:
    found = place_found(marks(TAKEN, count=count), TAKEN, BELIEF, PLATE)
    assert found.place is None
    assert "mark" in found.words


def test_marks_that_disagree_are_asked_about() -> None:
    found = place_found(marks(TAKEN, np.array([[0.0, 0.0], [5.0, 0.0]])), TAKEN, BELIEF, PLATE)
    assert found.place is None
    assert "disagree by 5.0 mm" in found.words


def test_a_mesh_is_wrong_by_the_plates_rise() -> None:
    """On a plate read as a bowl, h = c r^2: shifted by d it is wrong by 2 c x d, up to the common part."""
    c, d = 2e-5, 10.0
    xs, ys = np.linspace(20, PLATE.width_mm - 20, 7), np.linspace(20, PLATE.depth_mm - 20, 7)
    cx, cy = PLATE.centre
    belief = BELIEF
    for x in xs:
        for y in ys:
            belief = belief.read(belief.gap_row(x, y), c * ((x - cx) ** 2 + (y - cy) ** 2), 0.002)
    at = np.array([(x, y) for x in np.linspace(0, PLATE.width_mm, 9) for y in np.linspace(0, PLATE.depth_mm, 9)])
    at = at[[PLATE.holds(*p) and PLATE.holds(p[0] + d, p[1]) for p in at]]
    expected = 2 * c * d * np.abs(at[:, 0] - at[:, 0].mean()).max()
    wrong = mesh_wrong_mm(ProbePlace(x_mm=TAKEN.x_mm + d, y_mm=TAKEN.y_mm), TAKEN, belief, PLATE)
    assert wrong == pytest.approx(expected, rel=0.25)
    assert mesh_wrong_mm(TAKEN, TAKEN, belief, PLATE) == pytest.approx(0, abs=1e-9)


def test_what_was_sighted_holds_from_the_next_run_on_and_is_no_new_probe(desk: Desk) -> None:
    run = start(desk, "kestrel")
    for x, y in SPOTS[:2]:
        run = keep(desk, "offset", MarkSighted(tip_x_mm=x, tip_y_mm=y, probe_x_mm=x + 44, probe_y_mm=y + 9))
    found = probe_check(run).place
    assert found.elsewhere
    run = keep(desk, "offset", ProbePlaced(place=found.place))
    assert probe_check(run).place_kept == "44.0 mm left and 9.0 mm in front"
    machine = desk.workshop.machine("kestrel")
    assert machine.probe is not None
    assert (machine.probe.beside.x_mm, machine.probe.x_offset_mm) == (-44, -41)
    again = run.setup.model_copy(update={"machine": machine})
    assert "probe" not in [c.id for c in found_changes(run.setup, again)]
    moved = machine.probe.model_copy(update={"x_offset_mm": -20.0})
    other = run.setup.model_copy(update={"machine": machine.model_copy(update={"probe": moved})})
    assert "probe" in [c.id for c in found_changes(run.setup, other)]
    keep(desk, "offset", ProbePlaced(place=None))
    assert desk.workshop.machine("kestrel").probe.beside.x_mm == -41


def test_a_machine_without_a_probe_has_no_place_for_one(desk: Desk) -> None:
    start(desk, "heron")
    with pytest.raises(Refused, match="no probe"):
        keep(desk, "offset", ProbePlaced(place=TAKEN))
