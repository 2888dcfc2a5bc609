"""Machines of the demo made otherwise, and their runs ended."""

from ivory_table.desk.desk import Desk
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.tram.entries import (
    SenseTried,
)

from .keeping import keep, practise


def renew(desk: Desk, machine_id: str, **part: object) -> None:
    """Change a machine as the set-up does."""
    old = desk.workshop.machine(machine_id)
    desk.workshop.keep_machine(old.model_copy(update=part))


def finish(desk: Desk, run_id: str = "run") -> None:
    keep(desk, "tram", SenseTried(screw="front left", felt="tighter"), run_id)
    practise(desk, "tram", run_id)
    keep(desk, "sign_off", SignedOff(), run_id)
