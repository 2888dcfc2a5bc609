"""A second tip that must hang at a height of its own beside the first: how far it is off, and what tells most of it.

The first tip lays pads of graded height; the second passes over them, and which it touched lies between two heights: an interval,
blurred by the pads' own scatter. Heights in mm; `above` is how far the second tip hangs above the first, positive = higher.
"""

from dataclasses import dataclass, replace
from functools import cached_property
from typing import Literal

import numpy as np
from scipy.special import ndtr

from .defaults import SECOND
from .tram import hand_error_mm
from .value import Array, Value
from .words import way_words

_STEP_MM, _REACH_MM = 0.002, 3.0


class Pads(Value):
    """Pads in a row: their tops above the plate, mm, low to high, laid by the first tip."""

    tops_mm: tuple[float, ...]


class Next(Value):
    """What is to be done next, and why."""

    step: Literal["gauge", "print", "pass", "turn", "done"]
    words: str
    #: Turns of the second tip's screw, positive clockwise seen from above.
    turns: float = 0.0
    #: Pads to lay, and the commanded height at which the second tip passes over them.
    pads: Pads | None = None
    pass_z_mm: float | None = None


@dataclass(frozen=True, eq=False)
class SecondTip:
    """What is believed of the second tip's height over the first, on a grid (n,) of probabilities."""

    wanted_mm: float
    pitch_mm: float
    #: +1 where the screw, turned clockwise seen from above, raises the tip.
    sense: Literal[1, -1]
    p: Array
    #: Pads on the plate that no pass has touched yet.
    fresh: tuple[float, ...] = ()
    gauged: bool = False

    @classmethod
    def unknown(cls, wanted_mm: float, pitch_mm: float, *, clockwise_raises: bool) -> "SecondTip":
        """Before anything is measured: as it was set by eye. Raises ValueError for a thread that is none."""
        if not pitch_mm > 0:
            raise ValueError("The screw's thread must be more than 0 mm per turn.")
        off = (_GRID - wanted_mm) / SECOND.by_eye_sd_mm
        p = np.exp(-0.5 * off**2)
        return cls(wanted_mm, pitch_mm, 1 if clockwise_raises else -1, p / p.sum())

    def gauge(self, above_mm: float) -> "SecondTip":
        """Both tips felt with one gauge at one place: how far the second is above."""
        return replace(self._weighed(np.exp(-0.5 * ((_GRID - above_mm) / SECOND.gauge_sd_mm) ** 2)), gauged=True)

    def lay(self, pads: Pads) -> "SecondTip":
        """What is known once pads were laid."""
        return replace(self, fresh=pads.tops_mm)

    def passed(self, z_mm: float, touched: tuple[bool, ...]) -> "SecondTip":
        """The second tip passed over the fresh pads with the machine at `z_mm`; it ran at z + above. Those it touched are spent.

        Raises ValueError when it is not said of every fresh pad.
        """
        if len(touched) != len(self.fresh):
            raise ValueError(f"Say of each of the {len(self.fresh)} pads whether it was touched.")
        like = np.ones(len(_GRID))
        for top, hit in zip(self.fresh, touched, strict=True):
            p_hit = ndtr((top - z_mm - _GRID) / SECOND.pad_sd_mm)
            like = like * ((1 - SECOND.slip) * (p_hit if hit else 1 - p_hit) + SECOND.slip / 2)
        left = tuple(top for top, hit in zip(self.fresh, touched, strict=True) if not hit)
        return replace(self._weighed(like), fresh=left)

    def turned(self, turns: float) -> "SecondTip":
        """The screw was turned: a known move with the hand's error."""
        up = turns * self.pitch_mm * self.sense
        sd = float(hand_error_mm(up))
        moved = np.interp(_GRID - up, _GRID, self.p, left=0.0, right=0.0)
        reach = np.arange(-4 * sd, 4 * sd + _STEP_MM, _STEP_MM)
        kernel = np.exp(-0.5 * (reach / sd) ** 2)
        p = np.convolve(moved, kernel / kernel.sum(), mode="same")
        return replace(self, p=p / p.sum())

    def _weighed(self, like: Array) -> "SecondTip":
        p = self.p * np.maximum(like, 1e-12)
        return replace(self, p=p / p.sum())

    @cached_property
    def above(self) -> tuple[float, float]:
        """Mean and sd of how far the second tip is above the first, mm."""
        mean = float(self.p @ _GRID)
        return mean, float((self.p @ (_GRID - mean) ** 2) ** 0.5)

    def interval(self, share: float = 0.9) -> tuple[float, float]:
        """The middle of the belief that holds with this chance."""
        total = np.cumsum(self.p)
        low, high = (int(np.searchsorted(total, q)) for q in ((1 - share) / 2, (1 + share) / 2))
        return float(_GRID[low]), float(_GRID[min(high, len(_GRID) - 1)])

    @property
    def p_right(self) -> float:
        """The chance that it hangs where it is wanted, within `SECOND.within_mm`."""
        return float(self.p[np.abs(_GRID - self.wanted_mm) <= SECOND.within_mm + 1e-9].sum())

    @property
    def next(self) -> Next:
        """Done, or the turn, or what tells most of the height for its minutes."""
        mean, sd = self.above
        if not self.gauged:
            return Next(
                step="gauge", words="Feel both tips with one gauge at the same place: how much higher is the second?"
            )
        if self.p_right >= SECOND.done_at:
            return Next(step="done", words=f"It hangs {mean:.2f} mm above the first, as wanted.")
        # A turn is worth making once it would leave it likelier right than wrong, or it is far off.
        turns = (self.wanted_mm - mean) / (self.pitch_mm * self.sense)
        if abs(self.wanted_mm - mean) > max(SECOND.turn_over_sd * sd, SECOND.least_turn_mm):
            way = way_words(turns, "above")
            does = "raise" if self.wanted_mm > mean else "lower"
            return Next(
                step="turn",
                words=f"Turn its screw {abs(turns):.2f} turns {way}: that should {does} it by {abs(self.wanted_mm - mean):.2f} mm.",
                turns=round(turns, 2),
            )
        if (again := self._pass_again()) is not None:
            return again
        pads = self.pads()
        return Next(
            step="print",
            words=f"Lay {len(pads.tops_mm)} pads with the first tip, then pass the second over them.",
            pads=pads,
            pass_z_mm=self._pass_z(pads.tops_mm),
        )

    def pads(self) -> Pads:
        """Pads so far apart that the belief is spread over them, and never finer than they can be laid."""
        _, sd = self.above
        apart = max(round(2 * SECOND.spread_sd * sd / (SECOND.pads - 1), 3), SECOND.finest_mm)
        return Pads(tops_mm=tuple(round(SECOND.lowest_top_mm + k * apart, 3) for k in range(SECOND.pads)))

    def _pass_z(self, tops: tuple[float, ...]) -> float:
        """The height at which the second tip is believed to run through the middle of the pads."""
        return round(float(np.mean(tops)) - self.above[0], 2)

    def _pass_again(self) -> Next | None:
        """Over what is left of the pads, lower: where that tells nearly as much as new pads, it saves their minutes."""
        if len(self.fresh) < SECOND.least_fresh:
            return None
        z = self._pass_z(self.fresh)
        new = self.pads()
        if self._doubt_after(z, self.fresh) > SECOND.as_good * self._doubt_after(
            self._pass_z(new.tops_mm), new.tops_mm
        ):
            return None
        return Next(
            step="pass",
            words=f"Pass over the pads that are left, at z {z:.2f}.",
            pads=Pads(tops_mm=self.fresh),
            pass_z_mm=z,
        )

    def _doubt_after(self, z_mm: float, tops: tuple[float, ...]) -> float:
        """The sd that a pass is expected to leave: over how many of the ordered pads are touched."""
        p_hit = np.array([ndtr((top - z_mm - _GRID) / SECOND.pad_sd_mm) for top in sorted(tops)])
        # Touched from the highest down: k touched means the highest k and no other.
        edges = np.vstack([np.zeros(len(_GRID)), p_hit, np.ones(len(_GRID))])
        left = 0.0
        for k in range(len(edges) - 1):
            p = self.p * np.maximum(edges[k + 1] - edges[k], 0.0)
            weight = float(p.sum())
            if weight > 1e-9:
                mean = float(p @ _GRID) / weight
                left += float(p @ (_GRID - mean) ** 2)
        return float(left**0.5)


_GRID: Array = np.asarray(np.arange(-_REACH_MM, _REACH_MM + _STEP_MM / 2, _STEP_MM), dtype=float)
