"""A plate on springs gives way under the gauge: felt with the tip pressing on it, it stands lower than when it is printed on.

The plate is taken to be stiff and its springs alike. One weight laid on it beside a screw tells how stiff they are; how hard a
gauge is pressed where it just drags goes by the way it is felt, known to a factor of two.
"""

from typing import Annotated

import numpy as np
from numpy.typing import ArrayLike
from pydantic import Field

from .defaults import FEEL
from .gauge import FeelMethod
from .value import Array, Label, Value

#: What a gram weighs, N.
NEWTON_A_GRAM = 0.00981


class GivesWay(Value):
    """A weight was laid on the plate beside a screw, and the plate sank there by so much under the tip or a dial."""

    screw: Label
    weight_g: Annotated[float, Field(ge=20, le=5000)]
    sinks_mm: Annotated[float, Field(ge=0, le=3)]


def sinking(screws: Array, places: ArrayLike) -> Array:
    """(n,) by how much a place sinks under a load there, times one spring's stiffness over the load.

    Screws (m, 2), places (n, 2) in mm. A stiff plate on m alike springs at p_i sinks by [1 x y] (sum p_i p_i')^-1 [1 x y]',
    p = [1 x y]: a quarter in the middle of four, three quarters over one of them.
    """
    at = np.atleast_2d(np.asarray(places, dtype=float)) - screws.mean(axis=0)
    rows, own = (np.column_stack([np.ones(len(xy)), xy]) for xy in (at, screws - screws.mean(axis=0)))
    return np.asarray(((rows @ np.linalg.inv(own.T @ own)) * rows).sum(axis=1))


def softness_mm_n(screws: Array, j: int, gives_way: GivesWay) -> float:
    """mm that one spring gives for each N, by what screw j's place sank under the weight."""
    share = float(sinking(screws, screws[j])[0])
    return gives_way.sinks_mm / (gives_way.weight_g * NEWTON_A_GRAM * share)


#: Ways of feeling, as they are said.
_SAID: dict[FeelMethod, str] = {"slide": "slid by hand", "push": "pushed until it buckles", "clip": "pulled by a clip"}


def in_words(screws: Array, softness: float, method: FeelMethod, centre: tuple[float, float]) -> str:
    """How far the plate gives way under the gauge, and which way of feeling would press it less; empty where it hardly does."""

    def over(way: FeelMethod) -> tuple[float, float]:
        at_screw, middle = under_gauge_mm(screws, softness, way, [tuple(screws[0]), centre])
        return float(at_screw), float(middle)

    at_screw, middle = over(method)
    if at_screw < FEEL.gives_way_from_mm:
        return ""
    words = (
        f"The plate gives way under the gauge, by about {at_screw:.3f} mm over a screw and {middle:.3f} mm in the middle: counted in, "
        "known to a factor of two"
    )
    least = min(FEEL.press_n, key=lambda way: FEEL.press_n[way])
    if least == method:
        return f"{words}."
    return f"{words}. A gauge {_SAID[least]} presses it less: {over(least)[0]:.3f} and {over(least)[1]:.3f} mm."


def under_gauge_mm(screws: Array, softness: float, method: FeelMethod, places: ArrayLike) -> Array:
    """(n,) mm that each place stands lower while the gauge just drags there."""
    return FEEL.press_n[method] * softness * sinking(screws, places)
