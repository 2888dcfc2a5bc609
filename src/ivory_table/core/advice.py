"""Which screw next, and how far: the tram policies on top of the belief.

All lengths in mm, all turns in marks, positive clockwise seen from above.
"""

from dataclasses import dataclass
from functools import lru_cache
from itertools import combinations

import numpy as np
from numpy.polynomial.hermite_e import hermegauss
from numpy.typing import NDArray
from scipy.optimize import lsq_linear
from scipy.stats import studentized_range

from . import steps
from .belief import Belief
from .defaults import TRAM
from .normals import normal_points, range_of
from .plate import Screw
from .surface import Surface
from .tram_told import drag_height, turned
from .value import Array

#: What a millimetre turned costs beside a millimetre left uneven, both squared, where a knob is held back.
_TURNS_COST = 0.01


@dataclass(frozen=True)
class Stop:
    """One visit: the screw to go to and the turn expected there until the gauge drags."""

    screw: int
    about_marks: float
    spread_after_mm: float
    spread_after_sd_mm: float
    #: The height is known so well that sliding the gauge tells as much as turning until it drags, and moves nothing.
    feel: bool = False
    #: How far the knob is turned at most before it is said that the drag does not come.
    most_marks: int = 0


def enough_felt(visited: int, surface: Surface) -> bool:
    """Whether so many visited screws can stand for all: of many, one that nobody felt may stand anywhere."""
    return visited >= (surface.knobs if surface.many else min(3, surface.knobs))


def sense_in_doubt(belief: Belief, j: int) -> bool:
    """Whether it is worth asking if the gauge was tight or loose before the turn: until the knob has shown its sense."""
    return bool(belief.p_reversed()[j] > TRAM.reversed_asked)


def proving_turns(belief: Belief, screws: tuple[Screw, ...], j: int) -> tuple[float, float, float]:
    """Marks of the turn by which a knob read in mm shows its sense and how much of it the plate passes, best first.

    Made with the tip lifted, between two readings at the same place, while the sense is in doubt: it teaches the
    supports before the turns that matter. It goes where the plate wants it, as far as is believed so far, so that
    little is left for those: at least a quarter turn, at most a whole one, down where nothing is known. Then, for a
    knob near its end, a quarter turn that way, and one the other way.
    """
    screw = screws[j]
    per_mark = screw.mm_per_mark * screw.sense
    normal, toward = _mends(belief, _leveled(belief.passes[:, :, j]))
    wanted = -toward / normal / per_mark
    quarter = max(round(TRAM.proving_turn * screw.marks_per_turn), 1)
    way = float(np.sign(wanted if abs(wanted) >= 1 else -screw.sense))
    return way * min(max(round(abs(wanted)), quarter), screw.marks_per_turn), way * quarter, -way * quarter


