"""Whether the machine follows its mesh: switched at Mesh, and off before knobs are turned at Tram."""

from typing import ClassVar, Literal

from ivory_table.core.plate import Machine
from ivory_table.runs.row import Effect, Row


class MeshUsed(Row):
    """Whether the machine applies the kept mesh after homing."""

    kind: Literal["mesh_used"] = "mesh_used"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("mesh", "tram")
    on: bool

    def words(self, machine: Machine) -> str:
        return "mesh on" if self.on else "mesh off"
