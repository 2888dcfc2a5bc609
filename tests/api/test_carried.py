"""Everything carried away and brought: the same run never twice, two workshops made one, somebody's initials erased."""

import csv
import io
import json
import re
import zipfile
from datetime import UTC, datetime
from pathlib import Path

import pytest
from fastapi.testclient import TestClient

from ivory_table.api.app import create_app
from ivory_table.core.teach.teaching import Teaching
from ivory_table.demo.past import remember
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.runs.log import LogEntry
from ivory_table.stations.carried import bring_all, carry
from ivory_table.stations.prepare.entries import CheckDone
from ivory_table.stations.table import as_table
from ivory_table.store.erasing import ERASED
from ivory_table.store.tables import TABLES
from ivory_table.store.workshop import Workshop


def client(workshop: Workshop) -> TestClient:
    return TestClient(create_app(Desk(workshop)), base_url="http://127.0.0.1", raise_server_exceptions=False)


def work(desk: Desk, run_id: str, machine: str = "heron", initials: str = "mk") -> None:
    desk.start(
        StartRun(
            id=run_id,
            machine_id=machine,
            plate_id=desk.workshop.machine(machine).plates[0].id,
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials=initials,
        )
    )
    desk.keep(run_id, "prepare", Keep(id=f"{run_id}-1", seen_seq=0, what=CheckDone(check="homed", outcome="done")))


def noted(entry_id: str, by: str = "mk", machine: str = "heron") -> LogEntry:
    return LogEntry(id=entry_id, machine_id=machine, at=datetime.now(UTC), by=by, kind="knock")


@pytest.fixture
def away(tmp_path: Path) -> Path:
    """What one workshop carried away: two runs, an entry, a machine of its own and a manner taught there."""
    there = Workshop(tmp_path / "there.db")
    furnish(there)
    desk = Desk(there)
    work(desk, "r1")
    work(desk, "r2", "wren", "jo")
    there.keep_log(noted("n1"))
    there.keep_machine(there.machine("heron").model_copy(update={"id": "egret", "name": "Egret", "practice": False}))
    there.teachings.keep(Teaching(id="quay", name="Quay"), 0, "jo", "begun")
    assert carry(there, tmp_path / "away.zip") == 2
    there.close()
    return tmp_path / "away.zip"


def test_two_workshops_are_made_one_and_no_run_comes_twice(away: Path, workshop: Workshop) -> None:
    work(Desk(workshop), "mine")
    found = bring_all(workshop, away, "mk")
    assert (found.runs_new, found.runs_same, found.log_new, found.left_out) == (2, 0, 1, ())
    assert found.setup.new == ("Egret",)
    assert found.manners_new == ("quay",)
    assert {r.id for r in workshop.runs()} == {"mine", "r1", "r2"}
    assert workshop.figures.summary("r1") is not None
    again = bring_all(workshop, away, "mk")
    assert (again.runs_new, again.runs_same, again.log_new, again.manners_new) == (0, 2, 0, ())
    assert not again.left_out


def test_what_differs_here_stays_and_is_said(away: Path, workshop: Workshop) -> None:
    work(Desk(workshop), "r1", initials="jo")
    workshop.teachings.keep(Teaching(id="quay", name="Another quay"), 0, "jo", "begun")
    workshop.keep_machine(workshop.machine("wren").model_copy(update={"stored_mm": 0.5}))
    found = bring_all(workshop, away, "mk")
    assert found.runs_new == 1
    assert any(why.startswith("Run 'r1'") for why in found.left_out)
    assert any(why.startswith("Manner 'quay'") for why in found.left_out)
    assert "Wren" in found.setup.left_alone
    assert workshop.run("r1").initials == "jo"
    assert workshop.machine("wren").stored_mm == 0.5


def test_one_machine_goes_alone(away: Path, tmp_path: Path, workshop: Workshop) -> None:
    bring_all(workshop, away, "mk")
    assert carry(workshop, tmp_path / "one.zip", "heron") == 1
    with zipfile.ZipFile(tmp_path / "one.zip") as packed:
        assert [m["id"] for m in json.loads(packed.read("setup.json"))["machines"]] == ["heron"]
        assert [n for n in packed.namelist() if n.startswith("runs/")] == ["runs/r1.json"]
        assert len(json.loads(packed.read("logbook.json"))["entries"]) == 1


def test_over_the_api(away: Path, workshop: Workshop) -> None:
    http = client(workshop)
    found = http.post("/api/carried", content=away.read_bytes(), headers={"content-type": "application/zip"})
    assert found.json()["runs_new"] == 2
    out = http.get("/api/carried", params={"machine": "wren"})
    assert out.headers["content-type"] == "application/zip"
    with zipfile.ZipFile(io.BytesIO(out.content)) as packed:
        assert "runs/r2.json" in packed.namelist()
    assert http.get("/api/carried", params={"machine": "nobody"}).status_code == 404


