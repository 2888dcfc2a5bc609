"""How well a person grades a printed patch by eye: not known, and learnt from what they judge."""

from typing import Annotated

import numpy as np
from pydantic import Field

from .defaults import JUDGE, LAYER
from .value import Array, Value


class Eye(Value):
    """How far a person's grades scatter, as a share r of the layer: ln(scatter) is normal. Learnt from what was judged.

    Taken for known it would chase: with an eye twice as rough as assumed most sound plates were told to change.
    """

    scatter: Annotated[float, Field(ge=0.01, le=0.5)] = JUDGE.eye_scatter
    ln_sd: Annotated[float, Field(gt=0, le=2)] = JUDGE.eye_ln_sd
    marks: Annotated[int, Field(ge=0)] = 0
    #: By how much they take patches to be further off than they are, in r, and one sd of it: told by a caliper.
    habit: Annotated[float, Field(ge=-0.5, le=0.5)] = 0.0
    habit_sd: Annotated[float, Field(gt=0, le=0.5)] = LAYER.measured.habit

    #: Proofs that were foretold and then judged, and over them the sums of the shares of zones promised to look sound, and that did.
    foretold: Annotated[int, Field(ge=0)] = 0
    promised: Annotated[float, Field(ge=0)] = 0.0
    came: Annotated[float, Field(ge=0)] = 0.0

    @property
    def trust(self) -> float:
        """By what promises are multiplied: less than one where less came than was promised, drawn to one while little is known."""
        return min((self.came + JUDGE.trust_prior) / (self.promised + JUDGE.trust_prior), 1.0)

    def kept(self, promised: float, came: float) -> "Eye":
        """What is known once a promise was judged: shares of zones."""
        sums = {"promised": self.promised + promised, "came": self.came + came}
        return self.model_copy(update={"foretold": self.foretold + 1, **sums})

    @property
    def grid(self) -> tuple[Array, Array]:
        """Scatters (n,) and their weights: an even grid over two sds either way."""
        off = np.linspace(-2, 2, 5)
        weight = np.exp(-0.5 * off**2)
        return self.scatter * np.exp(self.ln_sd * off), weight / weight.sum()

    def learnt(self, log_likelihood: Array, marks: int) -> "Eye":
        """What is believed of the eye after marks that are this likely (n,) under each scatter of `grid`."""
        scatters, weight = self.grid
        weight = weight * np.exp(log_likelihood - log_likelihood.max())
        weight /= weight.sum()
        ln = np.log(scatters)
        mean = float(weight @ ln)
        sd = float(np.sqrt(weight @ (ln - mean) ** 2))
        ln_sd = max(sd, JUDGE.eye_least_ln_sd)
        return self.model_copy(update={"scatter": float(np.exp(mean)), "ln_sd": ln_sd, "marks": self.marks + marks})
