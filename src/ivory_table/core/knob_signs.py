"""Which knobs may work against their declared sense: the sets of them that are believed, and how likely each is."""

import numpy as np
from numpy.typing import NDArray

from .defaults import TRAM
from .normals import normalised
from .value import Array


def spread_over_signs(count: int, reversed_share: Array, leads: Array) -> tuple[Array, Array, NDArray[np.intp]]:
    """Signs (count, m) of the knobs, ln of the prior weights, and each one's number in its set: a few for each set of reversed knobs.

    Most stand for the sets `leads` (sets, m), alike for each. Of up to four knobs every set that can be believed is held;
    of more those one knob away from a lead, so that a search walks to any: sharp readings on so many supports
    would find some odd set among all of them that explains a slack bolt.
    """
    m = leads.shape[1]
    patterns = _patterns(leads, reversed_share)
    is_lead = (patterns[:, None, :] == leads[None, :, :]).all(axis=2).any(axis=1)
    others = int((~is_lead).sum())
    few = min(count // (5 * m), int(0.3 * count) // others) if others else 0
    each, rest = divmod(count - few * others, int(is_lead.sum()))
    sizes = np.where(is_lead, each, few)
    sizes[np.flatnonzero(is_lead)[0]] += rest
    held = sizes > 0
    patterns, sizes = patterns[held], sizes[held]
    log_weight = np.repeat(log_p_signs(patterns, reversed_share) - np.log(sizes), sizes)
    which = np.concatenate([np.arange(size) for size in sizes])
    return np.repeat(patterns, sizes, axis=0), normalised(log_weight), which


#: A set of reversed knobs less likely than this before anything was told is left out, unless it is near the lead.
_SET_SEEN = 1e-6


def _patterns(leads: Array, reversed_share: Array) -> Array:
    """(sets, m) of +1 and -1: the sets of reversed knobs that hypotheses stand for, the leads among them."""
    m = leads.shape[1]
    if not m:
        return leads[:1]
    if m <= 4:
        every = np.array([[1.0 - 2 * (k >> j & 1) for j in range(m)] for k in range(2**m)])
        # Two knobs away of a proved set is as good as never.
        close = ((every[:, None, :] != leads[None, :, :]).sum(axis=2) <= 1).any(axis=1)
        return np.asarray(every[close | (log_p_signs(every, reversed_share) > np.log(_SET_SEEN))])
    one_away = (leads[:, None, :] * (1 - 2 * np.eye(m))).reshape(-1, m)
    return np.unique(np.vstack([leads, np.ones((1, m)), -np.ones((1, m)), one_away]), axis=0)


def log_p_signs(signs: Array, reversed_share: Array) -> Array:
    """(sets,) ln of how likely each set of signs (sets, m) is before anything was told; sums to one over all sets.

    Each knob is entered the wrong way by itself with `TRAM.reversed_share`; all of them together, because the
    person looks from the other side, with `TRAM.reversed_common`. A knob whose own share (m,) is another has been
    told of before: by the ratio of its odds.
    """
    if not signs.shape[1]:
        return np.zeros(len(signs))
    p, q = TRAM.reversed_share, TRAM.reversed_common
    wrong = signs < 0
    told = np.log(reversed_share / (1 - reversed_share)) - np.log(p / (1 - p))
    odds, each = np.log(p / (1 - p)), np.log1p(-p)
    # Knob by knob, so that the sum over all sets is known as well.
    alone = (each + wrong * (odds + told)).sum(axis=1)
    common = (each + ~wrong * odds + wrong * told).sum(axis=1)
    sum_alone = np.logaddexp(each, each + odds + told).sum()
    sum_common = np.logaddexp(each + odds, each + told).sum()
    total = np.logaddexp(np.log1p(-q) + sum_alone, np.log(q) + sum_common)
    return np.asarray(np.logaddexp(np.log1p(-q) + alone, np.log(q) + common) - total)
