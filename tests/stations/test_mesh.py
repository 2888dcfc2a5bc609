"""The mesh from plan to use: few readings, doubts, what the machine has of it, and meshes measured before."""

from dataclasses import replace
from datetime import timedelta

import numpy as np
import pytest

from ivory_table.core.grid_layout import Layout
from ivory_table.core.mesh import believed_by_machine
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.runs.common import MachineRestarted, Resumed
from ivory_table.runs.doubts import Refused, doubt
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer, mesh
from ivory_table.stations.first_layer.entries import Judged, ProofStarted
from ivory_table.stations.mesh.earlier import earlier_meshes
from ivory_table.stations.mesh.entries import (
    MeshBase,
    MeshCheckBegun,
    MeshChecked,
    MeshDiscarded,
    MeshFelt,
    MeshKept,
    MeshPlanned,
    MeshPoint,
    MeshPointTrusted,
    MeshReadBack,
    MeshSent,
    MeshStored,
    MeshTakenUp,
)
from ivory_table.stations.mesh.paste import MeshPaste, preview
from ivory_table.stations.mesh.readback import ReadbackPaste, compared
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.mesh.survey import survey_at
from ivory_table.stations.mesh_used import MeshUsed
from tests.stations.keeping import keep, practise, start


def measured(desk: Desk, run_id: str = "run", machine: str = "heron", **plan: object) -> OpenRun:
    """A run with a mesh that the practice plate was read for."""
    start(desk, machine, run_id)
    practise(desk, "tram", run_id)
    if desk.open(run_id).state.mesh_on:
        keep(desk, "mesh", MeshUsed(on=False), run_id)
    keep(desk, "mesh", MeshPlanned.model_validate({"columns": 5, "rows": 5, "owns_zero": True} | plan), run_id)
    return practise(desk, "mesh", run_id, 200)


def truth_left(desk: Desk, run: OpenRun) -> float:
    """The true unevenness in mm rms that the machine leaves over the mesh's area."""
    survey = run.state.mesh
    assert survey is not None
    x0, x1, y0, y1 = (
        *survey.grid.xs_mm[:: len(survey.grid.xs_mm) - 1],
        *survey.grid.ys_mm[:: len(survey.grid.ys_mm) - 1],
    )
    places = np.array([(x, y) for y in np.linspace(y0, y1, 11) for x in np.linspace(x0, x1, 11)])
    left = desk.hands(run).body.surface(places) - believed_by_machine(survey, places)
    return float(left.std())


# Reading


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren", "bittern"])
def test_a_mesh_is_felt_without_typing_and_with_fewer_points_than_it_has(desk: Desk, machine: str) -> None:
    run = measured(desk, machine=machine)
    survey = run.state.mesh
    assert survey is not None
    assert 5 <= len(survey.readings) <= 25
    assert len(survey.heights_mm) == 5
    assert truth_left(desk, run) < 0.02
    assert run.state.mesh_on
    assert mesh.view.view(run).use.states[0].words.startswith(f"{len(survey.readings)} points read, 25 filled")


