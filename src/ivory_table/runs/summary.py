"""A run in a few figures: all that the bench, a list of runs and the logbook need, so that none of them replays anything."""

from pydantic import AwareDatetime

from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.value import StoredMm, Value

from .run import OpenRun
from .standing import RecordLine, StationLine, record_lines, station_lines

#: Grows when the computation changes what a run shows; a summary says by which it was made.
MATHS = 1


class Summary(Value):
    """What a run shows, by the version of the computation that made it."""

    maths: int = MATHS
    seq: int
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
    #: The mesh the machine follows when the run is left, and whether it is switched on.
    mesh: MeshSurvey | None
    mesh_on: bool


def summary_of(run: OpenRun) -> Summary:
    """The figures of a run as it stands."""
    state, stations = run.state, station_lines(run)
    words = "started, nothing kept yet"
    if state.signed_off:
        words = "signed off"
    elif run.entries:
        here = next(s for s in stations if s.station == run.entries[-1].station)
        words = f"at {here.name}: {here.figure}"
    height, sd = state.belief.height([run.setup.plate.centre])
    proof = state.proofs[-1] if state.proofs else None
    sound = sum(1 for m in proof.marks.values() if m.grade == "sound") if proof else 0
    return Summary(
        seq=run.seq,
        last_at=run.entries[-1].at if run.entries else run.setup.started_at,
        words=words,
        signed_off=state.signed_off,
        stations=stations,
        record=record_lines(run),
        spread_mm=state.belief.spread() if state.screws else None,
        centre_mm=(float(height[0]), float(sd[0])),
        stored_mm=state.stored_mm,
        zones_sound=(sound, len(proof.plan.zones)) if proof else None,
        mesh=state.mesh,
        mesh_on=state.mesh_on,
    )
