"""Zones, a bead and marks that the tests of judging share."""

import numpy as np
from hypothesis import strategies as st

from ivory_table.core.bead import Bead
from ivory_table.core.causes import Causes
from ivory_table.core.eye import Eye
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.proof_field import judged_field
from ivory_table.core.signs import Mark

BEAD_042 = Bead(0.42, 0.2)
ZONES = np.array([[20.0, 20.0], [200.0, 20.0], [110.0, 110.0], [20.0, 200.0], [200.0, 200.0]])
LOW, HIGH = BEAD_042.bands_mm()["sound"]


def zones_prior(z: int = 5) -> tuple[np.ndarray, np.ndarray]:
    cov = 0.05**2 * np.ones((z, z)) + 0.02**2 * np.eye(z)
    full = np.zeros((z + 1, z + 1))
    full[:z, :z] = cov
    full[z, z] = 0.03**2
    return np.append(np.full(z, 0.2), 0.0), full


errors = st.lists(st.floats(-0.08, 0.08), min_size=5, max_size=5)


def by_causes(
    marks: tuple[Mark, ...], mean: np.ndarray, cov: np.ndarray, causes: Causes | None = None
) -> FieldPosterior:
    known = causes or Causes.before("PLA", 0.0)
    return judged_field(mean, cov, marks, BEAD_042, Eye(), known, ZONES)[0]
