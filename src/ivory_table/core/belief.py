"""The one state of belief that every station reads and updates.

Gaussian over the surface, the feel bias, the probe's zero and the extrusion error, given
the supports' compliance; a weighted set of hypotheses for that compliance, each with its
own Kalman filter (a static multiple-model filter, Magill 1965). Exact for linear readings;
for feels the moments of the truncated Gaussian are matched (Opper 1998).
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from functools import cached_property, lru_cache

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import log_ndtr, ndtr, ndtri
from scipy.stats import qmc

from .defaults import TRAM
from .gauge import FeelScale
from .surface import FORMS, Surface
from .tram import coupling
from .value import Array


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
    told: tuple["Step", ...] = ()
    chosen_at: int = 0
    #: Knobs declared anew since the start, as a factor (m,): -1 for one whose sense was entered the wrong way.
    declared: Array = field(default_factory=lambda: np.ones(0))

    @classmethod
    def prior(
        cls,
        surface: Surface,
        *,
        bias_sd_mm: float,
        feel: FeelScale | None = None,
        lam_known: tuple[Array, Array] | None = None,
        gains_known: tuple[Array, Array] | None = None,
        answer_known: tuple[float, float] | None = None,
        reversed_share: ArrayLike = TRAM.reversed_share,
        hypotheses: int | None = None,
    ) -> "Belief":
        """What is believed before the first reading.

        `lam_known`: mean (m,) and covariance (m, m) of ln(lam + LAM_FLOOR) taught by earlier runs.
        `gains_known`: mean (m,) and sd (m,) of what each knob gives beyond its pitch, as a share.
        `answer_known`: mean and sd of ln(answer_sd), the share of a turn that the supports do not explain.
        `reversed_share`: how likely each knob is to work against its declared sense, one or (m,).
        """
        m = surface.knobs
        feel = feel or FeelScale()
        mean, cov = np.zeros(m + 2), np.zeros((m + 2, m + 2))
        if lam_known is None:
            median, own = (
                (TRAM.lam_many_median, TRAM.lam_own_many_ln_sd)
                if surface.many
                else (TRAM.lam_median, TRAM.lam_own_ln_sd)
            )
            mean[:m] = np.log(median)
            cov[:m, :m] = TRAM.lam_common_ln_sd**2 + own**2 * np.eye(m)
        else:
            mean[:m], cov[:m, :m] = lam_known
        cov += 1e-6 * np.eye(m + 2)
        mean[m], cov[m, m] = np.log(feel.scatter_mm), max(feel.scatter_ln_sd, 1e-3) ** 2
        mean[m + 1], answer_ln_sd = answer_known or (np.log(TRAM.answer_sd), TRAM.answer_ln_sd)
        cov[m + 1, m + 1] = answer_ln_sd**2
        gains, gain_sds = gains_known or (np.zeros(m), np.full(m, TRAM.gain_prior_sd))
        prior = Prior(
            surface,
            bias_sd_mm,
            feel,
            mean,
            cov,
            np.asarray(gains, dtype=float),
            np.asarray(gain_sds, dtype=float),
            np.broadcast_to(np.asarray(reversed_share, dtype=float), (m,)),
            hypotheses or (TRAM.hypotheses * min(m, 6) // 4 if m > 3 else TRAM.hypotheses // 8),
        )
        return prior.drawn(mean, cov)

    def with_nothing_learnt(self) -> "Belief":
        """The same run on a machine whose hardware changed: nothing of earlier runs counts, all of this one does."""
        p = self.prior_of
        fresh = Belief.prior(
            self.surface,
            bias_sd_mm=p.bias_sd_mm,
            feel=p.feel,
            reversed_share=TRAM.reversed_share,
            hypotheses=p.hypotheses,
        )
        for step in self.told:
            fresh = fresh._then(step)
        return fresh

    def afresh(self) -> "Belief":
        """Nothing of the plate is taken for known any more, what was learnt of it neither; the nozzle runs where it runs."""
        p = self.prior_of
        fresh = Belief.prior(self.surface, bias_sd_mm=p.bias_sd_mm, feel=p.feel, hypotheses=p.hypotheses)
        return fresh.nozzle_moved(self.shift_mm)

    def rechosen(self) -> "Belief":
        """The same belief on hypotheses drawn from what is believed now, with everything told to them again.

        Adaptive importance sampling (Oh and Berger 1992): sharp readings leave few of the first
        hypotheses alive, and the survivors would be too sure.
        """
        fresh, best = self, self
        for _ in range(TRAM.rechoose_rounds):
            # What most of them shall stand for: the sets of reversed knobs that are believed.
            leads = fresh.believed_signs()
            fresh = self.prior_of.drawn(*fresh._peak(leads), leads * fresh.declared)
            for step in self.told:
                fresh = step(fresh)
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

    def _peak(self, leads: Array) -> tuple[Array, Array]:
        """Where the hypotheses' parameters are likeliest, and how sharply: mean (k,) and covariance (k, k).

        A quadratic through ln likelihood of the hypotheses by weighted least squares, the prior's own added (a response
        surface, Box and Wilson 1951). Hypotheses that are as good as dead still tell its slope; of what
        nothing was told, the prior stays. `leads` (sets, m): the sets of signs that are believed.
        """
        prior = self.prior_of
        likely = self.log_weight - self.log_start
        same = np.zeros(len(likely), dtype=bool)
        for lead in leads:
            # Each set of signs explains all of it better or worse; how the supports do is looked for here.
            group = (self.signs == lead).all(axis=1)
            top = likely[group].max()
            likely[group] -= top + np.log(np.exp(likely[group] - top).mean())
            same |= group
        if same.sum() < len(self.weight) / 2:
            # Too few stand for these reversed knobs to tell anything of them: look everywhere first.
            return prior.mean, prior.cov
        root = np.linalg.cholesky(prior.cov)
        # In z the prior is a standard normal.
        z = np.linalg.solve(root, (self.theta[same] - prior.mean).T).T
        told = likely[same]
        weight = _flattened(told - 0.5 * (z * z).sum(axis=1), len(z) / 4)
        at = weight @ z
        scale = np.sqrt(weight @ (z - at) ** 2)
        off = (z - at) / scale
        k = off.shape[1]
        i, j = np.triu_indices(k)
        terms = np.column_stack([np.ones(len(off)), off, off[:, i] * off[:, j]])
        weighted = (terms * weight[:, None]).T
        fit = np.linalg.solve(weighted @ terms + 1e-3 * np.eye(terms.shape[1]), weighted @ (told - weight @ told))
        curved = np.zeros((k, k))
        curved[i, j] = fit[1 + k :]
        curved = (curved + curved.T) / np.outer(scale, scale)
        sharp, axes = np.linalg.eigh(np.eye(k) - curved)
        sharp = np.clip(sharp, 1.0, 1e4)
        step = axes.T @ (fit[1 : 1 + k] / scale - at) / sharp
        # Not further than three of its own sds: the quadratic is only good nearby.
        step *= min(1.0, 3.0 / max(float(np.sqrt((step**2 * sharp).mean())), 1e-9))
        spread = root @ axes
        return prior.mean + root @ (at + axes @ step), 1.3 * (spread / sharp) @ spread.T

    @property
    def alive(self) -> float:
        """How many hypotheses still count: the effective number of their weights (Kish 1965)."""
        return 1.0 / float(np.square(self.weight).sum())

    def _then(self, step: "Step") -> "Belief":
        after = replace(step(self), told=(*self.told, step))
        # Everything is told again each time: with much to tell, not at every stop.
        rest = max(2, len(after.told) // 12)
        if after.alive < len(after.weight) / TRAM.rechoose_below and len(after.told) > after.chosen_at + rest:
            after = after.rechosen()
        return after

    # What happened

    def turned(self, knob: int, up_mm: float, sd_mm: float) -> "Belief":
        """A knob was turned by what should be `up_mm`, known to `sd_mm`: its support moved by (1 + gain) times that.

        With h' = h + a up (1 + g) linear in (h, g), this is the exact prediction step of a Kalman filter. By `answer_sd`
        the plate may follow otherwise: along the knob's own column, bent by a share of that, and on four screws most in what it takes back.
        """
        return self._then(lambda b: b._turned(knob, up_mm, sd_mm))

    def _turned(self, knob: int, up_mm: float, sd_mm: float) -> "Belief":
        # Only the heights at the knobs move, so only their rows and columns change.
        m, g = self.surface.knobs, self.surface.first_gain + knob
        a = self.passes[:, :, knob]
        mean, cov = self.mean, self.cov.copy()
        own = np.full(len(a), sd_mm**2)
        if up_mm:
            mean = mean.copy()
            mean[:, :m] += a * (up_mm * (1 + self.mean[:, g]))[:, None]
            along = a[:, :, None] * (up_mm * self.cov[:, None, g, :])
            moved = cov[:, :m]
            moved += along
            moved[:, :, :m] += along[:, :, :m].transpose(0, 2, 1)
            cov[:, m:, :m] = moved[:, :, m:].transpose(0, 2, 1)
            strange = up_mm * self.answer_sd
            own += up_mm**2 * self.cov[:, g, g] + strange**2
            bent = TRAM.answer_bent * np.square(strange * a[:, knob])
            cov[:, :m, :m] += bent[:, None, None] * self.surface.bends
            if not self.surface.many:
                # Of more screws sharp readings would leave no hypothesis alive that way.
                back = a * self.signs[:, knob, None]
                back[:, knob] -= 1.0
                back *= TRAM.answer_back * strange[:, None]
                cov[:, :m, :m] += back[:, :, None] * back[:, None, :]
        cov[:, :m, :m] += own[:, None, None] * (a[:, :, None] * a[:, None, :])
        return replace(self, mean=mean, cov=cov)

    def read(self, row: Array, value: float, sd_mm: float, *, dragged: bool = False) -> "Belief":
        """A linear reading: row . state = value, with one sd of noise; `dragged` adds the person's own scatter."""
        return self._then(lambda b: b._read(row, value, np.hypot(b.drag_sd, sd_mm) if dragged else sd_mm))

    def _read(self, row: Array, value: float, sd_mm: ArrayLike) -> "Belief":
        along = self.cov @ row
        s = along @ row + np.square(sd_mm)
        miss = value - self.mean @ row
        gain = along / s[:, None]
        told = gain[:, :, None] * along[:, None, :]
        log_weight = self.log_weight - 0.5 * (np.log(s) + miss**2 / s)
        return replace(
            self,
            log_weight=_normalised(log_weight),
            mean=self.mean + gain * miss[:, None],
            cov=np.subtract(self.cov, told, out=told),
        )

    def felt(self, row: Array, low: float, high: float, sd_mm: float, *, own: bool = False) -> "Belief":
        """An interval reading: low < row . state + noise < high, either end may be infinite.

        `own`: what is believed of the person's own scatter takes the place of `sd_mm`.
        """
        return self._then(lambda b: b._felt(row, low, high, np.exp(b.theta[:, -2]) if own else sd_mm))

    def _felt(self, row: Array, low: float, high: float, sd_mm: ArrayLike) -> "Belief":
        along = self.cov @ row
        s = along @ row + np.square(sd_mm)
        centre = self.mean @ row
        log_z, shift, shrink = truncated_moments(centre, s, low, high)
        gain = along / s[:, None]
        return replace(
            self,
            log_weight=_normalised(self.log_weight + log_z),
            mean=self.mean + gain * shift[:, None],
            cov=self.cov - (shrink / s**2)[:, None, None] * along[:, :, None] * along[:, None, :],
        )

    def weighed(self, log_likelihood: Callable[["Belief"], Array]) -> "Belief":
        """Evidence on the hypotheses themselves: ln likelihood (n,) of each."""
        return self._then(lambda b: replace(b, log_weight=_normalised(b.log_weight + log_likelihood(b))))

    def sense_shown(self, knob: int, raises: bool) -> "Belief":
        """A turn that should have raised this knob's support did (or lowered it): told by a person, who may misread it.

        Of the other knobs it tells only what they have in common with this one.
        """
        wanted = 1.0 if raises else -1.0

        def told(b: "Belief") -> Array:
            agrees = (b.signs[:, knob] * wanted + 1) / 2
            return np.asarray(np.log(TRAM.sense_misread + (1 - 2 * TRAM.sense_misread) * agrees))

        return self.weighed(told)

    def declared_anew(self, knob: int) -> "Belief":
        """The knob's declared sense is turned round: from here on `up_mm` and its sign mean the new one."""

        def step(b: "Belief") -> "Belief":
            turn = np.ones(b.surface.knobs)
            turn[knob] = -1.0
            return replace(b, signs=b.signs * turn, passes=b.passes * turn, declared=b.declared * turn)

        return self._then(step)

    def nozzle_moved(self, away_mm: float) -> "Belief":
        """The offset was changed: the nozzle now runs further from the plate by `away_mm`."""
        return self._then(lambda b: replace(b, shift_mm=b.shift_mm + away_mm))

    def loosened(self, common_mm: float, each_mm: float, form_mm: float) -> "Belief":
        """Something may have moved meanwhile: all anchors together, each of them, the forms, by these sds in mm."""
        a = len(self.surface.anchors)
        extra = np.zeros((self.surface.size, self.surface.size))
        extra[:a, :a] = common_mm**2 + each_mm**2 * np.eye(a)
        extra[a : self.surface.bias, a : self.surface.bias] = form_mm**2 * np.eye(len(FORMS))
        return self._then(lambda b: replace(b, cov=b.cov + extra))

    def doubted(self, astray_mm: float, flow: float, flow_sd: float) -> "Belief":
        """All heights may be off together by one sd in mm, and what is fed by a share with its sd, beside what was known."""
        a, k = len(self.surface.anchors), self.surface.extrusion
        extra = np.zeros((self.surface.size, self.surface.size))
        extra[:a, :a] = astray_mm**2
        extra[k, k] = flow_sd**2
        return self._then(lambda b: replace(b, mean=b.mean + flow * b.surface.unit(k), cov=b.cov + extra))

    def flow_changed(self, times: float) -> "Belief":
        """So many times more is fed now than before."""
        k = self.surface.extrusion
        unit = self.surface.unit(k)
        return self._then(lambda b: replace(b, mean=b.mean + (times - 1) * (1 + b.mean[:, [k]]) * unit))

    # What is believed

    @cached_property
    def weight(self) -> Array:
        return np.exp(self.log_weight)

    @property
    def doubted_weight(self) -> Array:
        """Weights (n,); flattened until an eighth of the hypotheses is alive where no more than a few are."""
        return self.weight if self.alive >= 4 else _flattened(self.log_weight, len(self.log_weight) / 8)

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
        return _quantile(tail, self.weight, mean, sd), _quantile(1 - tail, self.weight, mean, sd)

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


