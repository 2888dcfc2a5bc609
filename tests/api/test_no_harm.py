"""Whatever is sent, the server says a sentence, loses nothing, and hears Stop."""

import json
import sqlite3
import threading
from collections.abc import Iterator
from pathlib import Path
from types import SimpleNamespace

import httpx
import pytest

from ivory_table.api.app import create_app
from ivory_table.api.patience import Impatient
from ivory_table.core.setup import Learnt
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.practice.room import PracticeRoom
from ivory_table.store.workshop import Workshop

RUN = {
    "machine_id": "heron",
    "plate_id": "heron-steel",
    "filament_id": "pla-white",
    "gauge_id": "copy-paper",
    "initials": "mk",
}


def start(http: httpx.Client, run_id: str) -> None:
    assert http.post("/api/runs", json={"id": run_id, **RUN}).status_code == 201


def keep(http: httpx.Client, run_id: str, station: str, what: dict, row: str = "a", seen: int = 0) -> httpx.Response:
    return http.post(f"/api/runs/{run_id}/{station}", json={"id": f"{run_id}-{row}", "seen_seq": seen, "what": what})


def exported(http: httpx.Client, run_id: str) -> dict:
    start(http, run_id)
    return http.get(f"/api/runs/{run_id}/file").json()


@pytest.mark.parametrize(
    "text", ["1" * 199_000 + "x\n1 2", "1 2\n" + "7" * 100_000, "1,2\n3," + '"' + "4" * 150_000, "9" * 199_990]
)
def test_a_pasted_giant_is_refused_with_a_sentence(http: httpx.Client, text: str) -> None:
    """A number of a hundred thousand digits and then a letter took minutes, and held every other request."""
    start(http, "giant")
    body = {"text": text, "owns_zero": True}
    answer = http.post("/api/runs/giant/mesh/preview", json=body)
    assert answer.status_code == 422
    assert answer.json()["code"] == "unreadable_mesh"
    assert answer.json()["message"].startswith("Line ")


@pytest.mark.parametrize(
    "body",
    [
        {"format": "ivory-table-run", "version": 1, "setup": {}, "entries": [{"x": 1}] * 5001},
        {"format": "ivory-table-run", "entries": [{}] * 4000, "setup": {}},
        {f"field{k}": k for k in range(100_000)},
        {"setup": [[[[[[[[[[[[[[[[[[[[[[[[[[[[[]]]]]]]]]]]]]]]]]]]]]]]]]]]]]},
        [0] * 1_000_000,
        "no run at all",
    ],
    ids=["too many rows", "rows of nothing", "many fields", "deep", "numbers", "text"],
)
def test_a_wrong_file_is_refused_at_its_first_mistake(http: httpx.Client, body: object) -> None:
    answer = http.post("/api/runs/import", json=body)
    assert answer.status_code == 422
    assert len(answer.content) < 1000
    assert answer.json()["message"]


def test_a_body_that_is_not_json_and_one_that_is_too_large_are_refused(http: httpx.Client) -> None:
    assert http.post("/api/runs/import", content=b"{" * 5000).json()["code"] == "invalid_json_invalid"
    start(http, "big")
    assert keep(http, "big", "tram", {"kind": "signed_off", "note": "x" * 200_000}).status_code == 413


@pytest.mark.parametrize(
    ("change", "value"),
    [
        ("cov_ln", [[1.0, 0.0], [0.0]]),
        ("cov_ln", [[-1.0, 0, 0, 0], [0, 1, 0, 0], [0, 0, 1, 0], [0, 0, 0, 1]]),
        ("mean_ln", [1e300, 0, 0, 0]),
        ("gains", [0.1, 0.2]),
        ("gain_sds", [0.0] * 4),
    ],
)
def test_what_no_machine_can_have_taught_is_not_imported(http: httpx.Client, change: str, value: list) -> None:
    file = exported(http, "taught")
    good = {"mean_ln": [0.0] * 4, "cov_ln": [[float(i == j) for j in range(4)] for i in range(4)]}
    Learnt.model_validate(good)
    file["setup"] |= {"id": "taught-2", "learnt": {**good, "gains": [0.0] * 4, "gain_sds": [0.02] * 4, change: value}}
    answer = http.post("/api/runs/import", json=file)
    assert answer.status_code == 422, answer.text
    assert "learnt" in answer.json()["message"]


