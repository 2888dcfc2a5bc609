"""Feel: from a drag on a gauge to the gap under the tip.

A feel is an ordered probit in the gap: five words, four cuts, one scatter. `free` and
`stuck` are one-sided, so a feel alone cannot size an error of 0.3 mm.
"""

from itertools import pairwise
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from .defaults import FEEL, OFFSET
from .value import Id, Label, Value

GaugeKind = Literal["paper", "note", "card", "feeler", "shim", "lamp", "dial", "laser", "probe"]

Feel = Literal["stuck", "snag", "drag", "brush", "free"]
#: From the smallest gap to the largest.
FEELS: tuple[Feel, ...] = ("stuck", "snag", "drag", "brush", "free")


#: How a gauge is felt: slid by hand, pushed until it buckles, or pulled by the weight of a clip that hangs on it.
FeelMethod = Literal["slide", "push", "clip"]


class FeelScale(Value):
    """One person's feel on one gauge: four cuts between five words, in mm beyond its thickness.

    Starts from the shipped values; a feel check and every run narrow it.
    """

    cuts_mm: tuple[float, float, float, float] = FEEL.cuts_mm
    scatter_mm: Annotated[float, Field(ge=0.002, le=0.1)] = FEEL.scatter_mm
    #: One sd of ln(scatter): how sure the scatter itself is.
    scatter_ln_sd: Annotated[float, Field(ge=0, le=1)] = FEEL.scatter_ln_sd
    #: Tries it was fitted to; 0 is nobody's own scale.
    tries: Annotated[int, Field(ge=0)] = 0

    @model_validator(mode="after")
    def _cuts_rise(self) -> Self:
        # Between two cuts that meet or cross, a feel would say that no gap is possible.
        if not all(b - a >= FEEL.cuts_apart_mm for a, b in pairwise(self.cuts_mm)):
            raise ValueError(
                f"The cuts between the five feels rise from stuck to free, each at least {FEEL.cuts_apart_mm:g} mm above the last."
            )
        return self

    @classmethod
    def of_method(cls, method: FeelMethod) -> Self:
        """The shipped scale of a way of feeling, before anybody's own is known."""
        return cls(**FEEL.methods[method].model_dump()) if method != "slide" else cls()

    @property
    def drag_sd_mm(self) -> float:
        """Scatter of a knob turned until the gauge drags: the feel's, and where within `drag` the hand stops."""
        return float(np.hypot(self.scatter_mm, self.stopping_sd_mm))

    @property
    def stopping_sd_mm(self) -> float:
        """What turning adds to the feel's own scatter: somewhere within `drag`, and a little past what was felt."""
        return float(np.hypot((self.cuts_mm[2] - self.cuts_mm[1]) / 12**0.5, FEEL.past_sd_mm))


class Gauge(Value):
    """What is slid under the tip. What is typed of its thickness counts only when it was measured; until then what its kind usually is.

    A folded stack tells a thin sheet's thickness better than one sheet: give `stack_mm` and
    `stack_sheets` and the thickness follows.
    """

    id: Id
    name: Label
    kind: GaugeKind = "paper"
    #: A piece that is felt in two ways is two gauges: each way has a scale of its own.
    method: FeelMethod = "slide"
    thickness_mm: Annotated[float, Field(ge=0, le=5)] = 0.0
    measured: bool = False
    stack_mm: Annotated[float, Field(gt=0, le=100)] | None = None
    stack_sheets: Annotated[int, Field(ge=1, le=256)] | None = None
    retired: bool = False

    def folds_mm(self, *, usual: bool = True) -> dict[int, float]:
        """By number of layers, from few to many, what it measures folded, or so many sheets of it, mm; none so thin that a feel
        tells as much, and none where nobody knows how thick it is. `usual` as in `drags_at`."""
        each, _ = self.drags_at(usual=usual)
        sizes = {layers: round(layers * each, 2) for layers in OFFSET.thick_layers}
        return {layers: mm for layers, mm in sizes.items() if mm >= OFFSET.thick_least_mm}

    def folds_doubt(self, *, usual: bool = True) -> float:
        """By what share all its folds may be thicker or thinner than taken, one sd; 0 where the gauge was measured."""
        each, sd = self.drags_at(usual=usual)
        return 0.0 if self.measured or each <= 0 else sd / each

    @model_validator(mode="after")
    def _stack_tells(self) -> Self:
        if (self.stack_mm is None) != (self.stack_sheets is None):
            raise ValueError("A stack needs both its height and how many sheets it is.")
        if self.stack_mm is not None and self.stack_sheets is not None:
            each = self.stack_mm / self.stack_sheets
            if each > 5:
                raise ValueError(f"One sheet would be {each:.1f} mm thick. Count the sheets of the stack again.")
            object.__setattr__(self, "thickness_mm", round(each, 4))
            object.__setattr__(self, "measured", True)
        return self

    @property
    def try_words(self) -> str:
        """What to do with it once the tip stands."""
        return {
            "slide": f"slide the {self.name} under the tip",
            "push": f"push the {self.name} under the tip from one side, till it buckles or goes through",
            "clip": f"let the clip pull the {self.name} under the tip",
        }[self.method]

    def drags_at(self, sd_mm: float = FEEL.bias_sd_mm, *, usual: bool = True) -> tuple[float, float]:
        """The gap in mm at which it drags, and one sd of it: `sd_mm` where its thickness was measured.

        Not measured it counts as what its kind usually is; as zero, known to less, where nobody can say or `usual` is
        False. Paper is never thinner than nothing: to take its drag for zero would leave every first layer too far.
        """
        if self.measured:
            return self.thickness_mm, sd_mm
        kind = FEEL.usual.get(self.kind) if usual else None
        return (kind.mm, kind.sd_mm) if kind else (0.0, FEEL.unmeasured_sd_mm)


def feel_interval(feel: Feel, counted_mm: float, scale: FeelScale) -> tuple[float, float]:
    """The gaps, in mm, between which a feel is the likeliest; ends are infinite.

    Cuts at t - 0.040, t - 0.012, t + 0.008, t + 0.030 mm to start with (ordered probit,
    McCullagh 1980).
    """
    cuts = (-float("inf"), *(counted_mm + c for c in scale.cuts_mm), float("inf"))
    i = FEELS.index(feel)
    return cuts[i], cuts[i + 1]
