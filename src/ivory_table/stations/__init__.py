"""The stations of a run, in their order. A new station is a folder and a line here."""

from ivory_table.runs import fold

from . import first_layer, mesh, offset, prepare, sign_off, tram
from .station import Station

STATIONS: tuple[Station, ...] = (
    prepare.STATION,
    tram.STATION,
    mesh.STATION,
    offset.STATION,
    first_layer.STATION,
    sign_off.STATION,
)

__all__ = ["STATIONS", "fold"]
