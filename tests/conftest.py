"""What every test works with: the workshop of the demo, on a real file."""

import os
import socket
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import SimpleNamespace

import pytest
import uvicorn
from fastapi import FastAPI
from hypothesis import settings
from serial.urlhandler import protocol_socket

from ivory_table.api.app import create_app
from ivory_table.core.setup import RunSetup
from ivory_table.demo.tidewater import FILAMENTS, GAUGES, MACHINES, furnish
from ivory_table.desk.desk import Desk
from ivory_table.practice.room import PracticeRoom
from ivory_table.runs.entry import Entry
from ivory_table.runs.row import Row
from ivory_table.runs.state import RunState
from ivory_table.store.workshop import Workshop

# Where a change is judged, the same examples every time; at the desk, new ones each time.
# How long an example takes says nothing on a machine that does other things as well.
settings.register_profile("here", deadline=None)
settings.load_profile("here")
settings.register_profile("judged", derandomize=True, deadline=None)
if os.environ.get("CI"):
    settings.load_profile("judged")

# Closing a socket, pyserial gives its server 0.3 s "in case of quick reconnects": the practice machine needs none.
protocol_socket.time = SimpleNamespace(sleep=lambda _: None)

NOON = datetime(2026, 3, 2, 12, 0, tzinfo=UTC)


def setup_for(machine_id: str, run_id: str = "run", gauge: int = 0) -> RunSetup:
    machine = next(m for m in MACHINES if m.id == machine_id)
    return RunSetup(
        id=run_id,
        machine=machine,
        plate_id=machine.plates[0].id,
        filament=next(f for f in FILAMENTS if f.id == "pla-white"),
        gauge=GAUGES[gauge],
        initials="mk",
        started_at=NOON,
        neighbours_alike=True,
        form_apart=True,
        causes_considered=True,
    )


def entry(seq: int, what: Row, station: str = "tram") -> Entry:
    return Entry.model_validate(
        {"id": f"e{seq}", "seq": seq, "at": NOON, "by": "mk", "source": "hand", "station": station, "what": what}
    )


def after(state: RunState, *whats: Row, station: str = "tram") -> RunState:
    for k, what in enumerate(whats, 1):
        state = state.apply(entry(k, what, station))
    return state


@pytest.fixture
def workshop(tmp_path: Path) -> Workshop:
    found = Workshop(tmp_path / "workshop.db")
    furnish(found)
    yield found
    found.close()


@pytest.fixture
def desk(workshop: Workshop, tmp_path: Path) -> Desk:
    return Desk(workshop, PracticeRoom(tmp_path / "practice").hands_for)


@contextmanager
def serving(folder: Path, *, furnished: bool = True) -> Iterator[str]:
    """The real server, on a real port, with the demo workshop, or none, in a folder of its own."""
    workshop = Workshop(folder / "workshop.db")
    if furnished:
        furnish(workshop)
    desk = Desk(workshop, PracticeRoom(folder / "practice", seed=11).hands_for)
    with listening(create_app(desk, practise=lambda: furnish(workshop))) as at:
        yield at


@contextmanager
def listening(app: FastAPI) -> Iterator[str]:
    """An application on a real port."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    config = uvicorn.Config(app, host="127.0.0.1", port=port, log_level="warning", timeout_graceful_shutdown=1)
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    app.state.lines.close()
    server.should_exit = True
    thread.join()
