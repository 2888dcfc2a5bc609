"""How much thicker a caliper reads a patch than its gap was: the sheet's texture and the plastic's shrinking, alike in every patch.

Not known beforehand, and the same for one filament on one plate: what a run finds of it the next one begins with.
"""

from typing import Annotated

from pydantic import Field

from .defaults import LAYER
from .value import Value


class CaliperOff(Value):
    """By how much every caliper value is off, mm, and one sd of it."""

    off_mm: Annotated[float, Field(ge=-0.2, le=0.2)] = 0.0
    sd_mm: Annotated[float, Field(gt=0, le=0.2)] = LAYER.measured.caliper_common_mm
    #: Caliper values that have told of it.
    values: Annotated[int, Field(ge=0)] = 0

    def learnt(self, off_mm: float, variance: float, values: int) -> "CaliperOff":
        """What is known of it after more values; never surer than a caliper is read from run to run."""
        sd = max(variance**0.5, LAYER.measured.least_caliper_common_mm)
        off = min(max(off_mm, -0.2), 0.2)
        return CaliperOff(off_mm=off, sd_mm=min(sd, self.sd_mm), values=self.values + values)
