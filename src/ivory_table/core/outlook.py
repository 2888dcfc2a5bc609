"""What is to be expected of a plate as it was left: the chance that it is sound, and when to look again, and where."""

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray
from scipy.stats import norm, qmc

from .defaults import DRIFT
from .drift import PlateSeen, Rates, jump_cov, modes, shape_of_a_day
from .moves import best_shift, p_all_sound, resampled
from .short_check import Check, gaps_since_checks
from .value import Array, Value
from .wear import Use


class Outlook(Value):
    """What is to be expected of a plate: the chance that every place is sound, now and later, and when to look again."""

    days: tuple[float, ...]
    p_sound: tuple[float, ...]
    #: Days from what was left until the chance falls below what is wanted; None beyond the last day looked at.
    due_in_days: float | None
    #: (n,) sd of each gap on the first and the last of `days`, for a drawing.
    sd_now_mm: tuple[float, ...]
    sd_later_mm: tuple[float, ...]
    #: The place whose reading would tell most, on the day it is due or today.
    check: str
    #: A move of the stored value that would make every place likelier sound today, above 0 away from the plate; 0 where none is
    #: worth it; and the chance after it.
    move_mm: float
    p_after_move: float
    wanders: str
    wanders_p: float
    wanders_mm_week: float


class Blame(Value):
    """What would have to be mended where a plate is not sound any more, by its drift alone."""

    p_unsound: float
    #: Of that: one stored value would mend it; knobs would; neither, the plate's form changed.
    height: float
    support: float
    form: float
    #: The support that would most often have to be turned.
    place: str


def blame(left: PlateSeen, known: Rates, done: Use, *, jumped: bool = False, held: bool = False) -> Blame:
    """Of all the ways in which a plate may have drifted out of what is sound, what each of them asks for."""
    gaps = _gaps_on((done.days,), left, known, done, jumped=jumped, held=held)[done.days]
    bad = gaps[np.logical_not(_is_sound(gaps, left))]
    if not len(bad):
        return Blame(p_unsound=0.0, height=0.0, support=0.0, form=0.0, place=left.places[1])
    wide = left.high_mm - left.low_mm
    by_height = np.ptp(bad, axis=1) <= wide
    _, each, _ = modes(len(left.places))
    middle = (left.low_mm + left.high_mm) / 2 - left.target_mm
    # Bring each support to the middle of what is sound, the centre following by its share; whichever mends it.
    mends = np.stack(
        [_is_sound(bad + (middle - bad[:, j + 1])[:, None] * each[:, j], left) for j in range(each.shape[1])], axis=1
    )
    # Several supports at once are the tram's as well: only what is left over then is the plate's form.
    trammed = bad + (middle - bad[:, 1:]) @ each.T
    by_tram = np.logical_not(by_height) & (mends.any(axis=1) | _is_sound(trammed, left))
    off = np.abs(bad[:, 1:] - middle)
    worst = np.argmax(np.where(mends | np.logical_not(mends.any(axis=1))[:, None], off, -1.0), axis=1)[by_tram]
    often = np.bincount(worst, minlength=each.shape[1])
    return Blame(
        p_unsound=float(len(bad) / len(gaps)),
        height=float(by_height.mean()),
        support=float(by_tram.mean()),
        form=float(np.logical_not(by_height | by_tram).mean()),
        place=left.places[1 + int(np.argmax(often))],
    )


def _is_sound(gaps: Array, left: PlateSeen) -> NDArray[np.bool_]:
    """(draws,) whether every place of gaps (draws, n) about the gap aimed at is sound."""
    low, high = left.low_mm - left.target_mm, left.high_mm - left.target_mm
    return np.asarray((gaps.min(axis=1) >= low) & (gaps.max(axis=1) <= high))


def _gaps_on(
    days: Sequence[float],
    left: PlateSeen,
    known: Rates,
    done: Use,
    *,
    jumped: bool,
    held: bool,
    checks: Sequence[Check] = (),
) -> dict[float, Array]:
    """(draws, n) gaps about the gap aimed at on each of some days after a plate was left; `done`: its use up to now."""
    n = len(left.places)
    z = _normals(2 * n + 1)
    start = left.off + z[:, :n] @ np.linalg.cholesky(left.covariance + 1e-10 * np.eye(n)).T
    was = _is_sound(start, left)
    if held and was.mean() >= _LEAST_HELD:
        z, start = z[was], start[was]
    if checks:
        first = start.mean(axis=0), np.cov(start.T) if held else left.covariance
        return gaps_since_checks(days, left, first, known, done, checks, z[:, n : 2 * n], _CHOICES, jumped=jumped)
    # A few choices stand for all of them, each as often as it weighs.
    picks = resampled(known.weight.ravel(), _CHOICES)
    since = jump_cov(n) if jumped else np.zeros((n, n))
    shape = shape_of_a_day(known.common, known.own, known.form, n)
    _, each, _ = modes(n)
    at: dict[float, Array] = {}
    for day in days:
        draws, worn = [], known.worn(known.pace.later(done, day))
        for pick in picks:
            k, who = divmod(int(pick), n)
            d = worn[k]
            gaps = start + z[:, n : 2 * n] @ np.linalg.cholesky(since + d * shape[k] + 1e-12 * np.eye(n)).T
            if who:
                by = known.slope[k, who - 1] + known.slope_sd[k, who - 1] * z[:, 2 * n]
                gaps = gaps + d * by[:, None] * each[:, who - 1]
            draws.append(gaps)
        at[day] = np.vstack(draws)
    return at


