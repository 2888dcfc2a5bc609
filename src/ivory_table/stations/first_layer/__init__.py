"""First layer: the proof as a program, its zones judged, and the best next action."""

from .. import stored
from ..station import Station
from . import doing, doubts, lessons, line, practice, routes, standing, state, step, view

STATION = Station(
    name="first_layer",
    view=view.view,
    shows=view.FirstLayerView,
    practice=practice.practice,
    jobs=line.JOBS,
    offers=line.offers,
    routes=routes.routes,
)

__all__ = ["STATION", "doing", "doubts", "lessons", "standing", "state", "step", "stored"]
