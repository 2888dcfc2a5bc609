"""The workshop's network: nobody comes in without a code, nobody does more than they were let in for."""

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from fastapi import FastAPI
from fastapi.testclient import TestClient
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.access.network import COOKIE, Network, secret_of
from ivory_table.access.roles import RANK, Role, needed
from ivory_table.api.app import create_app
from ivory_table.desk.desk import Desk
from ivory_table.link.status import Status
from ivory_table.stations.lines import ANSWER_S
from ivory_table.store.workshop import Workshop

SECRET = b"for the tests"


class Clock:
    def __init__(self) -> None:
        self.at = 1_800_000_000.0

    def __call__(self) -> float:
        return self.at


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def app(workshop: Workshop, desk: Desk, clock: Clock) -> FastAPI:
    return create_app(desk, network=Network(SECRET, now=clock))


def at(app: FastAPI, address: str = "192.168.4.31", host: str = "192.168.4.20:8765") -> TestClient:
    return TestClient(app, base_url=f"http://{host}", client=(address, 5000), raise_server_exceptions=False)


@pytest.fixture
def first(app: FastAPI) -> TestClient:
    return at(app, "127.0.0.1", "localhost:8765")


def let_in(
    app: FastAPI, first: TestClient, role: str, name: str = "tablet", address: str = "192.168.4.31"
) -> TestClient:
    invited = first.post("/api/network/codes", json={"name": name, "role": role})
    assert invited.status_code == 201, invited.text
    device = at(app, address)
    joined = device.post("/api/network/join", json={"code": invited.json()["code"]})
    assert joined.status_code == 200, joined.text
    return device


def addresses(app: FastAPI) -> Iterator[tuple[str, str]]:
    """Every address of the application, with something in the place of each id."""
    for path, methods in app.openapi()["paths"].items():
        for method in methods:
            yield method.upper(), re.sub(r"\{machine_id\}", "heron", re.sub(r"\{(?!machine_id)\w+\}", "x", path))


def test_a_code_lets_one_device_in_for_what_was_said(app: FastAPI, first: TestClient) -> None:
    invited = first.post("/api/network/codes", json={"name": "tablet at Heron", "role": "work"}).json()
    assert invited["qr"].startswith("data:image/svg+xml")
    assert invited["address"].endswith(f"/join#{invited['code']}")
    device = at(app)
    assert device.get("/api/network/me").json()["role"] is None
    assert device.get("/api/bench").json()["code"] == "not_let_in"
    # As somebody types it: in small letters, in two halves.
    typed = f"{invited['code'][:4].lower()}-{invited['code'][4:].lower()} "
    joined = device.post("/api/network/join", json={"code": typed})
    assert joined.json()["role"] == "work"
    cookie = joined.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert device.get("/api/bench").status_code == 200
    again = at(app, "192.168.4.32").post("/api/network/join", json={"code": invited["code"]})
    assert (again.status_code, again.json()["code"], again.json()["field"]) == (422, "code_unknown", "code")


def test_a_code_ends_after_ten_minutes(app: FastAPI, first: TestClient, clock: Clock) -> None:
    invited = first.post("/api/network/codes", json={"name": "tablet", "role": "look"}).json()
    clock.at += 601
    assert at(app).post("/api/network/join", json={"code": invited["code"]}).json()["code"] == "code_unknown"


def test_codes_cannot_be_guessed_in_numbers(app: FastAPI, first: TestClient) -> None:
    invited = first.post("/api/network/codes", json={"name": "tablet", "role": "move"}).json()
    device = at(app)
    told = [device.post("/api/network/join", json={"code": f"ABCD{k:04d}"}).json()["code"] for k in range(9)]
    assert told[:6] == ["code_unknown"] * 6
    assert set(told[6:]) == {"too_many_tries"}
    assert device.post("/api/network/join", json={"code": invited["code"]}).json()["code"] == "too_many_tries"
    # From many addresses together: sixty in ten minutes.
    codes = [
        at(app, f"192.168.5.{k}").post("/api/network/join", json={"code": f"WXYZ{k:04d}"}).json()["code"]
        for k in range(70)
    ]
    assert codes.count("code_unknown") <= 60
    assert codes[-1] == "too_many_tries"


@pytest.mark.parametrize("role", ["look", "work", "move"])
def test_no_role_does_more_than_it_may_at_any_address(app: FastAPI, first: TestClient, role: Role) -> None:
    device = let_in(app, first, role)
    tried = 0
    for method, path in addresses(app):
        asked = needed(method, path)
        if asked is None or RANK[asked] <= RANK[role]:
            continue
        answer = device.request(method, path, json={} if method != "GET" else None)
        assert (answer.status_code, answer.json()["code"]) == (403, "not_allowed"), f"{role} {method} {path}"
        tried += 1
    assert tried >= 4


