"""Prints by the machine's own count: asked when it is met on the line, and put in the logbook by themselves."""

from contextlib import suppress
from datetime import UTC, datetime
from uuid import uuid4

from ivory_table.link.session import Session
from ivory_table.link.trouble import NotConfirmed, Refusal
from ivory_table.runs.log import LogEntry
from ivory_table.store.workshop import Workshop

#: Who has entered what nobody typed.
BY_ITSELF = "the line"


def count_prints(workshop: Workshop, machine_id: str, session: Session) -> None:
    """Ask a machine that counts its prints, and keep how many were made since it was asked last."""
    if not (session.manner.can("counter") and session.manner.says.counter):
        return
    # A machine that does not know the word has no count: nothing else is in the way.
    with suppress(Refusal, NotConfirmed):
        found = session.ask(session.manner.send("counter"), "counter")
        if found is not None and (made := float(found["prints"])) >= 0:
            keep_count(workshop, machine_id, int(made), datetime.now(UTC))


def keep_count(workshop: Workshop, machine_id: str, made: int, at: datetime) -> None:
    """Put the prints since the last count in the logbook. The first count, and one that began anew, is noted as it stands."""
    before = next((e.counter for e in workshop.log(machine_id) if e.counter is not None), None)
    if made == before:
        return
    entry = LogEntry(id=str(uuid4()), machine_id=machine_id, at=at, by=BY_ITSELF, kind="note", counter=made)
    if before is None or made < before:
        anew = "" if before is None else f", after {before}: it has begun anew"
        entry = entry.model_copy(update={"note": f"Its own count of prints stands at {made}{anew}."})
    else:
        entry = entry.model_copy(update={"kind": "prints", "count": made - before})
    workshop.keep_log(entry)