Step = Callable[[Belief], Belief]
#: Draws by which ranges of heights are judged.
_DRAWS = 2048
#: Below this a compliance passes all of a twist, as far as anybody can tell.
LAM_FLOOR = 0.1


@dataclass(frozen=True, eq=False)
class Prior:
    """What a belief starts from. Parameters of a hypothesis, Gaussian: ln(lam + LAM_FLOOR) (m,), ln of the feel's scatter, ln of `answer_sd`.

    The floor keeps stiff supports together: without it those that pass everything would lie
    spread out to minus infinity, and no Gaussian would describe them.
    """

    surface: Surface
    bias_sd_mm: float
    feel: FeelScale
    mean: Array
    cov: Array
    gains: Array
    gain_sds: Array
    reversed_share: Array
    hypotheses: int

    def drawn(self, mean: Array, cov: Array, leads: Array | None = None) -> Belief:
        """Hypotheses spread over N(mean, cov), every fourth over the prior, weighed so that they stand for the prior.

        `leads` (sets, m): the signs of the knobs that most of them stand for; none reversed when not given.
        """
        surface, n = self.surface, self.hypotheses
        m, d = surface.knobs, surface.size
        signs, log_sign, which = _signs(n, self.reversed_share, np.ones((1, m)) if leads is None else leads)
        # Every set of reversed knobs meets the same supports: what is told apart is then the signs alone.
        wide, root = normal_points(n, m + 2), np.linalg.cholesky(self.cov)
        theta = self.mean + wide[which] @ root.T
        log_weight = np.zeros(n)
        if mean is not self.mean:
            sizes = np.bincount(np.cumsum(which == 0))[np.cumsum(which == 0)]
            first = sizes - sizes // 4
            narrow = which < first
            theta[narrow] = mean + wide[which[narrow]] @ np.linalg.cholesky(cov).T
            theta[~narrow] = self.mean + wide[(which - first)[~narrow]] @ root.T
            ours = _log_normal(theta, self.mean, self.cov)
            drawn_from = np.logaddexp(np.log(0.75) + _log_normal(theta, mean, cov), np.log(0.25) + ours)
            log_weight = ours - drawn_from
        # On three screws the plate lies as they stand, whatever holds them.
        lam = np.maximum(np.exp(np.minimum(theta[:, :m], 12)) - LAM_FLOOR, 0.0) if m > 3 else np.zeros((n, m))
        drag_sd = np.hypot(self.feel.stopping_sd_mm, np.exp(theta[:, m]))
        answer_sd = np.exp(theta[:, m + 1]) if m > 3 else np.zeros(n)
        for pattern in np.unique(signs, axis=0):
            # However few stand for a reversed knob, together they weigh what its prior says.
            group = (signs == pattern).all(axis=1)
            top = log_weight[group].max()
            log_weight[group] -= top + np.log(np.exp(log_weight[group] - top).mean())
        passes = coupling(lam, surface.bending) * signs[:, None, :] if m else np.zeros((n, 0, 0))
        a = len(surface.anchors)
        cov_state = np.zeros((n, d, d))
        own = passes @ passes.transpose(0, 2, 1) if m else np.eye(a)
        cov_state[:, :a, :a] = TRAM.knob_prior_sd_mm**2 * own + TRAM.common_prior_sd_mm**2
        cov_state[:, :a, :a] += (TRAM.hand_floor_mm**2) * np.eye(a)
        tail = [TRAM.form_prior_sd_mm] * len(FORMS)
        tail += [self.bias_sd_mm, TRAM.probe_zero_sd_mm, TRAM.extrusion_prior_sd]
        tail += list(self.gain_sds)
        tail += [TRAM.local_sd_mm] * len(surface.locals_)
        index = np.arange(a, d)
        cov_state[:, index, index] = np.square(tail)
        if surface.locals_:
            cov_state[:, surface.first_local :, surface.first_local :] = TRAM.local_sd_mm**2 * surface.local_alike
        state = np.zeros((n, d))
        state[:, surface.first_gain : surface.first_local] = self.gains
        return Belief(
            surface,
            theta,
            signs,
            drag_sd,
            answer_sd,
            passes,
            _normalised(log_weight + log_sign),
            _normalised(log_weight + log_sign),
            state,
            cov_state,
            prior_of=self,
            declared=np.ones(m),
        )


