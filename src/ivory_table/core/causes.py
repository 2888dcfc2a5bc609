"""What may lie behind a bad first layer beside the height: chances before a proof, and what each does to its zones.

At most one cause that all zones share is taken to be at work, and beside it any zone may have a greasy spot.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal, Self

import numpy as np

from .defaults import FACES, JUDGE, LAYER
from .defaults.print_tables import Holds, Look
from .value import Array, Value

CauseId = Literal[
    "zero", "coat", "cold_plate", "draught", "fan", "fast", "tip_cold", "tip_hot", "priming", "feed", "roll"
]
#: None of them: the height alone.
HEIGHT = "height"
#: The height is not what it was taken for.
ZERO = "zero"
UNSEEN = (0.0, LAYER.causes[ZERO].astray_mm ** 2)
NAMES: tuple[str, ...] = (HEIGHT, *LAYER.causes)
#: What spoils the zone that is laid first, wherever it lies.
FAIL_FIRST: tuple[str, ...] = tuple(n for n, row in LAYER.causes.items() if row.fails_first > 0)


class LookFirst(Value):
    """What to look at before anything is done against causes that a print cannot tell apart."""

    cause: CauseId
    words: str
    found: str
    not_found: str
    minutes: float


class CauseShown(Value):
    """A cause as it is shown: with its chance, and what is done against it."""

    id: str
    word: str
    p: float
    remedy: str
    minutes: float


@dataclass(frozen=True)
class Causes:
    """Chances of what all zones share, and of a greasy spot at places that were judged before."""

    #: By name; they add up to one.
    shared: Mapping[str, float]
    #: At a place (x, y) in mm, where that is another chance than anywhere.
    greasy: Mapping[tuple[float, float], float]
    #: The chances before anything was printed.
    usual: Mapping[str, float] = field(default_factory=dict)
    #: Of these, what they do to the flow is in the belief already, since a proof was learnt from.
    flow_told: frozenset[str] = frozenset()
    #: By how much all gaps are off from what is believed, mm, should the height not be what it was taken for: mean and variance.
    astray: tuple[float, float] = UNSEEN
    #: Should it be one of these, what earlier proofs said of the height was its doing.
    misled: frozenset[str] = frozenset()

    @classmethod
    def before(cls, material: str, fan_share: float, holds: Holds = "well") -> Self:
        """What is believed before anything was printed. A fan that is off blows on nothing; where the plastic holds poorly on this
        face it is likelier the face."""
        share = {name: row.share * row.more.get(material, 1.0) for name, row in LAYER.causes.items()}
        share["coat"] *= FACES.coat_more[holds]
        if fan_share <= 0:
            share["fan"] = 0.0
        share = {HEIGHT: 1 - sum(share.values()), **share}
        return cls(share, {}, share)

    @classmethod
    def none(cls) -> Self:
        """Nothing but the height is considered."""
        return cls({HEIGHT: 1.0}, {})

    @property
    def considered(self) -> bool:
        """Whether anything but the height is."""
        return len(self.shared) > 1

    def greasy_at(self, place: tuple[float, float]) -> float:
        """The chance of a greasy spot at a place (x, y) in mm."""
        usual = LAYER.fails.greasy if self.considered else 0.0
        return self.greasy.get(place, usual)

    def checked(self, done: Iterable[str]) -> Self:
        """The chances once these were looked at and found right before anything was printed: by name of the cause."""
        share = {n: p * (LAYER.checked_leaves if n in set(done) else 1.0) for n, p in self.shared.items()}
        whole = _whole(share)
        return replace(self, shared=whole, usual=whole)

    def suspected(self, name: str, *, after_proofs: bool) -> Self:
        """The chances once somebody suspects one cause that hardly anybody does; nothing is learnt where it is suspected already.

        `after_proofs`: some were judged before, which it may have misled.
        """
        least = LAYER.causes[name].suspected
        if not self.considered or self.shared.get(name, 0.0) >= least:
            return self
        shared, usual = (
            {n: p * (1 - least) for n, p in each.items() if n != name} for each in (self.shared, self.usual)
        )
        return replace(
            self,
            shared=_whole(shared | {name: least}),
            usual=_whole(usual | {name: least}),
            misled=self.misled | ({name} if after_proofs else set()),
        )

    def learnt(
        self,
        shared: Mapping[str, float],
        greasy: Mapping[tuple[float, float], float],
        astray: tuple[float, float] = UNSEEN,
    ) -> Self:
        """The chances after a proof. Its height and its flow are in the belief then: what else may be wrong with them starts anew.

        Where the height is not likely to be wrong, by how much it would be is kept all the same: it is wrong by as much on
        the next print, and what did not hold for it then does not hold again.
        """
        kept = dict(shared)
        astray = UNSEEN if kept.get(ZERO, 0.0) >= JUDGE.doubt_from else astray
        for name in (ZERO, "feed"):
            if kept.get(name, 0.0) >= JUDGE.doubt_from:
                anew = LAYER.causes[name].share * (1 - kept[name])
                kept[HEIGHT] += kept[name] - anew
                kept[name] = anew
        # Things change from one print to the next: nothing is ruled out for good.
        usual = self.usual
        kept = {n: (1 - JUDGE.anew) * p + JUDGE.anew * usual.get(n, 0.0) for n, p in kept.items()}
        off, var = astray
        at = (1 - JUDGE.anew) * off
        astray = at, (1 - JUDGE.anew) * (var + off**2) + JUDGE.anew * UNSEEN[1] - at**2
        likely = {n for n, p in shared.items() if p >= JUDGE.doubt_from}
        return replace(
            self,
            shared=_whole(kept),
            greasy={**self.greasy, **greasy},
            flow_told=self.flow_told | (likely - {"feed"}),
            astray=astray,
            # What it misled is doubted in the belief by now, and no second time.
            misled=self.misled - likely,
        )

    def looked(self, name: str, found: bool) -> Self:
        """The chances once somebody has looked for one cause; nothing is learnt where no look tells of it."""
        look = LAYER.causes[name].look
        if look is None:
            return self
        here, elsewhere = (look.finds, look.wrong) if found else (1 - look.finds, 1 - look.wrong)
        return replace(self, shared=_whole({k: p * (here if k == name else elsewhere) for k, p in self.shared.items()}))

    def mended(self, name: str, helps: float | None = None) -> Self:
        """The chances once something was done against one cause.

        Where it was that one, it had hidden all others: they are as likely then as before anything was printed.
        """
        row = LAYER.causes[name]
        mended = self.shared.get(name, 0.0) * (row.helps if helps is None else helps)
        hidden = _whole({k: self.usual.get(k, 0.0) for k in self.shared if k != name})
        share = {k: p + mended * (hidden.get(k, 0.0) - (k == name)) for k, p in self.shared.items()}
        greasy = dict(self.greasy)
        if name == "coat":
            greasy = {at: p * (1 - LAYER.fails.marked_helps) for at, p in greasy.items()}
        return replace(self, shared=_whole(share), greasy=greasy)

    def cleaned(self, place: tuple[float, float]) -> Self:
        """The chances once a place (x, y) in mm was cleaned."""
        return replace(self, greasy={**self.greasy, place: self.greasy_at(place) * (1 - LAYER.fails.marked_helps)})


@dataclass(frozen=True)
class Effects:
    """What each cause (h,) would do to the zones of a proof (z,)."""

    names: tuple[str, ...]
    prior: Array
    #: (h, z) chance that a zone does not hold because of it, a greasy spot not counted; and (z,) because of grease.
    shared_fails: Array
    greasy: Array
    #: (h,) mean and variance of what comes out, as a share, and in mm of what all gaps are off by.
    flow: Array
    flow_var: Array
    #: (h, z) what of the flow is missing in zones that a cause spares.
    spared_flow: Array
    astray: Array
    astray_var: Array

    @property
    def fails(self) -> Array:
        """(h, z) chance that a zone does not hold."""
        return np.asarray(1 - (1 - self.shared_fails) * (1 - self.greasy * LAYER.fails.greasy_fails))


def fails_of(name: str, places: Array) -> Array:
    """(z,) the chance that one cause alone keeps each zone from holding, at (z, 2) places in mm in the order of the print.

    A zone is at the rim when it lies further out than most. The height alone, or no cause, keeps none.
    """
    row = LAYER.causes.get(name)
    if row is None:
        return np.zeros(len(places))
    away = np.linalg.norm(places - places.mean(axis=0), axis=1)
    rim = away > 0.5 * max(float(away.max()), 1e-9)
    first = np.arange(len(places)) == 0
    return np.asarray(np.where(rim, row.fails_edge, row.fails) + row.fails_first * first)


def holds_at(causes: Causes, places: Array) -> Array:
    """(z,) the chance that none of the shared causes keeps each of (z, 2) places in mm from holding: at the rim it is cooler, and
    a draught comes there first. What goes with the order of a print is left out."""
    fails = [p * fails_of(n, places) for n, p in causes.shared.items() if n not in FAIL_FIRST]
    return np.asarray(1 - np.sum(fails, axis=0))


def effects(causes: Causes, places: Array, spares: Sequence[Sequence[str]] = ()) -> Effects:
    """What the causes would do at (z, 2) places in mm, in the order in which they are printed.

    `spares` by zone what is not at work there; empty where nothing is spared.
    """
    names = tuple(n for n in NAMES if causes.shared.get(n, 0.0) > 0)
    prior = np.array([causes.shared[n] for n in names])
    rows = [LAYER.causes.get(n) for n in names]
    spared = np.array([[n in there for there in spares or [()] * len(places)] for n in names])
    fails = np.where(spared, 0.0, [fails_of(n, places) for n in names])
    astray_var = {n: LAYER.causes[n].astray_mm ** 2 for n in causes.misled} | {ZERO: causes.astray[1]}
    greasy = np.array([causes.greasy_at((round(float(x), 2), round(float(y), 2))) for x, y in places])
    return Effects(
        names,
        prior / prior.sum(),
        fails,
        greasy,
        np.array([row.flow if row and n not in causes.flow_told else 0.0 for n, row in zip(names, rows, strict=True)]),
        np.array(
            [row.flow_sd**2 if row and n not in causes.flow_told else 0.0 for n, row in zip(names, rows, strict=True)]
        ),
        # Told to the belief or not: the zone is spared what the others show of it.
        spared * np.array([[row.flow if row else 0.0] for row in rows]),
        np.array([causes.astray[0] if n == ZERO else 0.0 for n in names]),
        np.array([astray_var.get(n, 0.0) for n in names]),
    )


def look_of(name: str) -> Look:
    """The look that tells of a cause. Raises ValueError where none does."""
    if (look := LAYER.causes[name].look) is None:
        raise ValueError(f"No look tells whether {LAYER.causes[name].word}.")
    return look


def look_first(shared: Mapping[str, float], done: Iterable[str]) -> LookFirst | None:
    """The look that tells most where a shared cause is likely but not sure; None where none is, or all were looked for."""
    open_ = {
        n: p * (1 - p)
        for n, p in shared.items()
        if n in LAYER.causes and LAYER.causes[n].look and n not in set(done) and JUDGE.also_at <= p <= JUDGE.look_until
    }
    name = max(open_, key=lambda n: open_[n], default=None)
    look = LAYER.causes[name].look if name else None
    if look is None:
        return None
    return LookFirst.model_validate(
        {"cause": name, **look.model_dump(include={"words", "found", "not_found", "minutes"})}
    )


def shown(shared: Mapping[str, float], at_least: float = 0.05) -> tuple[CauseShown, ...]:
    """Causes with a chance worth a word, the likeliest first; the height alone is one of them."""
    found = [
        CauseShown(
            id=name,
            word=LAYER.causes[name].word if name in LAYER.causes else "the height, and nothing else",
            p=p,
            remedy=LAYER.causes[name].remedy if name in LAYER.causes else "",
            minutes=LAYER.causes[name].minutes if name in LAYER.causes else 0.0,
        )
        for name, p in shared.items()
        if p >= at_least
    ]
    return tuple(sorted(found, key=lambda c: -c.p))


def _whole(share: dict[str, float]) -> dict[str, float]:
    total = sum(share.values())
    return {name: p / total for name, p in share.items()} if total > 0 else {HEIGHT: 1.0}
