"""What a new run begins with, unless somebody chooses otherwise."""

import pytest

from ivory_table.desk.desk import Desk, StartRun
from ivory_table.runs.summary import Summary
from ivory_table.stations import bench
from ivory_table.store.tables import SummaryRow

from .keeping import start


def began(desk: Desk, machine_id: str) -> tuple[str, str, str]:
    (line,) = [m for m in bench.view(desk).machines if m.machine.id == machine_id]
    found = line.begin_with
    return found.plate_id, found.filament_id, found.gauge_id


def test_a_run_begins_with_what_the_machine_ran_last(desk: Desk) -> None:
    first = began(desk, "heron")
    # Nothing was run yet: its first plate, and the plastic whose tip is the coolest.
    assert first[0] == desk.workshop.machine("heron").plates[0].id
    assert first[1] == "pla-white"
    plate = desk.workshop.machine("heron").plates[1].id
    last = (plate, "petg-grey", "feeler-010")
    assert last[1:] != first[1:]
    desk.start(
        StartRun(id="one", machine_id="heron", plate_id=plate, filament_id=last[1], gauge_id=last[2], initials="mk")
    )
    assert began(desk, "heron") == last
    # On another machine what the workshop ran last, on a plate of its own.
    assert began(desk, "kestrel") == ("kestrel-smooth", *last[1:])


def test_of_a_run_kept_by_an_older_version_the_filament_is_known_by_name(desk: Desk) -> None:
    start(desk, "heron")
    (line,) = SummaryRow.select().where(SummaryRow.run == "run")
    older = Summary.model_validate_json(line.body).model_copy(
        update={"filament_id": None, "gauge_id": None, "filament_name": "PETG grey"}
    )
    line.body = older.model_dump_json()
    line.save()
    assert began(desk, "heron")[1] == "petg-grey"


@pytest.mark.parametrize("kind", ["filament", "gauge"])
def test_what_is_no_longer_there_is_not_begun_with(desk: Desk, kind: str) -> None:
    workshop = desk.workshop
    plate = workshop.machine("heron").plates[0].id
    desk.start(
        StartRun(
            id="one",
            machine_id="heron",
            plate_id=plate,
            filament_id="petg-grey",
            gauge_id="feeler-010",
            initials="mk",
        )
    )
    if kind == "filament":
        workshop.keep_filament(workshop.filament("petg-grey").model_copy(update={"retired": True}))
    else:
        workshop.keep_gauge(workshop.gauge("feeler-010").model_copy(update={"retired": True}))
    _, filament, gauge = began(desk, "heron")
    assert (filament == "petg-grey") == (kind == "gauge")
    assert (gauge == "feeler-010") == (kind == "filament")
    assert filament
    assert gauge
