"""A stored value sent, stored and read back."""

from ivory_table.core.entries import (
    OffsetSet,
    Readback,
)
from ivory_table.core.motion import lift
from ivory_table.core.offset import StoredChange, convention
from ivory_table.link.session import Cancelled

from ..desk import OpenRun, Refused
from ..first_layer import next_steps
from ..offset import now_at
from .work import Failed, Work


def store(work: Work) -> None:
    """The value found by feel, sent, stored and read back."""
    send_offset(work, now_at(work.now).wanted.new_mm)


def store_advised(work: Work) -> None:
    """The value that the judged proof asks for, sent, stored and read back."""
    best = advised_offset(work.now)
    if best is None:
        raise Refused("not_advised", "The offset is not what the proof asks for now.")
    send_offset(work, best.new_mm)


def advised_offset(run: OpenRun) -> StoredChange | None:
    steps = next_steps(run)
    return steps[0].stored if steps and steps[0].action.kind == "offset" else None


def send_offset(work: Work, stored_mm: float) -> None:
    run, session = work.now, work.session
    what = OffsetSet(stored_mm=stored_mm)
    work.desk.refuse(run, what)
    if session.status.homed:
        work.send(lift(work.state, session.manner))
    for line in convention(run.setup.machine.convention, session.manner).lines(stored_mm):
        session.progress(f"sending {line}")
        session.ask(line)
    work.keep(what)
    read_back(work)


def read_back(work: Work) -> None:
    how = convention(work.now.setup.machine.convention, work.session.manner)
    if not how.read:
        raise Cancelled("This machine stores nothing: the value is in the job's start code, and its readback is yours.")
    found = work.session.ask(how.read, "stored")
    if found is None:
        raise Failed(f"The machine did not say what it stored. Ask it yourself: {how.read}.")
    work.keep(Readback(reported_mm=float(found["value"])))
