"""The rows about a run itself: taken at every station."""

from typing import Annotated, ClassVar, Literal

from pydantic import Field

from ivory_table.core.plate import Machine
from ivory_table.core.value import Id, Printable, StationName
from ivory_table.runs.row import EVERYWHERE, Effect, Row

STATION_TITLES: dict[StationName, str] = {
    "prepare": "Prepare",
    "tram": "Tram",
    "mesh": "Mesh",
    "offset": "Z offset",
    "first_layer": "First layer",
    "sign_off": "Sign off",
}


class CautionSeen(Row):
    kind: Literal["caution_seen"] = "caution_seen"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = EVERYWHERE
    caution: Id

    def words(self, machine: Machine) -> str:
        return "caution read"


class StationSkipped(Row):
    kind: Literal["station_skipped"] = "station_skipped"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = EVERYWHERE
    station: StationName

    def words(self, machine: Machine) -> str:
        return f"{STATION_TITLES[self.station]} skipped"


class WhereNoted(Row):
    """Where a step is found on this machine, in its owner's words; an empty line takes it away."""

    kind: Literal["where_noted"] = "where_noted"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = EVERYWHERE
    step: Id
    line: Annotated[str, Field(max_length=160), Printable]

    def words(self, machine: Machine) -> str:
        return f"where to find {self.step.replace('_', ' ')}: {self.line or 'taken away'}"


class Resumed(Row):
    """A run taken up again after a pause: what was changed meanwhile, as far as the person knows."""

    kind: Literal["resumed"] = "resumed"
    effect: ClassVar[Effect] = "moves_plate"
    stations: ClassVar = EVERYWHERE
    changes: Annotated[tuple[Id, ...], Field(max_length=12)] = ()

    def words(self, machine: Machine) -> str:
        return "taken up again" + (f", changed: {', '.join(self.changes)}" if self.changes else "")


class MachineRestarted(Row):
    """The machine was switched off or cut from power: live changes are gone, and a mesh that was not stored."""

    kind: Literal["machine_restarted"] = "machine_restarted"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = EVERYWHERE

    def words(self, machine: Machine) -> str:
        return "machine was switched off and on"


class TakenBack(Row):
    kind: Literal["taken_back"] = "taken_back"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = EVERYWHERE
    entry_id: Id

    def words(self, machine: Machine) -> str:
        return "taken back"
