"""What is asked again: a mesh point, an old mesh, a caliper that cannot be, advice that was followed."""

import numpy as np
import pytest

from ivory_table.core.mesh import MeshGrid, MeshSurvey
from ivory_table.core.proof import plan
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer, mesh
from ivory_table.stations.first_layer.entries import Judged, ProofStarted
from ivory_table.stations.mesh.entries import MeshKept, MeshPoint, MeshPointAgain
from ivory_table.stations.offset.entries import ZeroDoubted
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.tram.entries import Counted

from .keeping import keep, start


def felt_mesh(run: OpenRun) -> MeshSurvey:
    grid = MeshGrid(xs_mm=(30.0, 122.0, 214.0), ys_mm=(30.0, 118.0, 206.0))
    heights = ((0.10, 0.12, 0.11), (0.13, 0.16, 0.12), (0.10, 0.13, 0.12))
    return MeshSurvey(grid=grid, heights_mm=heights, owns_zero=True, plate_id=run.setup.plate_id, bed_c=60.0)


def test_a_mesh_point_again_is_a_step_from_its_neighbour(desk: Desk) -> None:
    """The zero has moved by 0.3 since the survey: a bare number would have made a hole of that depth."""
    run = start(desk, "heron")
    run = keep(desk, "mesh", MeshKept(survey=felt_mesh(run)))
    run = keep(desk, "offset", OffsetSet(stored_mm=run.state.stored_mm + 0.3, sure=True))
    with pytest.raises(Refused, match="a neighbour in the same go") as wrong:
        keep(desk, "mesh", MeshPoint(column=2, row=0, height_mm=-0.17))
    assert wrong.value.field == "height_mm"
    before = run.state
    again = MeshPointAgain(
        column=2, row=0, height_mm=-0.16, neighbour_column=1, neighbour_row=0, neighbour_height_mm=-0.18
    )
    run = keep(desk, "mesh", again)
    assert run.state.mesh.heights_mm[0] == pytest.approx((0.10, 0.12, 0.14))
    assert run.state.mesh.heights_mm[1:] == before.mesh.heights_mm[1:]
    # The belief hears the difference, not a new height: the common height is where it was.
    here, there = (run.state.belief.height([(x, 30.0)])[0][0] for x in (214.0, 122.0))
    was, was_there = (before.belief.height([(x, 30.0)])[0][0] for x in (214.0, 122.0))
    assert (here - there) > (was - was_there)
    middle = ((122.0, 118.0),)
    assert run.state.belief.height(middle)[0][0] == pytest.approx(before.belief.height(middle)[0][0], abs=0.02)


def test_advice_that_was_followed_is_not_given_again(desk: Desk) -> None:
    run = start(desk, "heron")
    keep(desk, "mesh", MeshKept(survey=felt_mesh(run)))
    laid = plan(run.setup.machine, run.setup.plate, run.setup.filament, 5)
    seen = []
    for _ in range(3):
        run = keep(desk, "first_layer", ProofStarted(proof=laid))
        for zone in range(5):
            caliper = 0.26 if zone == 4 else 0.19
            grade = "parted" if zone == 4 else "sound"
            run = keep(desk, "first_layer", Judged(zone=zone, grade=grade, caliper_mm=caliper))
        steps = first_layer.step.next_steps(run)
        measure = next((s for s in steps if s.action.kind == "measure" and s.action.zone == 4), None)
        seen.append(measure is not None)
        if measure is None:
            break
        (c, r), (nc, nr) = measure.mesh_point, measure.neighbour
        assert (c, r) == (2, 2)
        assert abs(c - nc) + abs(r - nr) == 1
        run = keep(
            desk,
            "mesh",
            MeshPointAgain(
                column=c, row=r, height_mm=0.0, neighbour_column=nc, neighbour_row=nr, neighbour_height_mm=0.0
            ),
        )
    assert seen == [True, False]


