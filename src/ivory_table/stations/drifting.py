"""How a plate of a machine drifts, by its runs and what happened in between, and what is to be expected of it."""

import itertools
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, date, datetime, timedelta
from functools import lru_cache
from threading import RLock

import numpy as np
from cachetools import LRUCache, cached
from pydantic import AwareDatetime

from ivory_table.core.defaults import DRIFT
from ivory_table.core.drift import MOST_STRETCHES, PlateSeen, Rates, Stretch, rates, stretch
from ivory_table.core.outlook import Outlook, outlook
from ivory_table.core.short_check import Check
from ivory_table.core.value import Value
from ivory_table.core.wear import Use
from ivory_table.core.words import signed
from ivory_table.runs.log import JUMPS, KIND_WORDS, LogEntry, used
from ivory_table.runs.summary import Summary
from ivory_table.store.workshop import Workshop

MOST_RUNS = 250
#: So many runs say how a machine wanders; more tell of another life of it.
RECENT = MOST_STRETCHES + 20


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


#: A correction so many days after a short check was made because of it.
_BECAUSE_DAYS = 1.0

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
        done = _on_the_way(entries, plate_id, before.left.places, before.last_at, after.started_at)
        moved = [check.moves(len(before.left.places)) for check in done]
        use = used(_on_plate(runs, entries, plate_id, before.last_at, after.started_at), days)
        found = stretch(before.left, after.found, use, jumped=jumped, moved=moved)
        if found is not None:
            out.append(found)
    return tuple(out)


def _on_the_way(
    entries: Sequence[LogEntry], plate_id: str, places: tuple[str, ...], left_at: datetime, before: datetime
) -> tuple[Check, ...]:
    """Short looks at a plate and corrections of it between two moments, oldest first."""
    found: list[Check] = []
    looked = -_BECAUSE_DAYS
    for e in sorted((e for e in entries if left_at < e.at < before), key=lambda e: e.at):
        day = round((e.at - left_at).total_seconds() / 86400, 2)
        if e.check is not None and e.check.plate_id == plate_id and e.check.place in places:
            place, right = places.index(e.check.place), e.check.put_right
            found.append(Check(day, place, e.check.off_mm, e.check.verdict, put_right=right))
            looked = day
        elif e.correction is not None and e.correction.plate_id == plate_id:
            because = day - looked < _BECAUSE_DAYS
            found.append(Check.correction(day, e.correction.away_mm, after_check=because))
    return tuple(found)


def _on_plate(
    runs: Sequence[Summary], entries: Sequence[LogEntry], plate_id: str, after: datetime, before: datetime
) -> tuple[LogEntry, ...]:
    """What was written down while a plate was on the machine: the one of the newest run by then; `runs` newest first."""

    def on_it(at: datetime) -> bool:
        return next((r.plate_id for r in runs if r.last_at <= at), plate_id) == plate_id

    return tuple(e for e in entries if after < e.at < before and on_it(e.at))


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
    runs, entries = workshop.figures.summaries(machine_id, RECENT), workshop.log(machine_id)
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


@dataclass(frozen=True)
class Drifting:
    """A plate since its newest run that measured it: how it was left, how fast it goes, what happened to it."""

    newest: Summary
    left: PlateSeen
    known: Rates
    done: Use
    happened: tuple[LogEntry, ...]
    checks: tuple[Check, ...]


def drifting(
    workshop: Workshop, machine_id: str, plate_id: str, now: datetime, marks: Marks | None = None
) -> Drifting | None:
    """None where no run has measured the plate."""
    entries = workshop.log(machine_id)
    for most in (RECENT, MOST_RUNS):
        runs = workshop.figures.summaries(machine_id, most)
        newest = next((r for r in runs if r.plate_id == plate_id and r.left is not None), None)
        if newest is not None or len(runs) < most:
            break
    if newest is None or newest.left is None:
        return None
    happened = _incidents(entries, newest.last_at, now + timedelta(days=1))
    return Drifting(
        newest=newest,
        left=newest.left,
        known=rates_of(workshop, machine_id, plate_id, runs, len(newest.left.places), marks),
        done=used(
            _on_plate(runs, entries, plate_id, newest.last_at, now), (now - newest.last_at).total_seconds() / 86400
        ),
        happened=happened,
        # What was looked at before something happened counts no more.
        checks=tuple(
            c
            for c in _on_the_way(entries, plate_id, newest.left.places, newest.last_at, now + timedelta(days=1))
            if all(e.at < newest.last_at + timedelta(days=c.day) for e in happened)
        ),
    )


