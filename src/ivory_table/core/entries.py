"""What can be kept in a run. Entries are only ever added; taking back is an entry too."""

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import AwareDatetime, FailFast, Field, model_validator

from .bead import Grade
from .beam import BeamReading
from .eye import Eye
from .feelcheck import FeelTry
from .gauge import Feel, FeelScale, Gauge
from .mesh import MOST_POINTS, MeshSurvey
from .plate import Filament, Machine, Plate
from .proof import ProofPlan
from .thermal import ThermalReading, ThermalStudy
from .value import FineMm, Id, Initials, Label, Note, PlaceMm, Printable, StoredMm, Value

Station = Literal["prepare", "tram", "mesh", "offset", "first_layer", "sign_off"]
STATIONS: tuple[Station, ...] = ("prepare", "tram", "mesh", "offset", "first_layer", "sign_off")
Source = Literal["hand", "gauge", "machine", "practice"]
Way = Literal["counting", "read_all", "ring", "diagonal", "pairs", "skirt"]
School = Literal["hot", "warm", "cold"]
Instrument = Literal["dial", "feelers", "probe", "lamp", "laser"]
#: Turns in marks of the knob; half marks where a hand can make them.
Marks = Annotated[float, Field(ge=-160, le=160, multiple_of=0.5)]


class CheckDone(Value):
    kind: Literal["check_done"] = "check_done"
    check: Id
    outcome: Literal["done", "skipped"]


class CautionSeen(Value):
    kind: Literal["caution_seen"] = "caution_seen"
    caution: Id


class Heated(Value):
    kind: Literal["heated"] = "heated"
    bed_c: Annotated[float, Field(ge=0, le=150)]
    nozzle_c: Annotated[float, Field(ge=0, le=350)]
    held_since: AwareDatetime


class StationSkipped(Value):
    kind: Literal["station_skipped"] = "station_skipped"
    station: Station


class WayChosen(Value):
    kind: Literal["way_chosen"] = "way_chosen"
    way: Way


class SchoolChosen(Value):
    """Whether the plate is trammed at print temperature, warm but touchable, or cold."""

    kind: Literal["school_chosen"] = "school_chosen"
    school: School


class ChangeTold(Value):
    """Something was changed since the last run, as the person says."""

    kind: Literal["change_told"] = "change_told"
    change: Id


class WhereNoted(Value):
    """Where a step is found on this machine, in its owner's words; an empty line takes it away."""

    kind: Literal["where_noted"] = "where_noted"
    step: Id
    line: Annotated[str, Field(max_length=160), Printable]


class BackedOff(Value):
    """Rough start: every spring fully compressed, then every knob backed off by the same number of turns, in pairs."""

    kind: Literal["backed_off"] = "backed_off"
    turns: Annotated[float, Field(ge=0.5, le=12)]


class ThermalRead(Value):
    """One reading of the thermal study: a dial at the centre or a screw."""

    kind: Literal["thermal_read"] = "thermal_read"
    reading: ThermalReading


class FeelTried(Value):
    """One try of a feel check: the tip that far above where the gauge was taken to drag."""

    kind: Literal["feel_tried"] = "feel_tried"
    feel_try: FeelTry


class FeelKept(Value):
    """The feel check's result is this person's own scale on this gauge from now on."""

    kind: Literal["feel_kept"] = "feel_kept"
    scale: FeelScale


class BeamRead(Value):
    """The two sides of a beam on two Z drives, read with one instrument."""

    kind: Literal["beam_read"] = "beam_read"
    reading: BeamReading


class BeamTurned(Value):
    """The right drive of the beam was turned: up is positive."""

    kind: Literal["beam_turned"] = "beam_turned"
    up_mm: Annotated[float, Field(ge=-20, le=20)]


class SkirtSeen(Value):
    """How the line of a running skirt lies beside one screw."""

    kind: Literal["skirt_seen"] = "skirt_seen"
    screw: Label
    grade: Grade


class Resumed(Value):
    """A run taken up again after a pause: what was changed meanwhile, as far as the person knows."""

    kind: Literal["resumed"] = "resumed"
    changes: Annotated[tuple[Id, ...], Field(max_length=12)] = ()


