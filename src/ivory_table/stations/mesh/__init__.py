"""Mesh: a survey by hand, by probe or from elsewhere, what it shows, and what the machine makes of it."""

from ..station import Station
from . import doubts, lessons, line, practice, routes, standing, state, step, view

STATION = Station(
    name="mesh",
    view=lambda run, zones: view.view(run),
    shows=view.MeshView,
    practice=lambda desk, run, zones: practice.practice(desk, run),
    jobs=line.JOBS,
    offers=line.offers,
    routes=routes.routes,
)

__all__ = ["STATION", "doubts", "lessons", "standing", "state", "step"]
