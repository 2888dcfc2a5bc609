"""Whatever is thrown at the API, it answers by its own description and never with a failure of its own."""

import tempfile
from collections.abc import Callable
from functools import cache
from pathlib import Path

import pytest
import schemathesis
from fastapi import FastAPI
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, given, settings
from schemathesis.checks import not_a_server_error
from schemathesis.schemas import BaseSchema
from schemathesis.specs.openapi.checks import response_schema_conformance, status_code_conformance

from ivory_table.access.network import COOKIE, Network
from ivory_table.access.roles import RANK, Role, needed
from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.practice.room import PracticeRoom
from ivory_table.store.workshop import Workshop


def _app(folder: Path) -> FastAPI:
    workshop = Workshop(folder / "workshop.db")
    furnish(workshop)
    desk = Desk(workshop, PracticeRoom(folder / "practice").hands_for)
    for run_id in ("0", "run"):
        desk.start(
            StartRun(
                id=run_id,
                machine_id="heron",
                plate_id="heron-steel",
                filament_id="pla-white",
                gauge_id="copy-paper",
                initials="mk",
            )
        )
    return create_app(desk)


SERVED = _app(Path(tempfile.mkdtemp()))


@cache
def described() -> BaseSchema:
    return schemathesis.openapi.from_asgi("/api/openapi.json", SERVED, headers={"host": "127.0.0.1"})


#: Every operation by its method and path: what is thrown at it is made up when it is its turn, and not when tests are collected.
#: A stream without an end is read in tests/api/test_line.py.
OPERATIONS = sorted(
    (method.upper(), path)
    for path, methods in SERVED.openapi()["paths"].items()
    for method in methods
    if not path.endswith("/events")
)
#: Whole files are thrown at it in tests/api/test_no_harm.py, and bad rows in tests/api/test_api.py; making those up takes
#: longer than all the rest. `make slow` has everything.
QUICK = [
    (method, path)
    for method, path in OPERATIONS
    if not path.endswith("/import")
    and not (
        method == "POST" and path.rsplit("/", 1)[1] in {"prepare", "tram", "mesh", "offset", "first_layer", "sign_off"}
    )
]


def thrown_at(method: str, path: str, examples: int, what: Callable[[schemathesis.Case], None]) -> None:
    """Made-up requests for one operation, one after the other."""

    @settings(max_examples=examples, deadline=None, suppress_health_check=list(HealthCheck))
    @given(described()[path][method].as_strategy())
    def each(case: schemathesis.Case) -> None:
        what(case)

    each()


@pytest.mark.parametrize(("method", "path"), QUICK)
def test_every_answer_fits_the_description(method: str, path: str) -> None:
    thrown_at(method, path, 3, fits)


@pytest.mark.slow
@pytest.mark.parametrize(("method", "path"), OPERATIONS)
def test_whatever_is_thrown_at_it_the_answer_fits_the_description(method: str, path: str) -> None:
    thrown_at(method, path, 80, fits)


def fits(case: schemathesis.Case) -> None:
    if "run_id" in (case.path_parameters or {}):
        case.path_parameters["run_id"] = "run"
    if "machine_id" in (case.path_parameters or {}):
        case.path_parameters["machine_id"] = "heron"
    response = case.call(headers={"host": "127.0.0.1"})
    case.validate_response(response, checks=(not_a_server_error, response_schema_conformance, status_code_conformance))


#: The same workshop, on a network.
NETWORK = Network(b"for the tests")
NETWORKED = create_app(SERVED.state.desk, network=NETWORK)


@pytest.mark.slow
@pytest.mark.parametrize("role", ["look", "work", "move"])
@pytest.mark.parametrize(("method", "path"), OPERATIONS)
def test_whatever_a_device_sends_it_does_no_more_than_it_may(method: str, path: str, role: Role) -> None:
    """Addresses beyond a role are refused before anything in the request is looked at."""
    device = _device(role)

    def refused(case: schemathesis.Case) -> None:
        asked = needed(case.method.upper(), case.formatted_path)
        if asked is None or RANK[asked] <= RANK[role]:
            return
        body = case.body if isinstance(case.body, (dict, list, str, int, float, bool, type(None))) else None
        response = device.request(case.method, case.formatted_path, params=case.query or None, json=body)
        assert (response.status_code, response.json()["code"]) == (403, "not_allowed")

    thrown_at(method, path, 20, refused)


@cache
def _device(role: Role) -> TestClient:
    code, _ = NETWORK.new_code(role, role)
    cookie = NETWORK.join(code, role)[1]
    device = TestClient(NETWORKED, base_url="http://192.168.4.20", client=("192.168.4.31", 5000))
    device.cookies.set(COOKIE, cookie)
    return device