class SenseTried(Value):
    """Tip lifted, knob turned by `Screw.trial_marks` clockwise seen from above, gauge tried again."""

    kind: Literal["sense_tried"] = "sense_tried"
    screw: Label
    felt: Literal["tighter", "looser", "same"]


class Visited(Value):
    """The machine brought the tip over a screw: that one is worked on until it has been counted."""

    kind: Literal["visited"] = "visited"
    screw: Label


class Counted(Value):
    """A knob turned until the gauge dragged; marks clockwise from above are positive."""

    kind: Literal["counted"] = "counted"
    screw: Label
    marks: Marks
    #: Said when the count is far from what is expected here, and right all the same.
    sure: bool = False
    #: What the gauge said before the turn: it shows whether the knob works the way it is declared.
    before: Literal["tight", "loose"] | None = None


class NotReached(Value):
    """A knob turned by `marks` in search of the drag, which did not come; it was turned back where it was."""

    kind: Literal["not_reached"] = "not_reached"
    screw: Label
    marks: Marks
    still: Literal["tight", "loose"]


class Turned(Value):
    """A knob turned by a known number of marks, beyond the drag or on its own."""

    kind: Literal["turned"] = "turned"
    screw: Label
    marks: Marks


class TurnedAll(Value):
    """Every knob turned once, in the order of the machine's screws."""

    kind: Literal["turned_all"] = "turned_all"
    marks: Annotated[tuple[Marks, ...], Field(min_length=3, max_length=12)]


class WalkCount(Value):
    """One visit of a walk: the marks turned there, net of what was turned down first."""

    screw: Label
    marks: Marks


class Walked(Value):
    """What was noted on a walk file's walk: how far every knob was sunk first, the counts in their order, the centre."""

    kind: Literal["walked"] = "walked"
    sunk_turns: Annotated[float, Field(ge=0, le=12)] = 0.0
    counts: Annotated[tuple[WalkCount, ...], Field(min_length=1, max_length=72)]
    #: The feel at the centre and the height it was felt at; None where nobody felt there.
    centre: Feel | None = None
    centre_z_mm: FineMm = 0.0
    #: Said when a count is far from what is expected, and all are right all the same.
    sure: bool = False


class ReadMm(Value):
    """A reading in mm. A gap is positive clearance; a height is positive where the plate is high."""

    kind: Literal["read_mm"] = "read_mm"
    x_mm: PlaceMm
    y_mm: PlaceMm
    instrument: Instrument
    value_mm: FineMm
    screw: Label | None = None
    #: Said when the value is far from what is expected here, and right all the same.
    sure: bool = False


class Felt(Value):
    """The gauge slid under the tip at a known height."""

    kind: Literal["felt"] = "felt"
    x_mm: PlaceMm
    y_mm: PlaceMm
    z_mm: FineMm
    feel: Feel
    #: Said when it contradicts what was felt here before, and is right all the same.
    sure: bool = False
    #: The screw it was felt at, when the tip was stepped down to one at the tram.
    screw: Label | None = None


class GapSeen(Value):
    """How large the gap under the tip looks at a known height, by eye: before any gauge can tell."""

    kind: Literal["gap_seen"] = "gap_seen"
    z_mm: FineMm
    gap_mm: Annotated[float, Field(gt=0, le=30)]


class MeshPoint(Value):
    """One point of a mesh being read, by column and row from the front left."""

    kind: Literal["mesh_point"] = "mesh_point"
    column: Annotated[int, Field(ge=0, le=24)]
    row: Annotated[int, Field(ge=0, le=24)]
    height_mm: FineMm


class MeshBase(Value):
    """The base point measured again while a mesh is read: its change is drift."""

    kind: Literal["mesh_base"] = "mesh_base"
    height_mm: FineMm


class MeshPlanned(Value):
    kind: Literal["mesh_planned"] = "mesh_planned"
    columns: Annotated[int, Field(ge=2, le=MOST_POINTS)]
    rows: Annotated[int, Field(ge=2, le=MOST_POINTS)]
    owns_zero: bool