def test_nobody_who_was_not_let_in_reads_or_writes_anything(app: FastAPI) -> None:
    stranger = at(app)
    for method, path in addresses(app):
        if path in ("/api/network/me", "/api/network/join"):
            continue
        answer = stranger.request(method, path, json={} if method != "GET" else None)
        assert (answer.status_code, answer.json()["code"]) == (401, "not_let_in"), f"{method} {path}"


def test_whatever_starts_a_motion_asks_for_the_role_that_moves() -> None:
    for path in (
        "/api/machines/heron/line/connect",
        "/api/machines/heron/line/answer",
        "/api/machines/heron/line/catch",
        "/api/machines/heron/line/recover",
        "/api/machines/heron/proving/home",
        "/api/runs/r/line/start",
        "/api/runs/r/line/nudge",
        "/api/runs/r/line/speed",
    ):
        assert needed("POST", path) == "move"
    assert needed("POST", "/api/machines/heron/line/stop") == "look"


@given(st.sampled_from(["POST", "PUT", "DELETE", "PATCH", "POSTT", "post"]), st.text(max_size=40))
def test_a_write_that_nobody_thought_of_asks_for_the_most(method: str, rest: str) -> None:
    assert needed(method, f"/api/machines/{rest.replace('/', '')}x/line/go") == "move"
    assert needed(method, f"/api/new{rest}") == "move"


@pytest.mark.parametrize(
    "forged",
    ["", "x", "d-1", "ImQtMSI.aaaaaa.bbbbbb", "ImhlcmUi.Z9-0Aw.k5ixGxgMBRxv0o8m5Xg9s0a6XkI", "here", "\x00", "é" * 40],
)
def test_a_forged_cookie_is_nobody_s(app: FastAPI, first: TestClient, forged: str) -> None:
    let_in(app, first, "move")
    stranger = at(app)
    answer = stranger.get("/api/bench", headers={"cookie": f"{COOKIE}={forged}".encode()})
    assert answer.status_code == 401


def test_a_cookie_of_another_workshop_is_nobody_s(app: FastAPI, first: TestClient, desk: Desk, clock: Clock) -> None:
    device = let_in(app, first, "move")
    elsewhere = at(create_app(desk, network=Network(b"another", now=clock)))
    elsewhere.cookies = device.cookies
    assert elsewhere.get("/api/bench").status_code == 401


@pytest.mark.parametrize(
    ("address", "headers"),
    [
        ("192.168.4.31", {"host": "localhost:8765"}),
        ("127.0.0.1", {"host": "localhost:8765", "x-forwarded-for": "192.168.4.31"}),
        ("127.0.0.1", {"host": "localhost:8765", "forwarded": "for=192.168.4.31"}),
        ("127.0.0.1", {"host": "192.168.4.20:8765"}),
        ("::ffff:192.168.4.31", {"host": "localhost"}),
    ],
)
def test_only_who_sits_there_is_at_the_first_machine(app: FastAPI, address: str, headers: dict[str, str]) -> None:
    assert at(app, address).get("/api/network/me", headers=headers).json()["role"] is None


def test_behind_a_proxy_the_first_machine_is_let_in_by_a_code_too(workshop: Workshop, desk: Desk) -> None:
    network = Network(SECRET, public="https://bench.local")
    app = create_app(desk, network=network)
    # A proxy on this machine that writes nothing about for whom it asks.
    near = at(app, "127.0.0.1", "127.0.0.1:8765")
    assert near.get("/api/bench").status_code == 401
    code, _ = network.new_code("the first machine", "here")
    joined = near.post("/api/network/join", json={"code": code}, headers={"origin": "https://bench.local"})
    assert joined.json()["role"] == "here"
    assert "secure" in joined.headers["set-cookie"].lower()


def test_a_name_that_can_be_made_to_point_here_is_refused(desk: Desk, workshop: Workshop) -> None:
    app = create_app(desk, network=Network(SECRET, names=frozenset({"bench.local"})))
    assert at(app, host="bench.local:8765").get("/api/network/me").status_code == 200
    refused = at(app, host="elsewhere.example").get("/api/network/me")
    assert (refused.status_code, refused.json()["code"]) == (400, "foreign_host")


def test_another_site_writes_nothing_through_a_device(app: FastAPI, first: TestClient) -> None:
    device = let_in(app, first, "move")
    refused = device.post("/api/runs", json={}, headers={"origin": "http://elsewhere.example"})
    assert refused.json()["code"] == "foreign_origin"
    own = device.post("/api/runs", json={}, headers={"origin": "http://192.168.4.20:8765"})
    assert own.json()["code"] != "foreign_origin"


