"""After a change to a machine: what must be done again and what not, values foretold, and its settings before and after."""

import re
import threading
from datetime import UTC, datetime
from typing import Annotated

from pydantic import AwareDatetime, Field

from ivory_table.core.changes import known_changes
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Machine
from ivory_table.core.plate_values import foretold_for
from ivory_table.core.settings_text import LineDiffers, differences
from ivory_table.core.value import Id, Initials, Note, StationName, Value
from ivory_table.core.words import signed
from ivory_table.desk.knowledge import plate_values
from ivory_table.link.session import Session
from ivory_table.link.trouble import LineTrouble
from ivory_table.runs.common import STATION_TITLES
from ivory_table.runs.doubts import Refused
from ivory_table.store.snapshots import Snapshot, keep_snapshot, snapshot, snapshots
from ivory_table.store.workshop import Workshop

from .lines import Lines

#: What only comparing finds, nobody tells.
_FOUND_ONLY = {"screws"}
_CONVENTIONS = ("probe_offset", "home_offset", "stop_position", "live_only")
#: An answer of settings is there after so long, or never.
ANSWER_S = 60.0


class NamedChange(Value):
    """A change somebody can pick, what it makes void and what stays."""

    id: Id
    text: str
    again: tuple[StationName, ...]
    stays: tuple[StationName, ...]
    #: What was learnt of supports and knobs is void too.
    forgets: bool


class PlateLine(Value):
    """What a plate needs when it is mounted now."""

    plate_id: Id
    name: str
    words: str


class SnapshotLine(Value):
    id: Id
    at: AwareDatetime
    by: Initials
    note: Note
    lines: int


class AfterChange(Value):
    machine_id: Id
    machine_name: str
    changes: tuple[NamedChange, ...]
    titles: dict[StationName, str]
    plates: tuple[PlateLine, ...]
    snapshots: tuple[SnapshotLine, ...]
    #: Lines that only ask, as this machine knows them; what is sent when nothing else is given.
    asks: tuple[str, ...]
    on_line: bool


class TakeSnapshot(Value):
    """A report of settings: pasted as `text`, or asked for on the line by `lines`."""

    id: Id
    by: Initials
    note: Note = ""
    text: Annotated[str, Field(max_length=100_000)] = ""
    lines: Annotated[tuple[Annotated[str, Field(min_length=1, max_length=200)], ...], Field(max_length=12)] = ()


class Compared(Value):
    before: SnapshotLine
    after: SnapshotLine
    differences: tuple[LineDiffers, ...]
    words: str


def view(lines: Lines, machine_id: str) -> AfterChange:
    workshop = lines.desk.workshop
    machine = workshop.machine(machine_id)
    stations: list[StationName] = [s for s in STATION_TITLES if s != "sign_off"]
    return AfterChange(
        machine_id=machine.id,
        machine_name=machine.name,
        changes=tuple(
            NamedChange(
                id=c.id,
                text=c.text,
                again=c.starts_over,
                stays=tuple(s for s in stations if s not in c.starts_over),
                forgets=c.forgets,
            )
            for c in known_changes()
            if c.id not in _FOUND_ONLY
        ),
        titles=STATION_TITLES,
        plates=_plates(workshop, machine),
        snapshots=tuple(_line(s) for s in snapshots(machine_id)),
        asks=_asks(lines.desk.manner_of(machine), machine),
        on_line=lines.session(machine_id) is not None,
    )


def _plates(workshop: Workshop, machine: Machine) -> tuple[PlateLine, ...]:
    values = plate_values(workshop, machine)
    newest = max(values, key=lambda v: v.at, default=None)
    out = []
    for plate in (p for p in machine.plates if not p.retired):
        found = foretold_for(plate.id, values, machine.stored_mm)
        if newest is not None and newest.plate_id == plate.id:
            words = f"was on it last: {signed(newest.stored_mm, 3)}"
        elif found is not None:
            words = f"will need {signed(found.stored_mm, 3)} ± {2 * found.sd_mm:.3f}, from {found.changes} change{'s' if found.changes > 1 else ''} of plate"
        else:
            words = "never mounted after another here: find its value at Z offset, from a safe height"
        out.append(PlateLine(plate_id=plate.id, name=plate.name, words=words))
    return tuple(out)