def test_a_change_nobody_knows_is_not_imported(http: httpx.Client) -> None:
    file = exported(http, "changed")
    row = {"id": "c1", "seq": 1, "at": "2026-03-02T12:00:00Z", "by": "mk", "source": "hand", "station": "prepare"}
    file["setup"]["id"] = "changed-2"
    told = http.post(
        "/api/runs/import",
        json={**file, "entries": [{**row, "what": {"kind": "change_told", "change": "the_moon"}}]},
    )
    assert (told.status_code, told.json()["code"]) == (422, "cannot_replay")
    file["setup"]["changes"] = ["the_moon"]
    assert http.post("/api/runs/import", json=file).json()["code"] == "cannot_replay"


def test_a_screw_that_is_not_there_is_a_refusal_in_every_row(http: httpx.Client) -> None:
    start(http, "screws")
    for what in (
        {"kind": "walked", "counts": [{"screw": "nowhere", "marks": 1}]},
        {"kind": "counted", "screw": "nowhere", "marks": 1},
        {"kind": "turned", "screw": "nowhere", "marks": 1},
        {"kind": "sense_tried", "screw": "nowhere", "felt": "tighter"},
        {"kind": "not_reached", "screw": "nowhere", "marks": 1, "still": "tight"},
        {"kind": "visited", "screw": "nowhere"},
    ):
        answer = keep(http, "screws", "tram", what)
        assert answer.status_code == 422, what
        assert "nowhere" in answer.json()["message"]


@pytest.mark.parametrize("text", ["a\\ud800b", "a\\u202eb", "\\u0007", "\\u2066x"])
def test_text_that_cannot_be_shown_is_refused(http: httpx.Client, text: str) -> None:
    start(http, "text")
    row = '{"id": "t", "seen_seq": 0, "what": {"kind": "signed_off", "note": "' + text + '"}}'
    answer = http.post("/api/runs/text/sign_off", content=row, headers={"content-type": "application/json"})
    assert answer.status_code == 422
    ordinary = {"kind": "signed_off", "note": "Rear left: spring renewed.\nŽofie, Ærø, 日本"}
    assert keep(http, "text", "sign_off", ordinary, "u").status_code == 200


@pytest.fixture
def alone(tmp_path: Path) -> Iterator[SimpleNamespace]:
    """The application without a server around it, so that its own parts can be held or broken."""
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    desk = Desk(workshop, PracticeRoom(tmp_path / "practice").hands_for)
    app = create_app(desk)
    yield SimpleNamespace(app=app, desk=desk, workshop=workshop, folder=tmp_path)
    app.state.lines.close()
    workshop.close()


@pytest.fixture
def ask(alone: SimpleNamespace) -> Iterator[httpx.Client]:
    from starlette.testclient import TestClient

    with TestClient(alone.app, base_url="http://127.0.0.1", raise_server_exceptions=False) as client:
        yield client


def test_stop_is_heard_while_every_other_thread_waits(alone: SimpleNamespace, ask: httpx.Client) -> None:
    """More requests than there are threads, all waiting for the desk; Stop is answered before any of them."""
    start(ask, "held")
    told = threading.Event()
    alone.app.state.lines.stop = lambda machine_id: told.set() or alone.app.state.lines.status(machine_id)
    answered: list[int] = []

    def look() -> None:
        answered.append(ask.get("/api/runs/held/tram").status_code)

    with alone.desk._lock:
        # In this thread the desk is held: whoever asks it waits.
        waiting = [threading.Thread(target=look, daemon=True) for _ in range(60)]
        for one in waiting:
            one.start()
        assert ask.post("/api/machines/heron/line/stop").status_code == 200
        assert told.is_set()
        assert answered == []
    for one in waiting:
        one.join(60)
    assert answered == [200] * 60


