"""The logbook of a machine: what each run found and left, what happened in between, and what is to be expected."""

import csv
import io
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Annotated

from icalendar import Calendar, Event
from pydantic import AwareDatetime, Field

from ivory_table.core.drift import PlateSeen
from ivory_table.core.plate import Machine, Plate
from ivory_table.core.value import Id, Initials, Note, StoredMm, Value
from ivory_table.runs.doubts import Refused
from ivory_table.runs.log import KIND_WORDS, HeaterTuned, LogEntry, LogKind, ShortCheck
from ivory_table.runs.summary import Summary
from ivory_table.store.workshop import Workshop

from .drifting import MOST_RUNS, Expected, expected


class RunPoint(Value):
    """One run as the logbook shows it."""

    run_id: Id
    at: AwareDatetime
    by: Initials
    plate_id: Id
    filament: str
    signed_off: bool
    words: str
    stored_mm: StoredMm
    zones_sound: tuple[int, int] | None
    changes: tuple[str, ...]
    found: PlateSeen | None
    left: PlateSeen | None


class LogbookView(Value):
    machine_id: Id
    machine_name: str
    plate_id: Id
    plates: tuple[tuple[Id, str], ...]
    points: tuple[RunPoint, ...]
    entries: tuple[LogEntry, ...]
    kinds: dict[LogKind, str]
    expected: Expected | None
    #: Screws whose knob can be turned right after a short check.
    knobs: tuple[str, ...]


class TellLog(Value):
    """Something that happened. Told twice under one id, it is one entry; `at` is now where it is left out."""

    id: Id
    by: Initials
    kind: LogKind
    note: Note = ""
    count: Annotated[int, Field(ge=1, le=100_000)] | None = None
    hours: Annotated[float, Field(gt=0, le=100_000)] | None = None
    heater: HeaterTuned | None = None
    check: ShortCheck | None = None
    at: AwareDatetime | None = None


def tell(workshop: Workshop, machine_id: str, told: TellLog) -> None:
    workshop.machine(machine_id)
    now = datetime.now(UTC)
    at = told.at or now
    if at > now + timedelta(minutes=5):
        raise Refused("in_the_future", "This is still to come. Give the day it happened.", "at")
    if told.kind == "prints" and told.count is None and told.hours is None:
        raise Refused("count_missing", "Say how many prints were done, or how many hours.", "count")
    if told.kind == "removals" and told.count is None:
        raise Refused("count_missing", "Say how often the sheet was taken off.", "count")
    if told.kind == "heater" and told.heater is None:
        raise Refused("heater_missing", "Say which heater, at what temperature, and how far it swings now.", "heater")
    if told.kind == "correction":
        raise Refused(
            "corrected_elsewhere", "Make the correction on the bench: it is proved there, and kept here.", "kind"
        )
    if told.kind == "check":
        _refuse_check(workshop.machine(machine_id), told.check)
    if told.kind == "note" and not told.note.strip():
        raise Refused("note_missing", "Say what is to be noted.", "note")
    workshop.keep_log(LogEntry(machine_id=machine_id, **{**dict(told), "at": at}))


def _refuse_check(machine: Machine, check: ShortCheck | None) -> None:
    """Raises Refused for a check that says nothing, or of a place that is not there."""
    if check is None or (check.off_mm is None) == (check.verdict is None):
        raise Refused("check_missing", "Say how far it was off, or how one patch held there: one of the two.", "check")
    if check.put_right and (check.off_mm is None or check.place not in {s.name for s in machine.screws}):
        raise Refused(
            "no_knob",
            "A knob is turned until it is right at a screw, with the gauge: say by how much it was off.",
            "check",
        )
    if check.plate_id not in {p.id for p in machine.plates}:
        raise Refused("unknown_plate", f"{machine.name} has no plate '{check.plate_id}'.", "check")
    if machine.screws and check.place not in {"centre", *(s.name for s in machine.screws)}:
        raise Refused("unknown_place", f"{machine.name} has no '{check.place}'.", "check")


def view(workshop: Workshop, machine_id: str, plate_id: str | None = None, now: datetime | None = None) -> LogbookView:
    """A machine's logbook, of the plate that its newest run was with unless another is asked for."""
    machine = workshop.machine(machine_id)
    runs = workshop.figures.summaries(machine_id, MOST_RUNS)
    plate = plate_asked(machine, runs, plate_id).id
    entries = workshop.log(machine_id)
    return LogbookView(
        machine_id=machine_id,
        machine_name=machine.name,
        plate_id=plate,
        plates=tuple((p.id, p.name) for p in machine.plates),
        points=tuple(_point(r) for r in runs if r.plate_id == plate),
        entries=entries,
        kinds=KIND_WORDS,
        expected=expected(workshop, machine_id, plate, now or datetime.now(UTC)),
        knobs=tuple(s.name for s in machine.screws),
    )


def plate_asked(machine: Machine, runs: Sequence[Summary], plate_id: str | None) -> Plate:
    """The plate that is asked for; else that of its newest run, or its first. `runs` newest first. Raises Refused."""
    wanted = plate_id or (runs[0].plate_id if runs else machine.plates[0].id)
    found = next((p for p in machine.plates if p.id == wanted), None)
    if found is None:
        raise Refused("unknown_plate", f"{machine.name} has no plate '{wanted}'.", "plate")
    return found


def _point(run: Summary) -> RunPoint:
    return RunPoint(
        run_id=run.run_id,
        at=run.last_at,
        by=run.initials,
        plate_id=run.plate_id,
        filament=run.filament_name,
        signed_off=run.signed_off,
        words=run.words,
        stored_mm=run.stored_mm,
        zones_sound=run.zones_sound,
        changes=run.changes,
        found=run.found,
        left=run.left,
    )


def as_csv(found: LogbookView) -> str:
    """Found and left of every run and every place, one line each, newest first."""
    out = io.StringIO()
    table = csv.writer(out)
    table.writerow(
        ["at", "by", "run", "plate", "filament", "stored_mm", "when", "place", "gap_mm", "sd_mm", "off_target_mm"]
    )
    for point in found.points:
        for when, seen in (("found", point.found), ("left", point.left)):
            if seen is None:
                continue
            for name, gap, sd, off in zip(seen.places, seen.gap_mm, seen.sds, seen.off, strict=True):
                table.writerow(
                    [
                        point.at.isoformat(),
                        point.by,
                        point.run_id,
                        point.plate_id,
                        point.filament,
                        point.stored_mm,
                        when,
                        name,
                        f"{gap:.4f}",
                        f"{sd:.4f}",
                        f"{off:+.4f}",
                    ]
                )
    return out.getvalue()


def as_calendar(workshop: Workshop, now: datetime) -> str:
    """Due days of every machine, as a calendar to subscribe to."""
    calendar = Calendar()
    calendar.add("version", "2.0")
    calendar.add("prodid", "-//Ivory Table//due//EN")
    marks, of_each = workshop.marks(), workshop.figures.newest_of_each()
    for machine in workshop.machines():
        if machine.retired:
            continue
        newest = of_each.get(machine.id)
        found = expected(workshop, machine.id, newest.plate_id, now, marks) if newest else None
        if found is None or found.due_at is None:
            continue
        due = Event()
        due.add("uid", f"due-{machine.id}@ivory-table")
        due.add("dtstamp", now)
        due.add("dtstart", found.due_at.date())
        due.add("summary", f"{machine.name}: look at the first layer")
        due.add("description", found.words)
        calendar.add_component(due)
    return str(calendar.to_ical(), "utf-8")
