"""What a number on a machine's line may be written in, and how it becomes one of ours.

A place in a template and a group in a pattern are named after what they hold, with the unit behind it where that is not
ours: `z` is millimetres, `z_inch` inches, `z_micron` thousandths of a millimetre.
"""

from string import Formatter
from typing import NamedTuple


class Unit(NamedTuple):
    """number on the line = ours * scale + zero."""

    words: str
    scale: float
    zero: float = 0.0


MM = {"": Unit("mm", 1.0), "inch": Unit("inches", 1 / 25.4), "micron": Unit("microns", 1000.0)}
SPEED = {
    "": Unit("mm a minute", 1.0),
    "mm_s": Unit("mm a second", 1 / 60),
    "inch": Unit("inches a minute", 1 / 25.4),
    "inch_s": Unit("inches a second", 1 / 25.4 / 60),
    "micron_s": Unit("microns a second", 1000 / 60),
}
HEAT = {"": Unit("°C", 1.0), "f": Unit("°F", 1.8, 32.0)}
SHARE = {"": Unit("of 255", 1.0), "100": Unit("percent", 100 / 255), "1": Unit("as a share of 1", 1 / 255)}
PERCENT = {"": Unit("percent", 1.0), "1": Unit("as a share of 1", 0.01)}
SECONDS = {"": Unit("seconds", 1.0), "ms": Unit("milliseconds", 1000.0)}
MILLISECONDS = {"": Unit("milliseconds", 1.0), "s": Unit("seconds", 0.001)}
COUNT = {"": Unit("", 1.0)}
#: Points of a mesh are counted from 0 unless it says otherwise.
INDEX = {"": Unit("counted from 0", 1.0), "1": Unit("counted from 1", 1.0, 1.0)}

#: What each field of a line may be written in.
UNITS: dict[str, dict[str, Unit]] = {
    **dict.fromkeys(("x", "y", "z", "lowest", "away", "stored", "value", "height", "heights"), MM),
    **dict.fromkeys(("x_first", "y_first", "x_last", "y_last", "x_step", "y_step"), MM),
    "feed": SPEED,
    **dict.fromkeys(("celsius", "bed", "bed_target", "tip", "tip_target"), HEAT),
    "share": SHARE,
    "percent": PERCENT,
    "seconds": SECONDS,
    "milliseconds": MILLISECONDS,
    **dict.fromkeys(("hertz", "columns", "rows", "line", "prints"), COUNT),
    **dict.fromkeys(("column", "row", "column_back", "row_back"), INDEX),
}


def split(place: str) -> tuple[str, str]:
    """The field and the unit that a place's name says; an unknown name is a field of its own."""
    if place in UNITS:
        return place, ""
    for field, units in UNITS.items():
        if place.startswith(f"{field}_") and place[len(field) + 1 :] in units:
            return field, place[len(field) + 1 :]
    return place, ""


def place_of(field: str, unit: str) -> str:
    """The name of a pattern's group for a field in a unit."""
    return f"{field}_{unit}" if unit else field


def unit_of(place: str) -> Unit:
    """The unit that a group's name tells of."""
    field, unit = split(place)
    return UNITS.get(field, COUNT)[unit]


def ours(place: str, number: float) -> float:
    """A number from the line in our unit."""
    unit = unit_of(place)
    return (number - unit.zero) / unit.scale


def theirs(place: str, value: float) -> float:
    """A value of ours as the number that the line wants."""
    unit = unit_of(place)
    # Never "-0.000": no machine means anything by it, and some refuse it.
    return value * unit.scale + unit.zero + 0.0


def places_in(template: str) -> list[str]:
    """The names in the braces of a template, in their order."""
    return [name for _, name, _, _ in Formatter().parse(template) if name is not None]


def filled(template: str, **values: float | int | str) -> str:
    """A template with its values in the units it asks for. Raises KeyError for one that is not given."""
    given: dict[str, float | int | str] = {}
    for place in places_in(template):
        field, unit = split(place)
        value = values[place] if place in values else values[field]
        if unit and isinstance(value, (int, float)):
            value = theirs(place, value)
        given[place] = value
    return template.format(**given)
