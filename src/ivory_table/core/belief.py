"""The one state of belief that every station reads and updates.

Gaussian over the surface, the feel bias, the probe's zero and the extrusion error, given
the supports' compliance; a weighted set of hypotheses for that compliance, each with its
own Kalman filter (a static multiple-model filter, Magill 1965). Exact for linear readings;
for feels the moments of the truncated Gaussian are matched (Opper 1998).
"""

from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import ArrayLike, NDArray

from . import steps
from .defaults import TRAM
from .normals import flattened, mixture_quantile, normal_points, range_of, range_sd
from .steps import Step
from .surface import Surface
from .value import Array

if TYPE_CHECKING:
    from .prior import Prior

#: Draws by which ranges of heights are judged.
_DRAWS = 2048
#: Below this a compliance passes all of a twist, as far as anybody can tell.
LAM_FLOOR = 0.1


@dataclass(frozen=True, eq=False)
class Belief:
    """Weights (n,), parameters (n, m + 2), signs (n, m), drag scatters (n,), couplings (n, m, m), means (n, d), covariances (n, d, d).

    A hypothesis says how far each support yields, which knobs work against their declared
    sense (their sign is -1, and their column of `passes` turned round), how the person's feel scatters, and
    how far the plate's answer to a turn may differ from what yielding supports explain (slack bolts, friction).
    """

    surface: Surface
    #: Parameters of each hypothesis, (n, m + 2), as `Prior` says.
    theta: Array
    signs: Array
    #: One sd in mm of a knob turned until the gauge drags, by hypothesis.
    drag_sd: Array
    #: One sd of the plate's answer to a turn beyond its supports', as a share of the turn, by hypothesis.
    answer_sd: Array
    passes: Array
    log_weight: Array
    #: ln weights before anything was told: what was told since is the likelihood.
    log_start: Array
    mean: Array
    cov: Array
    prior_of: "Prior"
    #: Where the nozzle runs now, against where it ran when the run began (mm, away is positive).
    shift_mm: float = 0.0
    #: Everything that was told, so that it can be told to better chosen hypotheses.
    told: tuple[Step, ...] = ()
    chosen_at: int = 0
    #: Knobs declared anew since the start, as a factor (m,): -1 for one whose sense was entered the wrong way.
    declared: Array = field(default_factory=lambda: np.ones(0))

    def with_nothing_learnt(self) -> "Belief":
        """The same run on a machine whose hardware changed: nothing of earlier runs counts, all of this one does."""
        fresh = self.prior_of.unlearnt()
        for step in self.told:
            fresh = fresh.after(step)
        return fresh

    def afresh(self) -> "Belief":
        """Nothing of the plate is taken for known any more, what was learnt of it neither; the nozzle runs where it runs."""
        return self.prior_of.unlearnt().nozzle_moved(self.shift_mm)

    def rechosen(self) -> "Belief":
        """The same belief on hypotheses drawn from what is believed now, with everything told to them again.

        Adaptive importance sampling (Oh and Berger 1992): sharp readings leave few of the first
        hypotheses alive, and the survivors would be too sure.
        """
        fresh, best = self, self
        for _ in range(TRAM.rechoose_rounds):
            # What most of them shall stand for: the sets of reversed knobs that are believed.
            leads = fresh.believed_signs()
            fresh = self.prior_of.drawn(*self.prior_of.peak(fresh, leads), leads * fresh.declared)
            for step in self.told:
                fresh = step.told_to(fresh)
            best = max(best, fresh, key=lambda b: b.alive)
            if fresh.alive >= len(fresh.weight) / TRAM.rechoose_below:
                break
        return replace(best, told=self.told, chosen_at=len(self.told))

    def believed_signs(self) -> Array:
        """(sets, m) the sets of signs, +1 or -1, that are believed by more than one in five, the likeliest first."""
        patterns, of = np.unique(self.signs, axis=0, return_inverse=True)
        p = np.bincount(of.ravel(), self.weight)
        first = np.argsort(-p)
        return np.asarray(patterns[first][(p[first] > 0.2) | (np.arange(len(p)) == 0)])

    @property
    def alive(self) -> float:
        """How many hypotheses still count: the effective number of their weights (Kish 1965)."""
        return 1.0 / float(np.square(self.weight).sum())

    # What happened: each says it with a step of `steps.py`, which says what it means.

    def after(self, step: Step) -> "Belief":
        """The belief once a step was told to it; on hypotheses chosen anew where it leaves few of them alive."""
        after = replace(step.told_to(self), told=(*self.told, step))
        # Everything is told again each time: with much to tell, not at every stop.
        rest = max(2, len(after.told) // 12)
        if after.alive < len(after.weight) / TRAM.rechoose_below and len(after.told) > after.chosen_at + rest:
            after = after.rechosen()
        return after

    def turned(self, knob: int, up_mm: float, sd_mm: float) -> "Belief":
        """The belief after a knob raised its support by `up_mm`, give or take `sd_mm` of the hand."""
        return self.after(steps.Turned(knob, up_mm, sd_mm))

    def read(self, row: Array, value: float, sd_mm: float, *, dragged: bool = False) -> "Belief":
        """The belief after a reading: row (d,) . state = value in mm, with one sd in mm."""
        return self.after(steps.Read(row, value, sd_mm, dragged))

    def read_together(self, rows: Array, values: Array) -> "Belief":
        """The belief after readings: rows (n, d) . state = values (n,), each with a noise of one and none in common."""
        return self.after(steps.ReadTogether(rows, values))

    def felt(self, row: Array, low: float, high: float, sd_mm: float, *, own: bool = False) -> "Belief":
        """The belief after row (d,) . state was felt to lie between two heights in mm, by a hand of this sd."""
        return self.after(steps.Felt(row, low, high, sd_mm, own))

    def sense_shown(self, knob: int, raises: bool) -> "Belief":
        """The belief after a knob was seen to raise its support when turned clockwise from above, or to lower it."""
        return self.after(steps.SenseShown(knob, raises))

    def declared_anew(self, knob: int) -> "Belief":
        """The belief after a knob was declared to work the other way."""
        return self.after(steps.DeclaredAnew(knob))

    def nozzle_moved(self, away_mm: float) -> "Belief":
        """The belief after the nozzle was moved by so many mm, positive away from the plate."""
        return self.after(steps.NozzleMoved(away_mm))

    def loosened(self, common_mm: float, each_mm: float, form_mm: float) -> "Belief":
        """The belief after time or use: sds in mm that all, each support and the form may have moved by."""
        return self.after(steps.Loosened(common_mm, each_mm, form_mm))

    def doubted(self, astray_mm: float, flow: float, flow_sd: float, off_mm: float = 0.0) -> "Belief":
        """The belief with doubt added: sd and mean in mm of all gaps alike, and mean and sd of the flow, as shares."""
        return self.after(steps.Doubted(astray_mm, flow, flow_sd, off_mm))

    def flow_changed(self, times: float) -> "Belief":
        """The belief after so many times as much is fed."""
        return self.after(steps.FlowChanged(times))

    # What is believed

    @cached_property
    def weight(self) -> Array:
        """(h,) the hypotheses' chances."""
        return np.exp(self.log_weight)

    @property
    def doubted_weight(self) -> Array:
        """Weights (n,); flattened until an eighth of the hypotheses is alive where no more than a few are."""
        return self.weight if self.alive >= 4 else flattened(self.log_weight, len(self.log_weight) / 8)

    @cached_property
    def collapsed(self) -> tuple[Array, Array]:
        """Mean (d,) and covariance (d, d) of the mixture."""
        mean = self.weight @ self.mean
        off = self.mean - mean
        cov = np.tensordot(self.weight, self.cov, axes=1) + (self.weight[:, None] * off).T @ off
        return mean, cov

    def of(self, rows: Array) -> tuple[Array, Array]:
        """Mean and sd, (n,) each, of rows (n, d) of the state."""
        mean, cov = self.collapsed
        variance = ((rows @ cov) * rows).sum(axis=1)
        return rows @ mean, np.sqrt(np.maximum(variance, 0.0))

    def foresees(self, row: Array, value: float, sd_mm: float) -> float:
        """The share of the hypotheses, by weight, to which a reading is within 3 sd of what they expect."""
        spread = np.sqrt((self.cov @ row) @ row + sd_mm**2)
        return float(self.weight @ (np.abs(value - self.mean @ row) <= 3 * spread))

    def height(self, xy: ArrayLike) -> tuple[Array, Array]:
        """Mean and sd of the plate's height in mm at (n, 2) places, above the nozzle's plane now."""
        mean, sd = self.of(self.surface.rows(xy))
        return mean - self.shift_mm, sd

    def gap_row(self, x_mm: float, y_mm: float) -> Array:
        """Row for the height at one place, the usual first half of a reading."""
        return np.asarray(self.surface.rows([(x_mm, y_mm)])[0])

    def drag_row(self, x_mm: float, y_mm: float) -> Array:
        """Row for where a gauge drags at one place: the height there and the feel's bias."""
        return self.gap_row(x_mm, y_mm) + self.surface.unit(self.surface.bias)

    @cached_property
    def drag_variance(self) -> float:
        """Mean square in mm^2 of where a knob turned until the gauge drags comes to stand."""
        return float(self.weight @ np.square(self.drag_sd))

    def passes_of_twist(self) -> tuple[float, float] | None:
        """Share of a twist this plate passes, mean and sd; None where three screws cannot twist it.

        The sd is never below 0.03: the hypotheses lie no closer than that.
        """
        if self.surface.knobs <= 3:
            return None
        share = self.surface.twist_passed(self.passes * self.signs[:, None, :])
        mean = float(self.weight @ share)
        return mean, float(np.sqrt(self.weight @ (share - mean) ** 2 + 0.03**2))

    def p_reversed(self) -> Array:
        """(m,) how likely each knob is to work against its declared sense."""
        return np.asarray(self.weight @ (self.signs < 0))

    def scatter_learnt(self) -> tuple[float, float]:
        """The person's scatter in mm and one sd of its logarithm, by what the counts so far agreed with."""
        mean, sd = self._learnt_of(-2)
        return float(np.exp(mean)), sd

    def answer_learnt(self) -> tuple[float, float]:
        """Mean and sd of ln(answer_sd) for the next run; never quite sealed."""
        mean, sd = self._learnt_of(-1)
        return mean, max(sd, TRAM.answer_ln_sd / 3)

    def _learnt_of(self, parameter: int) -> tuple[float, float]:
        ln = self.theta[:, parameter]
        mean = float(self.weight @ ln)
        return mean, float(np.sqrt(self.weight @ (ln - mean) ** 2))

    def gains(self) -> tuple[Array, Array]:
        """(m,) mean and sd of what each knob gives beyond its declared pitch, as a share."""
        mean, cov = self.collapsed
        at = slice(self.surface.first_gain, self.surface.first_local)
        return mean[at], np.sqrt(np.maximum(np.diag(cov)[at], 0.0))

    def gains_for_next(self) -> tuple[Array, Array]:
        """As `gains`, opened up a little again: what a knob gives is told between runs, never sealed."""
        mean, sd = self.gains()
        return mean, np.maximum(sd, TRAM.gain_prior_sd / 3)

    def compliance_learnt(self) -> tuple[Array, Array]:
        """Mean (m,) and covariance (m, m) of ln(lam + LAM_FLOOR): what this run teaches the next.

        Along directions in which the run made the supports less certain than they were, the
        earlier certainty stays: that is chance of one run, not something learnt.
        """
        # Some way below the floor, so that supports found stiff again and again come to lie there; not so far that they never leave.
        ln = np.maximum(self.theta[:, :-2], np.log(LAM_FLOOR) - 1)
        mean = self.weight @ ln
        off = ln - mean
        cov = (self.weight[:, None] * off).T @ off
        root = np.linalg.cholesky(self.prior_of.cov[:-2, :-2])
        back = np.linalg.inv(root)
        share, axes = np.linalg.eigh(back @ cov @ back.T)
        kept = root @ axes
        return mean, np.asarray((kept * np.clip(share, 1e-3, 1.0)) @ kept.T)

    def height_interval(self, share: float = 0.9) -> tuple[Array, Array]:
        """Between which heights against the common one, in mm, (m,) each, this share of the belief lies.

        Quantiles of the mixture: that a knob may be reversed, once in 2000, widens the sd but not the interval.
        """
        m = self.surface.knobs
        against = np.eye(m) - 1.0 / m
        mean = self.mean[:, :m] @ against
        sd = np.sqrt(np.einsum("ij,njk,ki->ni", against, self.cov[:, :m, :m], against))
        tail = (1 - share) / 2
        return mixture_quantile(tail, self.weight, mean, sd), mixture_quantile(1 - tail, self.weight, mean, sd)

    def spread(self) -> tuple[float, float]:
        """Range of the heights at the anchors in mm: mean, and what it may be off by as `range_sd` has it."""
        return float(self._sampled_ranges.mean()), range_sd(self._sampled_ranges)

    def spread_interval(self, share: float = 0.9) -> tuple[float, float]:
        """Between which ranges of the heights at the anchors, in mm, this share of the belief lies."""
        low, high = np.quantile(self._sampled_ranges, [(1 - share) / 2, (1 + share) / 2])
        return float(low), float(high)

    def p_within(self, tol_mm: float, *, twist_out: bool = False) -> float:
        """P(range of the heights at the anchors <= 2 tol), the twist taken out or not."""
        ranges = self._sampled_ranges
        if twist_out and self.surface.knobs > 3:
            heights, u = self._sampled[0], self.surface.twist
            ranges = np.ptp(heights - np.outer(u, u @ heights), axis=0)
        return float((ranges <= 2 * tol_mm).mean())

    def ranges_after(self, knob: int, ups_mm: Array, sds_mm: Array) -> Array:
        """(options, draws) ranges of the heights at the anchors in mm, had the knob been turned by each of `ups_mm`."""
        heights, of = self._sampled
        a, g = self.passes[of, :, knob], self.surface.first_gain + knob
        gain, gain_sd = self.mean[of, g], np.sqrt(self.cov[of, g, g] + self.answer_sd[of] ** 2)
        hand = normal_points(_DRAWS, len(heights) + 2)[:, -2:]
        ups, sds = ups_mm[:, None], np.where(ups_mm, sds_mm, 0.0)[:, None]
        # Single precision tells a range to a ten-thousandth of a micron, twice as fast.
        made = (1 + gain + gain_sd * hand[:, 0]).astype(np.float32)
        moved = ups.astype(np.float32) * made + sds.astype(np.float32) * hand[:, 1].astype(np.float32)
        lever, heights = a.T.astype(np.float32), heights.astype(np.float32)
        ranges = range_of(height + moved * share for height, share in zip(heights, lever, strict=True))
        return np.asarray(ranges, dtype=float)

    @cached_property
    def _sampled_ranges(self) -> Array:
        return np.asarray(np.ptp(self._sampled[0], axis=0))

    @cached_property
    def _sampled(self) -> tuple[Array, NDArray[np.intp]]:
        """(anchors, draws) fixed draws of the anchor heights, and (draws,) of which hypothesis: each as often as it weighs.

        Drawn in proportion, few hypotheses alive make the chances no noisier; a noisy chance that
        is asked until it is high enough would promise too much.
        """
        a = len(self.surface.anchors)
        upto = np.rint(np.cumsum(self.weight) * _DRAWS)
        upto[-1] = _DRAWS
        times = np.diff(upto, prepend=0.0).astype(int)
        kept = np.flatnonzero(times > 0)
        times = times[kept]
        root = np.linalg.cholesky(self.cov[kept, :a, :a] + 1e-12 * np.eye(a)).transpose(2, 1, 0)
        heights = np.repeat(self.mean[kept, :a].T, times, axis=1)
        for j, normal in enumerate(normal_points(_DRAWS, a).T):
            heights[j:] += np.repeat(root[j, j:], times, axis=1) * normal
        return heights, np.repeat(kept, times)
