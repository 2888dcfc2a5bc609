"""A run in a few figures: all that the bench, a list of runs and the logbook need, so that none of them replays anything."""

from typing import NamedTuple

from pydantic import AwareDatetime

from ivory_table.core.drift import PlateSeen
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.setup import RunSetup
from ivory_table.core.value import Id, StoredMm, Value
from ivory_table.runs.standing import signed_pages

from .run import OpenRun
from .seen import seen_of
from .standing import RecordLine, StationLine, record_lines, station_lines

#: Grows when the computation changes what a run shows; a summary says by which it was made.
MATHS = 2


class Summary(Value):
    """What a run shows, by the version of the computation that made it."""

    maths: int = MATHS
    seq: int
    run_id: Id
    machine_id: Id
    machine_name: str
    plate_id: Id
    plate_name: str
    filament_name: str
    initials: str
    started_at: AwareDatetime
    last_at: AwareDatetime
    words: str
    signed_off: bool
    stations: tuple[StationLine, ...]
    record: tuple[RecordLine, ...]
    #: The range of the heights at the screws and its sd, in mm, as believed; None where there are no screws.
    spread_mm: tuple[float, float] | None
    #: Height of the plate's centre above the nozzle's zero and its sd, in mm, as believed.
    centre_mm: tuple[float, float]
    stored_mm: StoredMm
    #: Of the newest proof: zones graded sound, and zones printed; None where nothing was printed.
    zones_sound: tuple[int, int] | None
    #: The gaps as the run found them and as it leaves them; None where nothing was measured, or by an older version.
    found: PlateSeen | None = None
    left: PlateSeen | None = None
    #: What had changed before it, as ids of changes.
    changes: tuple[Id, ...] = ()
    #: What it was measured with and printed of; None in one kept by an older version.
    filament_id: Id | None = None
    gauge_id: Id | None = None


def in_line(run: Summary) -> str:
    """What stands in a run's line, in small letters: what it is found by."""
    parts = (run.machine_name, run.plate_name, run.filament_name, run.initials, run.words, f"{run.started_at:%Y-%m-%d}")
    return " ".join(parts).lower()


class MeshLeft(Value):
    """The mesh the machine follows when a run is left, and whether it is switched on."""

    survey: MeshSurvey | None
    on: bool


class Shown(NamedTuple):
    """All that is kept with a run's rows so that nobody has to replay them to see it."""

    summary: Summary
    left: MeshLeft
    pages: dict[str, str]


def shown_of(run: OpenRun) -> Shown:
    """What is to be kept of a run as it stands."""
    return Shown(summary_of(run), MeshLeft(survey=run.state.mesh, on=run.state.mesh_on), signed_pages(run))


def summary_of(run: OpenRun) -> Summary:
    """The figures of a run as it stands."""
    state, setup, stations = run.state, run.setup, station_lines(run)
    words = "started, nothing kept yet"
    if state.signed_off:
        words = "signed off"
    elif run.entries:
        here = next(s for s in stations if s.station == run.entries[-1].station)
        words = f"at {here.name}: {here.figure}"
    height, sd = state.belief.height([run.setup.plate.centre])
    proof = state.proofs[-1] if state.proofs else None
    seen = seen_of(run)
    return Summary(
        seq=run.seq,
        run_id=setup.id,
        machine_id=setup.machine.id,
        machine_name=setup.machine.name,
        plate_id=setup.plate_id,
        plate_name=setup.plate.name,
        filament_name=setup.filament.name,
        filament_id=setup.filament.id,
        gauge_id=setup.gauge.id,
        initials=setup.initials,
        started_at=setup.started_at,
        last_at=run.entries[-1].at if run.entries else run.setup.started_at,
        words=words,
        signed_off=state.signed_off,
        stations=stations,
        record=record_lines(run),
        spread_mm=state.belief.spread() if state.screws else None,
        centre_mm=(float(height[0]), float(sd[0])),
        stored_mm=state.stored_mm,
        zones_sound=proof.zones_sound if proof else None,
        found=seen[0] if seen else None,
        left=seen[1] if seen else None,
        changes=state.changes,
    )


def shown_of_unreadable(setup: RunSetup) -> Shown:
    """What is shown of a run whose rows this version cannot read: that it is there."""
    summary = Summary(
        maths=0,
        seq=0,
        run_id=setup.id,
        machine_id=setup.machine.id,
        machine_name=setup.machine.name,
        plate_id=setup.plate_id,
        plate_name=setup.plate.name,
        filament_name=setup.filament.name,
        filament_id=setup.filament.id,
        gauge_id=setup.gauge.id,
        initials=setup.initials,
        started_at=setup.started_at,
        last_at=setup.started_at,
        words="cannot be read by this version",
        signed_off=True,
        stations=(),
        record=(),
        spread_mm=None,
        centre_mm=(0.0, 0.0),
        stored_mm=0.0,
        zones_sound=None,
    )
    return Shown(summary, MeshLeft(survey=None, on=False), {})
