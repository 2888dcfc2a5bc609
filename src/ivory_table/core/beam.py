"""Machines whose gantry hangs on two Z drives: level the beam before the plate is trammed."""

from typing import Annotated, Literal

from pydantic import Field

from .defaults import TRAM
from .plate import Beam
from .value import FineMm, PlaceMm, Value


class BeamReading(Value):
    """The same instrument, moved with the beam, over one level thing: left and right."""

    left_x_mm: PlaceMm
    right_x_mm: PlaceMm
    left_mm: FineMm
    right_mm: FineMm


class BeamAdvice(Value):
    """Which drive to turn, by how much. `up_mm` positive raises the beam at that drive."""

    level: bool
    hangs: Literal["left", "right", "neither"]
    drive: Literal["left", "right"]
    up_mm: float
    turns: Annotated[float, Field(description="Turns of the drive's screw that raise the beam there; negative lowers.")]
    steps: int
    words: str


def level(beam: Beam, reading: BeamReading) -> BeamAdvice:
    """The correction from two readings of the gap under the beam, in mm, larger where the beam is higher.

    The drives stand further apart than the readings: the difference grows with the span. Half of it is
    no use, since only one drive is turned: the right one. Raises ValueError when the two readings were
    taken closer than 40 mm to each other.
    """
    between = reading.right_x_mm - reading.left_x_mm
    if between < 40:
        raise ValueError("Read the two sides at least 40 mm apart, left before right; closer they say little.")
    higher_right = (reading.right_mm - reading.left_mm) / between * (beam.right_mm - beam.left_mm)
    up = -higher_right
    turns = up / beam.pitch_mm
    if abs(higher_right) <= TRAM.beam_level_mm:
        return BeamAdvice(
            level=True, hangs="neither", drive="right", up_mm=0.0, turns=0.0, steps=0,
            words=f"The beam is level: left and right differ by {abs(higher_right):.2f} mm at the drives.",
        )  # fmt: skip
    hangs: Literal["left", "right"] = "left" if higher_right > 0 else "right"
    way = "Raise" if up > 0 else "Lower"
    return BeamAdvice(
        level=False,
        hangs=hangs,
        drive="right",
        up_mm=up,
        turns=turns,
        steps=round(turns * beam.steps_per_turn),
        words=(
            f"The beam hangs {abs(higher_right):.2f} mm lower on the {hangs}. {way} the right drive by "
            f"{abs(up):.2f} mm: {abs(turns):.3f} turns, or {abs(round(turns * beam.steps_per_turn))} full steps."
        ),
    )
