"""What a run starts from, as it was then."""

from collections.abc import Mapping
from typing import Annotated, Any, Self

import numpy as np
from pydantic import AwareDatetime, FailFast, Field, model_validator

from .bead import Bead
from .defaults import FEEL
from .eye import Eye
from .gauge import FeelScale, Gauge
from .mesh import MeshLaw, MeshSurvey
from .plate import Filament, Machine, Plate
from .thermal import ThermalStudy
from .thick import CaliperOff
from .value import Id, Initials, StoredMm, Value


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


class KnownFeed(Value):
    """What goes in as a share more than is asked for, with one sd, as it was left; measured with a rule in an earlier run."""

    off: Annotated[float, Field(ge=-0.5, le=1)]
    sd: Annotated[float, Field(gt=0, le=0.2)]
    at: AwareDatetime


class KnownLayer(Value):
    """The first layer that was chosen in an earlier run with this nozzle, in mm: jobs are printed so since."""

    layer_mm: Annotated[float, Field(gt=0, le=1.5)]
    line_mm: Annotated[float, Field(gt=0, le=3)]
    at: AwareDatetime

    @property
    def bead(self) -> Bead:
        """Its line."""
        return Bead(self.line_mm, self.layer_mm)


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
    #: What a caliper is off by on this plate with this filament, as far as it is known.
    caliper: CaliperOff = CaliperOff()
    #: What is known of the feed on this machine with this filament; None where nobody has measured it.
    feed: KnownFeed | None = None
    #: The first layer that is printed on this machine with this nozzle; None where it is the usual one.
    layer: KnownLayer | None = None
    #: The mesh that the machine follows when the run begins, and whether it is switched on.
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    #: What differs from the machine's last run, as ids of changes, and the stored value this foretells.
    changes: tuple[Id, ...] = ()
    #: Of these, what somebody told when the run was begun; the others were found by comparing.
    told_changes: tuple[Id, ...] = ()
    foretold_mm: StoredMm | None = None
    #: One sd of it, where it comes from what this plate needed before; 0 where it follows from a thickness.
    foretold_sd_mm: float = 0.0
    #: How this plate moves as it warms, where somebody has measured it.
    study: ThermalStudy | None = None

    #: Whether places near one another are taken to deviate alike; runs begun before that was computed are not.
    neighbours_alike: bool = False
    #: Whether readings away from the screws tell nothing of supports and hand; runs begun before that was so are not.
    form_apart: bool = False
    #: Whether other causes than the height are considered; runs begun before that was computed are not.
    causes_considered: bool = False
    #: Whether a feed that nobody has measured is asked for, and kept; runs begun before that was so are not.
    feed_remembered: bool = False
    #: Whether a gauge that nobody measured counts as what its kind usually is; in runs begun before that was so it is nothing.
    usual_gauge: bool = False
    #: One sd in mm of where a gauge of known thickness drags for a hand nobody has learnt; runs begun before that was measured took less.
    drag_sd_mm: Annotated[float, Field(gt=0, le=0.2)] = 0.02
    #: Whether the knobs' thread may be another than declared; runs begun before that was considered take it as it is.
    thread_doubted: bool = False
    #: Whether a tram is done once every zone is sound, and without knobs once the centre was felt; in runs begun before that was so
    #: it is only by its screws.
    sound_ends_tram: bool = False
    #: What the machine makes of a mesh.
    mesh_law: MeshLaw = MeshLaw()

    @model_validator(mode="after")
    def _plate_is_known(self) -> Self:
        self.machine.plate(self.plate_id)
        return self

    @property
    def drags_at(self) -> tuple[float, float]:
        """The gap in mm at which the gauge drags, and one sd of it."""
        return self.gauge.drags_at(self.drag_sd_mm, usual=self.usual_gauge)

    @property
    def folds_mm(self) -> dict[int, float]:
        """By number of layers what the gauge measures folded, mm."""
        return self.gauge.folds_mm(usual=self.usual_gauge)

    @property
    def plate(self) -> Plate:
        """The plate that is mounted."""
        return self.machine.plate(self.plate_id)


#: How a run that begins today is computed; one that was begun earlier keeps to what its set-up says.
BEGUN_NOW: Mapping[str, Any] = {
    "neighbours_alike": True,
    "form_apart": True,
    "causes_considered": True,
    "feed_remembered": True,
    "usual_gauge": True,
    "drag_sd_mm": FEEL.bias_sd_mm,
    "thread_doubted": True,
    "sound_ends_tram": True,
}
