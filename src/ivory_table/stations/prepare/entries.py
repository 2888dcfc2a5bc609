"""What is kept at Prepare."""

from typing import Annotated, ClassVar, Literal

from pydantic import AwareDatetime, Field

from ivory_table.core.changes import change
from ivory_table.core.plate import Machine
from ivory_table.core.thermal import School, ThermalReading
from ivory_table.core.value import Id
from ivory_table.core.words import signed
from ivory_table.runs.row import Effect, Row


class CheckDone(Row):
    kind: Literal["check_done"] = "check_done"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("prepare",)
    check: Id
    outcome: Literal["done", "skipped"]

    def words(self, machine: Machine) -> str:
        return f"check {self.check.replace('_', ' ')}: {self.outcome}"


class Heated(Row):
    kind: Literal["heated"] = "heated"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("prepare",)
    bed_c: Annotated[float, Field(ge=0, le=150)]
    nozzle_c: Annotated[float, Field(ge=0, le=350)]
    held_since: AwareDatetime
    #: Said when it is hotter than the filament stands, and meant.
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"bed {self.bed_c:g} °C, tip {self.nozzle_c:g} °C, held"


class SchoolChosen(Row):
    """Whether the plate is trammed at print temperature, warm but touchable, or cold."""

    kind: Literal["school_chosen"] = "school_chosen"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("prepare",)
    school: School

    def words(self, machine: Machine) -> str:
        return f"trammed {self.school}"


class ChangeTold(Row):
    """Something was changed since the last run, as the person says."""

    kind: Literal["change_told"] = "change_told"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("prepare",)
    change: Id

    def words(self, machine: Machine) -> str:
        return f"changed: {change(self.change).text}"


class ThermalRead(Row):
    """One reading of the thermal study: a dial at the centre or a screw."""

    kind: Literal["thermal_read"] = "thermal_read"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("prepare",)
    reading: ThermalReading

    def words(self, machine: Machine) -> str:
        r = self.reading
        return f"{r.place} at {r.bed_c:g} °C: {signed(r.height_mm, 3)} mm"
