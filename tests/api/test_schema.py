"""Whatever is thrown at the API, it answers by its own description and never with a failure of its own."""

import tempfile
from pathlib import Path

import pytest
import schemathesis
from fastapi import FastAPI
from hypothesis import HealthCheck, settings
from schemathesis.checks import not_a_server_error
from schemathesis.specs.openapi.checks import response_schema_conformance, status_code_conformance

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


described = schemathesis.openapi.from_asgi(
    "/api/openapi.json", _app(Path(tempfile.mkdtemp())), headers={"host": "127.0.0.1"}
).exclude(path_regex="/events$")  # a stream without an end: tests/api/test_line.py reads it
#: Whole files are thrown at it in tests/api/test_no_harm.py; making them up takes longer than all the rest.
quick = described.exclude(path_regex="/import$")


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
