"""What stands around every station: whose run it is, where each station is, what was kept last."""

from datetime import UTC, datetime
from typing import Any

from ivory_table.core.changes import known_changes
from ivory_table.core.gauge import Gauge
from ivory_table.core.offset import Convention, convention
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.value import StationName, Value
from ivory_table.runs.entry import Entry, Source
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import StationLine, kept_when_signed, station_lines


class KeptRow(Value):
    """A row of the run as it is listed, newest first."""

    id: str
    at: datetime
    station: StationName
    source: Source
    words: str


class StationView(Value):
    """What every station's answer begins with; who and what the run is about is asked for once, at its head."""

    seq: int
    #: The newest row that still counts: what taking back takes back.
    last: KeptRow | None
    kept_at: datetime | None


def so_far(run: OpenRun) -> dict[str, Any]:
    """The beginning of every station's answer."""
    last = run.kept[-1] if run.kept else None
    return {
        "seq": run.seq,
        "last": _row(last, run.setup.machine) if last else None,
        "kept_at": run.entries[-1].at if run.entries else None,
    }


def _row(entry: Entry, machine: Machine) -> KeptRow:
    words = entry.what.words(machine)
    return KeptRow(id=entry.id, at=entry.at, station=entry.station, source=entry.source, words=words)


class ChangeLine(Value):
    id: str
    text: str


class Resume(Value):
    """A run that lay still: why it should be looked at before it goes on, and what may have changed."""

    words: str
    changes: tuple[ChangeLine, ...]


class RunHead(Value):
    id: str
    seq: int
    machine: Machine
    plate: Plate
    filament: Filament
    gauge: Gauge
    initials: str
    started_at: datetime
    kept_at: datetime | None
    stored_mm: float
    convention: Convention
    heated: str
    stations: tuple[StationLine, ...]
    rows: tuple[KeptRow, ...]
    readback_due: bool
    signed_off: bool
    #: Set when the run lay still for hours, or the machine was worked on since: what to say, and what to ask.
    resume: Resume | None
    #: Where each step is found on this machine, by the step's id.
    where: dict[str, str]


@kept_when_signed("head")
def head_of(run: OpenRun) -> RunHead:
    s, setup = run.state, run.setup
    alive = run.kept
    heated = ""
    if s.heated:
        heated = f"bed {s.heated.bed_c:.0f}°, tip {s.heated.nozzle_c:.0f}°"
    return RunHead(
        id=setup.id,
        seq=run.seq,
        machine=setup.machine.model_copy(update={"screws": s.screws}),
        plate=setup.plate,
        filament=setup.filament,
        gauge=setup.gauge,
        initials=setup.initials,
        started_at=setup.started_at,
        kept_at=run.entries[-1].at if run.entries else None,
        stored_mm=s.stored_mm,
        convention=convention(run.state.convention_id, run.manner),
        heated=heated,
        stations=station_lines(run),
        rows=tuple(_row(e, setup.machine) for e in reversed(alive[-40:])),
        readback_due=s.readback_due,
        signed_off=s.signed_off,
        resume=_resume(run),
        where={k: v for k, v in s.where.items() if v},
    )


#: After this long the plate is cold and the motors were released: nothing is taken for granted.
STILL_HOURS = 6.0


def _resume(run: OpenRun) -> Resume | None:
    if run.state.signed_off or not run.entries:
        return None
    hours = (datetime.now(UTC) - run.entries[-1].at).total_seconds() / 3600
    if hours < STILL_HOURS:
        return None
    ago = f"{hours:.0f} hours" if hours < 36 else f"{hours / 24:.0f} days"
    told = [c for c in known_changes() if c.id not in ("new_machine", "screws", "material")]
    return Resume(
        words=f"Nothing was kept here for {ago}. Home again, heat and hold again. What was changed meanwhile?",
        changes=tuple(ChangeLine(id=c.id, text=c.text) for c in told),
    )
