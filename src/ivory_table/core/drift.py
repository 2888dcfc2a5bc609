"""How a plate drifts between runs, and when to look again.

What a run leaves and what the next one finds are readings of the same plate some days apart. Between them its common height,
each support and its form walk at random, with rates in mm per square root of a day that are not known: each choice of rates
is weighed by its evidence, and whether it goes by days, by prints or by removals of the sheet as well (`wear.py`). A support that wanders on its own has a rate of its own. A change or an incident is a jump.
"""

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Annotated, Literal, Self

import numpy as np
from numpy.typing import NDArray
from pydantic import Field, model_validator
from scipy.stats import norm, qmc

from .defaults import DRIFT
from .moves import best_shift, p_all_sound, resampled
from .value import Array, Value
from .wear import BY_DAYS, LN_SHARES, SHARES, Pace, Use

#: A machine's history counts back so many stretches; older ones tell of another life of it.
MOST_STRETCHES = 40


#: How one patch held: it was sound, laid too far from the plate, or too close.
Verdict = Literal["sound", "loose", "scraped"]


class PlateSeen(Value):
    """The first layer's gap at a plate's places and its covariance, mm: the centre first, then each support (or corner)."""

    places: Annotated[tuple[str, ...], Field(min_length=2, max_length=14)]
    gap_mm: tuple[float, ...]
    cov: tuple[tuple[float, ...], ...]
    #: The gap to aim at, and within which the layer is sound.
    target_mm: float
    low_mm: float
    high_mm: float

    @model_validator(mode="after")
    def _fits(self) -> Self:
        n = len(self.places)
        if len(self.gap_mm) != n or len(self.cov) != n or any(len(row) != n for row in self.cov):
            raise ValueError("Each place needs its gap and its row of the covariance.")
        return self

    @property
    def off(self) -> Array:
        """(n,) how much too large each gap is, mm."""
        return np.array(self.gap_mm) - self.target_mm

    @property
    def covariance(self) -> Array:
        return np.array(self.cov)

    @property
    def sds(self) -> Array:
        return np.sqrt(np.maximum(np.diag(self.covariance), 0.0))


@dataclass(frozen=True)
class Stretch:
    """From what one run left to what the next one found: its use, the change (n,) and its covariance, and whether it jumped."""

    use: Use
    change: Array
    cov: Array
    jumped: bool = False


@dataclass(frozen=True)
class Check:
    """A short look at one place so many days after a plate was left: what was read there, or how a patch held.

    `off_mm`: how much too large the gap is, with its sd; or the `verdict` of a patch: its gap is known by that alone.
    `moved_mm`: how much larger every gap was made right after it.
    """

    day: float
    place: int
    off_mm: float | None = None
    verdict: Verdict | None = None
    sd_mm: float = DRIFT.check_sd_mm
    moved_mm: float = 0.0

    @classmethod
    def correction(cls, day: float, away_mm: float, *, after_check: bool) -> Self:
        """Whoever corrects a height has seen it off by about so much; after a short check that check has said so already."""
        seen = None if after_check else -away_mm
        return cls(day=day, place=0, off_mm=seen, sd_mm=DRIFT.correction_sd_mm, moved_mm=away_mm)

    def likelihood(self, gaps: Array, low: float, high: float) -> Array:
        """(draws,) of gaps (draws, n) about the gap aimed at; sound is from `low` to `high`."""
        at = gaps[:, self.place]
        if self.off_mm is not None:
            return np.asarray(norm.pdf(self.off_mm, at, self.sd_mm))
        if self.verdict is None:
            return np.ones(len(gaps))
        above, below = norm.cdf((at - high) / self.sd_mm), norm.cdf((low - at) / self.sd_mm)
        return np.asarray({"loose": above, "scraped": below, "sound": 1 - above - below}[self.verdict])


def stretch(
    left: PlateSeen, found: PlateSeen, use: Use, *, jumped: bool = False, moved_mm: float = 0.0
) -> Stretch | None:
    """None where the two are not of the same places. `moved_mm`: how much larger every gap was made in between."""
    if left.places != found.places:
        return None
    return Stretch(use, found.off - moved_mm - left.off, left.covariance + found.covariance, jumped)


def _modes(places: int) -> tuple[Array, Array, Array]:
    """(n,) common, (n, m) each support with its share of the centre, (n,) the centre alone."""
    m = places - 1
    own = np.vstack([np.full(m, 1 / m), np.eye(m)])
    return np.ones(places), own, np.eye(places)[0]


