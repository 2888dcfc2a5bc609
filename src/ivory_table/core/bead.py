"""The bead: what a line of the first layer looks like at a gap, and the bands of grades.

Cross-section of a line of width w and height h: A = f ((w - h) h + pi h^2 / 4); pitch
p = w - h (1 - pi/4), so that p h = A at f = 1 (stadium section, lines just fused).
"""

from dataclasses import dataclass
from functools import lru_cache
from math import exp, pi, sqrt
from typing import Literal, get_args

import numpy as np

from .defaults import BEAD
from .value import Array, Value

Grade = Literal["loose", "barely", "parted", "sound", "ridged", "squeezed", "starved"]
GRADES: tuple[Grade, ...] = get_args(Grade)
#: How a patch looks that does not hold and close; the others do.
OPEN: tuple[Grade, ...] = ("loose", "barely", "parted")


def closes(grade: Grade | None) -> bool:
    """Whether a patch that looks so holds, and its lines close; not where nobody said how it looks."""
    return grade is not None and grade not in OPEN


@dataclass(frozen=True)
class Bead:
    """A line as commanded: width and layer height in mm, flow as a share."""

    line_mm: float
    layer_mm: float
    flow: float = 1.0

    def __post_init__(self) -> None:
        if not (0 < self.layer_mm <= self.line_mm):
            raise ValueError("A line must be at least as wide as the layer is high, and both more than zero.")
        if not 0 < self.flow <= 3:
            raise ValueError("A flow is a share of the wanted amount: more than 0, at most 3.")

    @classmethod
    def usual(cls, nozzle_mm: float) -> "Bead":
        """The first layer's line for a nozzle of this width, where nobody chose another."""
        return cls(BEAD.line_per_nozzle * nozzle_mm, BEAD.layer_per_nozzle * nozzle_mm)

    @property
    def area_mm2(self) -> float:
        """Cross-section of one line, with the flow: f ((w - h) h + pi h^2 / 4)."""
        h = self.layer_mm
        return self.flow * ((self.line_mm - h) * h + pi * h * h / 4)

    @property
    def pitch_mm(self) -> float:
        """From one line's middle to the next so that stadiums just fuse: w - h (1 - pi / 4)."""
        return self.line_mm - self.layer_mm * (1 - pi / 4)

    @property
    def free_diameter_mm(self) -> float:
        """d0 = sqrt(4 A / pi): a bead that touches nothing is round."""
        return sqrt(4 * self.area_mm2 / pi)

    def width_at(self, gap_mm: float) -> float:
        """w = A / g + g (1 - pi/4) under the tip; a round bead of diameter d0 beyond."""
        if gap_mm <= 0:
            raise ValueError("A bead needs a gap larger than zero.")
        if gap_mm >= self.free_diameter_mm:
            return self.free_diameter_mm
        return self.area_mm2 / gap_mm + gap_mm * (1 - pi / 4)

    def fill_at(self, gap_mm: float) -> float:
        """phi = A / (g p): more than 1 is squeezed out into ridges."""
        if gap_mm <= 0:
            raise ValueError("A bead needs a gap larger than zero.")
        return self.area_mm2 / (gap_mm * self.pitch_mm)

    @property
    def parting_gap_mm(self) -> float:
        """The gap at which neighbouring lines part: w(g) = p, the smaller root.

        c g^2 - p g + A = 0 with c = 1 - pi/4. Where a line never gets that narrow before it
        is round, lines part at d0.
        """
        c, p = 1 - pi / 4, self.pitch_mm
        inside = p * p - 4 * c * self.area_mm2
        root = self.free_diameter_mm if inside < 0 else (p - sqrt(inside)) / (2 * c)
        return min(root, self.free_diameter_mm)

    def bands_mm(self) -> dict[Grade, tuple[float, float]]:
        """For each grade the gaps, in mm, between which it is what is seen."""
        unit = self.flow * self.layer_mm
        parting = self.parting_gap_mm - BEAD.parting_margin * self.layer_mm
        d0 = max(self.free_diameter_mm, parting + 1e-6)
        edges = [
            -float("inf"),
            BEAD.starved_below * unit,
            BEAD.squeezed_below * unit,
            BEAD.ridged_below * unit,
            max(parting, BEAD.ridged_below * unit + 1e-6),
            d0,
            BEAD.barely_to_d0 * d0,
            float("inf"),
        ]
        upwards: tuple[Grade, ...] = tuple(reversed(GRADES))
        return {grade: (edges[i], edges[i + 1]) for i, grade in enumerate(upwards)}

    def grade_at(self, gap_mm: float) -> Grade:
        """What is seen of a patch at this gap in mm."""
        return next(g for g, (low, high) in self.bands_mm().items() if low <= gap_mm < high)

    def target_mm(self, material: str) -> float:
        """The gap to aim at for a material: inside sound, never beyond parting."""
        low, high = self.bands_mm()["sound"]
        wanted = BEAD.target[material] * self.flow * self.layer_mm
        margin = 0.1 * (high - low)
        return min(max(wanted, low + margin), high - margin)


