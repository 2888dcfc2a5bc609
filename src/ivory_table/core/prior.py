"""What is believed of a plate before anything of it is told."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from .belief import LAM_FLOOR, Belief
from .defaults import TRAM
from .gauge import FeelScale
from .knob_signs import spread_over_signs
from .normals import flattened, log_normal, normal_points, normalised
from .surface import FORMS, Surface
from .tram import coupling
from .value import Array


def first_belief(
    surface: Surface,
    *,
    bias_sd_mm: float,
    feel: FeelScale | None = None,
    lam_known: tuple[Array, Array] | None = None,
    gains_known: tuple[Array, Array] | None = None,
    answer_known: tuple[float, float] | None = None,
    reversed_share: ArrayLike = TRAM.reversed_share,
    hypotheses: int | None = None,
    form_apart: bool = True,
    thread_sd: float = 0.0,
) -> Belief:
    """What is believed before the first reading.

    `lam_known`: mean (m,) and covariance (m, m) of ln(lam + LAM_FLOOR) taught by earlier runs.
    `gains_known`: mean (m,) and sd (m,) of what each knob gives beyond its pitch, as a share.
    `answer_known`: mean and sd of ln(answer_sd), the share of a turn that the supports do not explain.
    `thread_sd`: by what share all knobs may give more or less than declared, where no run has taught it: another thread.
    `reversed_share`: how likely each knob is to work against its declared sense, one or (m,).
    """
    m = surface.knobs
    feel = feel or FeelScale()
    mean, cov = np.zeros(m + 2), np.zeros((m + 2, m + 2))
    if lam_known is None:
        median, own = (
            (TRAM.lam_many_median, TRAM.lam_own_many_ln_sd) if surface.many else (TRAM.lam_median, TRAM.lam_own_ln_sd)
        )
        mean[:m] = np.log(median)
        cov[:m, :m] = TRAM.lam_common_ln_sd**2 + own**2 * np.eye(m)
    else:
        mean[:m], cov[:m, :m] = lam_known
    cov += 1e-6 * np.eye(m + 2)
    mean[m], cov[m, m] = np.log(feel.scatter_mm), max(feel.scatter_ln_sd, 1e-3) ** 2
    mean[m + 1], answer_ln_sd = answer_known or (np.log(TRAM.answer_sd), TRAM.answer_ln_sd)
    cov[m + 1, m + 1] = answer_ln_sd**2
    gains: Array = np.zeros(m)
    each: Array = np.full(m, TRAM.gain_prior_sd**2)
    together = thread_sd**2
    if gains_known is not None and m:
        # What is in doubt beyond what knobs differ by, all of them share: their thread.
        gains, variance = np.asarray(gains_known[0], dtype=float), np.square(gains_known[1])
        together = float(max(variance.min() - TRAM.gain_prior_sd**2, 0.0))
        each = variance - together
    prior = Prior(
        surface,
        bias_sd_mm,
        feel,
        mean,
        cov,
        np.asarray(gains, dtype=float),
        np.diag(each) + together,
        np.broadcast_to(np.asarray(reversed_share, dtype=float), (m,)),
        hypotheses or (TRAM.hypotheses * min(m, 6) // 4 if m > 3 else TRAM.hypotheses // 8),
        form_apart,
        thread_sd,
    )
    return prior.drawn(mean, cov)


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
    gain_cov: Array
    reversed_share: Array
    hypotheses: int
    #: Whether a reading away from the screws tells of the knobs' senses alone. Runs begun before that was so are not.
    form_apart: bool = True
    thread_sd: float = 0.0

    def drawn(self, mean: Array, cov: Array, leads: Array | None = None) -> Belief:
        """Hypotheses spread over N(mean, cov), every fourth over the prior, weighed so that they stand for the prior.

        `leads` (sets, m): the signs of the knobs that most of them stand for; none reversed when not given.
        """
        surface, n = self.surface, self.hypotheses
        m, d = surface.knobs, surface.size
        signs, log_sign, which = spread_over_signs(n, self.reversed_share, np.ones((1, m)) if leads is None else leads)
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
            ours = log_normal(theta, self.mean, self.cov)
            drawn_from = np.logaddexp(np.log(0.75) + log_normal(theta, mean, cov), np.log(0.25) + ours)
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
        tail += [0.0] * m
        tail += [TRAM.local_sd_mm] * len(surface.locals_)
        index = np.arange(a, d)
        cov_state[:, index, index] = np.square(tail)
        gains = slice(surface.first_gain, surface.first_local)
        cov_state[:, gains, gains] = self.gain_cov
        if surface.locals_:
            cov_state[:, surface.first_local :, surface.first_local :] = TRAM.local_sd_mm**2 * surface.local_alike
        state = np.zeros((n, d))
        state[:, gains] = self.gains
        return Belief(
            surface,
            theta,
            signs,
            drag_sd,
            answer_sd,
            passes,
            normalised(log_weight + log_sign),
            normalised(log_weight + log_sign),
            state,
            cov_state,
            prior_of=self,
            declared=np.ones(m),
        )

    def unlearnt(self) -> Belief:
        """The belief of the same plate and person where nothing that earlier runs taught of the machine counts."""
        return first_belief(
            self.surface,
            bias_sd_mm=self.bias_sd_mm,
            feel=self.feel,
            hypotheses=self.hypotheses,
            form_apart=self.form_apart,
            thread_sd=self.thread_sd,
        )

    def peak(self, belief: Belief, leads: Array) -> tuple[Array, Array]:
        """Where the hypotheses' parameters are likeliest, and how sharply: mean (k,) and covariance (k, k).

        A quadratic through ln likelihood of the hypotheses by weighted least squares, the prior's own added (a response
        surface, Box and Wilson 1951). Hypotheses that are as good as dead still tell its slope; of what
        nothing was told, the prior stays. `leads` (sets, m): the sets of signs that are believed.
        """
        likely = belief.log_weight - belief.log_start
        same = np.zeros(len(likely), dtype=bool)
        for lead in leads:
            # Each set of signs explains all of it better or worse; how the supports do is looked for here.
            group = (belief.signs == lead).all(axis=1)
            top = likely[group].max()
            likely[group] -= top + np.log(np.exp(likely[group] - top).mean())
            same |= group
        if same.sum() < len(belief.weight) / 2:
            # Too few stand for these reversed knobs to tell anything of them: look everywhere first.
            return self.mean, self.cov
        root = np.linalg.cholesky(self.cov)
        # In z the prior is a standard normal.
        z = np.linalg.solve(root, (belief.theta[same] - self.mean).T).T
        told = likely[same]
        weight = flattened(told - 0.5 * (z * z).sum(axis=1), len(z) / 4)
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
        return self.mean + root @ (at + axes @ step), 1.3 * (spread / sharp) @ spread.T
