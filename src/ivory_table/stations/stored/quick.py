"""A quick correction without a run: one number, one direction, proved by what the machine reports."""

from datetime import UTC, datetime
from typing import Annotated
from uuid import uuid4

from pydantic import Field

from ivory_table.core.defaults import OFFSET
from ivory_table.core.offset import StoredChange, convention, stored_after
from ivory_table.core.plate import Machine
from ivory_table.core.value import Initials, StoredMm, Value
from ivory_table.core.words import signed
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.runs.log import Correction, LogEntry
from ivory_table.stations.stored.doubts import refuse_other_than_meant

#: Above 0: closer to the plate.
CloserMm = Annotated[float, Field(ge=-1, le=1)]


class QuickChange(Value):
    """What a correction would store, whether the machine keeps it, and the line that then asks for it; empty where its own screen
    shows it."""

    change: StoredChange
    stores: bool
    read_line: str


class Corrected(Value):
    """A correction that was sent, and what the machine then reported; or the word that it is in the start code."""

    closer_mm: CloserMm
    reported_mm: StoredMm | None = None
    confirmed: bool = False
    #: Said when it is more than a correction usually is.
    sure: bool = False
    by: Initials = "?"


def quick_change(desk: Desk, machine_id: str, closer_mm: float) -> QuickChange:
    machine = desk.workshop.machine(machine_id)
    how = convention(machine.convention, desk.manner_of(machine))
    change = stored_after(machine.stored_mm, -closer_mm, how, machine.z_step_mm)
    return QuickChange(change=change, stores=how.stores, read_line=how.read)


def correct(desk: Desk, machine_id: str, what: Corrected) -> float:
    """The value now stored. Raises Refused for a large one, or where it was not stored as meant."""
    with desk.workshop.writing():
        machine = desk.workshop.machine(machine_id)
        if machine_id in desk.workshop.figures.newest_of_each(unfinished=True):
            raise Refused("run_is_open", "A run is open on this machine: set it there, or sign it off first.")
        wanted = quick_change(desk, machine_id, what.closer_mm)
        if what.closer_mm > OFFSET.quick_most_mm and not what.sure:
            raise Refused(
                "large_correction",
                f"{what.closer_mm:g} mm closer at once may run the tip into the plate. Feel it at Z offset in a run, or say "
                "that you are sure.",
                "closer_mm",
                insist=True,
            )
        if what.reported_mm is None and (wanted.stores or not what.confirmed):
            raise Refused("not_read_back", "Ask the machine what it stores now, and type it.", "reported_mm")
        new = wanted.change.new_mm
        refuse_other_than_meant(new, what.reported_mm, machine.z_step_mm)
        desk.workshop.keep_machine(machine.model_copy(update={"stored_mm": new}))
        _log(desk, machine, what.by, convention(machine.convention).sign * (new - machine.stored_mm))
    return new


def _log(desk: Desk, machine: Machine, by: str, away_mm: float) -> None:
    """For the drift of the plate that is mounted: that of the machine's newest run."""
    newest = desk.workshop.figures.summaries(machine.id, 1)
    plate = newest[0].plate_id if newest else machine.plates[0].id
    desk.workshop.keep_log(
        LogEntry(
            id=uuid4().hex,
            machine_id=machine.id,
            at=datetime.now(UTC),
            by=by,
            kind="correction",
            note=f"{signed(away_mm, 3)} mm away from the plate"
            if away_mm > 0
            else f"{-away_mm:.3f} mm closer to the plate",
            correction=Correction(plate_id=plate, away_mm=round(away_mm, 6)),
        )
    )