def _flattened(log_weight: Array, alive: float) -> Array:
    """Weights raised to the highest power at which so many are alive: where to look next when hardly any is."""
    low, high = 0.0, 1.0
    for _ in range(20):
        power = (low + high) / 2
        weight = np.exp(_normalised(power * log_weight))
        low, high = (power, high) if 1.0 / np.square(weight).sum() >= alive else (low, power)
    return np.asarray(np.exp(_normalised(low * log_weight)))


def _log_normal(x: Array, mean: Array, cov: Array) -> Array:
    """ln N(x; mean, cov) of (n, k) points."""
    root = np.linalg.cholesky(cov)
    z = np.linalg.solve(root, (x - mean).T)
    return np.asarray(-0.5 * (z * z).sum(axis=0) - np.log(np.diag(root)).sum())


def _quantile(share: float, weight: Array, mean: Array, sd: Array) -> Array:
    """(k,) the value below which this share of a mixture lies: weights (n,) of normals, means and sds (n, k)."""
    low, high = (mean - 9 * sd).min(axis=0), (mean + 9 * sd).max(axis=0)
    for _ in range(40):
        middle = (low + high) / 2
        below = weight @ ndtr((middle - mean) / sd) < share
        low, high = np.where(below, middle, low), np.where(below, high, middle)
    return np.asarray((low + high) / 2)


