"""Turns of knobs: kept at the tram, and at the first layer where its grades ask for them."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ivory_table.core.plate import Machine
from ivory_table.core.value import Label
from ivory_table.core.words import knob_words
from ivory_table.runs.row import Effect, Row

#: Turns in marks of the knob; half marks where a hand can make them.
Marks = Annotated[float, Field(ge=-160, le=160, multiple_of=0.5)]


class Turned(Row):
    """A knob turned by a known number of marks, beyond the drag or on its own."""

    kind: Literal["turned"] = "turned"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram", "first_layer")
    screw: Label
    marks: Marks

    def words(self, machine: Machine) -> str:
        if not self.marks:
            return f"{self.screw}: not turned further"
        return f"{self.screw}: {knob_words(machine, self.screw, self.marks)} further"


class TurnedAll(Row):
    """Every knob turned once, in the order of the machine's screws."""

    kind: Literal["turned_all"] = "turned_all"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram", "first_layer")
    marks: Annotated[tuple[Marks, ...], Field(min_length=3, max_length=12)]

    def words(self, machine: Machine) -> str:
        turns = zip(machine.screws, self.marks, strict=True)
        return "turned " + ", ".join(f"{s.name} {knob_words(machine, s.name, m)}" for s, m in turns)
