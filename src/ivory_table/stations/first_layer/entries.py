"""What is kept of the first layer: proofs, their grades, live changes."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from ivory_table.core.bead import Grade
from ivory_table.core.offset import direction_words
from ivory_table.core.plate import Machine
from ivory_table.core.proof import ProofPlan
from ivory_table.runs.row import Effect, Row


class ProofStarted(Row):
    kind: Literal["proof_started"] = "proof_started"
    effect: ClassVar[Effect] = "prints"
    stations: ClassVar = ("first_layer",)
    proof: ProofPlan

    def words(self, machine: Machine) -> str:
        return f"proof of {len(self.proof.zones)} zones"


class Nudged(Row):
    """A live change of the nozzle's height, not stored: away from the plate is positive.

    `from_zone`: the first zone of the newest proof that was printed after it; None when nothing was printing.
    """

    kind: Literal["nudged"] = "nudged"
    effect: ClassVar[Effect] = "nudges"
    stations: ClassVar = ("first_layer",)
    away_mm: Annotated[float, Field(ge=-1, le=1)]
    from_zone: Annotated[int, Field(ge=0, le=9)] | None = None

    def words(self, machine: Machine) -> str:
        return f"nudged {direction_words(self.away_mm)}, not stored"


class SpeedSet(Row):
    """A live change of the printing speed, in percent of what the program says."""

    kind: Literal["speed_set"] = "speed_set"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    percent: Annotated[float, Field(ge=10, le=300)]

    def words(self, machine: Machine) -> str:
        return f"speed {self.percent:g} %"


class ProofEnded(Row):
    """A proof printed over the line has ended; cancelled ones show only the zones before."""

    kind: Literal["proof_ended"] = "proof_ended"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    outcome: Literal["printed", "cancelled"]
    zones: Annotated[int, Field(ge=0, le=9)]

    def words(self, machine: Machine) -> str:
        return f"proof {self.outcome}, {self.zones} zones laid"


class Judged(Row):
    kind: Literal["judged"] = "judged"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("first_layer",)
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

    def words(self, machine: Machine) -> str:
        thick = f" {self.caliper_mm:g} mm" if self.caliper_mm else ""
        return f"zone {self.zone + 1}: {self.grade or ''}{thick}"


class ZoneCleaned(Row):
    kind: Literal["zone_cleaned"] = "zone_cleaned"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("first_layer",)
    zone: Annotated[int, Field(ge=0, le=8)]

    def words(self, machine: Machine) -> str:
        return f"zone {self.zone + 1} cleaned"