class MeshPointAgain(Value):
    """One point of the kept mesh measured again, beside a neighbour measured in the same go.

    The survey has a zero of its own day (gauge, offset, drift): only the difference to a neighbour means the same today.
    """

    kind: Literal["mesh_point_again"] = "mesh_point_again"
    column: Annotated[int, Field(ge=0, le=24)]
    row: Annotated[int, Field(ge=0, le=24)]
    height_mm: FineMm
    neighbour_column: Annotated[int, Field(ge=0, le=24)]
    neighbour_row: Annotated[int, Field(ge=0, le=24)]
    neighbour_height_mm: FineMm

    @model_validator(mode="after")
    def _two_points(self) -> Self:
        if (self.column, self.row) == (self.neighbour_column, self.neighbour_row):
            raise ValueError("A point is measured against another one: give a neighbour.")
        return self


class MeshKept(Value):
    kind: Literal["mesh_kept"] = "mesh_kept"
    survey: MeshSurvey


class MeshUsed(Value):
    """Whether the machine applies the kept mesh after homing."""

    kind: Literal["mesh_used"] = "mesh_used"
    on: bool


class OffsetSet(Value):
    kind: Literal["offset_set"] = "offset_set"
    stored_mm: StoredMm
    #: Said when the value brings the tip closer than what has been proven safe.
    sure: bool = False


class Readback(Value):
    """What the machine reports after storing; where nothing is stored, the person's word."""

    kind: Literal["readback"] = "readback"
    reported_mm: StoredMm | None = None
    confirmed: bool = False

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.reported_mm is None and not self.confirmed:
            raise ValueError("Type the value the machine reports, or confirm the line in the start code.")
        return self


class ProofStarted(Value):
    kind: Literal["proof_started"] = "proof_started"
    proof: ProofPlan


class Nudged(Value):
    """A live change of the nozzle's height, not stored: away from the plate is positive.

    `from_zone`: the first zone of the newest proof that was printed after it; None when nothing was printing.
    """

    kind: Literal["nudged"] = "nudged"
    away_mm: Annotated[float, Field(ge=-1, le=1)]
    from_zone: Annotated[int, Field(ge=0, le=9)] | None = None


class NudgeMerged(Value):
    """The live nudges became part of the stored value: the nozzle runs where it ran."""

    kind: Literal["nudge_merged"] = "nudge_merged"
    stored_mm: StoredMm


class SpeedSet(Value):
    """A live change of the printing speed, in percent of what the program says."""

    kind: Literal["speed_set"] = "speed_set"
    percent: Annotated[float, Field(ge=10, le=300)]


class ProofEnded(Value):
    """A proof printed over the line has ended; cancelled ones show only the zones before."""

    kind: Literal["proof_ended"] = "proof_ended"
    outcome: Literal["printed", "cancelled"]
    zones: Annotated[int, Field(ge=0, le=9)]


class Judged(Value):
    kind: Literal["judged"] = "judged"
    zone: Annotated[int, Field(ge=0, le=8)]
    grade: Grade | None = None
    caliper_mm: Annotated[float, Field(gt=0, le=20)] | None = None
    greasy: bool = False
    #: Said when the caliper is far from what a patch there can be, and right all the same.
    sure: bool = False

    @model_validator(mode="after")
    def _saw_something(self) -> Self:
        if self.grade is None and self.caliper_mm is None:
            raise ValueError("Give the zone a grade, or its thickness by caliper.")
        return self


class ZoneCleaned(Value):
    kind: Literal["zone_cleaned"] = "zone_cleaned"
    zone: Annotated[int, Field(ge=0, le=8)]


class SignedOff(Value):
    kind: Literal["signed_off"] = "signed_off"
    note: Note = ""


class TakenBack(Value):
    kind: Literal["taken_back"] = "taken_back"
    entry_id: Id


What = Annotated[
    CheckDone
    | CautionSeen
    | Heated
    | StationSkipped
    | WayChosen
    | SchoolChosen
    | ChangeTold
    | WhereNoted
    | BackedOff
    | ThermalRead
    | FeelTried
    | FeelKept
    | BeamRead
    | BeamTurned
    | SkirtSeen
    | Resumed
    | SenseTried
    | Visited
    | Counted
    | NotReached
    | Turned
    | TurnedAll
    | Walked
    | ReadMm
    | Felt
    | GapSeen
    | MeshPlanned
    | MeshPoint
    | MeshBase
    | MeshPointAgain
    | MeshKept
    | MeshUsed
    | OffsetSet
    | Readback
    | ProofStarted
    | Nudged
    | NudgeMerged
    | SpeedSet
    | ProofEnded
    | Judged
    | ZoneCleaned
    | SignedOff
    | TakenBack,
    Field(discriminator="kind"),
]


