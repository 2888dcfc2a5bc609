"""Signs of a printed patch: what each says of the gap it was laid at, and of other causes."""

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np

from .bead import GRADES, OPEN, Bead, Grade
from .defaults import BEAD, LAYER
from .value import Array, Value

#: Bands of the gap, as many as there are grades.
BANDS = len(GRADES)

SignId = Literal[
    "rubs_off",
    "nail_lifts_it",
    "rough",
    "holds_hard",
    "clicks",
    "tears_up",
    "drags_along",
    "lifts_at_bend",
    "came_off",
    "corner_curls",
    "strings",
    "dull",
]


class Sign(Value):
    """A sign as it is offered: what it is called, where it belongs, and its key."""

    id: SignId
    word: str
    group: str
    key: str


SIGNS: tuple[Sign, ...] = tuple(
    Sign(id=name, word=row.word, group=row.group, key=row.key) for name, row in LAYER.signs.items()
)


@dataclass(frozen=True)
class Mark:
    """What was seen, felt, heard and measured of one zone."""

    zone: int
    grade: Grade | None = None
    caliper_mm: float | None = None
    greasy: bool = False
    signs: tuple[SignId, ...] = ()
    #: A real part laid there: by how much it is lower than drawn, and its foot wider on each side, mm.
    short_mm: float | None = None
    foot_mm: float | None = None
    #: It did not hold, or its lines did not close: nobody said which.
    open: bool = False

    @property
    def fell(self) -> bool:
        """Whether it did not hold."""
        return self.grade in ("loose", "barely")

    @property
    def to_measure(self) -> bool:
        """Whether a caliper would tell something: its lines are fused, and nobody measured it."""
        return self.grade in ("sound", "ridged", "squeezed") and self.caliper_mm is None

    @cached_property
    def seen(self) -> tuple[Array, float, float] | None:
        """By band (7,) how likely all that was seen is, beside what it is whatever the gap, and where the patch fails.

        The likelihood over a gap x is rest + sum of bands . P(band | x), or `fails` where something else keeps the patch from
        holding. None where nothing of the kind was told.
        """
        one_of = (self.grade,) if self.grade is not None else OPEN if self.open else ()
        if self.greasy or not (one_of or self.signs):
            return None
        bands, fails = np.ones(BANDS), 1.0
        if one_of:
            own = [GRADES.index(grade) for grade in one_of]
            bands = np.full(BANDS, BEAD.slip / BANDS * len(own))
            bands[own] += 1 - BEAD.slip
            fails = sum(LAYER.fails.grades[k] for k in own)
        for name in self.signs:
            row = LAYER.signs[name]
            bands = bands * np.array(row.bands)
            fails *= row.fails
        rest = float(bands.min())
        return bands - rest, rest, fails

    def measured(self, bead: Bead) -> tuple[tuple[float, float], ...]:
        """Gaps in mm that were measured in the zone, each with its sd: a caliper on the patch, a part too low, a foot too wide."""
        found: list[tuple[float, float]] = []
        if self.caliper_mm is not None:
            found.append((self.caliper_mm, BEAD.caliper_sd_mm))
        if self.short_mm is not None:
            found.append((bead.layer_mm - self.short_mm, LAYER.measured.short_sd_mm))
        if self.foot_mm is not None and self.foot_mm > 0:
            gap = gap_of_foot(bead, self.foot_mm)
            slope = abs(bead.width_at(gap + 1e-4) - bead.width_at(gap)) / 2e-4
            found.append((gap, LAYER.measured.foot_sd_mm / max(slope, 0.2)))
        return tuple(found)


def gap_of_foot(bead: Bead, foot_mm: float) -> float:
    """The gap at which a line is laid so much wider on each side than it is commanded; at least a tenth of the layer."""
    low, high = 0.1 * bead.layer_mm, bead.layer_mm
    for _ in range(40):
        middle = (low + high) / 2
        wider = (bead.width_at(middle) - bead.line_mm) / 2
        low, high = (middle, high) if wider > foot_mm else (low, middle)
    return (low + high) / 2