#: The days of an outlook, counted from what was left.
DAYS = (0.0, 1.0, 2.0, 4.0, 7.0, 10.0, 14.0, 21.0, 28.0, 42.0, 60.0, 90.0, 120.0)


def outlook(
    left: PlateSeen,
    known: Rates,
    done: Use = Use(days=0.0),
    *,
    jumped: bool = False,
    held: bool = False,
    checks: Sequence[Check] = (),
    risk: float = DRIFT.risk,
) -> Outlook:
    """From what was left, and what it has been through since: `done`. `jumped`: something happened since that nobody has looked at.

    `held`: a print showed every zone sound as it was left; the chance is then that it still is. `checks`: short looks since.
    """
    since_days = done.days
    later = {round(since_days + d, 2) for d in DAYS if checks}
    days = tuple(sorted({*DAYS, round(since_days, 2)} | later))
    at = _gaps_on(days, left, known, done, jumped=jumped, held=held, checks=checks)
    sound = {d: _is_sound(g, left) for d, g in at.items()}
    p = [float(s.mean()) for s in sound.values()]
    # What a check has shown holds from that day on.
    first = max((c.day for c in checks), default=0.0)
    from_then = [k for k, d in enumerate(days) if d >= first - 0.01]
    due = _crossing([days[k] for k in from_then], [p[k] for k in from_then], 1 - risk)
    look = min(days, key=lambda d: abs(d - max(due if due is not None else days[-1], since_days)))
    today = at[min(days, key=lambda d: abs(d - since_days))]
    move, p_after = _worth_moving(today, left)
    j = int(np.argmax(known.wanders))
    named = known.wanders[j] >= DRIFT.named_at
    return Outlook(
        days=days,
        p_sound=tuple(round(v, 4) for v in p),
        due_in_days=due,
        sd_now_mm=tuple(float(v) for v in at[days[0]].std(axis=0)),
        sd_later_mm=tuple(float(v) for v in at[days[-1]].std(axis=0)),
        check=left.places[_tells_most(at[look], sound[look])],
        move_mm=move,
        p_after_move=p_after,
        wanders=left.places[j + 1] if named else "",
        wanders_p=float(known.wanders[j]),
        wanders_mm_week=float(known.trend[j] * 7) if named else 0.0,
    )


#: Drawn for an outlook: choices of rates, and gaps by each.
_CHOICES, _DRAWS = 24, 128

#: What was seen to hold counts only where at least so much of what is believed agrees with it.
_LEAST_HELD = 0.1


def _worth_moving(gaps: Array, left: PlateSeen) -> tuple[float, float]:
    """The move of all gaps (draws, n) by which they are likeliest sound, in whole hundredths, and that chance; 0 where little is won."""
    low, high = left.low_mm - left.target_mm, left.high_mm - left.target_mm
    # In gaps themselves, so that no move scrapes.
    move = best_shift(gaps + left.target_mm, left.low_mm, left.high_mm, left.target_mm, 0.01)
    now, after = p_all_sound(gaps, low, high), p_all_sound(gaps + move, low, high)
    return (move, after) if after > now + DRIFT.worth_moving else (0.0, now)


def _normals(n: int) -> Array:
    """(draws, n) evenly spread normal numbers, the same each time."""
    return np.asarray(norm.ppf(np.clip(qmc.Sobol(n, seed=7).random(_DRAWS), 1e-6, 1 - 1e-6)))


def _crossing(days: Sequence[float], p: Sequence[float], wanted: float) -> float | None:
    if p[0] < wanted:
        return days[0]
    for k in range(1, len(days)):
        if p[k] < wanted:
            share = (p[k - 1] - wanted) / max(p[k - 1] - p[k], 1e-9)
            return float(days[k - 1] + share * (days[k] - days[k - 1]))
    return None


def _tells_most(gaps: Array, sound: NDArray[np.bool_]) -> int:
    """The place after whose reading it is surest whether all is sound: gaps (draws, n) in slices of equal number."""
    best, value = 0, -1.0
    for i in range(gaps.shape[1]):
        slices = np.array_split(sound[np.argsort(gaps[:, i])], 12)
        sure = float(np.mean([max(s.mean(), 1 - s.mean()) for s in slices]))
        if sure > value + 1e-9:
            best, value = i, sure
    return best
