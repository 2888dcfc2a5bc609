"""Steps per mm in Z from heights that were printed and measured."""

from typing import Annotated

import numpy as np
from pydantic import Field

from .defaults import OFFSET
from .value import Value


class PrintedHeight(Value):
    """A step of a printed block: as high as it was drawn, and as a caliper reads it, mm."""

    drawn_mm: Annotated[float, Field(gt=0, le=1000)]
    measured_mm: Annotated[float, Field(gt=0, le=1000)]


class ZSteps(Value):
    """What Z travels for each mm that is asked for, with one sd; and the steps per mm that would put it right."""

    per_mm: float
    sd: float
    #: What all heights share: the first layer squeezed or laid high.
    foot_mm: float
    #: None where the caliper and the plastic's own shrinking leave nothing to say.
    new_steps_per_mm: float | None
    words: str


def z_steps(heights: tuple[PrintedHeight, ...], material: str, steps_per_mm: float | None = None) -> ZSteps:
    """By least squares, measured = foot + (1 - shrink) per_mm * drawn; the first layer's own error falls out as the foot.

    `steps_per_mm`: as the machine has it now. Raises ValueError with fewer than two heights, or too close to one another.
    """
    drawn = np.array([h.drawn_mm for h in heights])
    measured = np.array([h.measured_mm for h in heights])
    if len(heights) < 2 or np.ptp(drawn) < OFFSET.z_apart_mm:
        raise ValueError(
            f"Measure two heights or more that lie at least {OFFSET.z_apart_mm:g} mm apart: one alone tells the first layer's error too."
        )
    design = np.column_stack([np.ones(len(drawn)), drawn])
    (foot, slope), *_ = np.linalg.lstsq(design, measured, rcond=None)
    scatter = OFFSET.z_caliper_sd_mm
    if len(heights) > 2:
        rest = measured - design @ np.array([foot, slope])
        scatter = max(scatter, float(np.sqrt(rest @ rest / (len(heights) - 2))))
    slope_sd = scatter / float(np.sqrt(np.square(drawn - drawn.mean()).sum()))
    shrink = OFFSET.z_shrinks[material]
    per_mm = float(slope) / (1 - shrink)
    # How much it shrinks is known to about half of it.
    sd = float(np.hypot(slope_sd, shrink / 2))
    far = abs(per_mm - 1) > 2 * sd
    new = steps_per_mm / per_mm if far and steps_per_mm else None
    said = f"For each mm asked Z travels {per_mm:.4f} ± {sd:.4f} mm, {material} having shrunk by about {100 * shrink:.1f} %."
    if not far:
        words = f"{said} That is right within what a caliper and the plastic can tell: leave the steps."
    elif new is None:
        words = f"{said} Give the steps per mm as they are to see what they should be."
    else:
        words = f"{said} Set {new:.2f} steps per mm instead of {steps_per_mm:g}, home, and feel the Z offset again: every height changes with it."
    return ZSteps(
        per_mm=round(per_mm, 5),
        sd=round(sd, 5),
        foot_mm=round(float(foot), 4),
        new_steps_per_mm=None if new is None else round(new, 3),
        words=words,
    )
