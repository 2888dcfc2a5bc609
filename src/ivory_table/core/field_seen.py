"""The gaps in a proof's zones once it was seen: their belief, and what told of it."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from .causes import HEIGHT, UNSEEN
from .defaults import BEAD
from .value import Array

#: Columns after the zones' gaps: the flow's error (share), the eye's habit (in r), what all caliper values share (mm).
FLOW, HABIT, CALIPER = 0, 1, 2
NUISANCES = 3


class Doubt(NamedTuple):
    """What causes add to the belief: mean in mm and variance of what all gaps are off by, mean and variance of the flow."""

    off_mm: float = 0.0
    astray_var: float = 0.0
    flow: float = 0.0
    flow_var: float = 0.0


@dataclass(frozen=True)
class Site:
    """A mark turned into a Gaussian reading of row . (gaps, flow, habit, caliper)."""

    row: Array
    value: float
    sd_mm: float
    #: By eye; a measured one is exact.
    graded: bool


@dataclass(frozen=True)
class Sight:
    """What was seen of one zone: by band (7,) a weight, and a weight whatever the gap."""

    zone: int
    bands: Array
    rest: float


@dataclass(frozen=True, eq=False)
class FieldPosterior:
    """Mean and covariance of the zones' gaps in mm, then of flow, habit and caliper; and what lies behind them."""

    mean: Array
    cov: Array
    sites: tuple[Site, ...]
    sights: tuple[Sight, ...] = ()
    #: ln of how likely the marks were, up to what does not depend on the eye.
    log_evidence: float = 0.0
    #: Mean (2,) and covariance (2, 2) of the eye's habit and the caliper's before the marks.
    shared_before: tuple[Array, Array] = (np.zeros(2), np.zeros((2, 2)))
    #: The scatter of the eye it was judged by, in r.
    eye_scatter: float = BEAD.grade_sd
    #: Chances of what all zones share.
    shared: Mapping[str, float] = field(default_factory=lambda: {HEIGHT: 1.0})
    #: (z,) chance of a greasy spot.
    greasy: Array = field(default_factory=lambda: np.zeros(0))
    #: Zones that were looked at on another proof since plate and tip stand as they do.
    looked_at: frozenset[int] = frozenset()
    #: What the causes add to what was believed before.
    doubt: Doubt = field(default_factory=Doubt)
    #: By how much all gaps are off should the height not be what it was taken for: mean in mm and variance, after the marks.
    astray: tuple[float, float] = UNSEEN

    @property
    def zones(self) -> int:
        """How many zones there are."""
        return len(self.mean) - NUISANCES

    @property
    def gaps(self) -> tuple[Array, Array]:
        """Mean (z,) and sd (z,) of the gaps in mm."""
        z = self.zones
        return self.mean[:z], np.sqrt(np.maximum(np.diag(self.cov)[:z], 0))

    @property
    def flow(self) -> tuple[float, float]:
        """What comes out of the tip, as a share more than was asked for, and its sd."""
        z = self.zones
        return float(self.mean[z + FLOW]), float(np.sqrt(max(self.cov[z + FLOW, z + FLOW], 0.0)))