def rates_of(
    workshop: Workshop,
    machine_id: str,
    plate_id: str,
    runs: Sequence[Summary],
    places: int,
    marks: Marks | None = None,
) -> Rates:
    """How fast a plate goes, by its own runs, newest first, and by what the workshop's other machines do."""
    gone = stretches(runs, workshop.log(machine_id), plate_id)
    return rates(gone, places, usual_of_others(workshop, machine_id, workshop.marks() if marks is None else marks))


@cached(LRUCache(maxsize=512), key=_asked_anew, lock=RLock())
def _expected(workshop: Workshop, machine_id: str, plate_id: str, today: date, marks: Marks) -> Expected | None:
    now = datetime.combine(today, datetime.now(UTC).timetz())
    of = drifting(workshop, machine_id, plate_id, now, marks)
    if of is None:
        return None
    zones = of.newest.zones_sound
    held = zones is not None and zones[0] == zones[1] >= _ZONES
    ahead = outlook(of.left, of.known, of.done, jumped=bool(of.happened), held=held, checks=of.checks)
    # Where there are short looks, somebody has looked since.
    happened = () if of.checks else of.happened
    p = float(np.interp(of.done.days, ahead.days, ahead.p_sound))
    due = None if ahead.due_in_days is None else of.newest.last_at + timedelta(days=ahead.due_in_days)
    return Expected(
        left_at=of.newest.last_at,
        since_days=round(of.done.days, 2),
        p_today=round(p, 3),
        due_at=due,
        words=_in_words(p, due, now, ahead, bool(happened)) + _prints_words(of, due, now) + _move_words(ahead),
        why=_why(of.left, of.known, ahead),
        outlook=ahead,
        since=tuple(KIND_WORDS[e.kind] for e in happened),
    )


#: So much of the drift goes by prints, as believed, before it is told in prints.
_BY_PRINTS = 0.4


def _prints_words(of: Drifting, due: datetime | None, now: datetime) -> str:
    """When it is due in prints, where it goes by them and they are written down."""
    pace = of.known.pace.prints
    if due is None or due <= now or pace is None or of.known.goes_by[1] < _BY_PRINTS:
        return ""
    left = round(pace * (due - now).total_seconds() / 86400)
    return f" That is about {left} print{'' if left == 1 else 's'} from now at the usual pace." if left else ""


def _goes_by_words(known: Rates) -> str:
    """What the drift goes by, where what was written down has told."""
    if not known.pace.known:
        return ""
    names = ("days", "prints", "the sheet being taken off")
    shares = [f"{name} {100 * share:.0f} %" for name, share in zip(names, known.goes_by, strict=True) if share >= 0.05]
    each = []
    if known.pace.prints is not None:
        each.append(f"{known.pace.prints:.1f} prints a day")
    if known.pace.removals is not None:
        each.append(f"the sheet off {known.pace.removals:.1f} times a day")
    return f"Usual: {', '.join(each)}. What it drifts by, as believed: {', '.join(shares)}."


def _move_words(ahead: Outlook) -> str:
    if not ahead.move_mm:
        return ""
    way = "closer" if ahead.move_mm < 0 else "further away"
    return f" {abs(ahead.move_mm):.2f} mm {way} would make it {100 * ahead.p_after_move:.0f} %: a quick correction on the bench."


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
    if words := _goes_by_words(known):
        lines.append(words)
    if ahead.wanders:
        way = "loosens" if ahead.wanders_mm_week > 0 else "comes up"
        lines.insert(
            0,
            f"{ahead.wanders.capitalize()} {way}: {abs(ahead.wanders_mm_week):.3f} mm a week beside the others "
            f"({'over 99' if ahead.wanders_p > 0.99 else f'{100 * ahead.wanders_p:.0f}'} % likely). Look at its spring and nut.",
        )
    return tuple(lines)
