"""Which screw next, and how far: the tram policies on top of the belief.

All lengths in mm, all turns in marks, positive clockwise seen from above.
"""

from dataclasses import dataclass

import numpy as np

from .belief import Belief
from .defaults import FEEL, TRAM
from .plate import Screw
from .surface import Array
from .tram import hand_error_mm

#: Extra turns that are worth looking at after a count.
_FURTHER = np.arange(-4, 5)


@dataclass(frozen=True)
class Stop:
    """One visit: the screw to go to and the turn expected there until the gauge drags."""

    screw: int
    about_marks: float
    spread_after_mm: float
    spread_after_sd_mm: float


@dataclass(frozen=True)
class Further:
    """The turn to make beyond the drag, and what it is expected to bring."""

    marks: int
    up_mm: float
    p_within: float
    spread_mm: float
    spread_sd_mm: float
    #: What the screws not yet at rest will take back from this one.
    others_mm: tuple[float, ...]


def drag_sd_mm() -> float:
    """Scatter of a knob turned until the gauge drags: the feel's, and somewhere within `drag`."""
    low, high = FEEL.cuts_mm[1], FEEL.cuts_mm[2]
    return float(np.hypot(FEEL.scatter_mm, (high - low) / 12**0.5))


def counted(belief: Belief, screws: tuple[Screw, ...], j: int, marks: float, drag_gap_mm: float) -> Belief:
    """A knob was turned until the gauge dragged, and the marks counted.

    A turn known to its rounding and the hand's error, then a reading of the height there.
    """
    screw = screws[j]
    up = marks * screw.mm_per_mark * screw.sense
    hand = float(hand_error_mm(up))
    rounding = screw.mm_per_mark / 12**0.5
    return dragged(belief.turned(j, up, float(np.hypot(hand, rounding))), screw.x_mm, screw.y_mm, drag_gap_mm, hand)


def dragged(belief: Belief, x_mm: float, y_mm: float, drag_gap_mm: float, extra_sd_mm: float = 0.0) -> Belief:
    """The gauge drags at a place with the tip at z 0: shift - height = thickness + bias."""
    row = belief.gap_row(x_mm, y_mm) + belief.surface.unit(belief.surface.bias)
    return belief.read(row, belief.shift_mm - drag_gap_mm, float(np.hypot(drag_sd_mm(), extra_sd_mm)))


def turned(belief: Belief, screws: tuple[Screw, ...], j: int, marks: float) -> Belief:
    """A knob was turned by a known number of marks."""
    up = marks * screws[j].mm_per_mark * screws[j].sense
    return belief.turned(j, up, float(hand_error_mm(up)))


def reversed_evidence(belief: Belief, screws: tuple[Screw, ...], j: int, marks: float, drag_gap_mm: float) -> float:
    """ln of how much better a count is explained by a knob that works against its declared sense."""

    screw = screws[j]
    row = belief.gap_row(screw.x_mm, screw.y_mm) + belief.surface.unit(belief.surface.bias)
    up = marks * screw.mm_per_mark * screw.sense
    hand = float(hand_error_mm(up))
    # Only the height at this screw is looked at: its mean, its variance, and how far a turn moves it.
    lever = belief.passes[:, :, j] @ row[: belief.surface.knobs]
    at, variance = belief.mean @ row, (belief.cov @ row) @ row
    s = variance + lever**2 * (hand**2 + screw.mm_per_mark**2 / 12) + drag_sd_mm() ** 2 + hand**2

    def log_p(sign: int) -> float:
        miss = belief.shift_mm - drag_gap_mm - at - sign * lever * up
        return float(np.logaddexp.reduce(belief.log_weight - 0.5 * (np.log(s) + miss**2 / s)))

    return log_p(-1) - log_p(+1)