def test_a_row_of_an_unknown_kind_takes_no_other_run_with_it(alone: SimpleNamespace, ask: httpx.Client) -> None:
    for run in ("good", "odd"):
        start(ask, run)
        assert keep(ask, run, "prepare", {"kind": "caution_seen", "caution": "hot"}).status_code == 200
    with sqlite3.connect(alone.folder / "workshop.db") as file:
        row = json.loads(file.execute("select body from entry where id = 'odd-a'").fetchone()[0])
        row["what"] = {"kind": "danced", "steps": 3}
        file.execute("drop trigger if exists entry_is_never_changed")
        for (name,) in file.execute("select name from sqlite_master where type = 'trigger'").fetchall():
            file.execute(f"drop trigger {name}")
        file.execute("update entry set body = ? where id = 'odd-a'", (json.dumps(row),))
    alone.desk._open.clear()
    with sqlite3.connect(alone.folder / "workshop.db") as file:
        file.execute("delete from summary where run_id = 'odd'")
    words = {r["id"]: r["words"] for r in ask.get("/api/bench").json()["runs"]}
    assert words["odd"] == "cannot be read by this version"
    assert words["good"].startswith("at Prepare")
    refused = ask.get("/api/runs/odd/prepare")
    assert (refused.status_code, refused.json()["code"]) == (422, "unreadable_run")
    assert ask.get("/api/runs/good/prepare").status_code == 200


def test_a_disk_that_cannot_be_written_says_that_nothing_was_entered(
    alone: SimpleNamespace, ask: httpx.Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    start(ask, "full")

    def full(*_: object) -> None:
        raise sqlite3.OperationalError("database or disk is full")

    # As the driver says it, through the same layer that the real one comes through.
    from peewee import OperationalError

    monkeypatch.setattr(
        alone.workshop, "keep", lambda *_: (_ for _ in ()).throw(OperationalError("database or disk is full"))
    )
    answer = keep(ask, "full", "prepare", {"kind": "caution_seen", "caution": "hot"})
    assert (answer.status_code, answer.json()["code"]) == (507, "cannot_write")
    assert "Nothing was entered" in answer.json()["message"]
    monkeypatch.undo()
    assert keep(ask, "full", "prepare", {"kind": "caution_seen", "caution": "hot"}).status_code == 200


def test_what_nobody_foresaw_is_said_and_nothing_is_kept(
    alone: SimpleNamespace, ask: httpx.Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    start(ask, "odd")
    monkeypatch.setattr("ivory_table.desk.desk.doubt", lambda *_: 1 / 0)
    answer = keep(ask, "odd", "prepare", {"kind": "caution_seen", "caution": "hot"})
    assert (answer.status_code, answer.json()["code"]) == (500, "unforeseen")
    monkeypatch.undo()
    assert ask.get("/api/runs/odd/head").json()["seq"] == 0


def test_a_connection_that_says_nothing_is_closed_and_one_that_waits_for_us_is_not() -> None:
    """The protocol's own clock, driven by hand."""
    at = Impatient.__new__(Impatient)
    at.transport = SimpleNamespace(closed=False, is_closing=lambda: at.transport.closed)
    at.transport.close = lambda: setattr(at.transport, "closed", True)
    asked: list[float] = []
    at.loop = SimpleNamespace(call_later=lambda s, _: asked.append(s) or SimpleNamespace(cancel=lambda: None))
    for cycle, closes in (
        (None, True),
        (SimpleNamespace(response_complete=True, more_body=False), True),
        (SimpleNamespace(response_complete=False, more_body=True), True),
        (SimpleNamespace(response_complete=False, more_body=False), False),
    ):
        at.transport.closed, at.cycle = False, cycle
        at._has_been_silent()
        assert at.transport.closed is closes
    assert asked == [Impatient.silent_s]  # the one that waits for us is listened to further