class Swatch(Value):
    """What is needed to draw a patch of lines at one gap."""

    gap_mm: float
    line_mm: float
    pitch_mm: float
    height_mm: float
    fill: float
    grade: Grade
    #: Height of the surface over the plate, mm, at even steps across one pitch; 0 where the plate shows.
    profile_mm: tuple[float, ...]
    #: How far the underside stands off the plate, mm, at the same steps; None where there is no plastic.
    under_mm: tuple[float | None, ...]
    #: How much of the plate's colour shows through, 0 to 1: a thin layer is translucent.
    shows_through: float


class GradeCard(Value):
    """One grade as offered to the judging eye, with its swatch and its band."""

    grade: Grade
    key: int
    word: str
    look: str
    #: Whether its lines hold and close.
    closes: bool
    from_mm: float | None
    to_mm: float | None
    swatch: Swatch


def profile(bead: Bead, gap_mm: float, steps: int = 28) -> tuple[float, ...]:
    """Height over the plate, mm, across one pitch of neighbouring lines, from midway between two to midway between the next.

    A round bead where it touches no tip; a stadium (flat top, round sides) where lines stand apart; a flat top with a groove
    where they meet and something is missing; and what does not fit under the tip as a ridge between them. Grooves, one
    above and one as deep below, and the ridge are triangles of the area that is missing or too much: |phi - 1| p g.
    """
    return tuple(_outline(bead, gap_mm, steps)[0].round(5).tolist())


def underside(bead: Bead, gap_mm: float, steps: int = 28) -> tuple[float | None, ...]:
    """How far the underside stands off the plate, mm, at the steps of `profile`; None where there is no plastic."""
    top, under = _outline(bead, gap_mm, steps)
    return tuple(off if t > 0 else None for off, t in zip(under.round(5).tolist(), top, strict=True))


@lru_cache(64)
def _outline(bead: Bead, gap_mm: float, steps: int) -> tuple[Array, Array]:
    """(steps,) upper and lower side of a line across one pitch, mm over the plate; 0 and 0 where there is no plastic."""
    pitch, width = bead.pitch_mm, bead.width_at(gap_mm)
    height = min(gap_mm, bead.free_diameter_mm)
    across = np.abs((np.arange(steps) + 0.5) / steps * pitch - pitch / 2)
    if width < pitch:
        flat, r = max(width - height, 0.0) / 2, height / 2
        beside = np.maximum(across - flat, 0.0)
        root = np.sqrt(np.maximum(r * r - beside * beside, 0.0))
        plastic = beside < r
        return plastic * (r + root), plastic * (r - root)
    # Where two fused lines meet there is plastic too much, or some is missing: above and below; what is too much can only rise.
    odd, base = (bead.fill_at(gap_mm) - 1) * pitch * gap_mm, BEAD.ridge_base * pitch
    tip = min(2 * odd / base, BEAD.ridge_most_mm) if odd > 0 else min(-odd / base, 0.4 * gap_mm)
    seam = np.maximum(1 - (pitch / 2 - across) / (base / 2), 0.0) * tip
    return (height + seam, np.zeros(steps)) if odd > 0 else (height - seam, seam)


def swatch(bead: Bead, gap_mm: float, light_mm: float = BEAD.light_mm["usual"]) -> Swatch:
    """One patch at a gap; light falls to a third within `light_mm` of the plastic."""
    gap = max(gap_mm, 0.02)
    return Swatch(
        gap_mm=gap,
        line_mm=bead.width_at(gap),
        pitch_mm=bead.pitch_mm,
        height_mm=min(gap, bead.free_diameter_mm),
        fill=bead.fill_at(gap),
        grade=bead.grade_at(gap),
        profile_mm=profile(bead, gap),
        under_mm=underside(bead, gap),
        shows_through=round(exp(-min(gap, bead.free_diameter_mm) / light_mm), 3),
    )


@lru_cache(64)
def grade_cards(bead: Bead, light_mm: float = BEAD.light_mm["usual"]) -> tuple[GradeCard, ...]:
    """The reference card: every grade with a swatch from the middle of its band."""
    bands = bead.bands_mm()
    cards = []
    for row in BEAD.grades:
        grade: Grade = row.grade  # type: ignore[assignment]
        low, high = bands[grade]
        finite_low = low if low > 0 else 0.25 * bead.layer_mm
        finite_high = high if high < 10 else finite_low * 1.2
        cards.append(
            GradeCard(
                grade=grade,
                key=row.key,
                word=row.word,
                look=row.look,
                closes=closes(grade),
                from_mm=low if low > 0 else None,
                to_mm=high if high < 10 else None,
                swatch=swatch(bead, (finite_low + finite_high) / 2, light_mm),
            )
        )
    return tuple(cards)
