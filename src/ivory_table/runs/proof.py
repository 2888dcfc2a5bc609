"""A printed proof, what was seen on it, and what its marks say of the gaps."""

from dataclasses import dataclass, field

import numpy as np

from ivory_table.core.bead import closes
from ivory_table.core.eye import Eye
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.proof import ProofPlan
from ivory_table.core.signs import Mark
from ivory_table.core.value import Array


@dataclass(frozen=True)
class ProofRun:
    """One printed proof and what has been seen on it."""

    plan: ProofPlan
    marks: dict[int, Mark] = field(default_factory=dict)
    cleaned: frozenset[int] = frozenset()
    #: What all zones share and was mended after it was looked at.
    mended: frozenset[str] = frozenset()
    #: Zones that nobody wants to judge.
    skipped: frozenset[int] = frozenset()
    #: The run's configuration when it was printed: it can be judged for as long as that is the run's still.
    configuration: int = 0
    #: How often the same places were printed before with nothing changed in between.
    repeats: int = 0
    #: Live nudges while it was printed: the first zone after each, and how far away.
    nudges: tuple[tuple[int, float], ...] = ()
    #: Zones that were printed; fewer than planned when it was cancelled.
    printed: int | None = None
    #: What was changed since the proof before: the nozzle's height, positive away; the knobs, in marks.
    came_by_shift_mm: float = 0.0
    came_by_turns: tuple[float, ...] | None = None
    #: The share of its zones that was foretold to look sound; None where that was not said.
    promised: float | None = None

    @property
    def zones_laid(self) -> int:
        """How many of its zones were laid."""
        return len(self.plan.zones) if self.printed is None else self.printed

    @property
    def cut_off(self) -> bool:
        """Whether it ended, and was judged, before it showed where it begins to hold: none of its steps does, or the first does already.

        A whole ladder in vain tells that it is not the height alone; one that was cut off has only not come so far.
        """
        shows_where = bool(self._closes) and min(self._closes) > 0
        return self.zones_laid < len(self.plan.zones) and self.next_zone is None and not shows_where

    @property
    def _closes(self) -> list[int]:
        """The zones that hold and whose lines close."""
        return [k for k, m in self.marks.items() if closes(m.grade)]

    @property
    def next_zone(self) -> int | None:
        """The zone to judge next; None where nothing more is asked.

        A ladder is judged until a step holds and closes: those after it were not needed. From there it goes back to the last one
        that lay loose: how the steps between look tells where it began to hold.
        """
        if self.plan.kind != "ladder" or not self._closes:
            return next((k for k in range(self.zones_laid) if k not in self.marks and k not in self.skipped), None)
        for k in range(min(self._closes) - 1, -1, -1):
            if k in self.skipped or k not in self.marks or self.marks[k].grade == "loose":
                return None
            if self.marks[k].open:
                return k
        return None

    @property
    def fallen(self) -> bool:
        """Whether a patch no further from the plate than the nozzle runs did not hold."""
        return bool(self._fallen_at)

    @property
    def _fallen_at(self) -> frozenset[tuple[float, float]]:
        places, away = self.plan.zone_places, self.plan.away_mm
        return frozenset(places[k] for k, m in self.marks.items() if away[k] <= 0 and m.fell)

    @property
    def calipered(self) -> frozenset[tuple[float, float]]:
        """The places (x, y) in mm that a caliper has measured."""
        return frozenset(self.plan.zone_places[k] for k, m in self.marks.items() if m.caliper_mm is not None)

    @property
    def zones_sound(self) -> tuple[int, int] | None:
        """How many zones were judged sound, of how many, by their patches that lie nearest to how the nozzle runs; none where a closer one fell.

        None for a ladder, whose steps are no zones.
        """
        if self.plan.kind == "ladder":
            return None
        places, apart = self.plan.zone_places, np.abs(self.plan.away_mm)
        nearest = {place: min(apart[k] for k, p in enumerate(places) if p == place) for place in places}
        sound = {places[k] for k, m in self.marks.items() if m.grade == "sound" and apart[k] <= nearest[places[k]]}
        return len(sound - self._fallen_at), len(nearest)

    @property
    def held_everywhere(self) -> bool:
        """Whether all of the plate was looked at, all of it held, and nothing else was mended since."""
        all_judged = self.plan.shows_all and len(self.marks) == len(self.plan.zones)
        return all_judged and not (self.fallen or self.cleaned or self.mended)


@dataclass(frozen=True, eq=False)
class JudgedProof:
    """A proof's zones by everything known: before its marks and after them, and what they tell of the eye."""

    #: Rows (z + 1, d) of the state, and the constant (z + 1,) between them and the gaps.
    rows: Array
    constant: Array
    #: Mean and sd (z,) of the gaps before any mark.
    before: tuple[Array, Array]
    field: FieldPosterior
    eye: Eye


@dataclass(frozen=True, eq=False)
class Wanted:
    """The zones that are to be sound: what is known of them, the marks on them that are not learnt yet, and which were judged."""

    plan: ProofPlan
    field: FieldPosterior
    marks: tuple[Mark, ...]
    judged: frozenset[int]

    @property
    def all_judged(self) -> bool:
        """Whether all of them were judged while plate and tip stood as they do."""
        return len(self.judged) == len(self.plan.zones)
