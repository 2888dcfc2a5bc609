"""What can be asked of the person at a practice machine: hand, feel and eye.

The stations know this interface only; the truth behind it stays where it is. What a machine
does is not asked here but over its line.
"""

from typing import Literal, NamedTuple, Protocol

from .bead import Grade, Swatch
from .gauge import Feel
from .mesh import MeshSurvey
from .proof import ProofPlan
from .signs import SignId
from .value import Value


class Look(Value):
    """What one patch of a printed proof shows."""

    grade: Grade
    caliper_mm: float | None = None
    greasy: bool = False
    signs: tuple[SignId, ...] = ()


class Reach(NamedTuple):
    """Marks turned in search of the drag; how the gauge still was where it did not come, and the knob was turned back."""

    marks: int
    still: Literal["tight", "loose"] | None = None


class Hands(Protocol):
    """A plate that can be turned, felt, measured and printed on. Lengths in mm, turns in marks."""

    def try_sense(self, screw: int) -> str:
        """What a small turn clockwise from above does to the gauge: tighter, looser or the same."""

    def turn_until_drag(self, screw: int, most_marks: int) -> Reach:
        """A knob turned until the gauge drags, by at most so many marks."""

    def is_loose(self, screw: int) -> bool:
        """Whether a knob turns without moving its support."""

    def turn(self, screw: int, marks: float) -> None:
        """A knob turned by marks, clockwise from above."""

    def back_off(self, turns: float) -> None:
        """All knobs turned so that the plate sinks by so many turns."""

    def turn_beam(self, up_mm: float) -> None:
        """The beam's right end raised by mm."""

    def gap_at_zero(self, x_mm: float, y_mm: float) -> float:
        """The gap in mm at a place with the tip at z 0."""

    def read_height(self, x_mm: float, y_mm: float) -> float:
        """The plate's height in mm at a place, by probe or dial."""

    def felt_height(self, x_mm: float, y_mm: float) -> float:
        """The plate's height in mm at a place, by gauge."""

    def slide_here(self) -> Feel:
        """How the gauge feels where the tip stands now."""

    def touch_probe(self, on: bool) -> None:
        """The probe's tip touched, or let go."""

    def see_zone(self, proof: ProofPlan, zone: int, light_mm: float) -> Swatch:
        """One printed patch as a drawing, under a light of so many mm."""

    def disturb(self) -> None:
        """The plate made crooked anew, as after a rebuild."""

    def fault(self, name: str, after: int) -> None:
        """A fault switched on after so many moves; `none` mends them all. Raises ValueError for another."""

    def crashes(self) -> list[str]:
        """Every time the tip met the plate, in words."""

    def slide_gauge(self, x_mm: float, y_mm: float, z_mm: float) -> Feel:
        """How the gauge feels at a place with the tip at a commanded z in mm."""

    def use_mesh(self, survey: MeshSurvey | None) -> None:
        """A mesh to follow from now on; None for none."""

    def store_mesh(self) -> None:
        """The mesh kept through a power cut."""

    def switch_off_and_on(self) -> None:
        """Power off and on: what was not stored is gone."""

    def move_nozzle(self, away_mm: float) -> None:
        """The nozzle's height changed by mm, positive away."""

    def print_zone(self, proof: ProofPlan, zone: int) -> Look:
        """How one printed patch looks."""

    def clean(self, proof: ProofPlan, zone: int) -> None:
        """One zone wiped."""

    def mend(self, cause: str) -> None:
        """Something that all zones share done away with."""

    def look_for(self, cause: str) -> bool:
        """Whether a look finds a cause. Raises ValueError where no look tells of it."""

    def measure_feed(self, commanded_mm: float) -> float:
        """How many mm went in when so many were commanded."""

    def change_feed(self, times: float) -> None:
        """So many times as much fed from now on."""

    def gauge_second(self) -> float:
        """The second tip's height against the first in mm, by its own gauge."""

    def pass_second(self, tops_mm: tuple[float, ...], z_mm: float) -> tuple[bool, ...]:
        """Which pads, by their tops in mm, a second tip touches when it passes at z in mm."""

    def turn_second(self, up_mm: float) -> None:
        """The second tip's screw turned so that it should rise by mm."""