class Entry(Value):
    """One kept row: what, when, by whom, from where, at which station."""

    id: Id
    seq: Annotated[int, Field(ge=1)]
    at: AwareDatetime
    by: Initials
    source: Source
    station: Station
    what: What


class Learnt(Value):
    """What earlier runs taught of a machine: ln(compliance) of its supports, and what each knob gives.

    `gains`: by what share a knob gives more than its declared pitch, each with its sd.
    `answer_ln`: mean and sd of ln of the share of a turn that the supports do not explain.
    """

    mean_ln: Annotated[tuple[float, ...], Field(min_length=3, max_length=12)]
    cov_ln: Annotated[tuple[Annotated[tuple[float, ...], FailFast()], ...], FailFast()]
    gains: tuple[float, ...] = ()
    gain_sds: tuple[float, ...] = ()
    answer_ln: tuple[float, float] | None = None
    runs: Annotated[int, Field(ge=0)] = 1

    @model_validator(mode="after")
    def _possible(self) -> Self:
        m = len(self.mean_ln)
        if len(self.cov_ln) != m or any(len(row) != m for row in self.cov_ln):
            raise ValueError(f"What was learnt of {m} supports needs a covariance of {m} rows of {m} numbers.")
        if len(self.gains) not in (0, m) or len(self.gain_sds) != len(self.gains) or any(s <= 0 for s in self.gain_sds):
            raise ValueError("What was learnt of the knobs needs a gain and a positive sd for each, or none at all.")
        if max(map(abs, self.mean_ln)) > 50 or (self.answer_ln is not None and not 0 < self.answer_ln[1] < 50):
            raise ValueError("What was learnt of the supports is beyond anything that a support can be.")
        cov = np.array(self.cov_ln)
        if not np.allclose(cov, cov.T, atol=1e-6) or np.linalg.eigvalsh(cov).min() < -1e-9 or np.trace(cov) > 1e4:
            raise ValueError("What was learnt of the supports has a covariance that no measurement can have.")
        return self


class RunSetup(Value):
    """Everything a run starts from, as it was then: a run can be replayed from this alone."""

    id: Id
    machine: Machine
    plate_id: Id
    filament: Filament
    gauge: Gauge
    initials: Initials
    started_at: AwareDatetime
    learnt: Learnt | None = None
    #: This person's feel on this gauge, as far as it is known.
    feel: FeelScale = FeelScale()
    #: How far their grades of a printed patch scatter, as far as it is known.
    eye: Eye = Eye()
    #: The mesh that the machine follows when the run begins, and whether it is switched on.
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    #: What differs from the machine's last run, as ids of changes, and the stored value this foretells.
    changes: tuple[Id, ...] = ()
    foretold_mm: StoredMm | None = None
    #: How this plate moves as it warms, where somebody has measured it.
    study: ThermalStudy | None = None

    @model_validator(mode="after")
    def _plate_is_known(self) -> Self:
        self.machine.plate(self.plate_id)
        return self

    @property
    def plate(self) -> Plate:
        return self.machine.plate(self.plate_id)


RUN_FORMAT: Literal["ivory-table-run"] = "ivory-table-run"
RUN_VERSION = 1


class RunFile(Value):
    """A whole run as it travels between installations."""

    format: Literal["ivory-table-run"] = RUN_FORMAT
    version: Annotated[int, Field(ge=1)] = RUN_VERSION
    setup: RunSetup
    entries: Annotated[tuple[Entry, ...], Field(max_length=5000), FailFast()]


def kept(entries: tuple[Entry, ...]) -> tuple[Entry, ...]:
    """Entries that still count: neither taken back nor a taking back."""
    gone = {e.what.entry_id for e in entries if isinstance(e.what, TakenBack)}
    return tuple(e for e in entries if e.id not in gone and not isinstance(e.what, TakenBack))
