"""Coming down to a gauge from anywhere: where the drag may lie, and how far the next move may go.

A belief on a grid of heights, since it spans millimetres on the way down and hundredths at the end, and one-sided
answers make it anything but Gaussian. Many times "free" on the way down says no more than the lowest of them: the
cuts, the slip and the gauge are the same each time, so they must not add up to a drag that nobody felt.
Lengths in mm; heights are commanded z at one place, up positive.
"""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from scipy.special import ndtr

from .defaults import OFFSET
from .gauge import FEELS, Feel, FeelScale, feel_interval
from .value import Array

#: The grid: finer than a tenth of what is wanted of the drag, over all the heights a tip may hang at.
_STEP_MM = 0.002
_LOWEST_MM, _HIGHEST_MM = -6.6, 1.6
#: The feels that bound the drag from one side only, and the direction in which they say less.
_ONE_SIDED: tuple[tuple[Feel, int], ...] = (("free", 1), ("stuck", -1))


def _plain(z_mm: float) -> float:
    """A height as it is said: without the crumbs of arithmetic, and never -0."""
    return round(float(z_mm), 6) + 0.0


@dataclass(frozen=True)
class Under:
    """With the tip at `z_mm`: the thickest thing that goes under it, and the thinnest that does not; mm.

    `under_mm` 0: nothing that was tried goes under; `not_mm` None: nothing thicker was tried. `typed`: its thickness was
    typed for this, and may be mistyped.
    """

    z_mm: float
    under_mm: float
    not_mm: float | None
    typed: bool = False

    @classmethod
    def of_sizes(cls, z_mm: float, under_mm: float, sizes_mm: Iterable[float]) -> "Under":
        """Of things of known sizes the thickest that goes under; the next thicker one does not."""
        return cls(z_mm, under_mm, min((mm for mm in sizes_mm if mm > under_mm), default=None))


