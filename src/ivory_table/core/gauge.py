"""Feel: from a drag on a gauge to the gap under the tip.

A feel is an ordered probit in the gap: five words, four cuts, one scatter. `free` and
`stuck` are one-sided, so a feel alone cannot size an error of 0.3 mm.
"""

from typing import Annotated, Literal

from pydantic import Field

from .defaults import FEEL
from .value import Id, Label, Value

Feel = Literal["stuck", "snag", "drag", "brush", "free"]
#: From the smallest gap to the largest.
FEELS: tuple[Feel, ...] = ("stuck", "snag", "drag", "brush", "free")


class Gauge(Value):
    """What is slid under the tip. Its thickness counts only when it was measured."""

    id: Id
    name: Label
    thickness_mm: Annotated[float, Field(ge=0, le=5)] = 0.0
    measured: bool = False

    @property
    def counted_mm(self) -> float:
        """The thickness that may enter the arithmetic: 0 until it has been measured."""
        return self.thickness_mm if self.measured else 0.0

    @property
    def sd_mm(self) -> float:
        """How far the true gap at drag may lie from `counted_mm`, as one sd."""
        return FEEL.bias_sd_mm if self.measured else FEEL.unmeasured_sd_mm


def feel_interval(feel: Feel, counted_mm: float) -> tuple[float, float]:
    """The gaps, in mm, between which a feel is the likeliest; ends are infinite.

    Cuts at t - 0.040, t - 0.012, t + 0.008, t + 0.030 mm to start with (ordered probit,
    McCullagh 1980); the scatter is `FEEL.scatter_mm`.
    """
    cuts = (-float("inf"), *(counted_mm + c for c in FEEL.cuts_mm), float("inf"))
    i = FEELS.index(feel)
    return cuts[i], cuts[i + 1]
