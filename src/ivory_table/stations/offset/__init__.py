"""Z offset: stepping down by feel, the stored value, and reading it back."""

from .. import stored
from ..station import Station
from . import doubts, lessons, line, practice, probe, routes, second, standing, state, step, view

STATION = Station(
    name="offset",
    view=lambda run, zones: view.view(run),
    shows=view.OffsetView,
    practice=lambda desk, run, zones: practice.practice(desk, run),
    jobs=line.JOBS,
    offers=line.offers,
    routes=routes.routes,
)

__all__ = ["STATION", "doubts", "lessons", "probe", "second", "standing", "state", "step", "stored"]
