"""A feel check: known steps of height in random order, a feel each time, and what they tell of one person's scale."""

import numpy as np
from scipy.optimize import minimize
from scipy.special import ndtr
from scipy.stats import norm

from .defaults import FEEL
from .gauge import FEELS, Feel, FeelScale
from .value import Array, FineMm, Value

#: Heights of a check, in mm around where the gauge was last felt to drag.
STEPS_MM = (-0.05, -0.035, -0.02, -0.01, 0.0, 0.01, 0.02, 0.035, 0.05)
ROUNDS = 3


class FeelTry(Value):
    """One try: the tip that far above where the gauge is taken to drag, and what was felt."""

    above_mm: FineMm
    feel: Feel


def heights(seed: int, step_mm: float) -> tuple[float, ...]:
    """The heights to try, each three times, in an order nobody can foretell; rounded to the machine's step."""
    order = np.random.default_rng(seed).permutation(np.repeat(np.array(STEPS_MM), ROUNDS))
    return tuple(float(round(round(v / step_mm) * step_mm, 6)) for v in order)


def fit(tries: tuple[FeelTry, ...]) -> FeelScale:
    """Cuts and scatter by maximum a posteriori of the ordered probit (McCullagh 1980).

    The spacings between the cuts and ln(scatter) are shrunk to the shipped values; where the check's
    own zero lay is fitted and thrown away, because only a printed layer tells where drag really lies.
    Raises ValueError with fewer than nine tries.
    """
    if len(tries) < 9:
        raise ValueError(f"{len(tries)} tries are too few to tell a scale; nine are the least.")
    gaps = np.array([t.above_mm for t in tries])
    felt = np.array([FEELS.index(t.feel) for t in tries])
    start = np.array(FEEL.cuts_mm)
    middle = float(start[1:3].mean())
    spacing = np.log(np.diff(start))
    prior_sd = np.array([FEEL.spacing_ln_sd] * 3 + [FEEL.scatter_ln_sd * 2])

    def unpack(p: Array) -> tuple[Array, float]:
        p = np.clip(p, -3, 3)
        width = np.exp(spacing + p[1:4])
        cuts = np.cumsum(np.concatenate([[0.0], width]))
        cuts = cuts - cuts[1:3].mean() + middle + p[0]
        return cuts, float(FEEL.scatter_mm * np.exp(p[4]))

    def cost(p: Array) -> float:
        cuts, scatter = unpack(p)
        edges = np.concatenate([[-np.inf], cuts, [np.inf]])
        chance = ndtr((edges[felt + 1] - gaps) / scatter) - ndtr((edges[felt] - gaps) / scatter)
        # One word in fifty is a slip of the tongue.
        return float(-np.log(0.98 * chance + 0.02 / 5).sum() + 0.5 * np.square(p[1:] / prior_sd).sum())

    found = minimize(cost, np.zeros(5), method="BFGS")
    cuts, scatter = unpack(found.x - np.array([found.x[0], 0, 0, 0, 0]))
    ln_sd = float(np.sqrt(max(np.asarray(found.hess_inv)[4, 4], 1e-4)))
    return FeelScale(
        cuts_mm=(float(cuts[0]), float(cuts[1]), float(cuts[2]), float(cuts[3])),
        scatter_mm=float(np.clip(scatter, 0.002, 0.1)),
        scatter_ln_sd=min(ln_sd, 0.5),
        tries=len(tries),
    )


def told_apart_mm(scale: FeelScale, share: float = 0.9) -> float:
    """The step in gap whose two feels are put in the right order in this share of cases: z sqrt(2) scatter."""
    return float(norm.ppf(share) * 2**0.5 * scale.scatter_mm)


def sentence(scale: FeelScale) -> str:
    """What the check means, in words."""
    drag = scale.cuts_mm[2] - scale.cuts_mm[1]
    return (
        f"You tell {told_apart_mm(scale):.2f} mm apart 9 times in 10. "
        f"Drag is {drag:.3f} mm wide for you, scatter {scale.scatter_mm:.3f} mm, from {scale.tries} tries."
    )
