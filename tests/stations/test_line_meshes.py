"""Meshes and touches over a real line: probed, felt, sent, stopped and resumed."""

import time

import numpy as np
import pytest

from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.runs.doubts import Refused
from ivory_table.stations import mesh, offset, on_line, tram
from ivory_table.stations.mesh.entries import MeshKept, MeshPlanned, MeshPoint
from ivory_table.stations.mesh.state import Mesh
from tests.stations.floor import Floor


@pytest.mark.parametrize("floor", ["bittern"], indirect=True)
def test_a_heat_sensitive_probe_waits_well_above(floor: Floor) -> None:
    floor.connect()
    floor.do("prepare", "heat")
    assert floor.served.body.at[2] == 60


def test_probing_waits_for_the_trigger_to_be_proved(floor: Floor) -> None:
    floor.connect()
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    offer = on_line.view(floor.lines, floor.run, "mesh").offers[0]
    assert "Prove the probe's trigger first" in offer.why_not
    with pytest.raises(Refused, match="trigger"):
        floor.start("mesh", "survey")


def test_a_probed_mesh_is_stopped_resumed_sent_and_followed(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    floor.keep("mesh", MeshPlanned(columns=4, rows=3, owns_zero=False))
    floor.start("mesh", "survey")
    floor.until(lambda: len(Mesh.of(floor.run.state).points) >= 3)
    floor.lines.cancel(floor.machine)
    floor.until(lambda: floor.status.state == "idle")
    so_far = len(Mesh.of(floor.run.state).points)
    assert 3 <= so_far < 12
    assert floor.do("mesh", "survey") == ""
    points = [e.what for e in floor.run.entries if isinstance(e.what, MeshPoint)]
    assert len(points) == 12  # none was measured twice
    assert sum(s.point is None for s in Mesh.of(floor.run.state).soundings) >= 3  # the base point, again and again
    floor.practise("mesh", mesh.practice.practice)
    floor.do("mesh", "send_mesh")
    body = floor.served.body
    assert body.mesh_on
    places = floor.run.state.mesh.grid.places
    gaps = body.gaps(np.column_stack([places, np.full(len(places), 0.2)]))
    assert np.ptp(gaps) < 0.03
    state = floor.run.state
    assert (state.mesh_sent, state.mesh_stored, state.mesh_on_told) == (True, True, True)
    assert state.mesh_back_mm is not None
    assert state.mesh_back_mm <= 0.001
    assert body.mesh_stored
    assert floor.do("prepare", "home") == ""
    assert not body.mesh_on  # this manner's homing ends it
    # Somebody has put another mesh in: the readback finds it.
    heights = [list(row) for row in body.mesh.heights_mm]
    heights[0][1] += 0.04
    body.mesh = body.mesh.model_copy(update={"heights_mm": tuple(map(tuple, heights))})
    assert "another mesh" in floor.do("mesh", "read_mesh")
    assert mesh.view.view(floor.run).use.states[1].seen == "no"


@pytest.mark.parametrize("floor", ["heron", "wren"], indirect=True)
def test_a_mesh_is_felt_on_the_line_until_it_is_enough(floor: Floor) -> None:
    while tram.step.now_at(floor.run).step != "done":
        floor.practise("tram", tram.practice.practice)
    floor.connect()
    floor.keep("mesh", MeshPlanned(columns=4, rows=4, owns_zero=True))
    assert floor.do("mesh", "survey") == ""
    assert mesh.step.step_of(floor.run) == "keep"
    assert 5 <= len(Mesh.of(floor.run.state).points) <= 16
    floor.practise("mesh", mesh.practice.practice)
    assert floor.do("mesh", "send_mesh") == ""
    body = floor.served.body
    places = floor.run.state.mesh.grid.places
    assert np.std(body.gaps(np.column_stack([places, np.full(len(places), 0.2)]))) < 0.02
    assert floor.served.person.crashes() == []


def test_two_corners_are_driven_to_and_asked_for(floor: Floor) -> None:
    floor.connect()
    assert floor.do("prepare", "home") == ""
    offers = {o.job: o for o in on_line.view(floor.lines, floor.run, "mesh").offers}
    assert offers["where"].why_not == ""
    assert floor.do("mesh", "where") == ""
    assert floor.status.position_mm is not None
    x, y = floor.status.position_mm[:2]
    assert (x, y) == pytest.approx(tuple(floor.served.body.at[:2]), abs=0.01)


def test_a_power_cut_takes_a_mesh_that_was_not_stored(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    floor.do("mesh", "survey")
    floor.practise("mesh", mesh.practice.practice)
    session = floor.lines.session(floor.machine)
    does = session.manner.does.model_copy(update={"mesh_store": ""})
    session.manner = session.manner.model_copy(update={"does": does})
    floor.do("mesh", "send_mesh")
    assert floor.served.body.mesh is not None
    floor.served.firmware.start()
    assert floor.served.body.mesh is None


def test_a_probe_that_never_triggers_ends_the_survey(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    floor.served.fault("probe_too_high")
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    assert "did not trigger" in floor.do("mesh", "survey")
    assert Mesh.of(floor.run.state).points == {}


@pytest.mark.parametrize("fault", ["drop", "silence", "restart", "halt"])
def test_a_mesh_that_breaks_off_keeps_its_points_and_goes_on_after_homing(floor: Floor, fault: str) -> None:
    floor.connect()
    floor.prove()
    floor.keep("mesh", MeshPlanned(columns=3, rows=3, owns_zero=False))
    floor.start("mesh", "survey")
    floor.until(lambda: len(Mesh.of(floor.run.state).points) >= 2)
    floor.served.fault(fault)
    # From now on only: a busy machine of the tests confirms late without being silent.
    session = floor.lines.session(floor.machine)
    quick = session.manner.line.model_copy(update={"silence_s": 1.5})
    session.manner = session.manner.model_copy(update={"line": quick})
    floor.until(lambda: floor.status.state in ("lost", "halted"))
    words = floor.status.words
    assert words.endswith(("home first.", "home before anything else."))
    kept = dict(Mesh.of(floor.run.state).points)
    before = list(floor.served.body.at)
    time.sleep(0.2)
    assert floor.served.body.at == before  # nothing moves by itself
    floor.served.fault("none")
    if floor.status.state == "halted":
        floor.lines.recover(floor.machine)
        floor.until(lambda: floor.status.state == "idle")
    else:
        floor.connect()
    assert not floor.status.homed
    assert on_line.view(floor.lines, floor.run, "mesh").offers[0].moves[0].startswith("every axis runs to its stop")
    assert floor.do("mesh", "survey") == ""
    after = Mesh.of(floor.run.state).points
    assert len(after) == 9
    assert set(kept) <= set(after)


def test_a_pasted_mesh_is_sent_as_it_is_owned(floor: Floor) -> None:
    floor.connect()
    grid = grid_on(floor.run.setup.plate, 3, 3)
    survey = MeshSurvey(
        grid=grid, heights_mm=((0.1, 0.2, 0.3),) * 3, owns_zero=False, plate_id=floor.run.setup.plate_id
    )
    floor.keep("mesh", MeshKept(survey=survey))
    floor.do("mesh", "send_mesh")
    assert floor.served.body.mesh.values == pytest.approx(np.array([[-0.1, 0.0, 0.1]] * 3))


def test_the_probe_touches_one_place_again_and_again(floor: Floor) -> None:
    floor.connect()
    floor.prove()
    assert floor.do("offset", "touch_again") == ""
    found = offset.probe.probe_check(floor.run).repeats
    assert found.touches == 10
    assert found.sd_mm == pytest.approx(floor.served.body.machine.probe.sd_mm, rel=0.8)
    assert floor.served.body.at[2] >= 5
    assert floor.served.person.crashes() == []
