"""Prepare: the checks that fit this machine, plate and what changed; the heat, the hold, how the plate moves as it warms."""

from ..station import Station
from . import doubts, lessons, line, standing, state, view

STATION = Station(
    name="prepare",
    view=lambda run, zones: view.view(run),
    shows=view.PrepareView,
    jobs=line.JOBS,
    offers=line.offers,
)

__all__ = ["STATION", "doubts", "lessons", "standing", "state"]
