"""What else than the gap keeps a first layer from holding."""

from dataclasses import dataclass

import numpy as np
from scipy.special import ndtr

from .causes import HEIGHT, ZERO
from .defaults import JUDGE, LAYER
from .field_seen import FieldPosterior
from .value import Array


@dataclass(frozen=True)
class Odds:
    """What else than the gap keeps zones from holding: by cause, and by zone."""

    shared: dict[str, float]
    greasy: Array

    @classmethod
    def of(cls, field: FieldPosterior) -> "Odds":
        """Causes that let zones fail; those of height and flow are in the gaps already."""
        rows = {n: LAYER.causes[n] for n in field.shared if n != HEIGHT}
        kept = {n: field.shared[n] for n, row in rows.items() if row.fails_edge > 0}
        # What spoils the first patch alone spoils no part, but is mended where it is likely.
        kept |= {n: p for n, row in rows.items() if row.fails_first > 0 and (p := field.shared[n]) >= JUDGE.also_at}
        seen = np.zeros(field.zones, dtype=bool)
        seen[[*(s.zone for s in field.sights), *field.looked_at]] = True
        return cls(kept, np.where(seen | (field.greasy == 1.0), field.greasy, 0.0))

    @property
    def stays(self) -> float:
        """The chance that nothing of the kind is at work where zones were seen."""
        return float((1 - sum(self.shared.values())) * np.prod(1 - self.greasy))

    @property
    def dirty(self) -> tuple[int, ...]:
        """Zones that are more likely greasy than not."""
        return tuple(int(k) for k in np.flatnonzero(self.greasy > 0.5))

    @property
    def likeliest(self) -> str | None:
        """The shared cause that is worth a remedy: the one that takes most of the trouble away."""
        name = max(self.shared, key=lambda n: self.shared[n] * LAYER.causes[n].helps, default=None)
        return name if name is not None and self.shared[name] >= JUDGE.cause_at else None

    @property
    def worth_mending(self) -> tuple[str, ...]:
        """Shared causes that are mended in one go, the likeliest first: a print costs more than a remedy."""
        return tuple(sorted((n for n, p in self.shared.items() if p >= JUDGE.also_at), key=lambda n: -self.shared[n]))

    def after(self, clean: tuple[int, ...] = (), causes: tuple[str, ...] = ()) -> "Odds":
        """The odds once zones were cleaned and shared causes mended."""
        greasy = self.greasy.copy()
        greasy[list(clean)] *= 1 - LAYER.fails.marked_helps
        shared = {n: p * (1 - LAYER.causes[n].helps) if n in causes else p for n, p in self.shared.items()}
        return Odds(shared, greasy)


def mostly_height(field: FieldPosterior) -> bool:
    """Whether the height alone, or a height that is not what it was taken for, is likelier than any other shared cause."""
    height = field.shared.get(HEIGHT, 0.0) + field.shared.get(ZERO, 0.0)
    return height >= max((p for n, p in field.shared.items() if n not in (HEIGHT, ZERO)), default=0.0)


def feed_doubt(field: FieldPosterior) -> float:
    """The chance that what is fed is wrong by more than `LAYER.feed.said_at`; 0 where nothing but the height is considered."""
    if len(field.shared) < 2:
        return 0.0
    mean, sd = field.flow
    edge = LAYER.feed.said_at
    return max(float(1 - ndtr((edge - mean) / sd) + ndtr((-edge - mean) / sd)), field.shared.get("feed", 0.0))
