"""The real server, on a real port, with the demo workshop."""

import socket
import threading
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import pytest
import uvicorn

from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.practice.plate import PracticeRoom
from ivory_table.stations.desk import Desk
from ivory_table.store.workshop import Workshop


@pytest.fixture(scope="module")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    folder: Path = tmp_path_factory.mktemp("served")
    workshop = Workshop(folder / "workshop.db")
    furnish(workshop)
    app = create_app(Desk(workshop, PracticeRoom(folder / "practice").hands_for))
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    server = uvicorn.Server(uvicorn.Config(app, host="127.0.0.1", port=port, log_level="warning"))
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    while not server.started:
        time.sleep(0.02)
    yield f"http://127.0.0.1:{port}"
    server.should_exit = True
    thread.join()


@pytest.fixture
def http(address: str) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=address, timeout=30) as client:
        yield client
