"""What a belief can be told, as data: each step says what it makes of a belief.

A belief keeps its steps, so that they can be told again to better chosen hypotheses, and be
saved and sent to another process.
"""

from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.special import log_ndtr

from .defaults import TRAM
from .normals import normalised, truncated_moments
from .surface import FORMS
from .value import Array

if TYPE_CHECKING:
    from .belief import Belief


class Step(Protocol):
    """One thing that was done or read, as data: what it makes of a belief is `told_to`."""

    def told_to(self, b: "Belief") -> "Belief":
        """The belief after this step."""


@dataclass(frozen=True)
class Turned:
    """A knob was turned by what should be `up_mm`, known to `sd_mm`: its support moved by (1 + gain) times that.

    With h' = h + a up (1 + g) linear in (h, g), this is the exact prediction step of a Kalman filter. By `answer_sd`
    the plate may follow otherwise: along the knob's own column, bent by a share of that, and on four screws most in what it takes back.
    """

    knob: int
    up_mm: float
    sd_mm: float

    def told_to(self, b: "Belief") -> "Belief":
        # Only the heights at the knobs move, so only their rows and columns change.
        m, g = b.surface.knobs, b.surface.first_gain + self.knob
        a = b.passes[:, :, self.knob]
        mean, cov = b.mean, b.cov.copy()
        own = np.full(len(a), self.sd_mm**2)
        if self.up_mm:
            mean = mean.copy()
            mean[:, :m] += a * (self.up_mm * (1 + b.mean[:, g]))[:, None]
            along = a[:, :, None] * (self.up_mm * b.cov[:, None, g, :])
            moved = cov[:, :m]
            moved += along
            moved[:, :, :m] += along[:, :, :m].transpose(0, 2, 1)
            cov[:, m:, :m] = moved[:, :, m:].transpose(0, 2, 1)
            strange = self.up_mm * b.answer_sd
            own += self.up_mm**2 * b.cov[:, g, g] + strange**2
            bent = TRAM.answer_bent * np.square(strange * a[:, self.knob])
            cov[:, :m, :m] += bent[:, None, None] * b.surface.bends
            if not b.surface.many:
                # Of more screws sharp readings would leave no hypothesis alive that way.
                back = a * b.signs[:, self.knob, None]
                back[:, self.knob] -= 1.0
                back *= TRAM.answer_back * strange[:, None]
                cov[:, :m, :m] += back[:, :, None] * back[:, None, :]
        cov[:, :m, :m] += own[:, None, None] * (a[:, :, None] * a[:, None, :])
        return replace(b, mean=mean, cov=cov)


@dataclass(frozen=True, eq=False)
class Read:
    """A linear reading: row . state = value, with one sd of noise; `dragged` adds the person's own scatter."""

    row: Array
    value: float
    sd_mm: float
    dragged: bool = False

    def told_to(self, b: "Belief") -> "Belief":
        sd_mm: ArrayLike = np.hypot(b.drag_sd, self.sd_mm) if self.dragged else self.sd_mm
        along = b.cov @ self.row
        s = along @ self.row + np.square(sd_mm)
        miss = self.value - b.mean @ self.row
        gain = along / s[:, None]
        told = gain[:, :, None] * along[:, None, :]
        return replace(
            b,
            log_weight=normalised(b.log_weight + _tells(b, self.row, -0.5 * (np.log(s) + miss**2 / s))),
            mean=b.mean + gain * miss[:, None],
            cov=np.subtract(b.cov, told, out=told),
        )


@dataclass(frozen=True, eq=False)
class ReadTogether:
    """Linear readings at once: rows (n, d) . state = values (n,), each with a noise of one and none in common."""

    rows: Array
    values: Array

    def told_to(self, b: "Belief") -> "Belief":
        along = np.tensordot(b.cov, self.rows.T, axes=1)
        s = self.rows @ along + np.eye(len(self.rows))
        miss = self.values - b.mean @ self.rows.T
        back = np.linalg.inv(s)
        gain = along @ back
        weighed = ((miss[:, None] @ back)[:, 0] * miss).sum(axis=1)
        told = gain @ along.transpose(0, 2, 1)
        return replace(
            b,
            log_weight=normalised(b.log_weight + _tells(b, self.rows, -0.5 * (np.linalg.slogdet(s)[1] + weighed))),
            mean=b.mean + (gain @ miss[:, :, None])[:, :, 0],
            cov=np.subtract(b.cov, told, out=told),
        )


@dataclass(frozen=True, eq=False)
class Felt:
    """An interval reading: low < row . state + noise < high, either end may be infinite.

    `own`: what is believed of the person's own scatter takes the place of `sd_mm`.
    """

    row: Array
    low: float
    high: float
    sd_mm: float
    own: bool = False

    def told_to(self, b: "Belief") -> "Belief":
        sd_mm: ArrayLike = np.exp(b.theta[:, -2]) if self.own else self.sd_mm
        along = b.cov @ self.row
        s = along @ self.row + np.square(sd_mm)
        centre = b.mean @ self.row
        log_z, shift, shrink = truncated_moments(centre, s, self.low, self.high)
        gain = along / s[:, None]
        return replace(
            b,
            log_weight=normalised(b.log_weight + _tells(b, self.row, log_z)),
            mean=b.mean + gain * shift[:, None],
            cov=b.cov - (shrink / s**2)[:, None, None] * along[:, :, None] * along[:, None, :],
        )