def test_the_height_to_try_lies_where_the_drag_is_believed_and_comes_nearer(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = keep(desk, "mesh", MeshPlanned(columns=4, rows=4, owns_zero=True))
    first = mesh.view.view(run).next
    assert first is not None
    run = keep(desk, "mesh", MeshFelt(column=first.column, row=first.row, z_mm=first.try_mm, feel="free"))
    second = mesh.view.view(run).next
    assert (second.column, second.row) == (first.column, first.row)
    assert second.try_mm < first.try_mm
    assert [f.feel for f in second.felt] == ["free"]
    run = keep(desk, "mesh", MeshFelt(column=first.column, row=first.row, z_mm=second.try_mm, feel="drag"))
    assert (first.column, first.row) in Mesh.of(run.state).points
    assert mesh.view.view(run).next.felt == ()


def test_a_doubted_point_is_read_again_kept_or_put_right_and_its_history_stays(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = keep(desk, "mesh", MeshPlanned(columns=4, rows=4, owns_zero=True, readings=16))
    hands = desk.hands(run)
    for point in mesh.view.view(run).points:
        off = 0.12 if (point.column, point.row) == (1, 2) else 0.0
        height = hands.felt_height(point.x_mm, point.y_mm) + off
        run = keep(desk, "mesh", MeshPoint(column=point.column, row=point.row, height_mm=height, sure=True))
    view = mesh.view.view(run)
    doubted = [p for p in view.points if p.doubt]
    assert [(p.column, p.row) for p in doubted] == [(1, 2)]
    assert "above what its neighbours say" in doubted[0].doubt
    assert any(s.kind == "doubtful" for s in view.sheet.spots)
    spoilt = doubted[0].readings[0].height_mm

    trusted = keep(desk, "mesh", MeshPointTrusted(column=1, row=2, reason="a crumb is welded on"))
    assert not any(p.doubt for p in mesh.view.view(trusted).points)

    put_right = keep(desk, "mesh", MeshPoint(column=1, row=2, height_mm=round(spoilt - 0.12, 3), reason="mistyped"))
    view = mesh.view.view(put_right)
    assert not any(p.doubt for p in view.points)
    history = next(p for p in view.points if (p.column, p.row) == (1, 2)).readings
    assert [(r.counts, r.reason) for r in history] == [(False, "mistyped"), (True, "")]

    again = keep(desk, "mesh", MeshPoint(column=1, row=2, height_mm=round(spoilt - 0.115, 3), again=True))
    assert Mesh.of(again.state).points[1, 2] == pytest.approx(spoilt - 0.1175, abs=1e-3)


def test_a_mistyped_height_is_asked_about_with_the_likely_one(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True))
    practise(desk, "mesh", times=6)
    at = mesh.view.view(desk.open("run")).next
    for typed, words in ((1.0, "Did you mean .* micrometres"), (-9.7, "far from")):
        with pytest.raises(Refused, match=words) as refused:
            keep(desk, "mesh", MeshPoint(column=at.column, row=at.row, height_mm=typed))
        assert refused.value.insist
        assert refused.value.field == "height_mm"
    run = keep(desk, "mesh", MeshPoint(column=at.column, row=at.row, height_mm=3.7, sure=True))
    assert 3.7 in Mesh.of(run.state).points.values()


def test_where_a_neighbour_was_wrong_the_right_reading_says_so(desk: Desk) -> None:
    """A slope of a quarter of a mm between two points: which of them it is the others tell."""
    start(desk, "heron")
    keep(desk, "mesh", MeshPlanned(columns=4, rows=4, owns_zero=True, readings=16))
    for column in range(4):
        keep(desk, "mesh", MeshPoint(column=column, row=0, height_mm=0.01 * column))
    run = keep(desk, "mesh", MeshPoint(column=3, row=1, height_mm=0.28, sure=True))
    odd = next(p for p in mesh.view.view(run).points if (p.column, p.row) == (3, 1))
    with pytest.raises(Refused, match=r"It would fit if .0.280 mm at") as asked:
        keep(desk, "mesh", MeshPoint(column=2, row=1, height_mm=0.02))
    assert f"({odd.x_mm:.0f}, {odd.y_mm:.0f})" in str(asked.value)
    assert asked.value.insist
    # One that is wrong itself is explained by no other.
    keep(desk, "mesh", MeshPoint(column=2, row=1, height_mm=0.02, sure=True))
    with pytest.raises(Refused, match="far from") as alone:
        keep(desk, "mesh", MeshPoint(column=1, row=1, height_mm=0.9))
    assert "It would fit" not in str(alone.value)


def test_points_in_a_clip_are_filled_and_never_asked_for(desk: Desk) -> None:
    start(desk, "heron")
    keep_out = desk.open("run").setup.plate.keep_outs[0]
    middle = ((keep_out.x_min_mm + keep_out.x_max_mm) / 2, (keep_out.y_min_mm + keep_out.y_max_mm) / 2)
    x0, y0, x1, y1 = desk.open("run").setup.plate.bounds
    back = y1 - 2 if middle[1] > (y0 + y1) / 2 else (y0 + y1) / 2
    front = y0 + 2 if back < y1 - 2 else (y0 + y1) / 2
    run = keep(desk, "mesh", MeshPlanned(columns=9, rows=5, owns_zero=True, area_mm=(x0 + 8, front, x1 - 8, back)))
    survey = survey_at(run)
    assert survey is not None
    assert any(p.why for p in survey.points)
    for place in survey.place_of.values():
        assert desk.open("run").setup.plate.kept_out(*place, 1.9) is None
    out = next((p for p in survey.points if p.place_mm is None), None)
    if out is not None:
        with pytest.raises(Refused, match="cannot be read"):
            keep(desk, "mesh", MeshPoint(column=out.column, row=out.row, height_mm=0.0))


@pytest.mark.parametrize("area", [(20, 20, 25, 200), (-80, -80, -20, -20)])
def test_an_area_without_room_is_refused(desk: Desk, area: tuple[float, float, float, float]) -> None:
    start(desk, "heron")
    with pytest.raises(ValueError, match=r"at least 10 mm|can be read"):
        keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True, area_mm=area))


def test_no_more_points_than_the_machine_takes(desk: Desk) -> None:
    run = start(desk, "heron")
    law = run.setup.mesh_law.model_copy(update={"most_points": 4})
    small = replace(run, setup=run.setup.model_copy(update={"mesh_law": law}))
    with pytest.raises(Refused, match="4 points each way"):
        doubt(MeshPlanned(columns=5, rows=3, owns_zero=True), small, "hand")


