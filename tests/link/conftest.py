"""A practice machine on a real pty or a real TCP port, and sessions on it."""

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

import pytest

from ivory_table.core.manner import Manner, shipped
from ivory_table.demo.tidewater import GAUGES, MACHINES
from ivory_table.link.ports import open_port
from ivory_table.link.session import Session
from ivory_table.practice.serve import PtyPlug, Served, TcpPlug


def quick(manner_id: str, silence_s: float = 0.8) -> Manner:
    """A manner as shipped, but sooner at the end of its patience."""
    manner = shipped(manner_id)
    return manner.model_copy(update={"line": manner.line.model_copy(update={"silence_s": silence_s})})


@dataclass
class Bench:
    """A practice machine and how to reach it; everything opened here is closed at the end."""

    served: Served
    manner: Manner
    log: Path
    sessions: list[Session] = field(default_factory=list)

    @property
    def url(self) -> str:
        return self.served.plug.name

    def session(self) -> Session:
        found = Session(open_port(self.url), self.manner, self.log, pace=self.served.pace)
        self.sessions.append(found)
        until(lambda: found.status.state != "connecting")
        return found


def until(true: Callable[[], object], seconds: float = 60.0) -> None:
    """Wait for something that must come true."""
    ends = time.monotonic() + seconds
    while not true():
        assert time.monotonic() < ends, "it did not come true in time"
        time.sleep(0.02)


#: Each way of plugging in and each manner, not each with each: what one does to the other is nothing. The second with `make slow`;
#: a pty is opened in every run of the tests by tests/api/test_line.py.
@pytest.fixture(
    params=[("tcp", "harbour"), pytest.param(("pty", "lantern"), marks=pytest.mark.slow)],
    ids=["tcp-harbour", "pty-lantern"],
)
def plugged(request: pytest.FixtureRequest) -> tuple[str, Manner]:
    return request.param[0], quick(request.param[1])


@pytest.fixture
def plug(request: pytest.FixtureRequest, plugged: tuple[str, Manner]) -> str:
    return getattr(request, "param", plugged[0])


@pytest.fixture
def manner(plugged: tuple[str, Manner]) -> Manner:
    return plugged[1]


@pytest.fixture
def bench(plug: str, manner: Manner, tmp_path: Path) -> Iterator[Bench]:
    kestrel = next(m for m in MACHINES if m.id == "kestrel")
    at = PtyPlug() if plug == "pty" else TcpPlug(0)
    served = Served(kestrel, GAUGES[0], manner, at, seed=3, pace=400, file=tmp_path / "truth.json")
    found = Bench(served, manner, tmp_path / "line.log")
    yield found
    for session in found.sessions:
        session.close()
    served.end()