def test_whoever_is_shut_out_is_out_at_once(app: FastAPI, first: TestClient) -> None:
    device = let_in(app, first, "move")
    kept = first.get("/api/network").json()["devices"][0]["device"]
    assert device.post(f"/api/network/devices/{kept['id']}/shut-out").status_code == 403
    shown = first.post(f"/api/network/devices/{kept['id']}/shut-out").json()
    assert shown["devices"][0]["device"]["shut_out_at"]
    assert device.get("/api/bench").status_code == 401
    words = [d["words"] for d in first.get("/api/network").json()["done"]]
    assert words[0] == "shut tablet out"


def test_a_role_is_changed_while_the_device_is_in(app: FastAPI, first: TestClient) -> None:
    device = let_in(app, first, "look")
    start = {"id": "r1", "machine_id": "heron", "plate_id": "heron-steel", "filament_id": "pla-white"}
    start |= {"gauge_id": "copy-paper", "initials": "mk"}
    assert device.post("/api/runs", json=start).status_code == 403
    kept = first.get("/api/network").json()["devices"][0]["device"]
    assert first.put(f"/api/network/devices/{kept['id']}", json={"name": "Heron", "role": "work"}).status_code == 200
    assert device.post("/api/runs", json=start).status_code == 201
    assert device.get("/api/network/me").json()["name"] == "Heron"


def test_a_device_leaves_by_itself(app: FastAPI, first: TestClient) -> None:
    device = let_in(app, first, "look")
    assert device.post("/api/network/leave").json()["role"] is None
    assert device.get("/api/bench").status_code == 401
    assert first.get("/api/network").json()["devices"][0]["device"]["shut_out_at"]


def test_without_a_network_nobody_can_be_let_in(desk: Desk, workshop: Workshop) -> None:
    alone = at(create_app(desk), "127.0.0.1", "localhost:8765")
    assert alone.get("/api/network/me").json() | {"words": ""} == {
        "on": False,
        "device": "here",
        "name": "the first machine",
        "role": "here",
        "words": "",
    }
    assert alone.post("/api/network/codes", json={"name": "x"}).json()["code"] == "no_network"
    assert at(create_app(desk)).get("/api/bench").json()["code"] == "foreign_host"


def test_the_key_is_made_once_and_is_the_owner_s(tmp_path: Path) -> None:
    made = secret_of(tmp_path)
    assert secret_of(tmp_path) == made
    assert len(made) == 32
    assert (tmp_path / "secret.key").stat().st_mode & 0o077 == 0


class Quiet:
    """A session that does nothing, as far as whose line it is is concerned."""

    over = False
    status = Status(state="idle")

    def cancel(self) -> None: ...

    def stop(self) -> None: ...


def test_one_is_at_a_line_and_hands_it_over(
    app: FastAPI, first: TestClient, clock: Clock, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = let_in(app, first, "move", "one")
    two = let_in(app, first, "move", "two", "192.168.4.32")
    looks = let_in(app, first, "look", "three", "192.168.4.33")
    app.state.lines._sessions["heron"] = Quiet()
    line = "/api/machines/heron/line"
    assert one.post(f"{line}/cancel").json()["held_by"]["name"] == "one"
    held = two.post(f"{line}/cancel")
    assert (held.status_code, held.json()["code"]) == (422, "line_held")
    assert "one" in held.json()["message"]
    # Stop is everybody's.
    assert looks.post(f"{line}/stop").status_code == 200
    asked = two.post(f"{line}/ask").json()
    assert (asked["held_by"]["name"], asked["asked_by"]["name"]) == ("one", "two")
    assert two.post(f"{line}/hand-over", json={"yes": True}).json()["code"] == "line_held"
    given = one.post(f"{line}/hand-over", json={"yes": True}).json()
    assert (given["held_by"]["name"], given["asked_by"]) == ("two", None)
    assert one.post(f"{line}/cancel").json()["code"] == "line_held"
    # Two is there and does not answer: asking again takes it, once some time has passed and the machine does nothing.
    now = 0.0
    monkeypatch.setattr("ivory_table.stations.lines.time.monotonic", lambda: now)
    one.post(f"{line}/ask")
    assert one.post(f"{line}/ask").json()["held_by"]["name"] == "two"
    now = ANSWER_S + 1
    assert one.post(f"{line}/ask").json()["held_by"]["name"] == "one"
    # One has gone home: whoever asks has it at once.
    clock.at += 61
    assert two.post(f"{line}/ask").json()["held_by"]["name"] == "two"
    words = [(d["name"], d["words"]) for d in first.get("/api/network").json()["done"]]
    assert ("one", "Heron: line handed over") in words
    assert ("three", "heron: Stop") in words
