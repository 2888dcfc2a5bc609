"""Fixtures that the tests of the stations share."""

from collections.abc import Iterator
from pathlib import Path

import pytest

from ivory_table.core.manner import shipped
from ivory_table.demo.tidewater import GAUGES, MACHINES, furnish
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.link.door import Address, Doors
from ivory_table.link.manners import Manners
from ivory_table.practice.serve import Served, TcpPlug
from ivory_table.runs.run import OpenRun
from ivory_table.stations.lines import Lines
from ivory_table.stations.tram.entries import CentreFelt, Counted
from ivory_table.store.workshop import Workshop
from tests.stations.floor import PACE, Floor

from .keeping import keep, start


@pytest.fixture
def floor(tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Floor]:
    machine_id = getattr(request, "param", "kestrel")
    machine = next(m for m in MACHINES if m.id == machine_id)
    plug = TcpPlug(0)
    served = Served(machine, GAUGES[0], shipped(machine.manner), plug, seed=3, pace=PACE, file=None)
    practice = tmp_path / "practice"
    practice.mkdir()
    address = Address(line=plug.name, door=served.door.port, pace=PACE)
    (practice / f"{machine_id}.address.json").write_text(address.model_dump_json())
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    doors, manners = Doors(practice), Manners(tmp_path / "manners")
    desk = Desk(workshop, doors.hands_for, manners.get)
    desk.start(
        StartRun(
            id="run",
            machine_id=machine_id,
            plate_id=machine.plates[0].id,
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    found = Floor(desk, Lines(desk, manners, doors, tmp_path / "lines"), served, machine_id)
    yield found
    found.lines.close()
    served.end()
    workshop.close()


@pytest.fixture
def flat(desk: Desk) -> OpenRun:
    """Heron, trammed and its centre felt: the height is known to some hundredths."""
    run = start(desk, "heron")
    for _ in range(2):
        for screw in run.setup.machine.screws:
            run = keep(desk, "tram", Counted(screw=screw.name, marks=0, sure=True))
    return keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