def _asks(manner: Manner, machine: Machine) -> tuple[str, ...]:
    found = (getattr(manner.offset, machine.convention).read, manner.does.mesh_read)
    return tuple(line for line in found if line and "{" not in line)


def take(lines: Lines, machine_id: str, wanted: TakeSnapshot) -> AfterChange:
    """Keep what a machine reports. Raises Refused where nothing is reported, or a line would do more than ask."""
    machine = lines.desk.workshop.machine(machine_id)
    text = wanted.text.strip() or _asked(lines, machine, wanted.lines)
    keep_snapshot(
        Snapshot(
            id=wanted.id,
            machine_id=machine_id,
            at=datetime.now(UTC),
            by=wanted.by,
            note=wanted.note,
            line="" if wanted.text.strip() else "; ".join(wanted.lines)[:200],
            text=text,
        )
    )
    return view(lines, machine_id)


def _asked(lines: Lines, machine: Machine, wanted: tuple[str, ...]) -> str:
    """Everything said to lines that only ask."""
    manner = lines.desk.manner_of(machine)
    asks = wanted or _asks(manner, machine)
    if not asks:
        raise Refused(
            "nothing_to_ask",
            f"{machine.name} knows no line that reports a setting. Paste what it reports, or say which line asks.",
            "text",
        )
    acts = _acting(manner)
    for line in asks:
        # A reading word with a number behind it sets.
        if _first(line) in acts or "\n" in line or _sets(line, manner):
            raise Refused("does_more", f"'{line}' does more than ask: it is not sent from here.", "lines")
    session = lines.session(machine.id)
    if session is None:
        raise Refused("nobody_on_line", f"Take {machine.name} on the line first, or paste what it reports.", "text")
    said: list[str] = []
    done = threading.Event()

    def job(at: Session) -> None:
        try:
            for line in asks:
                said.extend((f"> {line}", *at.ask_lines(line)))
        finally:
            done.set()

    try:
        session.start("Asking for its settings", job)
    except LineTrouble as why:
        raise Refused("line_not_ready", str(why), "text") from None
    if not done.wait(ANSWER_S):
        raise Refused("silent", "Nothing was said in a minute. Look at the line, or paste what it reports.", "text")
    ack = re.compile(manner.says.ack) if manner.says.ack else None
    heard = [line for line in said if not (ack and ack.search(line))]
    if all(line.startswith("> ") for line in heard):
        raise Refused("silent", "It confirmed, and reported nothing. Say which line asks for its settings.", "lines")
    return "\n".join(heard)


def _first(line: str) -> str:
    return line.split()[0].upper() if line.split() else ""


def _sets(line: str, manner: Manner) -> bool:
    reads = {getattr(manner.offset, name).read for name in _CONVENTIONS} | {manner.does.mesh_read}
    return any(read and _first(line) == _first(read) and line.strip() != read for read in reads)


def _acting(manner: Manner) -> set[str]:
    """First words of lines that move, heat or change something, in this manner and in plain G-code."""
    asking = {"where", "temperatures", "trigger", "mesh_read", "counter", "settle"}
    lines = [template for name, template in manner.does if name not in asking and template]
    for name in _CONVENTIONS:
        of = getattr(manner.offset, name)
        lines += [x for x in (of.store,) if x]
        # Where the same word reads without a number and sets with one, it reads only as it stands.
        lines += [of.set] if of.set and _first(of.set) != _first(of.read) else []
    plain = {"G0", "G1", "G2", "G3", "G10", "G11", "G28", "G29", "G92", "M104", "M106", "M109", "M140", "M190", "M84"}
    return {_first(line) for line in lines if _first(line) != _first(manner.does.mesh_read or " ")} | plain


def _line(kept: Snapshot) -> SnapshotLine:
    return SnapshotLine(id=kept.id, at=kept.at, by=kept.by, note=kept.note, lines=len(kept.text.splitlines()))


def compare(workshop: Workshop, machine_id: str, before_id: str, after_id: str) -> Compared:
    """Two reports of a machine, line against line."""
    workshop.machine(machine_id)
    before, after = snapshot(machine_id, before_id), snapshot(machine_id, after_id)
    found = differences(before.text, after.text)
    changed, gone = (sum(1 for d in found if d.kind == kind) for kind in ("changed", "gone"))
    words = "Nothing differs." if not found else f"{changed} changed, {gone} gone, {len(found) - changed - gone} new."
    return Compared(before=_line(before), after=_line(after), differences=found, words=words)
