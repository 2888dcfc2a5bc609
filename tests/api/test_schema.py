"""Whatever is thrown at the API, it answers by its own description and never with a failure of its own."""

import tempfile
from functools import cache
from pathlib import Path

import pytest
import schemathesis
from fastapi import FastAPI
from fastapi.testclient import TestClient
from hypothesis import HealthCheck, settings
from schemathesis.checks import not_a_server_error
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
described = schemathesis.openapi.from_asgi("/api/openapi.json", SERVED, headers={"host": "127.0.0.1"}).exclude(
    path_regex="/events$"
)  # a stream without an end: tests/api/test_line.py reads it
#: Whole files are thrown at it in tests/api/test_no_harm.py, and bad rows in tests/api/test_api.py; making those up takes
#: longer than all the rest. `make slow` has everything.
quick = described.exclude(path_regex="/import$").exclude(
    method="POST", path_regex="/(prepare|tram|mesh|offset|first_layer|sign_off)$"
)


@quick.parametrize()
@settings(max_examples=3, deadline=None, suppress_health_check=list(HealthCheck))
def test_every_answer_fits_the_description(case: schemathesis.Case) -> None:
    fits(case)


@pytest.mark.slow
@described.parametrize()
@settings(max_examples=80, deadline=None, suppress_health_check=list(HealthCheck))
def test_whatever_is_thrown_at_it_the_answer_fits_the_description(case: schemathesis.Case) -> None:
    fits(case)


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
@described.parametrize()
@settings(max_examples=20, deadline=None, suppress_health_check=list(HealthCheck))
def test_whatever_a_device_sends_it_does_no_more_than_it_may(case: schemathesis.Case, role: Role) -> None:
    """Addresses beyond a role are refused before anything in the request is looked at."""
    device = _device(role)
    asked = needed(case.method.upper(), case.formatted_path)
    if asked is None or RANK[asked] <= RANK[role]:
        return
    body = case.body if isinstance(case.body, (dict, list, str, int, float, bool, type(None))) else None
    response = device.request(case.method, case.formatted_path, params=case.query or None, json=body)
    assert (response.status_code, response.json()["code"]) == (403, "not_allowed")


@cache
def _device(role: Role) -> TestClient:
    code, _ = NETWORK.new_code(role, role)
    cookie = NETWORK.join(code, role)[1]
    device = TestClient(NETWORKED, base_url="http://192.168.4.20", client=("192.168.4.31", 5000))
    device.cookies.set(COOKIE, cookie)
    return device
