"""What the rows of a run write down: one belief, the machine as it is now, what was printed, and a slice for each station."""

from dataclasses import dataclass, field
from datetime import datetime
from typing import Self

from ivory_table.core.bead import Bead
from ivory_table.core.belief import Belief
from ivory_table.core.causes import Causes
from ivory_table.core.eye import Eye
from ivory_table.core.gauge import FeelScale
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.plate import ConventionId, Filament, ProbeTilt, Screw, TipHeat
from ivory_table.core.setup import RunSetup
from ivory_table.core.thermal import School, ThermalReading
from ivory_table.core.thick import CaliperOff
from ivory_table.core.value import StationName
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.searching import Search


@dataclass(frozen=True)
class Heat:
    """Plate and tip as they were heated, and since when they are held."""

    bed_c: float
    nozzle_c: float
    held_since: datetime


class Slice:
    """What one station alone keeps in mind of a run. A station's slice has defaults for every field."""

    def after_pause(self) -> Self:
        """The slice once the run was taken up again: nothing at hand is still at hand."""
        return self

    @classmethod
    def of(cls, run: "RunRecord") -> Self:
        found = run.slices.get(cls)
        return found if isinstance(found, cls) else cls()


@dataclass(frozen=True, eq=False)
class RunRecord:
    """What the rows of a run have set, and nothing that follows from it. `belief` holds everything but the marks of the proof
    that can still be judged."""

    setup: RunSetup
    belief: Belief
    screws: tuple[Screw, ...]
    #: What each station keeps for itself.
    slices: dict[type[Slice], Slice] = field(default_factory=dict)
    #: Grows whenever the plate or the nozzle was moved: what was printed under another number tells nothing of now.
    configuration: int = 0

    # As prepared
    school: School = "hot"
    #: Changes since the last run that a person told of.
    changes: tuple[str, ...] = ()
    where: dict[str, str] = field(default_factory=dict)
    thermal: tuple[ThermalReading, ...] = ()
    checks: dict[str, str] = field(default_factory=dict)
    cautions: frozenset[str] = frozenset()
    heated: Heat | None = None
    skipped: frozenset[StationName] = frozenset()
    feel: FeelScale = field(default_factory=FeelScale)
    eye: Eye = field(default_factory=Eye)
    caliper_off: CaliperOff = field(default_factory=CaliperOff)

    # The machine now
    #: How far each knob has moved its support up in this run, mm.
    moved_mm: tuple[float, ...] = ()
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    #: It was switched off before the knobs were turned, and nobody has said since what is to become of it.
    mesh_off_for_tram: bool = False
    #: Points of the kept mesh that were measured again since it was kept, as (column, row).
    measured_again: frozenset[tuple[int, int]] = frozenset()
    #: A mesh was kept or switched after the offset was set: its zero may lie elsewhere.
    mesh_since_offset: bool = False
    #: What the machine was seen to have of the kept mesh: got it, keeps it through a power cut, was told in this run to
    #: follow it; and by how much its own list of it differs at most, mm, where somebody has read that.
    mesh_sent: bool = False
    mesh_stored: bool = False
    mesh_on_told: bool = False
    mesh_back_mm: float | None = None
    #: By how much the machine's soft limit stands open below its zero, for the measurement.
    limit_open_mm: float = 0.0
    #: What its probe reads too high towards one side; None: nothing is counted in.
    probe_tilt: ProbeTilt | None = None
    #: What the tip grows by when it is heated; None: nothing is counted in.
    tip_heat: TipHeat | None = None
    stored_mm: float = 0.0
    #: How the stored number counts, and whether the machine itself has shown it.
    convention_id: ConventionId = "live_only"
    sign_proved: bool = False
    #: Every change of the stored value in this run, from and to.
    stored_changes: tuple[tuple[float, float], ...] = ()
    readback_due: bool = False
    #: Live nudges that were neither put back nor merged into the stored value.
    nudged_mm: float = 0.0
    speed_percent: float = 100.0
    search: Search | None = None

    #: How often the plate was read at a place since it was last moved, and the mean of it: its own deviation there is one,
    #: however often it is read.
    read_at: dict[tuple[float, float, str], tuple[int, float]] = field(default_factory=dict)

    # What was printed
    #: The first layer's line that was chosen in this run; None where it is the usual one.
    layer_chosen: Bead | None = None
    proofs: tuple[ProofRun, ...] = ()
    #: What may lie behind a bad first layer beside the height, by what was printed so far.
    causes: Causes = field(default_factory=Causes.none)
    #: Places judged on earlier proofs that were printed over the same gap as the newest.
    judged_places: frozenset[tuple[float, float]] = frozenset()
    #: The feed was measured, and is as it was then.
    fed: bool = False
    #: By what share more than commanded went in when it was measured, where that was not corrected.
    feed_off: float = 0.0
    #: Whether a caliper is at hand; None while nobody has said.
    caliper: bool | None = None
    #: What may be printed beside the run's own filament; None while nobody has said.
    other_filament: Filament | None = None
    #: Whether somebody said that no mesh is measured in this run.
    mesh_declined: bool = False
    #: Whether a rule is, to measure the feed with.
    rule: bool | None = None
    #: What was changed since the newest proof was printed.
    step_shift_mm: float = 0.0
    step_turns: tuple[float, ...] | None = None
    #: Kinds of rows that moved plate or nozzle since then.
    moved_by: frozenset[str] = frozenset()
    signed_off: bool = False
    note: str = ""