@dataclass(frozen=True)
class Rates:
    """Choices of rates with their weights: common (k,), each support and the form (k,), mm per square root of a day.

    `weight` (k, m + 1): by choice, and by which support goes its own way, the first: none. It then goes by `slope` (k, m)
    mm a day, give or take `slope_sd`. `shares` (k, 3): what each choice goes by, in days of the usual `pace`.
    """

    weight: Array
    common: Array
    own: Array
    form: Array
    slope: Array
    slope_sd: Array
    shares: Array = field(default_factory=lambda: BY_DAYS)
    pace: Pace = field(default_factory=Pace)

    def worn(self, use: Use) -> Array:
        """(k,) by choice, the days of usual use that a plate has been through."""
        return np.broadcast_to(self.shares @ self.pace.usual_days(use), self.common.shape)

    @property
    def goes_by(self) -> Array:
        """(3,) how much of the drift goes by days, by prints and by removals, as believed."""
        return np.asarray(self.weight.sum(axis=1) @ np.broadcast_to(self.shares, (len(self.common), 3)))

    @property
    def wanders(self) -> Array:
        """(m,) the chance that a support goes its own way."""
        return np.asarray(self.weight[:, 1:].sum(axis=0))

    @property
    def trend(self) -> Array:
        """(m,) mm a day that it goes, if it does."""
        weight = self.weight[:, 1:]
        return np.asarray((weight * self.slope).sum(axis=0) / np.maximum(weight.sum(axis=0), 1e-12))

    def gone(self, use: Use, *, jumped: bool = False) -> "Gone":
        """How far a plate is expected to have gone by then, with all choices of rates mixed."""
        days = self.worn(use)
        of, each = self.weight.sum(axis=1) * days, self.weight[:, 1:]
        # A support that goes its own way is a mean and a variance; where it is not sure that it does, more of the latter.
        trend = (each * days[:, None] * self.slope).sum(axis=0)
        square = (each * days[:, None] ** 2 * (self.slope**2 + self.slope_sd**2)).sum(axis=0)
        m = each.shape[1]
        jump = DRIFT.jump_each_mm**2 if jumped else 0.0
        return Gone(
            common=float(of @ self.common**2) + (DRIFT.jump_common_mm**2 if jumped else 0.0),
            supports=np.full(m, float(of @ self.own**2) + jump) + square - trend**2,
            form=float(of @ self.form**2) + jump / 4,
            trend=trend,
        )

    @property
    def usual(self) -> tuple[float, float]:
        """Mean ln of the common rate and of a support's own: what a workshop's other machines are told."""
        of = self.weight.sum(axis=1)
        return float(of @ np.log(self.common)), float(of @ np.log(self.own))


@dataclass(frozen=True)
class Gone:
    """Since a plate was left: variances in mm^2 of its common height, each support (m,) and its middle; mm each support's gap grew."""

    common: float
    supports: Array
    form: float
    trend: Array


def _shape(common: Array, own: Array, form: Array, places: int) -> Array:
    """(k, n, n) covariance that comes over one day."""
    one, each, centre = _modes(places)
    return np.asarray(
        common[:, None, None] ** 2 * np.outer(one, one)
        + own[:, None, None] ** 2 * (each @ each.T)
        + form[:, None, None] ** 2 * np.outer(centre, centre)
    )


def jump_cov(places: int) -> Array:
    one, each, centre = _modes(places)
    return (
        DRIFT.jump_common_mm**2 * np.outer(one, one)
        + DRIFT.jump_each_mm**2 * each @ each.T
        + DRIFT.jump_each_mm**2 / 4 * np.outer(centre, centre)
    )


