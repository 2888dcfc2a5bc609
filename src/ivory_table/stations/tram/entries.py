"""What is kept at the tram. Turns in marks, clockwise seen from above positive."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ivory_table.core.bead import Grade
from ivory_table.core.beam import BeamReading
from ivory_table.core.gauge import Feel
from ivory_table.core.plate import Machine
from ivory_table.core.value import FineMm, Label, PlaceMm, Value
from ivory_table.core.words import knob_words, signed
from ivory_table.runs.row import Effect, Row
from ivory_table.stations.turned import Marks

Way = Literal["counting", "read_all", "ring", "diagonal", "pairs", "skirt"]
Instrument = Literal["dial", "feelers", "probe", "lamp", "laser"]
WAY_WORDS: dict[Way, str] = {
    "counting": "counting",
    "read_all": "read all, turn all",
    "ring": "round the ring",
    "diagonal": "across the diagonal",
    "pairs": "in pairs",
    "skirt": "while the skirt runs",
}


class WayChosen(Row):
    kind: Literal["way_chosen"] = "way_chosen"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("tram",)
    way: Way

    def words(self, machine: Machine) -> str:
        return WAY_WORDS[self.way]


class BeamRead(Row):
    """The two sides of a beam on two Z drives, read with one instrument."""

    kind: Literal["beam_read"] = "beam_read"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("tram",)
    reading: BeamReading

    def words(self, machine: Machine) -> str:
        return f"beam left {signed(self.reading.left_mm)}, right {signed(self.reading.right_mm)} mm"


class BeamTurned(Row):
    """The right drive of the beam was turned: up is positive."""

    kind: Literal["beam_turned"] = "beam_turned"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram",)
    up_mm: Annotated[float, Field(ge=-20, le=20)]

    def words(self, machine: Machine) -> str:
        return f"right drive {signed(self.up_mm)} mm" if self.up_mm else "beam level"


class SkirtSeen(Row):
    """How the line of a running skirt lies beside one screw."""

    kind: Literal["skirt_seen"] = "skirt_seen"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("tram",)
    screw: Label
    grade: Grade

    def words(self, machine: Machine) -> str:
        return f"skirt beside {self.screw}: {self.grade}"


class SenseTried(Row):
    """Tip lifted, knob turned by `Screw.trial_marks` clockwise seen from above, gauge tried again."""

    kind: Literal["sense_tried"] = "sense_tried"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram",)
    screw: Label
    felt: Literal["tighter", "looser", "same"]

    def words(self, machine: Machine) -> str:
        trial = machine.screws[machine.screw(self.screw)].trial_marks
        return f"{self.screw}: {knob_words(machine, self.screw, trial)} felt {self.felt}"


class Visited(Row):
    """The machine brought the tip over a screw: that one is worked on until it has been counted."""

    kind: Literal["visited"] = "visited"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("tram",)
    screw: Label

    def words(self, machine: Machine) -> str:
        return f"the tip was brought to {self.screw}"


class Counted(Row):
    """A knob turned until the gauge dragged; marks clockwise from above are positive."""

    kind: Literal["counted"] = "counted"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram",)
    screw: Label
    marks: Marks
    #: Said when the count is far from what is expected here, and right all the same.
    sure: bool = False
    #: What the gauge said before the turn: it shows whether the knob works the way it is declared.
    before: Literal["tight", "loose"] | None = None

    def words(self, machine: Machine) -> str:
        return f"{self.screw}: {knob_words(machine, self.screw, self.marks)} to the drag"


class NotReached(Row):
    """A knob turned by `marks` in search of the drag, which did not come; it was turned back where it was."""

    kind: Literal["not_reached"] = "not_reached"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram",)
    screw: Label
    marks: Marks
    still: Literal["tight", "loose"]

    def words(self, machine: Machine) -> str:
        return f"{self.screw}: still {self.still} after {knob_words(machine, self.screw, self.marks)}, turned back"


class WalkCount(Value):
    """One visit of a walk: the marks turned there, net of what was turned down first."""

    screw: Label
    marks: Marks


class Walked(Row):
    """What was noted on a walk file's walk: how far every knob was sunk first, the counts in their order, the centre."""

    kind: Literal["walked"] = "walked"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram",)
    sunk_turns: Annotated[float, Field(ge=0, le=12)] = 0.0
    counts: Annotated[tuple[WalkCount, ...], Field(min_length=1, max_length=72)]
    #: The feel at the centre and the height it was felt at; None where nobody felt there.
    centre: Feel | None = None
    centre_z_mm: FineMm = 0.0
    #: Said when a count is far from what is expected, and all are right all the same.
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"walked: {len(self.counts)} counts" + (f", centre {self.centre}" if self.centre else "")


class ReadMm(Row):
    """A reading in mm. A gap is positive clearance; a height is positive where the plate is high."""

    kind: Literal["read_mm"] = "read_mm"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("tram",)
    x_mm: PlaceMm
    y_mm: PlaceMm
    instrument: Instrument
    value_mm: FineMm
    screw: Label | None = None
    #: Said when the value is far from what is expected here, and right all the same.
    sure: bool = False

    def words(self, machine: Machine) -> str:
        where = self.screw or f"({self.x_mm:g}, {self.y_mm:g})"
        return f"{where}: {signed(self.value_mm, 3)} mm by {self.instrument}"


class ScrewFelt(Row):
    """The gauge slid under the tip over a screw, at a known height."""

    kind: Literal["screw_felt"] = "screw_felt"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("tram",)
    screw: Label
    z_mm: FineMm
    feel: Feel
    #: Said when it contradicts what was felt here before, and is right all the same.
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"{self.screw}: {self.feel} at z {signed(self.z_mm, 3)}"


class CentreFelt(Row):
    """The gauge slid under the tip over the plate's centre once the screws are done, or where there are none."""

    kind: Literal["centre_felt"] = "centre_felt"
    effect: ClassVar[Effect] = "reads"
    stations: ClassVar = ("tram",)
    z_mm: FineMm
    feel: Feel
    #: Said when it contradicts what was felt here before, and is right all the same.
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"centre: {self.feel} at z {signed(self.z_mm, 3)}"


class BegunAnew(Row):
    """What kept the plate from answering was put right: nothing that was believed of it counts, and every knob is proved again."""

    kind: Literal["begun_anew"] = "begun_anew"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("tram",)

    def words(self, machine: Machine) -> str:
        return "put right, and begun anew"


class BackedOff(Row):
    """Rough start: every spring fully compressed, then every knob backed off by the same number of turns, in pairs."""

    kind: Literal["backed_off"] = "backed_off"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = ("prepare",)
    turns: Annotated[float, Field(ge=0.5, le=12)]

    def words(self, machine: Machine) -> str:
        return f"springs compressed, knobs backed off {self.turns:g} turns"
