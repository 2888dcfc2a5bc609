"""The demo's past: brought in once, moved to now, readable like any run, and the practice machines stand as it left them."""

import json
from datetime import UTC, datetime, timedelta

import pytest

from ivory_table.core.mesh import MeshSurvey
from ivory_table.demo.past import remember
from ivory_table.demo.tidewater import MACHINES, furnish
from ivory_table.desk.desk import Desk
from ivory_table.practice.elastic import Truth
from ivory_table.stations import bench, logbook
from ivory_table.store.workshop import Workshop

NOW = datetime.now(UTC)


@pytest.fixture(scope="module")
def remembered(tmp_path_factory: pytest.TempPathFactory) -> Workshop:
    folder = tmp_path_factory.mktemp("past")
    workshop = Workshop(folder / "workshop.db")
    furnish(workshop)
    assert remember(workshop, folder / "practice", NOW)
    return workshop


def test_it_comes_once_and_ends_shortly_before_now(remembered: Workshop) -> None:
    assert not remember(remembered, remembered.file.parent / "practice", NOW)
    runs = remembered.runs()
    assert len(runs) > 30
    assert NOW - timedelta(days=40) < runs[0].started_at < NOW
    assert NOW - timedelta(days=600) < runs[-1].started_at < NOW - timedelta(days=500)
    assert {m.id for m in MACHINES} == {r.machine.id for r in runs}


def test_its_runs_replay_to_what_is_shown_of_them(remembered: Workshop) -> None:
    desk = Desk(remembered)
    for machine in ("heron", "bittern"):
        summary = remembered.figures.summaries(machine, 1)[0]
        run = desk.open(summary.run_id)
        assert run.state.signed_off
        assert run.seq == summary.seq
        assert run.state.stored_mm == summary.stored_mm


def test_every_page_of_the_logbook_has_something_true_to_show(remembered: Workshop) -> None:
    for machine in MACHINES:
        view = logbook.view(remembered, machine.id)
        assert len(view.points) >= 5
        assert all(p.found and p.left for p in view.points)
        assert view.expected is not None
        assert view.entries
    assert logbook.view(remembered, "heron").expected.outlook.wanders == "rear right"
    shown = bench.view(Desk(remembered))
    assert all(m.expected is not None for m in shown.machines)


def test_the_practice_machines_stand_as_it_left_them(remembered: Workshop) -> None:
    for machine in MACHINES:
        body = json.loads((remembered.file.parent / "practice" / f"{machine.id}.json").read_text())
        truth = Truth(**{k: v for k, v in body.items() if not k.startswith("mesh")})
        assert truth.stored_mm == pytest.approx(remembered.machine(machine.id).stored_mm, abs=1e-6)
        # It follows the mesh that its last run left it with, and no other.
        left = remembered.figures.mesh_left(remembered.runs(machine.id, most=1)[0].id)
        assert body["mesh_on"] == left.on
        if left.on:
            assert MeshSurvey.model_validate(body["mesh"]) == left.survey
    assert any(
        json.loads((remembered.file.parent / "practice" / f"{m.id}.json").read_text())["mesh_on"] for m in MACHINES
    )
