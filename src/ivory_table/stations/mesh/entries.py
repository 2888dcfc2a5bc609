"""What is kept of a mesh."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import Field, model_validator

from ivory_table.core.mesh import MOST_POINTS, MeshSurvey
from ivory_table.core.plate import Machine
from ivory_table.core.value import FineMm
from ivory_table.core.words import signed
from ivory_table.runs.row import Effect, Row


class MeshPoint(Row):
    """One point of a mesh being read, by column and row from the front left."""

    kind: Literal["mesh_point"] = "mesh_point"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    column: Annotated[int, Field(ge=0, le=24)]
    row: Annotated[int, Field(ge=0, le=24)]
    height_mm: FineMm

    def words(self, machine: Machine) -> str:
        return f"mesh point {self.column + 1}, {self.row + 1}: {signed(self.height_mm, 3)} mm"


class MeshBase(Row):
    """The base point measured again while a mesh is read: its change is drift."""

    kind: Literal["mesh_base"] = "mesh_base"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    height_mm: FineMm

    def words(self, machine: Machine) -> str:
        return f"base point: {signed(self.height_mm, 3)} mm"


class MeshPlanned(Row):
    kind: Literal["mesh_planned"] = "mesh_planned"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    columns: Annotated[int, Field(ge=2, le=MOST_POINTS)]
    rows: Annotated[int, Field(ge=2, le=MOST_POINTS)]
    owns_zero: bool

    def words(self, machine: Machine) -> str:
        return f"mesh of {self.columns} x {self.rows} begun"


class MeshPointAgain(Row):
    """One point of the kept mesh measured again, beside a neighbour measured in the same go.

    The survey has a zero of its own day (gauge, offset, drift): only the difference to a neighbour means the same today.
    """

    kind: Literal["mesh_point_again"] = "mesh_point_again"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("mesh",)
    column: Annotated[int, Field(ge=0, le=24)]
    row: Annotated[int, Field(ge=0, le=24)]
    height_mm: FineMm
    neighbour_column: Annotated[int, Field(ge=0, le=24)]
    neighbour_row: Annotated[int, Field(ge=0, le=24)]
    neighbour_height_mm: FineMm

    @model_validator(mode="after")
    def _two_points(self) -> Self:
        if (self.column, self.row) == (self.neighbour_column, self.neighbour_row):
            raise ValueError("A point is measured against another one: give a neighbour.")
        return self

    def words(self, machine: Machine) -> str:
        step = signed(self.height_mm - self.neighbour_height_mm, 3)
        beside = f"{self.neighbour_column + 1}, {self.neighbour_row + 1}"
        return f"mesh point {self.column + 1}, {self.row + 1} again: {step} mm against {beside}"


class MeshKept(Row):
    kind: Literal["mesh_kept"] = "mesh_kept"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("mesh",)
    survey: MeshSurvey

    def words(self, machine: Machine) -> str:
        return f"mesh of {len(self.survey.grid.xs_mm)} x {len(self.survey.grid.ys_mm)} kept"


class MeshUsed(Row):
    """Whether the machine applies the kept mesh after homing."""

    kind: Literal["mesh_used"] = "mesh_used"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("mesh",)
    on: bool

    def words(self, machine: Machine) -> str:
        return "mesh on" if self.on else "mesh off"