def _zip(**parts: bytes) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for name, body in parts.items():
            packed.writestr(name.replace("_dot_", ".").replace("_in_", "/"), body)
    return out.getvalue()


@pytest.mark.parametrize("body", [b"", b"not a zip", b"PK\x03\x04" + b"\0" * 40, _zip(other_dot_json=b"{}")])
def test_another_file_is_refused_beside_the_field(workshop: Workshop, body: bytes) -> None:
    answer = client(workshop).post("/api/carried", content=body)
    assert (answer.status_code, answer.json()["code"], answer.json()["field"]) == (422, "other_file", "file")


def test_a_part_that_cannot_be_read_takes_no_other_with_it(away: Path, workshop: Workshop) -> None:
    with zipfile.ZipFile(away, "a", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("runs/bad.json", b'{"format": "ivory-table-run", "version": 1}')
        packed.writestr("runs/huge.json", b"\0" * 20_000_000)
        packed.writestr("runs/notjson.json", b"[[[")
    found = bring_all(workshop, away, "mk")
    assert found.runs_new == 2
    assert len(found.left_out) == 3


def test_initials_go_from_everywhere_and_what_was_measured_stays(tmp_path: Path) -> None:
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    remember(workshop, tmp_path / "practice", datetime.now(UTC))
    workshop.keep_log(noted("n1", "jo"))
    workshop.teachings.keep(Teaching(id="quay", name="Quay"), 0, "jo", "begun")
    http = client(workshop)
    before = {r.id: (len(workshop.entries(r.id)), workshop.figures.summary(r.id).stored_mm) for r in workshop.runs()}
    assert http.get("/api/found", params={"text": "jo"}).json()["runs"]
    done = http.post("/api/carried/erase", json={"initials": "jo"})
    assert done.status_code == 200, done.text
    assert done.json()["rows"] > 100
    for table in TABLES:
        for row in table.select().dicts():
            for value in row.values():
                assert not (isinstance(value, str) and re.search(r"(?i)\bjo\b", value)), table
    after = {r.id: (len(workshop.entries(r.id)), workshop.figures.summary(r.id).stored_mm) for r in workshop.runs()}
    assert after == before
    assert {r.initials for r in workshop.runs()} == {"mk", ERASED}
    assert not [r for r in http.get("/api/found", params={"text": "jo"}).json()["runs"] if r["initials"] == "jo"]
    # Runs of somebody who is gone teach nobody by that sign.
    work(Desk(workshop), "later", initials="mk")
    assert ERASED not in {p.initials for p in workshop.people()}
    again = http.post("/api/carried/erase", json={"initials": "jo"})
    assert (again.status_code, again.json()["code"]) == (422, "nobody")
    # Rows are held as before.
    with pytest.raises(Exception, match="only added"):
        workshop._db.execute_sql("UPDATE entry SET seq = 1")


def test_every_run_is_found_a_page_at_a_time(workshop: Workshop) -> None:
    desk = Desk(workshop)
    for k in range(7):
        work(desk, f"run-{k}", "heron" if k % 2 else "kestrel", "jo" if k == 3 else "mk")
    http = client(workshop)
    ids: list[str] = []
    after: dict[str, str] = {}
    while True:
        page = http.get("/api/found", params={"most": 3, **after}).json()
        ids += [r["id"] for r in page["runs"]]
        if page["next"] is None:
            break
        after = page["next"]
    assert ids == [f"run-{k}" for k in reversed(range(7))]
    assert [r["id"] for r in http.get("/api/found", params={"text": "HERON jo"}).json()["runs"]] == ["run-3"]
    assert http.get("/api/found", params={"text": "heron nobody"}).json()["runs"] == []
    assert http.get("/api/found", params={"text": "100% _"}).json()["runs"] == []
    mine = http.get("/api/found", params={"machine": "kestrel"}).json()["runs"]
    assert {r["machine_id"] for r in mine} == {"kestrel"}
    assert len(http.get("/api/found/csv").text.splitlines()) == 8
    rows = http.get("/api/bench/csv").text.splitlines()
    assert rows[0].startswith("machine_id,machine,state")
    assert len(rows) == 5


def test_tables_hold_no_formula_and_leave_empty_cells_empty() -> None:
    rows = [("=1+1", "@x", "", -0.5, "plain"), ("-", "+3", None, 7, "a=b")]
    read = list(csv.reader(io.StringIO(as_table(("a", "b", "c", "d", "e"), rows))))
    assert read == [["a", "b", "c", "d", "e"], ["'=1+1", "'@x", "", "-0.5", "plain"], ["'-", "'+3", "", "7", "a=b"]]
