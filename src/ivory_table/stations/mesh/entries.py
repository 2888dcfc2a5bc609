"""What is kept of a mesh."""

from typing import Annotated, ClassVar, Literal, Self

from pydantic import AwareDatetime, FailFast, Field, model_validator

from ivory_table.core.gauge import Feel
from ivory_table.core.mesh import MOST_POINTS, MeshSurvey
from ivory_table.core.plate import Machine
from ivory_table.core.value import FineMm, Note, PlaceMm
from ivory_table.core.words import signed
from ivory_table.runs.row import Effect, Row

Column = Annotated[int, Field(ge=0, le=24)]


class MeshPoint(Row):
    """One point of a mesh being read, by column and row from the front left."""

    kind: Literal["mesh_point"] = "mesh_point"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    column: Column
    row: Column
    height_mm: FineMm
    #: One more reading of a point that was read already; else it is put in the earlier one's place.
    again: bool = False
    #: Why an earlier reading is replaced.
    reason: Note = ""
    sure: bool = False

    def words(self, machine: Machine) -> str:
        how = " again" if self.again else ""
        why = f" ({self.reason})" if self.reason else ""
        return f"mesh point {self.column + 1}, {self.row + 1}{how}: {signed(self.height_mm, 3)} mm{why}"


class MeshFelt(Row):
    """The gauge felt at one height over a point of the mesh being read; once it drags, the point is read."""

    kind: Literal["mesh_felt"] = "mesh_felt"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    column: Column
    row: Column
    z_mm: FineMm
    feel: Feel

    def words(self, machine: Machine) -> str:
        return f"mesh point {self.column + 1}, {self.row + 1}: {self.feel} at {signed(self.z_mm, 2)} mm"


class MeshPointTrusted(Row):
    """A reading that was doubted, and is right for all that: somebody looked and says why."""

    kind: Literal["mesh_point_trusted"] = "mesh_point_trusted"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    column: Column
    row: Column
    reason: Note = ""

    def words(self, machine: Machine) -> str:
        return f"mesh point {self.column + 1}, {self.row + 1} kept as read" + (
            f": {self.reason}" if self.reason else ""
        )


class MeshBase(Row):
    """The base point measured again while a mesh is read: its change is drift."""

    kind: Literal["mesh_base"] = "mesh_base"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    height_mm: FineMm
    sure: bool = False

    def words(self, machine: Machine) -> str:
        return f"base point: {signed(self.height_mm, 3)} mm"


class MeshPlanned(Row):
    kind: Literal["mesh_planned"] = "mesh_planned"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    columns: Annotated[int, Field(ge=2, le=MOST_POINTS)]
    rows: Annotated[int, Field(ge=2, le=MOST_POINTS)]
    owns_zero: bool
    #: How many of its points are to be read; None for as many as it takes, at most all.
    readings: Annotated[int, Field(ge=3, le=MOST_POINTS**2)] | None = None
    #: Left, front, right and back of what is measured; None for what the plate and the probe allow.
    area_mm: tuple[PlaceMm, PlaceMm, PlaceMm, PlaceMm] | None = None

    @model_validator(mode="after")
    def _area_has_room(self) -> Self:
        if self.area_mm is not None:
            left, front, right, back = self.area_mm
            if right - left < 10 or back - front < 10:
                raise ValueError("The area must be at least 10 mm wide and deep: left before right, front before back.")
        return self

    def words(self, machine: Machine) -> str:
        return f"mesh of {self.columns} x {self.rows} begun"


class MeshPointAgain(Row):
    """One point of the kept mesh measured again, beside a neighbour measured in the same go.

    The survey has a zero of its own day (gauge, offset, drift): only the difference to a neighbour means the same today.
    """

    kind: Literal["mesh_point_again"] = "mesh_point_again"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("mesh",)
    column: Column
    row: Column
    height_mm: FineMm
    neighbour_column: Column
    neighbour_row: Column
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


class MeshSent(Row):
    """The kept mesh was sent to the machine."""

    kind: Literal["mesh_sent"] = "mesh_sent"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)

    def words(self, machine: Machine) -> str:
        return "mesh sent"


class MeshStored(Row):
    """The machine was told to keep its mesh through a power cut."""

    kind: Literal["mesh_stored"] = "mesh_stored"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)

    def words(self, machine: Machine) -> str:
        return "mesh stored"


class MeshReadBack(Row):
    """The mesh as the machine itself lists it, front row first; compared with the kept one point by point."""

    kind: Literal["mesh_read_back"] = "mesh_read_back"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    heights_mm: Annotated[
        tuple[Annotated[tuple[FineMm, ...], Field(min_length=2, max_length=25), FailFast()], ...],
        Field(min_length=2, max_length=25),
        FailFast(),
    ]

    def words(self, machine: Machine) -> str:
        return f"mesh of {len(self.heights_mm[0])} x {len(self.heights_mm)} read back"


class MeshChecked(Row):
    """A place of an earlier mesh read today, to see whether it still holds."""

    kind: Literal["mesh_checked"] = "mesh_checked"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    x_mm: PlaceMm
    y_mm: PlaceMm
    height_mm: FineMm

    def words(self, machine: Machine) -> str:
        return f"earlier mesh at ({self.x_mm:g}, {self.y_mm:g}): {signed(self.height_mm, 3)} mm today"


class MeshDiscarded(Row):
    """An earlier mesh that nobody wants to be offered again."""

    kind: Literal["mesh_discarded"] = "mesh_discarded"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    measured_at: AwareDatetime

    def words(self, machine: Machine) -> str:
        return f"mesh of {self.measured_at:%d %b} discarded"


class MeshCheckBegun(Row):
    """An earlier mesh of this plate is to be checked before it is used again."""

    kind: Literal["mesh_check_begun"] = "mesh_check_begun"
    effect: ClassVar[Effect] = "none"
    stations: ClassVar = ("mesh",)
    survey: MeshSurvey
    measured_at: AwareDatetime

    def words(self, machine: Machine) -> str:
        return f"mesh of {self.measured_at:%d %b} to be checked"


class MeshTakenUp(Row):
    """An earlier mesh of this plate is used again."""

    kind: Literal["mesh_taken_up"] = "mesh_taken_up"
    effect: ClassVar[Effect] = "moves_nozzle"
    stations: ClassVar = ("mesh",)
    survey: MeshSurvey
    measured_at: AwareDatetime

    def words(self, machine: Machine) -> str:
        return f"mesh of {self.measured_at:%d %b} used again"
