"""What holds a part down, and what takes it off: a push at its top knocks it over, and its shrinking peels its corners up.

Two rough balances, each right to a factor of about two, so that what they give is a chance and not a verdict:

- A push F at height h against what the foot stands: F h / (s W), with the strength s of the hold and the foot's section
  modulus W about its weakest axis.
- Energy let go where an edge peels, per area, against what it takes: E e^2 h' / 2 over the grip, with the stiffness E, the
  shrinking e, and h' = H (1 - exp(-h / H)). A short part is free to shrink: tanh^2(L / 2h'). A corner carries more.

Where a brim ends the pull has fallen by exp(-2 b / reach); the foot stands wider by it.
"""

from math import exp, log, tanh
from typing import Annotated

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy.ndimage import distance_transform_edt
from scipy.stats import norm

from .defaults import HOLD_DOWN
from .value import Array, Value

Mask = NDArray[np.bool_]


class HoldDown(Value):
    """How likely a part stays where it is, and the brim that would see to it."""

    height_mm: float
    area_mm2: float
    #: What pushes or pulls, over what holds.
    knock: Annotated[float, Field(ge=0)]
    pull: Annotated[float, Field(ge=0)]
    p_off: float
    #: 0 where none is needed, None where no brim is enough.
    brim_mm: float | None
    p_off_with_brim: float
    words: str


def hold_down(
    foot: Mask,
    cell_mm: float,
    height_mm: float,
    material: str,
    *,
    corner_deg: float = 180.0,
    brim_mm: float = 0.0,
    enclosed: bool = False,
    grip: float = 1.0,
) -> HoldDown:
    """Whether a part of so much height stays on its foot.

    `foot` (ny, nx): the cells of `cell_mm` it stands on, a brim it has included. `corner_deg`: its sharpest outer corner, from
    within. `brim_mm`: how much of the foot is a brim already. `grip`: how many times the usual the plastic holds on this face. Raises ValueError for a foot of nothing.
    """
    if not foot.any():
        raise ValueError("A part stands on something.")
    say = HOLD_DOWN
    wide = max(int(np.ceil(max(say.brims_mm) / cell_mm)) + 1, 1)
    foot = np.pad(foot, wide)
    off = distance_transform_edt(~foot) * cell_mm
    long_mm = max(np.ptp(axis) + 1 for axis in np.nonzero(foot)) * cell_mm - 2 * brim_mm
    knocks, pulls, chances = [], [], []
    for more in (0.0, *say.brims_mm):
        knocks.append(_knock(off <= more, cell_mm, height_mm, material) / grip)
        pulls.append(_pull(long_mm, height_mm, material, corner_deg, brim_mm + more, enclosed=enclosed) / grip)
        chances.append(1 - (1 - _p(knocks[-1])) * (1 - _p(pulls[-1])))
    enough = next((k for k, p in enumerate(chances) if p <= say.worth), None)
    brim = None if enough is None else (0.0, *say.brims_mm)[enough]
    with_brim = chances[-1 if enough is None else enough]
    found = HoldDown(
        height_mm=height_mm,
        area_mm2=float(foot.sum()) * cell_mm**2,
        knock=knocks[0],
        pull=pulls[0],
        p_off=chances[0],
        brim_mm=brim,
        p_off_with_brim=with_brim,
        words="",
    )
    return found.model_copy(update={"words": _in_words(found)})


def modulus_mm3(foot: Mask, cell_mm: float) -> float:
    """A foot's least section modulus: its least second moment of area over the way to its edge there.

    `foot` (ny, nx) cells; each is taken as the square it is. Source: bending of beams.
    """
    places = np.argwhere(foot) * cell_mm
    at = places - places.mean(axis=0)
    second = at.T @ at * cell_mm**2 + np.eye(2) * len(at) * cell_mm**4 / 12
    _, axes = np.linalg.eigh(second)
    # About each main axis, and about the raster's own: a square has no main axis.
    candidates = [*axes.T, np.array([1.0, 0.0]), np.array([0.0, 1.0])]
    return float(min(_about(at, second, axis, cell_mm) for axis in candidates))


def _about(at: Array, second: Array, axis: Array, cell_mm: float) -> float:
    reach = np.abs(at @ axis).max() + cell_mm / 2 * np.abs(axis).sum()
    return float(axis @ second @ axis) / float(reach)


def _knock(foot: Mask, cell_mm: float, height_mm: float, material: str) -> float:
    holds = HOLD_DOWN.material[material].strength_mpa * modulus_mm3(foot, cell_mm)
    return float(HOLD_DOWN.knock_n * height_mm / holds)


def _pull(
    long_mm: float, height_mm: float, material: str, corner_deg: float, brim_mm: float, *, enclosed: bool
) -> float:
    say, of = HOLD_DOWN, HOLD_DOWN.material[material]
    shrinks = of.shrinks * (say.enclosed if enclosed else 1.0)
    high = say.tall_mm * (1 - exp(-height_mm / say.tall_mm))
    if high <= 0:
        return 0.0
    let_go = of.stiff_mpa * shrinks**2 * high / 2 * tanh(max(long_mm, 0.0) / (2 * high)) ** 2
    corner = (180 / min(max(corner_deg, 15.0), 180.0)) ** say.corner_power
    # N/mm is 1000 J/m^2.
    return float(1000 * let_go * corner * exp(-2 * brim_mm / say.brim_reach_mm) / of.grip_j_m2)


def _p(ratio: float) -> float:
    """The chance that a load is more than what holds, with both known to a factor only."""
    return float(norm.cdf(log(ratio) / HOLD_DOWN.factor_sd)) if ratio > 0 else 0.0


def _in_words(found: HoldDown) -> str:
    if found.brim_mm == 0.0:
        return f"It stays down: {found.area_mm2:.0f} mm² hold {found.height_mm:.0f} mm of height."
    if found.knock >= found.pull:
        why = f"{found.area_mm2:.0f} mm² under {found.height_mm:.0f} mm of height: the tip may knock it over"
    else:
        why = "its corners may be pulled up as it shrinks"
    if found.brim_mm is None:
        return f"{_capital(why)}, and no brim is enough: keep it warm in an enclosure, lay it flat, or print it with others."
    return f"{_capital(why)} ({100 * found.p_off:.0f} %). A brim of {found.brim_mm:g} mm makes it {100 * found.p_off_with_brim:.0f} %."


def _capital(text: str) -> str:
    return text[0].upper() + text[1:]