@dataclass(frozen=True, eq=False)
class Approach:
    """What was felt and seen at one place, over what was believed before: `heights` (n,) and `log_prior` (n,) of the drag."""

    heights: Array
    log_prior: Array
    scale: FeelScale
    #: The gauge's thickness, as far as it counts: an eye sees it in the gap.
    gauge_mm: float
    step_mm: float
    #: By what share all folds of the gauge may be thicker than taken, one sd: one that nobody measured.
    folds_doubt: float = 0.0
    felt: tuple[tuple[float, Feel], ...] = ()
    #: (height of the tip, gap as the eye told it).
    looks: tuple[tuple[float, float], ...] = ()
    #: What thick things went under the tip: a coin, a stack of cards, the gauge folded.
    thick: tuple[Under, ...] = ()

    @classmethod
    def over(
        cls,
        drag_mm: float,
        sd_mm: float,
        *,
        scale: FeelScale,
        gauge_mm: float,
        step_mm: float,
        seen_above: bool,
        folds_doubt: float = 0.0,
    ) -> "Approach":
        """Before the first answer: the drag is believed at `drag_mm` +- `sd_mm`.

        Where nobody knows it (sd of `OFFSET.unknown_sd_mm` and more) the tip hangs anywhere up to some mm above the plate
        at z 0. It may be below: hardly, where somebody has seen it stop above the plate (`seen_above`), else
        as far as a wrong offset takes it.
        """
        low, high = min(_LOWEST_MM, drag_mm - 5 * sd_mm), max(_HIGHEST_MM, drag_mm + 5 * sd_mm)
        heights = np.asarray(np.arange(round(low / _STEP_MM), round(high / _STEP_MM) + 1) * _STEP_MM, dtype=float)
        near = np.exp(-0.5 * ((heights - drag_mm) / sd_mm) ** 2)
        if sd_mm < OFFSET.unknown_sd_mm:
            share = OFFSET.astray
            # Higher than all that was believed it hardly is: the tip would have met the plate. But what was believed may be wrong.
            beyond = heights - (drag_mm + 4 * sd_mm)
            anywhere = (beyond <= 0).astype(float)
            wrong = np.where(beyond > 0, np.exp(-np.maximum(beyond, 0) / OFFSET.wrong_reach_mm), 0.0)
            p = (1 - share) * near / near.sum() + share * anywhere / anywhere.sum()
            p = np.maximum(p + OFFSET.wrong * wrong / max(wrong.sum(), 1e-300), 1e-300)
        else:
            above = np.maximum(heights - gauge_mm, 0.0)
            hang = above == 0
            down = OFFSET.unknown_near * near * hang / (near * hang).sum()
            down = down + (1 - OFFSET.unknown_near) * hang / hang.sum()
            reach = OFFSET.above_seen_mm if seen_above else OFFSET.above_unseen_mm
            up = ~hang * np.exp(-above / reach)
            p = np.maximum((1 - OFFSET.above_share) * down + OFFSET.above_share * up / up.sum(), 1e-300)
        return cls(heights, np.log(p), scale, gauge_mm, step_mm, folds_doubt)

    def feel(self, z_mm: float, feel: Feel) -> "Approach":
        """The gauge slid under the tip at `z_mm`."""
        return replace(self, felt=(*self.felt, (z_mm, feel)))

    def look(self, z_mm: float, gap_mm: float) -> "Approach":
        """With the tip at `z_mm` the gap under it looks about so large."""
        return replace(self, looks=(*self.looks, (z_mm, gap_mm)))

    def slid_under(self, tried: Under) -> "Approach":
        """Something thick was slid under the tip, or was not to be."""
        return replace(self, thick=(*self.thick, tried))

    # What is believed

    @cached_property
    def p(self) -> Array:
        """(n,) probability of each height of the grid."""
        log_p = self.log_prior + sum((self._told(*answer) for answer in self._counting), np.zeros(len(self.heights)))
        if self.looks:
            log_p = log_p + self._seen()
        if self.thick:
            log_p = log_p + self._slid_under()
        p = np.exp(log_p - log_p.max())
        return np.asarray(p / p.sum())

    @property
    def _counting(self) -> list[tuple[float, Feel, float]]:
        """The answers that count, each with the chance that it tells nothing.

        Of `free` the lowest, of `stuck` the highest, and of the same those plainly apart; of the others each. Said again at
        the same height it says no more of where the drag is, but hardly caught on something else each time.
        """
        told = [(z, feel, OFFSET.slip) for z, feel in self.felt if feel not in ("free", "stuck")]
        apart = 3 * self.scale.scatter_mm
        for feel, away in _ONE_SIDED:
            last = -np.inf
            for z in sorted(away * z for z, said in self.felt if said == feel):
                if z >= last + apart:
                    told.append((away * z, feel, OFFSET.slip))
                    last = z
                else:
                    told[-1] = (*told[-1][:2], told[-1][2] * OFFSET.slip_again)
        return told

    def _told(self, z_mm: float, feel: Feel, slip: float) -> Array:
        """ln of how likely a feel is, for a drag at each height; a few answers tell nothing (a gauge that catches elsewhere)."""
        low, high = feel_interval(feel, 0.0, self.scale)
        gap = z_mm - self.heights
        s = self.scale.scatter_mm
        p = ndtr((high - gap) / s) - ndtr((low - gap) / s)
        return np.asarray(np.log((1 - slip) * p + slip / 5))

    def _seen(self) -> Array:
        """ln of how likely what was seen is. An eye tells a gap to a share of it, beside a habit that all its looks share.

        ln(told / gap) = habit + noise; what is below `eye_from_mm` is left to the gauge.
        """
        total = np.full(len(self.heights), -np.inf)
        habits = OFFSET.eye_habit * np.linspace(-2.5, 2.5, 11)
        weights = -0.5 * (habits / OFFSET.eye_habit) ** 2
        for habit, weight in zip(habits, weights, strict=True):
            log_p = np.full(len(self.heights), weight)
            for z, told in self.looks:
                gap = np.maximum(self._air(z), 0.02)
                off = np.log(max(told, OFFSET.eye_from_mm) / np.maximum(gap, OFFSET.eye_from_mm)) - habit
                p = np.exp(-0.5 * (off / OFFSET.eye_share) ** 2)
                log_p = log_p + np.log((1 - OFFSET.slip) * p + OFFSET.slip * 0.05)
            total = np.logaddexp(total, log_p)
        return total

    def _slid_under(self) -> Array:
        """ln of how likely what went under is. What all folds are thicker by than taken is one unknown, summed over."""
        off = np.linspace(-2, 2, 9) if self.folds_doubt else np.zeros(1)
        by_size = [
            -0.5 * o**2 + sum(self._slid(tried, float(np.exp(self.folds_doubt * o))) for tried in self.thick)
            for o in off
        ]
        return np.asarray(np.logaddexp.reduce(by_size, axis=0))

    def _slid(self, tried: Under, thicker: float) -> Array:
        """ln of how likely it is, should all folds be so many times as thick as taken. Folds spring and cards bend: the
        thicker, the less it is known."""
        gap = self._air(tried.z_mm)

        def goes(mm: float) -> Array:
            mm = mm if tried.typed else thicker * mm
            return np.asarray(ndtr((gap - mm) / np.hypot(OFFSET.thick_sd_mm, OFFSET.thick_share * mm)))

        p = goes(tried.under_mm) if tried.under_mm else np.ones(len(gap))
        if tried.not_mm is not None:
            p = p * (1 - goes(tried.not_mm))
        slip = OFFSET.slip if tried.typed else OFFSET.thick_slip
        return np.asarray(np.log((1 - slip) * p + slip / 2))

    def _air(self, z_mm: float) -> Array:
        """(n,) the gap in mm under a tip at `z_mm`, for a drag at each height."""
        return z_mm - self.heights + self.gauge_mm

    @cached_property
    def drag(self) -> tuple[float, float]:
        """Median and half the middle 68 % of the height at which the gauge drags: one sd where it is found, deaf to a slip."""
        low, middle, high = (self.quantile(share) for share in (0.159, 0.5, 0.841))
        # The grid's own step is no knowledge.
        return middle, max((high - low) / 2, _STEP_MM)

    def quantile(self, share: float) -> float:
        """The height in mm, commanded z, below which the drag lies with this chance; `share` from 0 to 1."""
        return float(self.heights[min(int(np.searchsorted(np.cumsum(self.p), share)), len(self.heights) - 1)])

    def likely(self, z_mm: float, feel: Feel) -> float:
        """The chance of a feel at a height, by all that is believed of the drag."""
        low, high = feel_interval(feel, 0.0, self.scale)
        gap, s = z_mm - self.heights, self.scale.scatter_mm
        return float(self.p @ (ndtr((high - gap) / s) - ndtr((low - gap) / s)))

    @property
    def touched(self) -> bool:
        """Whether the drag itself was felt, or both sides of it."""
        feels = {feel for _, feel in self.felt}
        return "drag" in feels or bool(feels & {"free", "brush"} and feels & {"snag", "stuck"})

    @property
    def _met_nothing(self) -> bool:
        """Whether the gauge, wherever it was tried, was free."""
        return all(feel == "free" for _, feel in self.felt)

    @property
    def found(self) -> bool:
        """Whether the drag was touched, or both its sides, and is known as closely as wanted."""
        return self.touched and self.drag[1] <= OFFSET.sd_wanted_mm

    @property
    def lowest_mm(self) -> float:
        """The lowest height to go to: deeper, the gauge would be pressed by more than `OFFSET.deepest_press_mm` more
        often than `OFFSET.press_risk`. From where it was felt free, `OFFSET.closest_step_mm` presses no deeper either."""
        # Where an eye brings it down in one go it is the eye that may be wrong, and by much.
        risk = OFFSET.press_risk if self.touched or not (self.looks or self.thick) else OFFSET.eye_press_risk
        deepest = self.quantile(1 - risk) - OFFSET.deepest_press_mm
        return max(min(deepest, self._clear_mm - OFFSET.closest_step_mm), OFFSET.floor_mm)

    @property
    def _clear_mm(self) -> float:
        """The lowest height at which the gauge was free: felt, or seen with so much air that nobody need feel it."""
        felt = [z for z, feel in self.felt if feel == "free"]
        seen = [z for z, gap in self.looks if gap - self.gauge_mm >= OFFSET.eye_from_mm]
        under = [t.z_mm for t in self.thick if t.under_mm > self.gauge_mm]
        return min(felt + seen + under, default=np.inf)

    @property
    def thick_helps(self) -> bool:
        """Whether something thick under the tip would save moves: before the gauge has met anything, where the doubt is
        larger than a step, and nothing of the kind was tried so high."""
        if not self._met_nothing:
            return False
        at = self.next_mm()
        if at is None or any(at > t.z_mm - OFFSET.closest_step_mm / 2 for t in self.thick):
            return False
        return self.drag[1] > OFFSET.closest_step_mm

    @property
    def look_helps(self) -> bool:
        """Whether an eye's guess at the gap would save moves: before the gauge has met anything, and far off, as far
        as is believed or as the doubt goes."""
        if not self._met_nothing:
            return False
        at = self.next_mm()
        # Looked at from the same height again, an eye sees what it saw.
        if at is None or any(at > z - OFFSET.closest_step_mm / 2 for z, _ in self.looks):
            return False
        drag, sd = self.drag
        return sd > OFFSET.eye_from_mm or at - drag > OFFSET.eye_from_mm

    def next_mm(self) -> float | None:
        """The height to try next, in steps of the machine; None once the drag is found, or as well as such steps can find it.

        As low as is safe while nothing was met; then where the answer is expected to leave the least doubt, once more where the
        tip stands if that tells nearly as much.
        """
        if self.found:
            return None
        step = self.step_mm
        floor = np.ceil(self.lowest_mm / step - 1e-9) * step
        if self._met_nothing:
            z = max(floor, np.round(self.quantile(0.5) / step) * step)
            if z >= self._clear_mm - step / 2:
                z = max(floor, self._clear_mm - step)
            return _plain(z)
        if not self.touched and all(feel in ("snag", "stuck") for _, feel in self.felt):
            # Felt again at the same height it says nothing new: up, and each time by more, until it is free or drags.
            least = max(z for z, _ in self.felt) + step * 2.0 ** (len(self.felt) - 1)
            best = np.round(self.drag[0] / step) * step
            return _plain(max(np.ceil(least / step - 1e-9) * step, best))
        around = np.round((self.drag[0] + np.arange(-8, 9) * max(step, 0.005)) / step) * step
        options = np.unique(np.maximum(around, floor))
        # Between two coarse steps the drag may lie where neither meets it: the same place over and over would find nothing.
        options = np.array([z for z in options if self._times_at(float(z)) < OFFSET.felt_at_most])
        left = [self._expected_doubt(float(z)) for z in options]
        foregone = bool(left) and self._doubt - min(left) < OFFSET.tells_least
        if not left or (foregone and self.drag[1] < step / 2):
            return None
        best = int(np.argmin(left))
        here = next((k for k, z in enumerate(options) if abs(z - self.felt[-1][0]) < step / 2), best)
        # To slide the gauge once more takes a moment, to move the tip and settle it longer.
        once = self._times_at(float(options[here])) == 1
        if once and left[here] - left[best] <= OFFSET.again_tells:
            best = here
        return _plain(options[best])

    def _times_at(self, z_mm: float) -> int:
        """How often the gauge was felt at this height, within half a step."""
        return sum(abs(z - z_mm) < self.step_mm / 2 for z, _ in self.felt)

    @property
    def _doubt(self) -> float:
        """The entropy of what is believed, nats."""
        p = self.p[self.p > 0]
        return -float(p @ np.log(p))

    def _expected_doubt(self, z_mm: float) -> float:
        """The entropy that a feel at `z_mm` is expected to leave: the place that tells most (Lindley 1956)."""
        alive = self.p > 1e-6
        p, gap = self.p[alive], z_mm - self.heights[alive]
        s, doubt = self.scale.scatter_mm, 0.0
        for feel in FEELS:
            low, high = feel_interval(feel, 0.0, self.scale)
            both = p * ((1 - OFFSET.slip) * (ndtr((high - gap) / s) - ndtr((low - gap) / s)) + OFFSET.slip / 5)
            doubt -= float(both @ np.log(both / both.sum()))
        return doubt