def range_sd(values: Array) -> float:
    """Half of what the middle 68 % of these draws span: one sd where they are normal, deaf to what hardly ever happens."""
    low, high = np.quantile(values, ndtr([-1.0, 1.0]))
    return float(high - low) / 2


def range_of(heights: Iterator[Array]) -> Array:
    """Highest less lowest of what comes one place at a time, any shape: an array of all places would be slower to fill."""
    highest = next(heights)
    lowest = highest.copy()
    for here in heights:
        np.maximum(highest, here, out=highest)
        np.minimum(lowest, here, out=lowest)
    return np.subtract(highest, lowest, out=highest)


def truncated_moments(centre: Array, variance: Array, low: ArrayLike, high: ArrayLike) -> tuple[Array, Array, Array]:
    """For x ~ N(centre, variance) cut to (low, high): ln P, E x - centre, variance - Var x.

    Worked in logarithms from the nearer tail, so that a far interval neither divides by zero
    nor shrinks below nothing.
    """
    sd = np.sqrt(variance)
    a, b = (np.asarray(low) - centre) / sd, (np.asarray(high) - centre) / sd
    # Mirror intervals above the mean, where the lower tail keeps its digits.
    mirror = a + b > 0
    lo, hi = np.where(mirror, -b, a), np.where(mirror, -a, b)
    log_hi, log_lo = log_ndtr(hi), log_ndtr(lo)
    log_z = log_hi + np.log1p(-np.exp(np.minimum(log_lo - log_hi, -1e-15)))

    def ratio(x: Array) -> Array:
        return np.asarray(np.exp(np.clip(-0.5 * x * x - 0.9189385332046727 - log_z, -745, 50)))

    f_lo, f_hi = ratio(lo), ratio(hi)
    first = f_lo - f_hi
    x_lo, x_hi = np.where(np.isfinite(lo), lo, 0.0), np.where(np.isfinite(hi), hi, 0.0)
    second = x_lo * f_lo - x_hi * f_hi
    shrink = np.clip(first**2 - second, 0.0, 1.0)
    return log_z, np.where(mirror, -first, first) * sd, shrink * variance