@dataclass(frozen=True, eq=False)
class Ahead:
    """What the next few visits can still mend, for every set of screws that may be visited.

    With M taking out most of the common height (it belongs to the offset, but a plate far from the
    drag costs long turns), E over the hypotheses, and S a set of screws visited and turned as well
    as can be from what is read there, the expected h' M h left is

        E h'Mh - g_S' N_SS^-1 g_S - tr(N_SS^-1 B_S L B_S') + noise,   N = E A'MA, g = E A'Mh, B = E A'M,

    where L is what the readings at S will have told. Sets are tried from small to large: the fewest
    visits that are expected to end it are what counts. A visit turns until the gauge drags, so a knob
    that may be reversed mends as much as any: A is here without its signs, the turn made now has them.
    """

    sets: Array  # (sets, m) 1 for a screw that is visited
    size: Array
    #: (sets, m, m) N_SS^-1 in the full frame, and (sets,) what does not depend on the means.
    solve: Array
    constant: Array
    weighted: Array  # (n, m, m) w A'M, for g
    centre: Array
    #: tr(M P): what is not known of the heights, mm^2.
    unknown: float

    @classmethod
    def of(cls, belief: Belief, screws: tuple[Screw, ...]) -> "Ahead":
        m = len(screws)
        centre = np.eye(m) - (1 - TRAM.common_weight) / m
        a, w = belief.passes * belief.signs[:, None, :], belief.weight
        weighted = (w[:, None, None] * a.transpose(0, 2, 1)) @ centre
        normal = np.tensordot(weighted, a, axes=((0, 2), (0, 1)))
        pull = weighted.sum(axis=0)
        # What the hypotheses disagree about can be read as well as what each of them does not know.
        unknown = belief.collapsed[1][:m, :m]
        within = np.tensordot(w, belief.cov[:, :m, :m], axes=1)
        noise = belief.drag_variance + TRAM.hand_floor_mm**2
        mark = np.array([s.mm_per_mark for s in screws])
        after = np.diag(normal) * (TRAM.hand_floor_mm**2 + mark**2 / 12)
        sets = _sets(m)
        # Inverses of blocks, all sets at once: what is not in a set is left as a unit matrix, then taken out.
        block, rest = sets[:, :, None] * sets[:, None, :], np.eye(m) * (1 - sets)[:, :, None]
        solve = np.linalg.inv(normal * block + rest) * block
        told = np.linalg.inv((unknown + noise * np.eye(m)) * block + rest) * block
        reach = (pull @ unknown) * block  # (sets, m, m): B_S P_S
        toward = reach @ told @ reach.transpose(0, 2, 1)
        left = float(np.trace(centre @ within))
        constant = left + sets @ after - (solve * toward).sum(axis=(1, 2))
        return cls(sets, sets.sum(axis=1), solve, constant, weighted, centre, left)

    def as_it_is(self, belief: Belief, drag_at: float) -> float:
        """Expected h' M h with nothing visited, mm^2."""
        heights = belief.mean[:, : belief.passes.shape[1]] - drag_at
        return float(belief.weight @ ((heights @ self.centre) * heights).sum(axis=1)) + self.unknown

    def costs(self, belief: Belief, drag_at: float, knob: int = 0, ups: Array | None = None) -> Array:
        """(options, sets) expected h' M h after each set of visits, when `knob` is first turned by each of `ups` (mm)."""
        ups = np.zeros(1) if ups is None else ups
        m, w = belief.passes.shape[1], belief.weight
        heights, lever = belief.mean[:, :m] - drag_at, belief.passes[:, :, knob]
        flat = self.weighted.transpose(0, 2, 1).reshape(-1, m)
        g = heights.reshape(-1) @ flat + ups[:, None] * (lever.reshape(-1) @ flat)
        leveled = heights @ self.centre
        now = w @ (leveled * heights).sum(axis=1) + 2 * ups * (w @ (leveled * lever).sum(axis=1))
        own = w @ ((lever @ self.centre) * lever).sum(axis=1)
        now = now + own * (ups**2 + np.where(ups, TRAM.hand_floor_mm**2, 0.0))
        mended = (np.tensordot(g, self.solve, axes=(1, 1)) * g[:, None, :]).sum(axis=2)
        return np.asarray(now[:, None] - mended + self.constant)


@lru_cache(maxsize=16)
def _sets(m: int) -> Array:
    """(sets, m) of 0 and 1, the sets of screws worth looking ahead to, small ones first: up to three, and all or all but one."""
    sizes = [n for n in range(1, m + 1) if n <= 3 or n >= m - 1]
    return np.array([[float(j in s) for j in range(m)] for n in sizes for s in combinations(range(m), n)])


#: Turns looked at after a feel, in marks, and how the gauge may be found, in sds, with their chances (Gauss-Hermite).
_TURNS = np.array([0, -1, 1, -2, 2, -4, 4, -7, 7]) / 2
_FOUND, _FOUND_CHANCE = hermegauss(5)
_DRAWS = 128


