"""One look ahead: what a caliper, or the same print again, would save, by what either may show."""

from collections.abc import Mapping

import numpy as np
from scipy.special import ndtr

from .action import Action
from .bead import GRADES, Bead
from .defaults import BEAD, JUDGE, LAYER
from .field_seen import FieldPosterior
from .moves import Aims, best_shift, p_all_sound, resampled
from .normals import normal_points
from .value import Array


def caliper(
    gaps: Array,
    aims: Aims,
    fused: Mapping[int, int],
    stays: float,
    without: float,
) -> Action | None:
    """A caliper on one patch, or on every fused one, whichever leaves fewer minutes; None where no patch is fused.

    `fused`: by zone the patch of it on the newest proof. What it would show is drawn from what is believed; after each outcome it is done, or
    moved once more.
    """
    if not fused:
        return None
    noise, common = BEAD.caliper_sd_mm, LAYER.measured.caliper_common_mm
    cov = np.cov(gaps.T).reshape(len(gaps[0]), -1)
    worth = {k: float((cov[k] ** 2).sum() / (cov[k, k] + noise**2)) for k in fused}
    best_one = (max(worth, key=lambda k: worth[k]),)
    some, shown = _some(gaps)
    found: list[Action] = []
    for zones in (best_one, tuple(fused)) if len(fused) > 1 else (best_one,):
        cost = LAYER.caliper.minutes + LAYER.caliper.each_minutes * (len(zones) - 1)
        at = list(zones)
        error = normal_points(len(shown), len(at) + 1)
        seen = shown[:, at] + noise * error[:, :-1] + common * error[:, -1:]
        solve = np.linalg.inv(noise**2 * np.eye(len(at)) + common**2)
        off = seen[:, None, :] - some[None][:, :, at]
        left, chance = _left_after(some, -0.5 * ((off @ solve) * off).sum(axis=2), aims, stays)
        many = "these patches" if len(zones) > 1 else "this patch"
        found.append(
            Action(
                kind="caliper",
                p_all_sound=chance,
                minutes=cost,
                total_minutes=cost + left,
                proofs_left=1.0,
                zone=fused[zones[0]],
                measure=tuple(fused[k] for k in zones),
                reason=f"{cost:.0f} minutes with a caliper on {many}: {cost + left:.0f} minutes are expected with it, "
                f"{without:.0f} without",
            )
        )
    # All of them at once, where one by one saves hardly a minute.
    return found[-1] if found[-1].total_minutes <= found[0].total_minutes + 1.0 else found[0]


def _some(gaps: Array) -> tuple[Array, Array]:
    """Of many draws 512, and of these a few that stand for what may come out."""
    some = gaps[:: len(gaps) // 512]
    return some, some[:: len(some) // LAYER.caliper.outcomes][: LAYER.caliper.outcomes]


def again_left(
    field: FieldPosterior, bead: Bead, gaps: Array, aims: Aims, stays: float, apart_mm: float = 0.0
) -> float:
    """Minutes still expected once it was printed and graded again; each zone so much closer and so much further, where not 0."""
    some, shown = _some(gaps)
    edges = bead.bands_mm()
    bounds = np.array([edges[g][0] for g in GRADES[:-1]])[::-1]
    scatter = field.eye_scatter * bead.layer_mm
    aways = np.repeat([-apart_mm, 0.0, apart_mm] if apart_mm else [0.0], shown.shape[1])
    twice = len(aways) // shown.shape[1]
    some_laid, shown = np.tile(some, twice) + aways, np.tile(shown, twice) + aways
    seen = shown + scatter * normal_points(len(shown), shown.shape[1])
    upto = np.concatenate(
        [
            np.zeros((*some_laid.shape, 1)),
            ndtr((bounds - some_laid[:, :, None]) / scatter),
            np.ones((*some_laid.shape, 1)),
        ],
        2,
    )
    p_band = (1 - BEAD.slip) * np.diff(upto, axis=2) + BEAD.slip / len(GRADES)
    band = np.searchsorted(bounds, seen)
    told = np.log(p_band)[None, :, np.arange(some_laid.shape[1]), :]
    each = np.take_along_axis(np.broadcast_to(told, (len(shown), *p_band.shape)), band[:, None, :, None], axis=3)
    return _left_after(some, each[..., 0].sum(axis=2), aims, stays)[0]


def _left_after(some: Array, told: Array, aims: Aims, stays: float) -> tuple[float, float]:
    """Minutes still expected, and the chance that all is sound, once one of some outcomes is seen.

    `told` (outcomes, draws): ln of how likely each outcome is for each draw. After it, it is done, or moved once more.
    """
    minutes = JUDGE.minutes
    again = minutes.proof + minutes.offset
    total, chance = 0.0, 0.0
    for one in told:
        left = some[resampled(np.exp(one - one.max()), 256)]
        p = stays * p_all_sound(left, aims.low_mm, aims.high_mm)
        moved = stays * p_all_sound(left + best_shift(left, *aims), aims.low_mm, aims.high_mm)
        # After a sure move nothing more is printed.
        unseen = minutes.offset + (1 - moved) * minutes.failed if moved >= JUDGE.unseen_at else np.inf
        printed = again + (1 - moved) * again * (2 - moved) + minutes.at_last
        total += min(printed, unseen, (1 - p) * minutes.failed) / len(told)
        chance += max(p, moved) / len(told)
    return total, min(chance, 1.0)
