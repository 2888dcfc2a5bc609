"""Where tests of the belief begin."""

from ivory_table.core.belief import Belief
from ivory_table.core.prior import first_belief
from ivory_table.core.surface import Surface
from tests.conftest import setup_for

HERON = setup_for("heron")


SURFACE = Surface.of(HERON.machine, HERON.plate)


def prior(surface: Surface = SURFACE) -> Belief:
    return first_belief(surface, bias_sd_mm=0.02)
