"""The logbook of a machine: what each run found and left, what happened in between, and what is to be expected."""

import csv
import io
import itertools
from collections.abc import Mapping, Sequence
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from threading import RLock
from typing import Annotated

import numpy as np
from cachetools import LRUCache, cached
from icalendar import Calendar, Event
from pydantic import AwareDatetime, Field

from ivory_table.core.defaults import DRIFT
from ivory_table.core.drift import MOST_STRETCHES, Check, Outlook, PlateSeen, Rates, Stretch, outlook, rates, stretch
from ivory_table.core.plate import Machine, Plate
from ivory_table.core.value import Id, Initials, Note, StoredMm, Value
from ivory_table.core.words import signed
from ivory_table.runs.doubts import Refused
from ivory_table.runs.log import JUMPS, KIND_WORDS, HeaterTuned, LogEntry, LogKind, ShortCheck
from ivory_table.runs.summary import Summary
from ivory_table.store.workshop import Workshop

MOST_RUNS = 250
#: So many runs say how a machine wanders; more tell of another life of it.
RECENT = MOST_STRETCHES + 20


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


class Expected(Value):
    """What is to be expected of a plate as it was left."""

    left_at: AwareDatetime
    since_days: float
    #: The chance that every place is sound today.
    p_today: float
    due_at: AwareDatetime | None
    words: str
    why: tuple[str, ...]
    outlook: Outlook
    #: Something happened since that nobody has looked at.
    since: tuple[str, ...]


class LogbookView(Value):
    machine_id: Id
    machine_name: str
    plate_id: Id
    plates: tuple[tuple[Id, str], ...]
    points: tuple[RunPoint, ...]
    entries: tuple[LogEntry, ...]
    kinds: dict[LogKind, str]
    expected: Expected | None


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
    if told.kind == "heater" and told.heater is None:
        raise Refused("heater_missing", "Say which heater, at what temperature, and how far it swings now.", "heater")
    if told.kind == "check":
        _refuse_check(workshop.machine(machine_id), told.check)
    if told.kind == "note" and not told.note.strip():
        raise Refused("note_missing", "Say what is to be noted.", "note")
    workshop.keep_log(LogEntry(machine_id=machine_id, **{**dict(told), "at": at}))


def _refuse_check(machine: Machine, check: ShortCheck | None) -> None:
    """Raises Refused for a check that says nothing, or of a place that is not there."""
    if check is None or (check.off_mm is None) == (check.verdict is None):
        raise Refused("check_missing", "Say how far it was off, or how one patch held there: one of the two.", "check")
    if check.plate_id not in {p.id for p in machine.plates}:
        raise Refused("unknown_plate", f"{machine.name} has no plate '{check.plate_id}'.", "check")
    if machine.screws and check.place not in {"centre", *(s.name for s in machine.screws)}:
        raise Refused("unknown_place", f"{machine.name} has no '{check.place}'.", "check")


def view(workshop: Workshop, machine_id: str, plate_id: str | None = None, now: datetime | None = None) -> LogbookView:
    """A machine's logbook, of the plate that its newest run was with unless another is asked for."""
    machine = workshop.machine(machine_id)
    runs = workshop.summaries(machine_id, MOST_RUNS)
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


#: What a run with another filament finds is the same plate; every other change may have moved it.
_NO_JUMP = {"material"}


def stretches(runs: Sequence[Summary], entries: Sequence[LogEntry], plate_id: str) -> tuple[Stretch, ...]:
    """Between each two runs of a plate that measured it, oldest first; `runs` newest first."""
    of_plate = [r for r in reversed(runs) if r.plate_id == plate_id and r.left is not None]
    out = []
    for before, after in itertools.pairwise(of_plate):
        if before.left is None or after.found is None:
            continue
        jumped = bool(set(after.changes) - _NO_JUMP) or _incidents(entries, before.last_at, after.started_at) != ()
        days = (after.started_at - before.last_at).total_seconds() / 86400
        found = stretch(before.left, after.found, days, jumped=jumped)
        if found is not None:
            out.append(found)
    return tuple(out)


def _incidents(entries: Sequence[LogEntry], after: datetime, before: datetime) -> tuple[LogEntry, ...]:
    return tuple(e for e in entries if e.kind in JUMPS and after < e.at < before)


#: A proof of so many zones shows the whole plate.
_ZONES = 5
#: A machine teaches the others from so many stretches on.
_TEACHES = 4


#: Of every machine what changes whenever something that counts here was kept.
Marks = Mapping[str, str]


def usual_of_others(workshop: Workshop, but: str, marks: Marks) -> tuple[float, float] | None:
    """Mean ln rates of the workshop's other machines; None where none of them has a history yet."""
    owns = (_own_usual(workshop, machine_id, mark) for machine_id, mark in marks.items() if machine_id != but)
    found = [own for own in owns if own is not None]
    return (float(np.mean([f[0] for f in found])), float(np.mean([f[1] for f in found]))) if found else None


@lru_cache(maxsize=256)
def _own_usual(workshop: Workshop, machine_id: str, mark: str) -> tuple[float, float] | None:
    runs, entries = workshop.summaries(machine_id, RECENT), workshop.log(machine_id)
    for plate in dict.fromkeys(r.plate_id for r in runs):
        gone = stretches(runs, entries, plate)
        if len(gone) >= _TEACHES:
            return rates(gone, len(gone[0].change)).usual
    return None


