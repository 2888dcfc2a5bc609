"""Why a first layer that was good went bad: what is known of the time in between, weighed by how it looks.

Each cause has a chance of having come about since, and a chance of looking like what is seen; causes are taken to come one
at a time, so that the chances of all of them add up to one. The table is `defaults/gone_bad.toml`.
"""

import math
from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field

from .defaults import GONE_BAD
from .value import StationName, Value

Look = Literal["loose", "scraped", "one_side", "middle", "spots", "corners", "thin"]
LOOKS: dict[Look, str] = GONE_BAD["looks"]
#: Causes that are likely only where the logbook, or the set-up, says that something happened.
KNOWN = frozenset(name for name, c in GONE_BAD["causes"].items() if "known" in c)


class Suspect(Value):
    """One cause, how likely it is among all, and the shortest way back."""

    cause: str
    text: str
    p: Annotated[float, Field(ge=0, le=1)]
    way: str
    minutes: int
    station: StationName


def came_about(cause: str, *, drift: Mapping[str, float], happened: frozenset[str], days: float, prints: int) -> float:
    """The chance that a cause has come about since the layer was good.

    `drift`: of height, support and form that they left what is sound. `happened`: those of `KNOWN` that are on record.
    Raises KeyError for a cause that is not in the table.
    """
    of: dict[str, Any] = GONE_BAD["causes"][cause]
    if cause in drift:
        return drift[cause]
    if "known" in of:
        return float(of["known"]) if cause in happened else 0.0
    # What comes by itself comes at a steady rate.
    rate = -math.log1p(-of.get("once", 0.0)) + of.get("per_print", 0.0) * prints + of.get("per_day", 0.0) * days
    return 1.0 - math.exp(-rate)


def suspects(
    look: Look | None,
    *,
    drift: Mapping[str, float],
    happened: frozenset[str],
    days: float,
    prints: int,
    place: str = "",
    stored: str = "",
) -> tuple[Suspect, ...]:
    """Every cause that can be, likeliest first. `look`: None where nobody has said how it looks.

    `place` and `stored` are put into the words: the support that wanders, the value that worked.
    """
    weights: dict[str, float] = {}
    for cause, of in GONE_BAD["causes"].items():
        p = came_about(cause, drift=drift, happened=happened, days=days, prints=prints)
        weights[cause] = p * (1.0 if look is None else of["looks"].get(look, GONE_BAD["rare"]))
    total = sum(weights.values())
    found = [
        Suspect(
            cause=cause,
            text=of["text"],
            p=weights[cause] / total,
            way=of["way"].format(place=place or "each screw", stored=stored or "the value that worked"),
            minutes=of["minutes"],
            station=of["station"],
        )
        for cause, of in GONE_BAD["causes"].items()
        if weights[cause] > 0
    ]
    return tuple(sorted(found, key=lambda s: (-s.p, s.minutes)))
