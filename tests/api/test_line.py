"""The line over HTTP, with the demo and its practice machines as processes of their own."""

import json
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
from typer.testing import CliRunner

from ivory_table.cli.app import app
from tests.api.test_command import served

RUN = {
    "id": "r",
    "machine_id": "heron",
    "plate_id": "heron-steel",
    "filament_id": "pla-white",
    "gauge_id": "copy-paper",
    "initials": "mk",
}


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    with served([sys.executable, "-m", "ivory_table.cli"], tmp_path_factory.mktemp("demo"), pace=300) as (_, address):
        yield address


@pytest.fixture
def http(demo: str) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=demo, timeout=120) as client:
        client.post("/api/runs", json=RUN)
        yield client
        client.post("/api/machines/heron/line/disconnect")


def state(http: httpx.Client) -> dict:
    return http.get("/api/machines/heron/line").json()


def until(http: httpx.Client, wanted: str, seconds: float = 30) -> dict:
    ends = time.monotonic() + seconds
    while (now := state(http))["state"] != wanted:
        assert time.monotonic() < ends, now
        time.sleep(0.05)
    return now


def connect(http: httpx.Client) -> None:
    ends = time.monotonic() + 15
    while state(http)["url"] is None:  # the practice machines start beside the server
        assert time.monotonic() < ends
        time.sleep(0.1)
    assert http.post("/api/machines/heron/line/connect", json={}).status_code == 200
    until(http, "idle")


def test_connect_home_and_leave(http: httpx.Client) -> None:
    connect(http)
    again = http.post("/api/machines/heron/line/connect", json={})
    assert again.status_code == 422
    assert "on the line already" in again.json()["message"]
    offers = http.get("/api/runs/r/line", params={"station": "prepare"}).json()["offers"]
    assert [o["job"] for o in offers] == ["prove", "heat", "home", "cool"]
    assert all(o["moves"] for o in offers)
    http.post("/api/runs/r/line/start", json={"id": "h", "station": "prepare", "job": "home"})
    ends = time.monotonic() + 20
    while not state(http)["homed"]:
        assert time.monotonic() < ends
        time.sleep(0.05)
    until(http, "idle")
    log = http.get("/api/machines/heron/line/log")
    assert "attachment" in log.headers["content-disposition"]
    assert re.search(r"^\d{4}-\d\d-\d\dT[\d:.]+Z sent .*G28", log.text, re.MULTILINE)
    assert http.post("/api/machines/heron/line/disconnect").json()["state"] == "nobody"


def test_changes_are_pushed_as_they_happen_and_a_new_listener_hears_the_present(http: httpx.Client) -> None:
    connect(http)

    def heard(seconds: float) -> list[dict]:
        found, ends = [], time.monotonic() + seconds
        with http.stream("GET", "/api/machines/heron/line/events") as stream:
            assert stream.headers["content-type"].startswith("text/event-stream")
            for line in stream.iter_lines():
                if line.startswith("data: "):
                    found.append(json.loads(line[6:]))
                    if found[-1]["state"] == "halted" or time.monotonic() > ends:
                        break
                    if len(found) == 1:
                        http.post("/api/machines/heron/line/stop")
        return found

    told = heard(10)
    assert told[0]["state"] == "idle"
    assert told[-1]["state"] == "halted"
    assert heard(5)[0]["state"] == "halted"
    assert http.post("/api/machines/heron/line/recover").status_code == 200
    until(http, "idle")


def test_a_question_is_answered_once(http: httpx.Client) -> None:
    connect(http)
    http.post("/api/runs/r/line/start", json={"id": "p", "station": "prepare", "job": "prove"})
    asked = until(http, "waiting")
    assert asked["answers"] == ["yes", "no"]
    wrong = http.post("/api/machines/heron/line/answer", json={"text": "perhaps"})
    assert wrong.status_code == 422
    other = http.post("/api/machines/heron/line/answer", json={"text": "yes", "question": "an older one"})
    assert other.json()["code"] == "not_asked"
    assert http.post("/api/machines/heron/line/answer", json={"text": "no"}).status_code == 200
    until(http, "idle")
    late = http.post("/api/machines/heron/line/answer", json={"text": "no"})
    assert late.json()["code"] == "not_asked"


@pytest.mark.parametrize(
    ("path", "body", "code"),
    [
        ("/api/machines/nobody/line/connect", {}, "unknown"),
        ("/api/machines/heron/line/connect", {"url": "http://x"}, "cannot_open"),
        ("/api/machines/heron/line/connect", {"manner": "unheard-of"}, "bad_manner"),
        ("/api/machines/heron/line/stop", None, "nobody_on_line"),
        ("/api/runs/r/line/start", {"id": "x", "station": "tram", "job": "visit"}, "nobody_on_line"),
        ("/api/runs/r/line/nudge", {"away_mm": 0.02}, "nobody_on_line"),
        ("/api/runs/r/line/nudge", {"away_mm": 9}, "not_acceptable"),
        ("/api/runs/r/practice/fault", {"name": "earthquake"}, "practice"),
    ],
)
def test_refusals_have_one_shape(http: httpx.Client, path: str, body: dict | None, code: str) -> None:
    answer = http.post(path, json=body)
    assert 400 <= answer.status_code < 500
    assert answer.json()["message"]
    assert code in answer.json()["code"] or code == "not_acceptable"


def test_a_practice_machine_alone_on_a_pty_or_a_port(tmp_path: Path) -> None:
    for extra in (["--pty"], ["--port", "0"]):
        process = subprocess.Popen(
            [sys.executable, "-m", "ivory_table.cli", "practice", "heron", "--pace", "50", "--seed", "4", *extra],
            stdout=subprocess.PIPE,
            text=True,
        )
        try:
            said = process.stdout.readline()
            assert re.match(r"Heron on (/dev/pts/\d+|socket://127\.0\.0\.1:\d+), its side door on port \d+", said)
        finally:
            process.kill()
    wrong = CliRunner().invoke(app, ["practice", "albatross"])
    assert wrong.exit_code == 2
    assert "no practice machine called albatross" in wrong.stderr.replace("\n", " ").replace("│ ", "")
