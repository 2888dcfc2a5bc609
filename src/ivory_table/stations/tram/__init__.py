"""Tram: which screw, how far, and when it is enough."""

from ..station import Station
from . import doubts, lessons, line, practice, routes, standing, state, step, view

STATION = Station(
    name="tram",
    view=lambda run, zones: view.view(run),
    shows=view.TramView,
    practice=lambda desk, run, zones: practice.practice(desk, run),
    jobs=line.JOBS,
    offers=line.offers,
    routes=routes.routes,
)

__all__ = ["STATION", "doubts", "lessons", "standing", "state", "step"]