def _tells(b: "Belief", rows: Array, log_likelihood: Array) -> Array:
    """(n,) ln by which readings of a row (d,), or of several (k, d), weigh the hypotheses, of ln likelihood (n,).

    Over the screws it tells of supports, senses and hand. Away from them it may be off for the plate's own form, or for what
    a proof or an offset is judged by: taken for the hand's scatter, that made hands rougher and supports stiffer from run
    to run. It tells of the senses alone: each set of reversed knobs is weighed as a whole.
    """
    first_form = len(b.surface.anchors)
    if not b.prior_of.form_apart or not np.any(np.abs(rows[..., first_form : b.surface.bias]) > 1e-6):
        return log_likelihood
    codes = (b.signs < 0) @ (1 << np.arange(b.signs.shape[1]))
    _, of = np.unique(codes, return_inverse=True)
    told = b.log_weight + log_likelihood
    return np.asarray((_by_group(told, of) - _by_group(b.log_weight, of))[of])


def _by_group(log_x: Array, of: NDArray[np.intp]) -> Array:
    """ln of the sum of x over each group, of ln x (n,) and the group (n,) of each."""
    top = np.full(int(of.max()) + 1, -np.inf)
    np.maximum.at(top, of, log_x)
    return np.asarray(top + np.log(np.bincount(of, np.exp(log_x - top[of]))))


def _weighed(b: "Belief", log_likelihood: Array) -> "Belief":
    """Evidence on the hypotheses themselves: ln likelihood (n,) of each."""
    return replace(b, log_weight=normalised(b.log_weight + log_likelihood))


@dataclass(frozen=True)
class SenseShown:
    """A turn that should have raised this knob's support did (or lowered it): told by a person, who may misread it.

    Of the other knobs it tells only what they have in common with this one.
    """

    knob: int
    raises: bool

    def told_to(self, b: "Belief") -> "Belief":
        agrees = (b.signs[:, self.knob] * (1.0 if self.raises else -1.0) + 1) / 2
        return _weighed(b, np.log(TRAM.sense_misread + (1 - 2 * TRAM.sense_misread) * agrees))


@dataclass(frozen=True)
class SaidBefore:
    """What the gauge said before a knob was turned by `up_mm`, with one sd of the hand: loose where it wanted the plate up.

    By hypothesis the turn moved the plate here by its lever; a knob that loosened a loose gauge works the other way.
    """

    knob: int
    up_mm: float
    hand_sd_mm: float
    loose: bool

    def told_to(self, b: "Belief") -> "Belief":
        s = np.hypot(b.drag_sd * 2**0.5, self.hand_sd_mm)
        wanted = 1.0 if self.loose else -1.0
        moved = wanted * b.passes[:, self.knob, self.knob] * self.up_mm
        return _weighed(b, np.logaddexp(log_ndtr(moved / s), np.log(TRAM.said_wrong)))


@dataclass(frozen=True)
class CountFound:
    """What was found by turning a knob is its count, not the height it stands for: the lever between them, by hypothesis."""

    knob: int

    def told_to(self, b: "Belief") -> "Belief":
        return _weighed(b, np.log(np.abs(b.passes[:, self.knob, self.knob])))


@dataclass(frozen=True)
class ScatterTold:
    """ln of the person's own scatter in mm, with its sd, was found by other means."""

    ln_mm: float
    sd: float

    def told_to(self, b: "Belief") -> "Belief":
        return _weighed(b, -0.5 * np.square((b.theta[:, -2] - self.ln_mm) / self.sd))


@dataclass(frozen=True)
class DeclaredAnew:
    """A knob's declared sense is turned round: from here on `up_mm` and its sign mean the new one."""

    knob: int

    def told_to(self, b: "Belief") -> "Belief":
        turn = np.ones(b.surface.knobs)
        turn[self.knob] = -1.0
        return replace(b, signs=b.signs * turn, passes=b.passes * turn, declared=b.declared * turn)


@dataclass(frozen=True)
class NozzleMoved:
    """The offset was changed: the nozzle now runs further from the plate by `away_mm`."""

    away_mm: float

    def told_to(self, b: "Belief") -> "Belief":
        return replace(b, shift_mm=b.shift_mm + self.away_mm)


@dataclass(frozen=True)
class Loosened:
    """Something may have moved meanwhile: all anchors together, each of them, the forms, by these sds in mm."""

    common_mm: float
    each_mm: float
    form_mm: float

    def told_to(self, b: "Belief") -> "Belief":
        a = len(b.surface.anchors)
        extra = np.zeros((b.surface.size, b.surface.size))
        extra[:a, :a] = self.common_mm**2 + self.each_mm**2 * np.eye(a)
        extra[a : b.surface.bias, a : b.surface.bias] = self.form_mm**2 * np.eye(len(FORMS))
        return replace(b, cov=b.cov + extra)


@dataclass(frozen=True)
class Doubted:
    """All gaps may be off together by one sd in mm about `off_mm`, and what is fed by a share with its sd, beside what was known."""

    astray_mm: float
    flow: float
    flow_sd: float
    off_mm: float = 0.0

    def told_to(self, b: "Belief") -> "Belief":
        a, k = len(b.surface.anchors), b.surface.extrusion
        extra = np.zeros((b.surface.size, b.surface.size))
        extra[:a, :a] = self.astray_mm**2
        extra[k, k] = self.flow_sd**2
        moved = self.flow * b.surface.unit(k)
        moved[:a] -= self.off_mm
        return replace(b, mean=b.mean + moved, cov=b.cov + extra)


@dataclass(frozen=True)
class FlowChanged:
    """So many times more is fed now than before."""

    times: float

    def told_to(self, b: "Belief") -> "Belief":
        k = b.surface.extrusion
        return replace(b, mean=b.mean + (self.times - 1) * (1 + b.mean[:, [k]]) * b.surface.unit(k))