def _signs(count: int, reversed_share: Array, leads: Array) -> tuple[Array, Array, NDArray[np.intp]]:
    """Signs (count, m) of the knobs, ln of the prior weights, and each one's number in its set: a few for each set of reversed knobs.

    Most stand for the sets `leads` (sets, m), alike for each. Of up to four knobs every set that can be believed is held;
    of more those one knob away from a lead, so that a search walks to any: sharp readings on so many supports
    would find some odd set among all of them that explains a slack bolt.
    """
    m = leads.shape[1]
    patterns = _patterns(leads, reversed_share)
    is_lead = (patterns[:, None, :] == leads[None, :, :]).all(axis=2).any(axis=1)
    others = int((~is_lead).sum())
    few = min(count // (5 * m), int(0.3 * count) // others) if others else 0
    each, rest = divmod(count - few * others, int(is_lead.sum()))
    sizes = np.where(is_lead, each, few)
    sizes[np.flatnonzero(is_lead)[0]] += rest
    held = sizes > 0
    patterns, sizes = patterns[held], sizes[held]
    log_weight = np.repeat(log_p_signs(patterns, reversed_share) - np.log(sizes), sizes)
    which = np.concatenate([np.arange(size) for size in sizes])
    return np.repeat(patterns, sizes, axis=0), _normalised(log_weight), which


#: A set of reversed knobs less likely than this before anything was told is left out, unless it is near the lead.
_SET_SEEN = 1e-6


def _patterns(leads: Array, reversed_share: Array) -> Array:
    """(sets, m) of +1 and -1: the sets of reversed knobs that hypotheses stand for, the leads among them."""
    m = leads.shape[1]
    if not m:
        return leads[:1]
    if m <= 4:
        every = np.array([[1.0 - 2 * (k >> j & 1) for j in range(m)] for k in range(2**m)])
        # Two knobs away of a proved set is as good as never.
        close = ((every[:, None, :] != leads[None, :, :]).sum(axis=2) <= 1).any(axis=1)
        return np.asarray(every[close | (log_p_signs(every, reversed_share) > np.log(_SET_SEEN))])
    one_away = (leads[:, None, :] * (1 - 2 * np.eye(m))).reshape(-1, m)
    return np.unique(np.vstack([leads, np.ones((1, m)), -np.ones((1, m)), one_away]), axis=0)


def log_p_signs(signs: Array, reversed_share: Array) -> Array:
    """(sets,) ln of how likely each set of signs (sets, m) is before anything was told; sums to one over all sets.

    Each knob is entered the wrong way by itself with `TRAM.reversed_share`; all of them together, because the
    person looks from the other side, with `TRAM.reversed_common`. A knob whose own share (m,) is another has been
    told of before: by the ratio of its odds.
    """
    if not signs.shape[1]:
        return np.zeros(len(signs))
    p, q = TRAM.reversed_share, TRAM.reversed_common
    wrong = signs < 0
    told = np.log(reversed_share / (1 - reversed_share)) - np.log(p / (1 - p))
    odds, each = np.log(p / (1 - p)), np.log1p(-p)
    # Knob by knob, so that the sum over all sets is known as well.
    alone = (each + wrong * (odds + told)).sum(axis=1)
    common = (each + ~wrong * odds + wrong * told).sum(axis=1)
    sum_alone = np.logaddexp(each, each + odds + told).sum()
    sum_common = np.logaddexp(each + odds, each + told).sum()
    total = np.logaddexp(np.log1p(-q) + sum_alone, np.log(q) + sum_common)
    return np.asarray(np.logaddexp(np.log1p(-q) + alone, np.log(q) + common) - total)


def _normalised(log_weight: Array) -> Array:
    top = log_weight.max()
    return np.asarray(log_weight - top - np.log(np.exp(log_weight - top).sum()))


@lru_cache(maxsize=64)
def normal_points(count: int, dimension: int) -> Array:
    """(count, dimension) fixed, evenly spread standard normal draws: the same every time."""
    bits = max(int(np.ceil(np.log2(count))), 4)
    points = qmc.Sobol(dimension, scramble=True, rng=np.random.default_rng(20)).random_base2(bits)
    return np.asarray(ndtri(np.clip(points[:count], 1e-9, 1 - 1e-9)))
