"""A first layer went bad: what is known of the time since it was good, what is likeliest, and the value that worked."""

from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Annotated

from pydantic import AwareDatetime, Field

from ivory_table.core.gone_bad import LOOKS, Look, Suspect, suspects
from ivory_table.core.outlook import blame
from ivory_table.core.plate import Machine
from ivory_table.core.setup import RunSetup
from ivory_table.core.value import Id, Initials, StoredMm, Value
from ivory_table.core.wear import Use
from ivory_table.core.words import signed
from ivory_table.runs.log import KIND_WORDS, LogEntry, LogKind, used
from ivory_table.runs.summary import Summary
from ivory_table.store.trouble import Unreadable
from ivory_table.store.workshop import Workshop

from .drifting import MOST_RUNS, rates_of
from .logbook import plate_asked

#: What each kind of entry may have brought about.
_BROUGHT: dict[LogKind, str] = {
    "knock": "knocked",
    "torn_off": "knocked",
    "moved": "knocked",
    "firmware": "settings",
    "part": "part",
}
#: So many values that worked are shown.
MOST_WORKED = 5


class Worked(Value):
    """A stored value with which the layer held, and under what."""

    run_id: Id
    at: AwareDatetime
    by: Initials
    stored_mm: StoredMm
    filament: str
    nozzle_mm: float
    bed_c: float
    tip_c: float
    #: Zones that were graded sound, of those printed; None where nothing was printed.
    zones_sound: tuple[int, int] | None
    #: The same filament and nozzle as asked about now.
    alike: bool


class WhatChanged(Value):
    machine_id: Id
    machine_name: str
    plate_id: Id
    plates: tuple[tuple[Id, str], ...]
    looks: dict[Look, str]
    look: Look | None
    good: Annotated[str, Field(description="When it was last good, in words.")]
    #: What is known of the time since, newest first.
    since: tuple[str, ...]
    suspects: tuple[Suspect, ...]
    worked: tuple[Worked, ...]


def view(
    workshop: Workshop,
    machine_id: str,
    plate_id: str | None = None,
    look: Look | None = None,
    filament_id: str | None = None,
    now: datetime | None = None,
) -> WhatChanged:
    """Raises Unknown or Refused for a machine or plate that is not there."""
    now = now or datetime.now(UTC)
    machine = workshop.machine(machine_id)
    runs = workshop.figures.summaries(machine_id, MOST_RUNS)
    plate = plate_asked(machine, runs, plate_id).id
    good = next((r for r in runs if r.plate_id == plate and _held(r)), None)
    entries = [e for e in workshop.log(machine_id) if good is not None and e.at > good.last_at]
    setup = _setup(workshop, good)
    happened = _happened(machine, plate, runs, entries, good, setup, filament_id)
    days = max((now - good.last_at).total_seconds() / 86400, 0.0) if good else 0.0
    prints = sum(e.prints for e in entries)
    drift, place = _drifted(workshop, machine, plate, runs, good, used(entries, days))
    return WhatChanged(
        machine_id=machine.id,
        machine_name=machine.name,
        plate_id=plate,
        plates=tuple((p.id, p.name) for p in machine.plates),
        looks=LOOKS,
        look=look,
        good=_good_words(good, days, prints),
        since=tuple(_told(machine, entries, happened, good, setup, days, drift)),
        suspects=suspects(
            look,
            drift=drift,
            happened=frozenset(happened),
            days=days,
            prints=prints,
            place=place,
            stored=signed(good.stored_mm, 3) if good else "",
        ),
        worked=_worked(workshop, machine, plate, runs, filament_id or (setup.filament.id if setup else None)),
    )


def _held(run: Summary) -> bool:
    """Whether a run ended with a layer that holds."""
    return run.signed_off or (run.zones_sound is not None and run.zones_sound[0] == run.zones_sound[1] > 0)


def _setup(workshop: Workshop, run: Summary | None) -> RunSetup | None:
    try:
        return workshop.run(run.run_id) if run else None
    except Unreadable:
        return None


