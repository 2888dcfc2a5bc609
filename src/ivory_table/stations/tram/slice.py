"""What the tram alone keeps in mind of a run."""

from dataclasses import dataclass, field, replace

from ivory_table.core.beam import BeamReading
from ivory_table.core.gauge import Feel
from ivory_table.core.plate import Machine
from ivory_table.runs.record import Slice
from ivory_table.stations.tram.entries import (
    CentreFelt,
    Way,
)


@dataclass(frozen=True)
class Stop:
    """One visit to one screw, or one turn of it, as it is told in the story."""

    entry_id: str
    screw: int
    marks: float
    further: float | None = None
    spread_mm: float = 0.0
    #: How the gauge slid where it was only felt; how it still was where no turn brought it to drag.
    feel: Feel | None = None
    still: str | None = None
    #: What was foretold of the count, with its sd; None where nobody could know.
    about: tuple[float, float] | None = None
    #: The spread believed in before all knobs were turned at once.
    spread_before_mm: float | None = None
    #: Of the rounds of read all, turn all: the one it was made in, from 1.
    round: int = 1


@dataclass(frozen=True)
class ScrewReading:
    """A reading in mm at a screw, beside what was foretold."""

    entry_id: str
    round: int
    screw: int
    value_mm: float
    foretold_mm: float
    sd_mm: float


@dataclass(frozen=True)
class Guard:
    """Whether the plate answers as was promised, whatever the belief makes of it.

    What comes out beyond the promise twice in a row stops the turning: the belief starts afresh and every knob is
    proved. Missed once more after that, or where the tram does not end, turning on would do no good.
    """

    #: How often in a row what came out was beyond what was promised.
    surprises: int = 0
    #: How often the knobs were put in doubt because of it.
    doubted: int = 0
    #: Knobs still to show their sense by a turn and a feel, in their order.
    to_show: tuple[int, ...] = ()
    #: The first stop that counts since the knobs were put in doubt.
    since: int = 0
    #: The round that was begun when they were.
    since_round: int = 0
    #: The spread promised, in mm, by the last turns of all knobs, and the one that was read before them; None where nothing was.
    promised_mm: float | None = None
    before_mm: float | None = None


@dataclass(frozen=True)
class Tram(Slice):
    """Where the tram stands, beside what is believed of the plate."""

    way: Way = "counting"
    beam_read: BeamReading | None = None
    beam_turned_level: bool = False
    #: Whether a sense test was made in this run.
    sense_shown: bool = False
    #: Knobs that turned out, by what was counted or read, to work against the sense they were entered with.
    found_reversed: tuple[int, ...] = ()
    guard: Guard = field(default_factory=Guard)
    #: The screw that was just counted: it may be turned further.
    pending: int | None = None
    #: The screw the machine has brought the tip to, until it is counted.
    at_screw: int | None = None
    stops: tuple[Stop, ...] = ()
    readings: tuple[ScrewReading, ...] = ()
    #: What was read at each screw in this round, mm.
    round_read: dict[int, float] = field(default_factory=dict)
    #: Over which zeros each screw was read in this round: the nozzle's own, or an instrument's that nobody knows.
    round_zeros: dict[int, frozenset[str]] = field(default_factory=dict)
    rounds: int = 0
    centre_felt: CentreFelt | None = None

    def after_pause(self) -> "Tram":
        return replace(self, pending=None, at_screw=None, round_read={})

    @property
    def visited(self) -> set[int]:
        return {s.screw for s in self.stops[self.guard.since :] if s.still is None}

    def beam_level(self, machine: Machine) -> bool:
        return machine.beam is None or self.beam_turned_level

    def over_zero(self, j: int, zero: str) -> "Tram":
        """Screw j was read in this round over a zero: the nozzle's, or that of an instrument."""
        earlier = self.round_zeros.get(j, frozenset()) if j in self.round_read else frozenset()
        return replace(self, round_zeros={**self.round_zeros, j: earlier | {zero}})
