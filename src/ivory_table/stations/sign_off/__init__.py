"""Sign off: what was found, changed and left; the run as files."""

from ..station import Station
from . import doubts, routes, standing, state, view

STATION = Station(name="sign_off", view=lambda run, zones: view.view(run), shows=view.SignOffView, routes=routes.routes)

__all__ = ["STATION", "doubts", "standing", "state"]