def _happened(
    machine: Machine,
    plate_id: str,
    runs: Sequence[Summary],
    entries: Sequence[LogEntry],
    good: Summary | None,
    setup: RunSetup | None,
    filament_id: str | None,
) -> set[str]:
    """Causes that are on record since the layer was good."""
    found = {_BROUGHT[e.kind] for e in entries if e.kind in _BROUGHT}
    if good is None or setup is None:
        return found
    later = [r for r in runs if r.started_at > good.started_at]
    plate = next(p for p in machine.plates if p.id == plate_id)
    if any(r.plate_id != plate_id for r in later) or plate.layers != setup.plate.layers:
        found.add("plate")
    elif machine.convention == setup.machine.convention and (
        abs(machine.stored_mm - good.stored_mm) > machine.z_step_mm / 2
    ):
        found.add("stored")
    if (machine.nozzle_mm, machine.nozzle_id) != (setup.machine.nozzle_mm, setup.machine.nozzle_id):
        found.add("part")
    if filament_id not in (None, setup.filament.id) or any(r.filament_name != good.filament_name for r in later):
        found.add("filament")
    return found


def _drifted(
    workshop: Workshop, machine: Machine, plate_id: str, runs: Sequence[Summary], good: Summary | None, done: Use
) -> tuple[dict[str, float], str]:
    """Chances that height, support or form have left what is sound, and the support that would be it."""
    if good is None or good.left is None:
        return {"height": 0.1, "support": 0.1, "form": 0.02}, ""
    known = rates_of(workshop, machine.id, plate_id, runs, len(good.left.places))
    found = blame(good.left, known, done, held=good.zones_sound is not None and _held(good))
    shares = {"height": found.height, "support": found.support, "form": found.form}
    if not machine.screws:
        # Without knobs a tilt is the form's, which a mesh follows.
        shares |= {"support": 0.0, "form": found.support + found.form}
    return {name: found.p_unsound * share for name, share in shares.items()}, found.place


def _good_words(good: Summary | None, days: float, prints: int) -> str:
    if good is None:
        return "No run of this plate ended well yet: nothing is known to have changed."
    ago = "today" if days < 1 else f"{days:.0f} day{'s' if round(days) != 1 else ''} ago"
    printed = f", {prints} print{'s' if prints != 1 else ''} since" if prints else ""
    return f"Last good {ago}: {good.filament_name}, stored {signed(good.stored_mm, 3)} mm, {good.initials}{printed}."


def _told(
    machine: Machine,
    entries: Sequence[LogEntry],
    happened: set[str],
    good: Summary | None,
    setup: RunSetup | None,
    days: float,
    drift: dict[str, float],
) -> list[str]:
    """What is known of the time since, in sentences."""
    lines = [f"{e.at:%d %b}: {KIND_WORDS[e.kind]}{f' ({e.note})' if e.note else ''}." for e in entries[:8]]
    if good is None:
        return lines
    if "stored" in happened:
        lines.append(
            f"The machine is known to hold {signed(machine.stored_mm, 3)} now; {signed(good.stored_mm, 3)} worked."
        )
    if "plate" in happened:
        lines.append("Another plate or layer was on it since.")
    if setup and machine.nozzle_mm != setup.machine.nozzle_mm:
        lines.append(f"The nozzle was {setup.machine.nozzle_mm:g} mm, it is {machine.nozzle_mm:g} mm now.")
    if "filament" in happened:
        lines.append(f"It held with {good.filament_name}; another filament was asked about or used since.")
    lines.append(
        f"By its own drift alone it would have left what is sound with {100 * sum(drift.values()):.0f} % in {days:.0f} days."
    )
    return lines


def _worked(
    workshop: Workshop, machine: Machine, plate_id: str, runs: Sequence[Summary], filament_id: str | None
) -> tuple[Worked, ...]:
    """Values that worked on this plate, those with the same filament and nozzle first, then the newest."""
    found = []
    for run in [r for r in runs if r.plate_id == plate_id and _held(r)][: 4 * MOST_WORKED]:
        setup = _setup(workshop, run)
        if setup is None or setup.machine.convention != machine.convention:
            continue  # a number under another convention says nothing here
        found.append(
            Worked(
                run_id=run.run_id,
                at=run.last_at,
                by=run.initials,
                stored_mm=run.stored_mm,
                filament=run.filament_name,
                nozzle_mm=setup.machine.nozzle_mm,
                bed_c=setup.filament.bed_c,
                tip_c=setup.filament.nozzle_c,
                zones_sound=run.zones_sound,
                alike=setup.filament.id == filament_id and setup.machine.nozzle_mm == machine.nozzle_mm,
            )
        )
    return tuple(sorted(found, key=lambda w: not w.alike)[:MOST_WORKED])