def test_a_new_run_begins_with_the_mesh_the_machine_has(desk: Desk) -> None:
    run = start(desk, "heron")
    run = keep(desk, "mesh", MeshKept(survey=felt_mesh(run)))
    keep(desk, "sign_off", SignedOff())
    wanted = StartRun(
        id="next",
        machine_id="heron",
        plate_id="heron-steel",
        filament_id="petg-clear",
        gauge_id="copy-paper",
        initials="mk",
    )
    filaments = {f.id for f in desk.workshop.filaments()}
    other = next(f for f in desk.workshop.filaments() if abs(f.bed_c - 60) > 5)
    wanted = wanted.model_copy(update={"filament_id": other.id})
    assert other.id in filaments
    setup = desk.start(wanted)
    assert (setup.mesh, setup.mesh_on) == (run.state.mesh, True)
    fresh = desk.open("next")
    assert fresh.state.machine_believes(np.array([[122.0, 118.0]]))[0] == pytest.approx(0.16)
    words = mesh.view.view(fresh).mesh_words
    assert "taken at 60 °C" in words
    assert f"printed at {other.bed_c:.0f} °C" in words
    assert "when this run began" in words
    # Its form is believed, its zero of another day is not.
    low, high = (fresh.state.belief.height([p])[0][0] for p in ((30.0, 30.0), (122.0, 118.0)))
    assert high - low == pytest.approx(0.06, abs=0.03)


def test_advice_is_not_refused_by_its_own_guard(desk: Desk) -> None:
    """All zones loose, over a quarter of a millimetre too high: a ladder finds it, and its step may be kept."""
    run = start(desk, "heron")
    for _ in range(2):
        for screw in run.setup.machine.screws:
            run = keep(desk, "tram", Counted(screw=screw.name, marks=0, sure=True))
    # Another zero since: the plate is flat, and stands anywhere.
    run = keep(desk, "offset", ZeroDoubted(why="crash"))
    laid = plan(run.setup.machine, run.setup.plate, run.setup.filament, 5)
    gap = laid.layer_mm + 0.27
    run = keep(desk, "first_layer", ProofStarted(proof=laid))
    for zone in range(5):
        run = keep(desk, "first_layer", Judged(zone=zone, grade=laid.bead.grade_at(gap)))
    best = first_layer.step.next_steps(run)[0]
    assert best.action.kind == "ladder"
    run = keep(desk, "first_layer", best.keeps[0])
    ladder = run.state.proofs[-1].plan
    assert ladder.kind == "ladder"
    for zone, step in enumerate(ladder.zones):
        grade = laid.bead.grade_at(max(gap + step.away_mm, 0.01))
        run = keep(desk, "first_layer", Judged(zone=zone, grade=grade))
        if grade in ("sound", "ridged"):
            break
        # From a step that does not hold, the next one does not scrape.
        assert gap + ladder.zones[zone + 1].away_mm > 0.03
    best = first_layer.step.next_steps(run)[0]
    assert best.stored is not None
    keep(desk, "first_layer", OffsetSet(stored_mm=best.stored.new_mm))
    assert laid.bead.grade_at(gap + best.stored.shift_mm) == "sound"


@pytest.mark.parametrize(("typed", "meant"), [(2.0, "0.20"), (0.02, "0.20"), (19.0, "0.19")])
def test_a_caliper_that_cannot_be_is_asked_about(desk: Desk, typed: float, meant: str) -> None:
    run = start(desk, "heron")
    keep(desk, "first_layer", ProofStarted(proof=plan(run.setup.machine, run.setup.plate, run.setup.filament, 5)))
    with pytest.raises(Refused, match=f"did you mean {meant}") as wrong:
        keep(desk, "first_layer", Judged(zone=0, grade="sound", caliper_mm=typed))
    assert (wrong.value.code, wrong.value.field) == ("caliper_doubtful", "caliper_mm")
    run = keep(desk, "first_layer", Judged(zone=0, grade="sound", caliper_mm=typed, sure=True))
    assert run.state.proofs[-1].marks[0].caliper_mm == typed