def rates(stretches: Sequence[Stretch], places: int, usual: tuple[float, float] | None = None) -> Rates:
    """The rates of one plate by its stretches; `usual`: ln of a workshop's usual rates, where others have taught them.

    A support that goes its own way by mu mm a day, mu ~ N(0, s^2), makes the evidence
    (1 + s^2 A)^(-1/2) exp(s^2 B^2 / 2 (1 + s^2 A)) times as large, A = sum days^2 h' S^-1 h, B = sum days h' S^-1 d.
    """
    m = places - 1
    stretches = list(stretches)[-MOST_STRETCHES:]
    pace = Pace.of([s.use for s in stretches])
    by, ln_by = (SHARES, LN_SHARES) if pace.known else (BY_DAYS, np.zeros(1))
    mid = usual or (float(np.log(DRIFT.common_rate)), float(np.log(DRIFT.own_rate)))
    ln_sd = DRIFT.ln_sd if usual is None else DRIFT.ln_sd_known
    steps = np.linspace(-2, 2, 7)
    which, a, b = (g.ravel() for g in np.meshgrid(np.arange(len(by)), steps, steps, indexing="ij"))
    shares = by[which]
    common, own = np.exp(mid[0] + ln_sd * a), np.exp(mid[1] + ln_sd * b)
    form = DRIFT.form_share * own
    shape = _shape(common, own, form, places)
    log_w = ln_by[which] - 0.5 * (a**2 + b**2)
    _, each, _ = _modes(places)
    on, along = np.zeros((len(a), m)), np.zeros((len(a), m))
    for s in stretches:
        days = (shares @ pace.usual_days(s.use))[:, None, None]
        cov = days * shape + s.cov + (jump_cov(places) if s.jumped else 0.0) + DRIFT.floor_mm**2 * np.eye(places)
        half = np.linalg.cholesky(cov)
        z = np.linalg.solve(half, np.broadcast_to(s.change[:, None], (len(cov), places, 1)))
        h = np.linalg.solve(half, days * each)
        log_w += -0.5 * (z[..., 0] ** 2).sum(axis=1) - np.log(np.diagonal(half, axis1=1, axis2=2)).sum(axis=1)
        on += (h**2).sum(axis=1)
        along += (h * z).sum(axis=1)
    s2 = DRIFT.slope_mm_day**2
    gain = -0.5 * np.log1p(s2 * on) + 0.5 * s2 * along**2 / (1 + s2 * on)
    joint = np.column_stack([log_w + np.log(1 - DRIFT.wanders), log_w[:, None] + gain + np.log(DRIFT.wanders / m)])
    weight = np.exp(joint - joint.max())
    slope = s2 * along / (1 + s2 * on)
    return Rates(weight / weight.sum(), common, own, form, slope, np.sqrt(s2 / (1 + s2 * on)), shares, pace)


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
    _, each, _ = _modes(len(left.places))
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
    # A few choices stand for all of them, each as often as it weighs.
    picks = resampled(known.weight.ravel(), _CHOICES)
    start = left.off + z[:, :n] @ np.linalg.cholesky(left.covariance + 1e-10 * np.eye(n)).T
    was = _is_sound(start, left)
    if held and was.mean() >= _LEAST_HELD:
        z, start = z[was], start[was]
    since = jump_cov(n) if jumped else np.zeros((n, n))
    shape = _shape(known.common, known.own, known.form, n)
    _, each, _ = _modes(n)
    if checks:
        return _checked(days, left, known, done, start, picks, since, z[:, 2 * n], checks)
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


def _checked(
    days: Sequence[float],
    left: PlateSeen,
    known: Rates,
    done: Use,
    start: Array,
    picks: Array,
    since: Array,
    by: Array,
    checks: Sequence[Check],
) -> dict[float, Array]:
    """(draws, n) gaps on each day, drawn as whole paths and weighed by what short checks on the way have shown.

    `start` (draws, n) as it was left, `by` (draws,) how far a support of its own goes in a day, in sds.
    """
    n = len(left.places)
    r = np.random.default_rng(7)
    shape = _shape(known.common, known.own, known.form, n)
    _, each, _ = _modes(n)
    whole = np.repeat(start[None], len(picks), axis=0)
    # A jump is taken to have come before the first check.
    gaps = whole + r.standard_normal(whole.shape) @ np.linalg.cholesky(since + 1e-12 * np.eye(n)).T
    halves = np.stack([np.linalg.cholesky(shape[int(p) // n] + 1e-14 * np.eye(n)).T for p in picks])
    going = np.zeros_like(gaps)
    for k, pick in enumerate(picks):
        choice, who = divmod(int(pick), n)
        if who:
            slope = known.slope[choice, who - 1] + known.slope_sd[choice, who - 1] * by
            going[k] = slope[:, None] * each[:, who - 1]
    low, high = left.low_mm - left.target_mm, left.high_mm - left.target_mm
    weight = np.ones(gaps.shape[0] * gaps.shape[1])
    at: dict[float, Array] = {}
    before = np.zeros((len(picks), 1, 1))
    for day in sorted({*days, *(c.day for c in checks)}):
        worn = known.worn(known.pace.later(done, day))[picks // n][:, None, None]
        step, before = worn - before, worn
        gaps = gaps + step**0.5 * (r.standard_normal(gaps.shape) @ halves) + step * going
        flat = gaps.reshape(-1, n)
        for c in checks:
            if c.day == day:
                weight = weight * (c.likelihood(flat, low, high) + 1e-9)
                flat = flat + c.moved_mm
        gaps = flat.reshape(gaps.shape)
        if day in days:
            at[day] = flat
    keep = resampled(weight, len(weight))
    return {day: flat[keep] for day, flat in at.items()}


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
