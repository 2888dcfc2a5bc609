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

    def try_sense(self, screw: int) -> str: ...

    def turn_until_drag(self, screw: int, most_marks: int) -> Reach: ...

    def is_loose(self, screw: int) -> bool: ...

    def turn(self, screw: int, marks: float) -> None: ...

    def back_off(self, turns: float) -> None: ...

    def turn_beam(self, up_mm: float) -> None: ...

    def gap_at_zero(self, x_mm: float, y_mm: float) -> float: ...

    def read_height(self, x_mm: float, y_mm: float) -> float: ...

    def felt_height(self, x_mm: float, y_mm: float) -> float: ...

    def slide_here(self) -> Feel: ...

    def touch_probe(self, on: bool) -> None: ...

    def see_zone(self, proof: ProofPlan, zone: int, light_mm: float) -> Swatch: ...

    def disturb(self) -> None: ...

    def fault(self, name: str, after: int) -> None: ...

    def crashes(self) -> list[str]: ...

    def slide_gauge(self, x_mm: float, y_mm: float, z_mm: float) -> Feel: ...

    def use_mesh(self, survey: MeshSurvey | None) -> None: ...

    def store_mesh(self) -> None: ...

    def switch_off_and_on(self) -> None: ...

    def move_nozzle(self, away_mm: float) -> None: ...

    def print_zone(self, proof: ProofPlan, zone: int) -> Look: ...

    def clean(self, proof: ProofPlan, zone: int) -> None: ...

    def mend(self, cause: str) -> None: ...

    def measure_feed(self, commanded_mm: float) -> float: ...

    def change_feed(self, times: float) -> None: ...