def _visit_terms(belief: Belief, screws: tuple[Screw, ...]) -> tuple[Array, Array]:
    """Per hypothesis and screw: what a visit leaves of the mean, and of the uncertainty.

    Returns Q (n, m, m, m), with the cost of means mu' Q[:, j] mu after a visit to j and the
    best turn there, and the constant part (n, m). M = I - (1 - w) 11'/m lets the common height
    weigh little: it belongs to the offset, but a plate far from the drag costs long turns.
    Q = M - M a a' M / (a' M a) is what turning j cannot mend.
    """
    m = len(screws)
    centre = np.eye(m) - (1 - TRAM.common_weight) / m
    cov = belief.cov[:, :m, :m]
    columns = belief.passes.transpose(0, 2, 1)  # (n, j, i): how screw j moves the plate at i
    ma = columns @ centre
    q = centre - ma[:, :, :, None] * ma[:, :, None, :] / np.einsum("nji,nji->nj", ma, columns)[..., None, None]
    mark = np.array([s.mm_per_mark for s in screws])
    noise = (
        drag_sd_mm() ** 2 + TRAM.hand_floor_mm**2 + (mark**2 / 12) * np.diagonal(belief.passes, axis1=1, axis2=2) ** 2
    )
    s = np.diagonal(cov, axis1=1, axis2=2) + noise
    gain = cov / s[:, :, None]  # symmetric: row j is the gain of a reading at j
    left = np.trace(centre @ cov, axis1=1, axis2=2)[:, None] - s * np.einsum("nji,ik,njk->nj", gain, centre, gain)
    learnt = s * np.einsum("nji,njik,njk->nj", gain, q, gain)
    return q, left + learnt


def stop_costs(belief: Belief, screws: tuple[Screw, ...], drag_height_mm: float, heights: Array | None = None) -> Array:
    """Expected squared heights against the drag, (..., m), after a visit to each screw.

    `heights` (..., n, m) other means to judge with, one set per hypothesis.
    """
    m, n = len(screws), len(belief.weight)
    q, constant = _visit_terms(belief, screws)
    mean = (belief.mean[:, :m] if heights is None else heights) - drag_height_mm
    # sum over hypotheses of w mu' Q_j mu, as one matrix product
    squares = (mean[..., :, None] * mean[..., None, :]).reshape(*mean.shape[:-2], n * m * m)
    weighted = (belief.weight[:, None, None, None] * q).transpose(0, 2, 3, 1).reshape(n * m * m, m)
    return np.asarray(squares @ weighted + belief.weight @ constant)


def next_stop(belief: Belief, screws: tuple[Screw, ...], drag_gap_mm: float, last: int | None = None) -> Stop:
    """The screw whose visit is expected to leave least; on a tie the one across the diagonal."""
    drag_at = drag_height(belief, drag_gap_mm)
    left = stop_costs(belief, screws, drag_at)
    costs = left.copy()
    if last is not None:
        at = belief.surface.screws
        away = np.linalg.norm(at - at[last], axis=1)
        costs *= 1 - 0.02 * away / away.max()
        costs[last] = np.inf
    return at_stop(belief, screws, drag_gap_mm, int(np.argmin(costs)), left)