def _chances(belief: Belief, screws: tuple[Screw, ...], tol_mm: float) -> Array:
    """(m,) how likely all is within once each screw has been felt and turned as is best then."""
    m, bias = len(screws), belief.surface.bias
    mean, cov = belief.collapsed
    noise = belief.drag_variance
    lever = np.tensordot(belief.weight, belief.passes, axes=1)
    seen = np.sqrt(np.diag(cov)[:m] + 2 * cov[:m, bias] + cov[bias, bias] + noise)
    # The range does not depend on the common height, so that need not be drawn.
    centre = np.eye(m) - 1.0 / m
    gain = (centre @ (cov[:m, :m] + cov[:m, bias, None]) / seen).T  # (screw, m) for one sd of what is found there
    after = centre @ cov[:m, :m] @ centre - gain[:, :, None] * gain[:, None, :]
    values, axes = np.linalg.eigh(after)
    drawn = (axes * np.sqrt(np.maximum(values, 0.0))[:, None, :]) @ normal_points(_DRAWS, m).T  # (screw, m, draws)
    ups = _TURNS[None, :] * np.array([s.mm_per_mark for s in screws])[:, None]
    found = mean[:m] + gain[:, None, :] * _FOUND[None, :, None]
    turned_mm = found[:, :, None, :] + ups[:, None, :, None] * lever.T[:, None, None, :]  # (screw, found, turn, m)
    turned_mm, drawn = turned_mm.astype(np.float32), drawn.astype(np.float32)
    ranges = range_of(turned_mm[..., k, None] + drawn[:, None, None, k] for k in range(m))
    within = (ranges <= 2 * tol_mm).mean(axis=-1)
    return np.asarray(within.max(axis=2) @ (_FOUND_CHANCE / _FOUND_CHANCE.sum()))


def _told_by_each(belief: Belief, m: int) -> Array:
    """(m,) by how much a reading at each screw lets the heights against the common height be known better, mm^2."""
    unknown = belief.collapsed[1][:m, :m]
    noise = belief.drag_variance
    return np.asarray((((np.eye(m) - 1.0 / m) @ unknown) * unknown).sum(axis=0) / (np.diag(unknown) + noise))


def ends_at_mm(m: int, tol_mm: float) -> float:
    """Expected h' M h at which done is usually declared: the range of m normals stays within 2 tol with 90 %."""
    return (m - 1) * (2 * tol_mm / float(studentized_range_90(m))) ** 2


@lru_cache(maxsize=16)
def studentized_range_90(m: int) -> float:
    """The range of m standard normals that is kept in 90 % (Tukey's studentised range, sd known)."""
    return float(studentized_range.ppf(TRAM.done_at, m, 1e6))


def next_stop(
    belief: Belief, screws: tuple[Screw, ...], drag_gap_mm: float, tol_mm: float, last: int | None = None
) -> Stop:
    """The screw to visit next.

    While much is off: of the smallest set that is expected to end it, the one that does most by itself. Near the end:
    the one that most likely ends it, by what is felt there and the turn that follows. Never the last one again.
    """
    m = len(screws)
    p, others = belief.p_within(tol_mm), [j for j in range(m) if j != last]
    if p >= TRAM.finish_at:
        # Within already, and asked all the same: not enough has been felt yet.
        worth = _told_by_each(belief, m) if p >= TRAM.done_at else _chances(belief, screws, tol_mm)
        j = max(others, key=lambda j: float(worth[j]))
    else:
        ahead = Ahead.of(belief, screws)
        drag_at = drag_height(belief, drag_gap_mm)
        costs = ahead.costs(belief, drag_at)[0]
        first = costs[:m].copy()
        if last is not None:
            at = belief.surface.screws
            away = np.linalg.norm(at - at[last], axis=1)
            first *= 1 - 0.02 * away / away.max()
        chosen = ahead.sets[int(fewest(ahead, costs[None], ends_at_mm(m, tol_mm))[0])]
        near = [j for j in others if abs(_about(belief, screws, drag_gap_mm, j)) <= most_marks(screws[j])]
        best = min([j for j in others if chosen[j]] or others, key=lambda j: first[j])
        # Where the drag is out of reach, others bring the plate nearer first, as long as a visit there mends a fair share as much.
        j = min([j for j in near if chosen[j]] or near or [best], key=lambda j: first[j])
        now = ahead.as_it_is(belief, drag_at)
        j = j if now - first[j] > TRAM.near_share * (now - first[best]) else best
    return at_stop(belief, screws, drag_gap_mm, j)


def most_marks(screw: Screw, about_marks: float = 0.0) -> int:
    """How far a knob is turned in search of the drag, marks: beyond it may come loose, or was loose already.

    Where more is expected, that and a quarter.
    """
    return round(max(TRAM.most_turns * screw.marks_per_turn, min(1.25 * abs(about_marks), 160.0)))