def expected(
    workshop: Workshop, machine_id: str, plate_id: str, now: datetime, marks: Marks | None = None
) -> Expected | None:
    """What is to be expected of a plate; None where no run has measured it. `marks`: of all machines, if they are known."""
    marks = workshop.marks() if marks is None else marks
    return _expected(workshop, machine_id, plate_id, now.date(), marks) if machine_id in marks else None


def _asked_anew(workshop: Workshop, machine_id: str, plate_id: str, today: date, marks: Marks) -> tuple[object, ...]:
    """Once a day, or when something is kept of the machine itself: what the others teach it moves slowly."""
    return workshop, machine_id, plate_id, today, marks[machine_id]


@cached(LRUCache(maxsize=512), key=_asked_anew, lock=RLock())
def _expected(workshop: Workshop, machine_id: str, plate_id: str, today: date, marks: Marks) -> Expected | None:
    entries = workshop.log(machine_id)
    for most in (RECENT, MOST_RUNS):
        runs = workshop.summaries(machine_id, most)
        newest = next((r for r in runs if r.plate_id == plate_id and r.left is not None), None)
        if newest is not None or len(runs) < most:
            break
    if newest is None or newest.left is None:
        return None
    gone = stretches(runs, entries, plate_id)
    known = rates(gone, len(newest.left.places), usual_of_others(workshop, machine_id, marks))
    now = datetime.combine(today, datetime.now(UTC).timetz())
    since = max((now - newest.last_at).total_seconds() / 86400, 0.0)
    happened = _incidents(entries, newest.last_at, now + timedelta(days=1))
    held = newest.zones_sound is not None and newest.zones_sound[0] == newest.zones_sound[1] >= _ZONES
    checks = _checks(entries, newest, happened)
    ahead = outlook(newest.left, known, since_days=since, jumped=bool(happened), held=held, checks=checks)
    if checks:
        # Somebody has looked since.
        happened = ()
    p = float(np.interp(since, ahead.days, ahead.p_sound))
    due = None if ahead.due_in_days is None else newest.last_at + timedelta(days=ahead.due_in_days)
    return Expected(
        left_at=newest.last_at,
        since_days=round(since, 2),
        p_today=round(p, 3),
        due_at=due,
        words=_in_words(p, due, now, ahead, bool(happened)),
        why=_why(newest.left, known, ahead),
        outlook=ahead,
        since=tuple(KIND_WORDS[e.kind] for e in happened),
    )


def _checks(entries: Sequence[LogEntry], newest: Summary, happened: Sequence[LogEntry]) -> tuple[Check, ...]:
    """Short looks at a plate since its last run; none of them counts where something has happened after it."""
    left = newest.left
    after = max((e.at for e in happened), default=newest.last_at)
    found = []
    for e in entries:
        of = e.check
        if left is None or of is None or of.plate_id != newest.plate_id or of.place not in left.places or e.at < after:
            continue
        day = round((e.at - newest.last_at).total_seconds() / 86400, 2)
        found.append(Check(day=day, place=left.places.index(of.place), off_mm=of.off_mm, verdict=of.verdict))
    return tuple(found)


def _in_words(p: float, due: datetime | None, now: datetime, ahead: Outlook, happened: bool) -> str:
    chance = f"Every place is still sound with {int(100 * round(p, 3) + 0.5)} %."
    if happened:
        return f"{chance} Something happened since that nobody has looked at: look again now, at {ahead.check} first."
    if due is None:
        return f"{chance} It is not due within {ahead.days[-1]:.0f} days."
    if due <= now:
        return f"{chance} It is due: look at {ahead.check} first; that takes two minutes and tells most."
    return f"{chance} Look again by {due:%d %b}, at {ahead.check} first."


def _why(left: PlateSeen, known: Rates, ahead: Outlook) -> tuple[str, ...]:
    common, own = (float(np.exp(v)) for v in known.usual)
    widest = left.places[int(np.argmax(left.sds))]
    lines = [
        f"The last run left it known to {left.sds.min():.3f} to {left.sds.max():.3f} mm; least at {widest}.",
        f"Its height wanders by about {common * 7**0.5:.3f} mm in a week, each support by {own * 7**0.5:.3f} mm.",
        f"Sound is {signed(left.low_mm - left.target_mm, 3)} to {signed(left.high_mm - left.target_mm, 3)} mm about the gap aimed at; "
        f"it is due when the chance falls below {100 * (1 - DRIFT.risk):.0f} %.",
    ]
    if ahead.wanders:
        way = "loosens" if ahead.wanders_mm_week > 0 else "comes up"
        lines.insert(
            0,
            f"{ahead.wanders.capitalize()} {way}: {abs(ahead.wanders_mm_week):.3f} mm a week beside the others "
            f"({'over 99' if ahead.wanders_p > 0.99 else f'{100 * ahead.wanders_p:.0f}'} % likely). Look at its spring and nut.",
        )
    return tuple(lines)


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
    marks, of_each = workshop.marks(), workshop.newest_of_each()
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
