"""A value sent over the line, stored and read back."""

from ivory_table.core.offset import convention
from ivory_table.link.trouble import Cancelled
from ivory_table.runs.doubts import doubt
from ivory_table.runs.motion import lift
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.work import Failed, Work


def send_offset(work: Work, stored_mm: float) -> None:
    run, session = work.now, work.session
    what = OffsetSet(stored_mm=stored_mm)
    doubt(what, run, "machine")
    if session.status.homed:
        work.send(lift(work.state, session.manner))
    for line in convention(run.state.convention_id, session.manner).lines(stored_mm):
        session.progress(f"sending {line}")
        session.ask(line)
    work.keep(what)
    read_back(work)


def read_back(work: Work) -> None:
    how = convention(work.now.state.convention_id, work.session.manner)
    if not how.read:
        raise Cancelled(
            "This machine stores nothing: the value is in the job's start code, and you say yourself that it is there."
        )
    found = work.session.ask(how.read, "stored")
    if found is None:
        raise Failed(f"The machine did not say what it stored. Ask it yourself: {how.read}.")
    work.keep(Readback(reported_mm=float(found["value"])))