def fewest(ahead: Ahead, costs: Array, ends_at: float) -> NDArray[np.intp]:
    """By option, the cheapest set of the fewest visits that end it; if none does, the cheapest of all. (options, sets) in."""
    good = costs <= ends_at
    fewest = np.where(good, ahead.size, np.inf).min(axis=1, keepdims=True)
    among = np.where(good & (ahead.size == fewest), costs, np.inf)
    return np.asarray(np.where(good.any(axis=1), among.argmin(axis=1), costs.argmin(axis=1)))


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


def at_stop(belief: Belief, screws: tuple[Screw, ...], drag_gap_mm: float, j: int) -> Stop:
    """What is expected of a visit to screw j. The common height is no part of the spread."""
    m, drag_at = len(screws), drag_height(belief, drag_gap_mm)
    about = _about(belief, screws, drag_gap_mm, j)
    spread = float(np.sqrt(max(_left_by(belief, screws, j), 0.0) / (m - 1)))
    # The mean range of m normal heights is about d_2 sd (Tippett 1925).
    d2 = {3: 1.693, 4: 2.059, 5: 2.326, 6: 2.534}.get(m, 2.9)
    return Stop(
        j,
        about,
        d2 * spread,
        0.43 * d2 * spread,
        feel=_off_drag(belief, drag_at, j) < TRAM.feel_reach_mm,
        most_marks=most_marks(screws[j], about),
    )


def _left_by(belief: Belief, screws: tuple[Screw, ...], j: int) -> float:
    """Expected h' M h left by a visit to screw j alone, mm^2: as `Ahead`, with nothing of the common height in M."""
    m, w, cov = len(screws), belief.weight, belief.collapsed[1]
    lever = belief.passes[:, :, j] * belief.signs[:, j, None]
    heights, level = _leveled(belief.mean[:, :m]), _leveled(lever)
    normal, toward = _mends(belief, level)
    unknown = np.tensordot(w, belief.cov[:, :m, :m], axes=1)
    now = w @ (heights * heights).sum(axis=1) + np.trace(unknown) - unknown.sum() / m
    noise = belief.drag_variance + TRAM.hand_floor_mm**2
    told = (w @ level @ cov[:m, j]) ** 2 / (cov[j, j] + noise)
    made = normal * (TRAM.hand_floor_mm**2 + screws[j].mm_per_mark ** 2 / 12)
    return float(now - (toward**2 + told) / normal + made)


def _leveled(heights: Array) -> Array:
    """(n, m) heights against the common height of each row."""
    return np.asarray(heights - heights.mean(axis=1, keepdims=True))


def _mends(belief: Belief, level: Array) -> tuple[float, float]:
    """E a'Ma and E a'Mh of a support whose leveled lever is Ma (n, m): turned by -the second over the first it mends the most."""
    w, heights = belief.weight, belief.mean[:, : level.shape[1]]
    return float(w @ (level * level).sum(axis=1)), float(w @ (level * heights).sum(axis=1))


def _about(belief: Belief, screws: tuple[Screw, ...], drag_gap_mm: float, j: int) -> float:
    """Marks of the turn expected at screw j until the gauge drags."""
    return marks_for(belief, screws, j, drag_height(belief, drag_gap_mm) - float(belief.collapsed[0][j]))


def marks_for(belief: Belief, screws: tuple[Screw, ...], j: int, up_mm: float) -> float:
    """Marks of knob j that are expected to raise the plate above it by `up_mm`, by its likelier sense."""
    passed = float(belief.weight @ np.abs(belief.passes[:, j, j]))
    sense = -screws[j].sense if belief.p_reversed()[j] > 0.5 else screws[j].sense
    return up_mm / passed / (screws[j].mm_per_mark * sense)


def _off_drag(belief: Belief, drag_at: float, j: int) -> float:
    """Root mean square of how far in mm the plate at screw j is from where the gauge drags."""
    mean, cov = belief.collapsed
    bias = belief.surface.bias
    variance = cov[j, j] + 2 * cov[j, bias] + cov[bias, bias]
    return float(np.sqrt((mean[j] - drag_at) ** 2 + max(variance, 0.0)))


