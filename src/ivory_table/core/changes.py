"""What changed since the last run, and what starts over because of it."""

from typing import Any

from .defaults import PREPARE
from .offset import StoredChange, convention, stored_after
from .setup import RunSetup
from .value import Id, StationName, Value


class Change(Value):
    """One change, what starts over, and whether what was learnt of the machine is void."""

    id: Id
    text: str
    starts_over: tuple[StationName, ...]
    forgets: bool
    #: Whether the feed that was measured holds no longer: its steps may be others.
    feeds_anew: bool = False
    #: Found by comparing with the last run, not told by a person.
    found: bool = False


def known_changes() -> tuple[Change, ...]:
    """Every change a person can tell, from the table of the trade."""
    rows: list[dict[str, Any]] = PREPARE["changes"]
    return tuple(Change.model_validate(row) for row in rows)


def change(change_id: str, *, found: bool = False) -> Change:
    """Raises ValueError for one that is not known."""
    for known in known_changes():
        if known.id == change_id:
            return known.model_copy(update={"found": found})
    raise ValueError(f"There is no change called '{change_id}'.")


def found_changes(before: RunSetup | None, now: RunSetup) -> tuple[Change, ...]:
    """What differs between the last run's set-up and this one's; a machine without a run is new."""
    if before is None:
        return (change("new_machine", found=True),)
    a, b = before.machine, now.machine
    differs = {
        "plate": before.plate_id != now.plate_id,
        "layer": before.plate_id == now.plate_id and before.plate.layers != now.plate.layers,
        "nozzle": (a.nozzle_mm, a.nozzle_id) != (b.nozzle_mm, b.nozzle_id),
        # What was found of the same probe is no change of it.
        "probe": (a.probe and a.probe.untaught()) != (b.probe and b.probe.untaught()),
        "screws": [(s.x_mm, s.y_mm, s.pitch_mm) for s in a.screws] != [(s.x_mm, s.y_mm, s.pitch_mm) for s in b.screws],
        "material": before.filament.id != now.filament.id,
    }
    return tuple(change(name, found=True) for name, is_so in differs.items() if is_so)


def foretold(before: RunSetup | None, now: RunSetup, stored_mm: float) -> StoredChange | None:
    """The value to store before anything is printed, when only the thickness on the base changed and is known.

    A plate that is thicker by d needs the nozzle d further away. A probe that touches the plate itself
    finds that by its own; there nothing changes.
    """
    if before is None or now.machine.convention == "probe_offset":
        return None
    old, new = before.plate.stack_mm, now.plate.stack_mm
    if old is None or new is None or abs(new - old) < 1e-6:
        return None
    return stored_after(stored_mm, new - old, convention(now.machine.convention), now.machine.z_step_mm)