def order_of(screws: Array, way: str) -> list[int]:
    """The order in which a hand goes round (m, 2) screws: `ring` by angle, `diagonal` always to the far side, `pairs` side by side."""
    m = len(screws)
    off = screws - screws.mean(axis=0)
    ring = [int(j) for j in np.argsort(np.arctan2(off[:, 1], off[:, 0]), kind="stable")]
    if way == "ring":
        return ring
    if way == "pairs":
        # Left to right, front before rear: the two of one side follow each other.
        return [int(j) for j in np.lexsort((off[:, 1], np.round(off[:, 0])))]
    half = (m + 1) // 2
    return [ring[(k // 2 + (k % 2) * half) % m] for k in range(m)]


def at_stop(belief: Belief, screws: tuple[Screw, ...], drag_gap_mm: float, j: int, left: Array | None = None) -> Stop:
    """What is expected of a visit to screw j. `left` as from `stop_costs`, when it is at hand."""
    m, screw = len(screws), screws[j]
    drag_at = drag_height(belief, drag_gap_mm)
    if left is None:
        left = stop_costs(belief, screws, drag_at)
    heights, _ = belief.collapsed
    passed = float(belief.weight @ belief.passes[:, j, j])
    about = (drag_at - heights[j]) / passed / (screw.mm_per_mark * screw.sense)
    spread = float(np.sqrt(max(left[j], 0.0) / (m - 1)))
    # The mean range of m normal heights is about d_2 sd (Tippett 1925).
    d2 = {3: 1.693, 4: 2.059, 5: 2.326, 6: 2.534}.get(m, 2.9)
    return Stop(j, float(about), d2 * spread, 0.43 * d2 * spread)


def drag_height(belief: Belief, drag_gap_mm: float) -> float:
    """The height in mm, in the belief's frame, at which a gauge is believed to drag with the tip at z 0."""
    return float(belief.shift_mm - drag_gap_mm - belief.collapsed[0][belief.surface.bias])


def further(belief: Belief, screws: tuple[Screw, ...], j: int, tol_mm: float, drag_gap_mm: float) -> Further:
    """How much further to turn the screw that now drags.

    If a turn makes it likely enough that all is within, the likeliest; else the one that
    leaves least after the best next visit.
    """
    m = len(screws)
    screw = screws[j]
    options = _FURTHER
    up = options * screw.mm_per_mark * screw.sense
    heights = belief.mean[None, :, :m] + up[:, None, None] * belief.passes[None, :, :, j]
    costs = stop_costs(belief, screws, drag_height(belief, drag_gap_mm), heights)
    costs[:, j] = np.inf
    value = costs.min(axis=1)
    order = np.argsort(np.abs(options), kind="stable")
    likely = _quick_sd_range(heights, belief)
    flattest = order[np.argsort(likely[order], kind="stable")][:2]

    def made(k: int) -> Belief:
        return turned(belief, screws, j, float(options[k])) if options[k] else belief

    # Staying put costs no hand error, so it is always asked as well.
    tried = {k: made(k) for k in dict.fromkeys((int(order[0]), *map(int, flattest)))}
    best = max(tried, key=lambda k: tried[k].p_within(tol_mm))
    if tried[best].p_within(tol_mm) < TRAM.done_at:
        best = int(order[np.argmin(value[order] + 1e-7 * np.abs(options[order]))])
    after = tried.get(best) or made(best)
    spread, sd = after.spread()
    own = belief.weight @ belief.passes[:, :, j]
    return Further(
        marks=int(options[best]),
        up_mm=float(up[best]),
        p_within=after.p_within(tol_mm),
        spread_mm=spread,
        spread_sd_mm=sd,
        others_mm=tuple(float(v) for v in own * up[best]),
    )


def _quick_sd_range(heights: Array, belief: Belief) -> Array:
    """(options,) expected range of the means: a cheap first sieve for P(within)."""
    by_screw = np.moveaxis(heights, 2, 0)
    return np.asarray((by_screw.max(axis=0) - by_screw.min(axis=0)) @ belief.weight)


def turn_plan(belief: Belief, screws: tuple[Screw, ...], smallest_marks: float = 1.0) -> Array:
    """Read all, turn all: marks (m,) that minimise the expected squared spread, small ones left out.

    s minimises E |M (h + A s)|^2, i.e. (E[A' M A]) s = -E[A' M h]; the common height is left free
    and the turns are shifted by it to be as small as they can. Rounded by coordinate search.
    """
    m = len(screws)
    centre = np.eye(m) - 1.0 / m
    a = belief.passes
    normal = np.einsum("n,nij,ik,nkl->jl", belief.weight, a, centre, a, optimize=True)
    pull = np.einsum("n,nij,ik,nk->j", belief.weight, a, centre, belief.mean[:, :m], optimize=True)
    mark = np.array([s.mm_per_mark * s.sense for s in screws])
    # A whole plate raised together changes nothing here: keep the turns small instead.
    ideal = np.linalg.lstsq(normal + 1e-9 * np.eye(m), -pull, rcond=1e-7)[0]
    shifts = np.linspace(-0.5, 0.5, 9) * np.abs(mark).min() * smallest_marks
    best, best_cost = np.zeros(m), np.inf
    for common in shifts:
        marks = np.round((ideal + common) / mark / smallest_marks) * smallest_marks
        s = marks * mark
        cost = float(s @ normal @ s + 2 * s @ pull) + 1e-8 * float(np.abs(marks).sum())
        if cost < best_cost:
            best, best_cost = marks, cost
    return best


def stops_left(p_within: float, unvisited: int) -> float:
    """Stops still expected before done is declared, from simulated plates (`defaults/job.toml`)."""
    if p_within >= TRAM.done_at:
        return 0.0
    row = TRAM.stops_left[min(unvisited, len(TRAM.stops_left) - 1)]
    return next((n for top, n in zip(TRAM.stops_left_p, row, strict=True) if p_within < top), row[-1])