def turn_plan(belief: Belief, screws: tuple[Screw, ...], smallest_marks: float = 1.0) -> Array:
    """Read all, turn all: marks (m,) that minimise the expected squared spread, small ones left out.

    s minimises E |M (h + A s)|^2, i.e. (E[A' M A]) s = -E[A' M h]; the common height is left free
    and the turns are shifted by it to be as small as they can. Rounded by coordinate search.
    """
    m = len(screws)
    centre = np.eye(m) - 1.0 / m
    a = belief.passes
    # Where one or two hypotheses are left, and may be wrong together, the plan stays moderate.
    weight = belief.doubted_weight if m > TRAM.counts_tell else belief.weight
    normal = np.einsum("n,nij,ik,nkl->jl", weight, a, centre, a, optimize=True)
    pull = np.einsum("n,nij,ik,nk->j", weight, a, centre, belief.mean[:, :m], optimize=True)
    mark = np.array([s.mm_per_mark * s.sense for s in screws])
    # A whole plate raised together changes nothing here: keep the turns small instead.
    ideal = np.linalg.lstsq(normal + 1e-9 * np.eye(m), -pull, rcond=1e-7)[0]
    low, high = _reach(belief, screws)
    if np.any((ideal < low) | (ideal > high)):
        # The others make up for what one may not do, but do not go round it: small turns come first.
        root = np.linalg.cholesky(normal + _TURNS_COST * np.eye(m))
        ideal = lsq_linear(root.T, -np.linalg.solve(root, pull), bounds=(low, high)).x
    shifts = np.linspace(-0.5, 0.5, 9) * np.abs(mark).min() * smallest_marks
    best, best_cost = np.zeros(m), np.inf
    for common in shifts:
        marks = np.round((ideal + common) / mark / smallest_marks) * smallest_marks
        s = marks * mark
        cost = float(s @ normal @ s + 2 * s @ pull) + 1e-8 * float(np.abs(marks).sum())
        if cost < best_cost:
            best, best_cost = marks, cost
    return best


def _reach(belief: Belief, screws: tuple[Screw, ...]) -> tuple[Array, Array]:
    """(m,), (m,) how far each support may go down and up in one round, mm.

    A plate that seems to want more than `TRAM.most_at_once` turns is looked at again before it gets it. A knob that was
    turned back once already goes back again by half as much at most: where its bolt goes slack it does nothing for a
    while, and each turn worked out from the last one would overshoot, for ever.
    """
    high = TRAM.most_at_once * np.array([s.pitch_mm for s in screws])
    low = -high
    for j, screw in enumerate(screws):
        *before, last = _legs(belief, j) or [0.0]
        if before:
            back = max(abs(last) / 2, screw.mm_per_mark)
            if last > 0:
                low[j] = max(low[j], -back)
            else:
                high[j] = min(high[j], back)
    return low, high


def _legs(belief: Belief, j: int) -> list[float]:
    """How far knob j was turned each way in turn, mm up: turns in the same direction are one leg."""
    legs: list[float] = []
    for step in belief.told:
        if isinstance(step, steps.DeclaredAnew) and step.knob == j:
            legs = []
        elif isinstance(step, steps.Turned) and step.knob == j and step.up_mm:
            if legs and legs[-1] * step.up_mm > 0:
                legs[-1] += step.up_mm
            else:
                legs.append(step.up_mm)
    return legs


def turns_worth_making(
    belief: Belief, screws: tuple[Screw, ...], smallest_marks: float, tol_mm: float
) -> tuple[Array, Belief]:
    """The plan of `turn_plan` and what is believed after it; no turns where, of many supports, it is likely within as it stands."""
    marks, after = turn_plan(belief, screws, smallest_marks), belief
    for j, m in enumerate(marks):
        if m:
            after = turned(after, screws, j, float(m))
    now = belief.p_within(tol_mm)
    if belief.surface.many and now >= min(TRAM.done_at, max(0.5, after.p_within(tol_mm))):
        return np.zeros(len(screws)), belief
    return marks, after


def stops_left(p_within: float, unvisited: int) -> float:
    """Stops still expected before done is declared, from simulated plates on four screws (`defaults/job.toml`)."""
    if p_within >= TRAM.done_at:
        return 0.0
    row = TRAM.stops_left[min(unvisited, len(TRAM.stops_left) - 1)]
    return next((n for top, n in zip(TRAM.stops_left_p, row, strict=True) if p_within < top), row[-1])