def test_after_a_pause_the_base_point_is_read_first_and_a_moved_zero_is_taken_out(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True, readings=9))
    practise(desk, "mesh", times=8)
    base = survey_at(desk.open("run")).base_mm
    run = keep(desk, "mesh", Resumed())
    view = mesh.view.view(run)
    assert view.progress.base_due
    assert view.next is None
    hands = desk.hands(run)
    run = keep(desk, "mesh", MeshBase(height_mm=hands.felt_height(*base), sure=True))
    assert not mesh.view.view(run).progress.base_due
    run = practise(desk, "mesh", times=100)
    assert truth_left(desk, run) < 0.03


def test_another_mesh_is_not_read_while_one_is_in_use(desk: Desk) -> None:
    measured(desk)
    with pytest.raises(Refused, match="Switch it off first"):
        keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True))
    keep(desk, "mesh", MeshUsed(on=False))
    keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True))


def test_what_a_mesh_told_is_known_of_the_zones_beside_its_points(desk: Desk) -> None:
    """One field: the places between the points are known by what was read around them."""
    start(desk, "heron")
    practise(desk, "tram")
    before = desk.open("run").state.belief.height([(70.0, 70.0)])[1][0]
    keep(desk, "mesh", MeshPlanned(columns=5, rows=5, owns_zero=True, readings=25))
    run = practise(desk, "mesh", times=200)
    after = run.state.belief.height([(70.0, 70.0)])[1][0]
    assert after < before


# What the machine has of it


def states(run: OpenRun) -> dict[str, str]:
    return {s.name: s.seen for s in mesh.view.view(run).use.states}


def test_measured_sent_stored_and_in_use_are_four_things(desk: Desk) -> None:
    run = measured(desk, machine="heron")
    assert states(run) == {"measured": "yes", "sent": "no", "stored": "no", "in use": "not known"}
    run = keep(desk, "mesh", MeshSent())
    run = keep(desk, "mesh", MeshUsed(on=True))
    assert states(run) == {"measured": "yes", "sent": "yes", "stored": "no", "in use": "yes"}
    # Never stored: a power cut takes it.
    gone = keep(desk, "mesh", MachineRestarted())
    assert states(gone) == {"measured": "yes", "sent": "no", "stored": "no", "in use": "no"}
    assert desk.hands(gone).body.mesh is None
    keep(desk, "mesh", MeshSent())
    keep(desk, "mesh", MeshStored())
    keep(desk, "mesh", MeshUsed(on=True))
    back = keep(desk, "mesh", MachineRestarted())
    assert states(back) == {"measured": "yes", "sent": "yes", "stored": "yes", "in use": "no"}
    assert desk.hands(back).body.mesh is not None
    # One point measured again is a change the machine has not got.
    assert not back.state.mesh_on


def test_a_readback_in_any_layout_is_compared_point_by_point(desk: Desk) -> None:
    run = measured(desk)
    heights = run.state.mesh.values
    odd = Layout(first="back right", along="y")
    text = "\n".join(" ".join(f"{v:+.3f}" for v in row) for row in odd.written(heights))
    found = compared(run, ReadbackPaste(text=text))
    assert found.same
    run = keep(desk, "mesh", MeshReadBack(heights_mm=found.heights_mm))
    assert states(run)["sent"] == "yes"
    spoilt = heights.copy()
    spoilt[1, 3] += 0.05
    text = "\n".join(" ".join(f"{v:+.3f}" for v in row) for row in spoilt)
    found = compared(run, ReadbackPaste(text=text))
    assert not found.same
    assert "column 4, row 2" in found.words
    run = keep(desk, "mesh", MeshReadBack(heights_mm=found.heights_mm))
    assert states(run)["sent"] == "no"
    assert "another mesh" in mesh.view.view(run).use.states[1].words
    lifted = "\n".join(" ".join(f"{v + 0.1:+.3f}" for v in row) for row in heights)
    assert "all of it 0.100 mm higher" in compared(run, ReadbackPaste(text=lifted)).words
    for text, words in (("0 0\n0 0", "2 by 2 points"), ("none", "no numbers|least two|not a number")):
        with pytest.raises(Refused, match=words):
            compared(run, ReadbackPaste(text=text))
    with pytest.raises(ValueError, match="another mesh"):
        keep(desk, "mesh", MeshReadBack(heights_mm=((0.0, 0.0), (0.0, 0.0))))


def test_the_lines_of_a_mesh_are_in_the_machines_words(desk: Desk) -> None:
    run = measured(desk)
    lines = mesh.files.mesh_lines(run).splitlines()
    assert lines[0].startswith("CHART X")
    assert len(lines) == 1 + 25 + 2
    assert lines[-2:] == ["CHART_KEEP", "CHART_USE S1"]
    assert '"readings"' in mesh.files.mesh_json(run)


