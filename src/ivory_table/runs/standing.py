"""Where each station of a run stands, and what it adds to the record. Each station says it for itself."""

from collections.abc import Callable
from typing import Literal

from ivory_table.core.value import STATION_NAMES, StationName, Value
from ivory_table.runs.run import once_per_state

from .common import STATION_TITLES
from .run import OpenRun


class Standing(Value):
    """Where one station stands, and its figure in a few words."""

    begun: bool
    done: bool
    figure: str
    #: It is not done, and can do no more: something is to be mended by hand.
    gave_up: bool = False


class StationLine(Value):
    station: StationName
    name: str
    state: Literal["open", "done", "skipped", "begun"]
    figure: str


class RecordLine(Value):
    """One line of the record: what, as found, as left."""

    name: str
    before: str
    after: str


#: What each station says of itself; filled by the two decorators below.
_STANDING: dict[StationName, Callable[[OpenRun], Standing]] = {}
_RECORD: dict[StationName, Callable[[OpenRun], tuple[RecordLine, ...]]] = {}


def stands(
    station: StationName,
) -> Callable[[Callable[[OpenRun], Standing]], Callable[[OpenRun], Standing]]:
    """Say where a station stands by this function."""

    def register(say: Callable[[OpenRun], Standing]) -> Callable[[OpenRun], Standing]:
        _STANDING[station] = say
        return say

    return register


def records(
    station: StationName,
) -> Callable[[Callable[[OpenRun], tuple[RecordLine, ...]]], Callable[[OpenRun], tuple[RecordLine, ...]]]:
    """Say what a station adds to the record by this function."""

    def register(say: Callable[[OpenRun], tuple[RecordLine, ...]]) -> Callable[[OpenRun], tuple[RecordLine, ...]]:
        _RECORD[station] = say
        return say

    return register


def ended(run: OpenRun, station: StationName) -> Literal["open", "done", "gave_up"]:
    """Whether a station has anything left to do."""
    now = _STANDING[station](run)
    return "done" if now.done else "gave_up" if now.gave_up else "open"


@once_per_state
def station_lines(run: OpenRun) -> tuple[StationLine, ...]:
    """Every station in its order, done, skipped, begun or open."""

    def line(station: StationName) -> StationLine:
        now = _STANDING[station](run)
        state: Literal["open", "done", "skipped", "begun"] = "begun" if now.begun else "open"
        if now.done:
            state = "done"
        elif station in run.state.skipped:
            state = "skipped"
        return StationLine(station=station, name=STATION_TITLES[station], state=state, figure=now.figure)

    return tuple(line(station) for station in STATION_NAMES)


def record_lines(run: OpenRun) -> tuple[RecordLine, ...]:
    """What was found, changed and left, station by station."""
    return tuple(line for station in STATION_NAMES if station in _RECORD for line in _RECORD[station](run))


#: Pages of a run that are kept as they were when it was signed off, by name; filled by the decorator below.
_PAGES: dict[str, Callable[[OpenRun], Value]] = {}


def kept_when_signed(name: str) -> Callable[[Callable[[OpenRun], Value]], Callable[[OpenRun], Value]]:
    """Keep what this function makes of a run that is signed off: later versions show the same."""

    def register(make: Callable[[OpenRun], Value]) -> Callable[[OpenRun], Value]:
        _PAGES[name] = make
        return make

    return register


def signed_pages(run: OpenRun) -> dict[str, str]:
    """Every page that is kept of a signed-off run, as JSON, by name; none of a run that is not signed."""
    if not run.state.signed_off:
        return {}
    return {name: make(run).model_dump_json() for name, make in _PAGES.items()}
