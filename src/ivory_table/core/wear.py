"""What a plate's drift goes by: days, prints, or the sheet being taken off and put back.

A machine that stands still for a month wanders less than one that prints all day, or no less: nobody knows
beforehand. Each choice of shares counts a stretch of time in days of usual use, so that rates stay rates per
day; where nobody has written down what was printed, days are all there is.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated

import numpy as np
from pydantic import Field

from .defaults import DRIFT
from .value import Array, Value


class Use(Value):
    """What a plate has been through: days, prints on it, and how often the sheet was taken off; None: nobody has written it down."""

    days: Annotated[float, Field(ge=0)]
    prints: Annotated[float, Field(ge=0)] | None = None
    removals: Annotated[float, Field(ge=0)] | None = None


#: (c, 3) how much of the drift goes by days, by prints, by removals.
SHARES: Array = np.array([choice.shares for choice in DRIFT.goes_by])
#: (c,) ln of how likely each is before anything is seen.
LN_SHARES: Array = np.log([choice.chance for choice in DRIFT.goes_by])
#: Where days are all there is.
BY_DAYS: Array = np.array([[1.0, 0.0, 0.0]])


@dataclass(frozen=True)
class Pace:
    """Prints and removals a day of a plate's usual use; None where nobody has written them down."""

    prints: float | None = None
    removals: float | None = None

    @classmethod
    def of(cls, uses: Sequence[Use]) -> "Pace":
        """The mean of what was written down, over the days it was written down for."""

        def each(name: str) -> float | None:
            told = [(u.days, getattr(u, name)) for u in uses if getattr(u, name) is not None]
            days, count = sum(d for d, _ in told), sum(n for _, n in told)
            return count / days if days > 0 and count > 0 else None

        return cls(each("prints"), each("removals"))

    @property
    def known(self) -> bool:
        """Whether anything is known of how often it is used."""
        return self.prints is not None or self.removals is not None

    def usual_days(self, use: Use) -> Array:
        """(3,) the days of usual use that its days, its prints and its removals each stand for."""
        return np.array(
            [
                use.days,
                use.days if self.prints is None or use.prints is None else use.prints / self.prints,
                use.days if self.removals is None or use.removals is None else use.removals / self.removals,
            ]
        )

    def later(self, done: Use, day: float) -> Use:
        """What a plate will have been through `day` days after it was left: up to now what is `done`, then as usual."""

        def by_then(count: float | None, pace: float | None) -> float | None:
            if count is None or pace is None:
                return None
            if day <= done.days:
                return count * day / done.days if done.days > 0 else 0.0
            return count + pace * (day - done.days)

        return Use(days=day, prints=by_then(done.prints, self.prints), removals=by_then(done.removals, self.removals))
