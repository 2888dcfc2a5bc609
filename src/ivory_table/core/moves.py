"""What a move of the nozzle or turns of the knobs would make of the zones' gaps, by draws of them."""

from typing import NamedTuple

import numpy as np

from .defaults import JUDGE
from .value import Array


class Aims(NamedTuple):
    """Between which gaps a zone is sound, the gap to aim at, and the smallest step of the offset, mm."""

    low_mm: float
    high_mm: float
    target_mm: float
    step_mm: float


def p_all_sound(gaps: Array, low: float, high: float) -> float:
    """Share of draws (n, z) in which every zone lies inside (low, high)."""
    return float(np.mean((gaps.min(axis=1) >= low) & (gaps.max(axis=1) <= high)))


def might_scrape(gaps: Array) -> bool:
    """Whether a gap under `JUDGE.scrape_mm` somewhere is likelier than may be, by draws (n, z)."""
    return bool(np.mean(gaps.min(axis=1) < JUDGE.scrape_mm) > JUDGE.scrape_p)


def lift_clear(gaps: Array, step_mm: float) -> float:
    """The least change of the gap, in steps, after which draws (n, z) leave a gap under `JUDGE.scrape_mm` in at most
    `JUDGE.scrape_p` of cases; negative where there is room to come closer."""
    lowest = np.sort(gaps.min(axis=1))
    clear = JUDGE.scrape_mm - float(lowest[int(JUDGE.scrape_p * len(lowest))])
    return round(float(np.ceil(clear / step_mm - 1e-9)) * step_mm, 6)


def resampled(weight: Array, count: int) -> Array:
    """(count,) indices, evenly spaced over the weights."""
    upto = np.cumsum(weight / weight.sum())
    return np.minimum(np.searchsorted(upto, (np.arange(count) + 0.5) / count), len(weight) - 1)


def best_shift(gaps: Array, low: float, high: float, target: float, step_mm: float) -> float:
    """The change of the gap that makes the most draws (n, z) sound in every zone; ties go to the target.

    Draw k is sound for low - min_k <= shift <= high - max_k, so each candidate is two comparisons. No step closer
    that might scrape.
    """
    ideal = target - float(gaps.mean())
    reach = max(0.12, abs(ideal) + 0.06)
    options = np.round(np.arange(-reach, reach + step_mm, step_mm) / step_mm) * step_mm
    options = options[options >= min(lift_clear(gaps, step_mm), 0.0) - 1e-9]
    if not len(options):
        return 0.0
    first, last = low - gaps.min(axis=1), high - gaps.max(axis=1)
    p = np.mean((options[:, None] >= first) & (options[:, None] <= last), axis=1)
    score = p - 0.4 * np.abs(options - ideal)
    best = float(options[np.argmax(score)])
    return 0.0 if abs(best) < step_mm / 2 else round(best, 6)


def best_turns(gaps: Array, moves: Array, low: float, high: float, target: float) -> Array:
    """Whole marks (m,) that make the most draws sound: least squares, then a search around it."""
    errors = gaps.mean(axis=0) - target
    ideal = np.linalg.lstsq(moves, errors, rcond=1e-6)[0]
    sample = np.asfortranarray(gaps[:512])
    middle = sample.mean(axis=0) - target

    def score(turn: Array) -> float:
        by = moves @ turn
        moved, spread = sample - by, float(np.mean((middle - by) ** 2))
        return p_all_sound(moved, low, high) - 40 * spread - 0.0005 * float(np.count_nonzero(turn))

    best: Array = np.clip(np.round(np.asarray(ideal)), -16, 16)
    best_score = score(best)
    for _ in range(4):
        better = False
        for j in range(len(best)):
            for step in (-1, 1):
                trial = best.copy()
                trial[j] += step
                s = score(trial)
                if s > best_score + 1e-9:
                    best, best_score, better = trial, s, True
        if not better:
            break
    return best if best_score > score(np.zeros(len(best))) else np.zeros(len(best))
