"""The rows of the stored value."""

from typing import ClassVar, Literal, Self

from pydantic import model_validator

from ivory_table.core.plate import Machine
from ivory_table.core.value import StoredMm
from ivory_table.core.words import signed
from ivory_table.runs.row import Effect, Row


class OffsetSet(Row):
    kind: Literal["offset_set"] = "offset_set"
    effect: ClassVar[Effect] = "moves_nozzle"
    #: At the tram where a walk's file has set it for the proof that followed.
    stations: ClassVar = ("offset", "first_layer", "tram")
    stored_mm: StoredMm
    #: Said when the value brings the tip closer than what has been proven safe.
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"Z offset set to {signed(self.stored_mm, 3)}"


class Readback(Row):
    """What the machine reports after storing; where nothing is stored, the person's word."""

    kind: Literal["readback"] = "readback"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset", "first_layer")
    reported_mm: StoredMm | None = None
    confirmed: bool = False

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.reported_mm is None and not self.confirmed:
            raise ValueError("Type the value the machine reports, or confirm the line in the start code.")
        return self

    def words(self, machine: Machine) -> str:
        return "read back" if self.reported_mm is None else f"read back {signed(self.reported_mm, 3)}"


class NudgeMerged(Row):
    """The live nudges became part of the stored value: the nozzle runs where it ran."""

    kind: Literal["nudge_merged"] = "nudge_merged"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("offset", "first_layer")
    stored_mm: StoredMm

    def words(self, machine: Machine) -> str:
        return f"nudge merged: stored {signed(self.stored_mm, 3)}"