# Meshes measured before


def test_a_mesh_of_an_earlier_run_is_offered_checked_and_used_or_discarded(desk: Desk) -> None:
    first = measured(desk, "first")
    start(desk, "heron", "second")
    run = keep(desk, "mesh", MeshUsed(on=False), "second") if desk.open("second").state.mesh_on else desk.open("second")
    found = earlier_meshes(desk, run)
    assert len(found) == 1
    assert found[0].this_plate
    assert 0.5 < found[0].p_holds < 1
    survey, at = found[0].survey, found[0].measured_at
    assert survey == first.state.mesh

    run = keep(desk, "mesh", MeshCheckBegun(survey=survey, measured_at=at), "second")
    view = mesh.view.view(run)
    assert view.step == "check"
    assert len(view.check.to_read) == 3
    same = desk.open("second")
    for _ in range(9):
        todo = mesh.view.view(same).check.to_read
        if not todo:
            break
        height = float(believed_by_machine(survey, [todo[0]])[0]) + 0.3
        same = keep(desk, "mesh", MeshChecked(x_mm=todo[0][0], y_mm=todo[0][1], height_mm=round(height, 3)), "second")
    assert mesh.view.view(same).check.verdict == "holds"
    used = keep(desk, "mesh", MeshTakenUp(survey=survey, measured_at=at), "second")
    assert used.state.mesh == survey
    assert used.state.mesh_on
    assert states(used)["sent"] != "yes"

    keep(desk, "mesh", MeshUsed(on=False), "second")
    run = keep(desk, "mesh", MeshCheckBegun(survey=survey, measured_at=at), "second")
    for k in range(9):
        todo = mesh.view.view(run).check.to_read
        if not todo:
            break
        height = float(believed_by_machine(survey, [todo[0]])[0]) + 0.1 * (k % 2)
        run = keep(desk, "mesh", MeshChecked(x_mm=todo[0][0], y_mm=todo[0][1], height_mm=round(height, 3)), "second")
    assert mesh.view.view(run).check.verdict == "does not hold"
    run = keep(desk, "mesh", MeshDiscarded(measured_at=at), "second")
    assert earlier_meshes(desk, run) == ()


def test_an_earlier_mesh_is_not_used_on_another_plate_but_shows_which_is_flatter(desk: Desk) -> None:
    first = measured(desk, "first")
    other = next(p for p in first.setup.machine.plates if p.id != first.setup.plate_id)
    desk.start(
        StartRun(
            id="second",
            machine_id="heron",
            plate_id=other.id,
            filament_id=first.setup.filament.id,
            gauge_id=first.setup.gauge.id,
            initials="mk",
        )
    )
    run = desk.open("second")
    found = earlier_meshes(desk, run)
    assert [m.this_plate for m in found] == [False]
    assert found[0].flat_mm > 0
    with pytest.raises(ValueError, match="another plate"):
        keep(
            desk,
            "mesh",
            MeshTakenUp(survey=found[0].survey, measured_at=first.entries[-1].at - timedelta(days=1)),
            "second",
        )


# From elsewhere


def test_a_pasted_grid_is_kept_as_readings(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    run = desk.open("run")
    text = "| | 0 | 1 | 2 |\n|2| 0.01 | 0.02 | 0.01 |\n|1| 0.00 | 0.03 | 0.00 |\n|0| 0.01 | 0.02 | 0.02 |"
    found = preview(run, MeshPaste(text=text, owns_zero=False, layout=Layout()))
    kept = keep(desk, "mesh", MeshKept(survey=found.shown.survey))
    # Rows by their own numbers, counted from the front.
    assert kept.state.mesh.heights_mm[0] == (0.01, 0.02, 0.02)


def test_a_proof_lies_at_the_mesh_points_and_is_judged_there(desk: Desk) -> None:
    run = measured(desk)
    assert "nobody has said" in first_layer.view.view(run, "mesh").mesh_unseen
    keep(desk, "mesh", MeshSent())
    keep(desk, "mesh", MeshUsed(on=True))
    run = practise(desk, "offset")
    view = first_layer.view.view(run, "mesh")
    assert view.mesh_unseen == ""
    assert view.zones[0].name == "column 1, row 1"
    run = keep(desk, "first_layer", ProofStarted(proof=view.plan))
    for k in range(len(view.zones)):
        run = keep(desk, "first_layer", Judged(zone=k, grade="parted" if k == 8 else "sound", sure=True))
    steps = first_layer.view.view(run).steps
    assert steps
    blamed = [s for s in steps if s.mesh_point is not None]
    assert all(s.mesh_point == (4, 4) for s in blamed)
