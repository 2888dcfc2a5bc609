"""What the mesh keeps in mind of a run, and what it makes of its rows."""

from collections.abc import Iterable
from dataclasses import dataclass, replace
from datetime import datetime

import numpy as np
from numpy.typing import ArrayLike

from ivory_table.core.approach import Approach
from ivory_table.core.defaults import SURVEY, TRAM
from ivory_table.core.gauge import Feel
from ivory_table.core.mesh import MeshSurvey, Sounding, drift_taken_out
from ivory_table.core.mesh_check import CheckRead
from ivory_table.runs.entry import Entry
from ivory_table.runs.mesh_in_use import mesh_differs, mesh_rise
from ivory_table.runs.record import Slice
from ivory_table.runs.state import RunState, fold
from ivory_table.stations.mesh_used import MeshUsed

from .entries import (
    MeshBase,
    MeshCheckBegun,
    MeshChecked,
    MeshDiscarded,
    MeshFelt,
    MeshKept,
    MeshPlanned,
    MeshPoint,
    MeshPointAgain,
    MeshPointTrusted,
    MeshReadBack,
    MeshSent,
    MeshStored,
    MeshTakenUp,
)

Point = tuple[int, int]


@dataclass(frozen=True)
class Earlier:
    """An earlier mesh of this plate that is looked at again, and what was read of it today."""

    survey: MeshSurvey
    measured_at: datetime
    reads: tuple[CheckRead, ...] = ()


@dataclass(frozen=True)
class Mesh(Slice):
    """The mesh in the making; the kept one belongs to the machine. Points by (column, row)."""

    plan: MeshPlanned | None = None
    soundings: tuple[Sounding, ...] = ()
    #: Doubted readings that somebody has looked at and keeps.
    trusted: frozenset[Point] = frozenset()
    #: What was felt over one point since it was gone to, from above.
    feeling: tuple[Point, tuple[tuple[float, Feel], ...]] | None = None
    earlier: Earlier | None = None
    #: After a pause the zero may be another one: the base point is read before anything else.
    base_due: bool = False

    @property
    def counting(self) -> tuple[Sounding, ...]:
        """The readings that count, in their order; the base point's have no point."""
        return tuple(s for s in self.soundings if s.counts)

    @property
    def points(self) -> dict[Point, float]:
        """The heights read so far, mm, drift taken out, several readings of a point as their mean."""
        return drift_taken_out(self.counting)[0]

    def after_pause(self) -> "Mesh":
        return replace(self, feeling=None, earlier=None, base_due=bool(self.soundings))


def _sounded(mesh: Mesh, point: Point, height_mm: float, entry: Entry, **more: object) -> Mesh:
    sounding = Sounding(entry.at.timestamp(), point, height_mm, **more)  # type: ignore[arg-type]
    return replace(mesh, soundings=(*mesh.soundings, sounding), feeling=None)


def _refuse_off_the_mesh(mesh: Mesh, point: Point) -> None:
    if mesh.plan is None or point[0] >= mesh.plan.columns or point[1] >= mesh.plan.rows:
        raise ValueError("That point is not on the mesh being read. Choose the mesh's size first.")


@fold.register
def _planned(what: MeshPlanned, run: RunState, entry: Entry) -> RunState:
    return run.put(Mesh(what))


@fold.register
def _point(what: MeshPoint, run: RunState, entry: Entry) -> RunState:
    mesh = Mesh.of(run)
    if mesh.plan is None and run.mesh is not None:
        return _point_replaced(run, run.mesh, what)
    point = (what.column, what.row)
    _refuse_off_the_mesh(mesh, point)
    if not what.again:
        others = tuple(
            replace(s, counts=False, reason=what.reason or s.reason) if s.point == point else s for s in mesh.soundings
        )
        mesh = replace(mesh, soundings=others, trusted=mesh.trusted - {point})
    return run.put(_sounded(mesh, point, what.height_mm, entry))


@fold.register
def _felt(what: MeshFelt, run: RunState, entry: Entry) -> RunState:
    mesh, point = Mesh.of(run), (what.column, what.row)
    _refuse_off_the_mesh(mesh, point)
    before = mesh.feeling[1] if mesh.feeling is not None and mesh.feeling[0] == point else ()
    answers = (*before, (what.z_mm, what.feel))
    read = read_by_feel(run, answers)
    if read is None:
        return run.put(replace(mesh, feeling=(point, answers)))
    return run.put(_sounded(mesh, point, read[0], entry, sd_mm=read[1]))


def read_by_feel(run: RunState, answers: tuple[tuple[float, Feel], ...]) -> tuple[float, float] | None:
    """What a point's answers say of where the gauge drags, mm and sd; None until the drag or both its sides were felt.

    By the answers nearly alone: what was believed before them comes in once, when the field is made.
    """
    z = answers[-1][0]
    alone = Approach.over(
        z,
        SURVEY.felt_within_mm,
        scale=run.feel,
        gauge_mm=run.drag_gap_mm,
        step_mm=run.setup.machine.z_step_mm,
        seen_above=True,
    )
    for at, feel in answers:
        alone = alone.feel(at, feel)
    if not alone.touched:
        return None
    middle, sd = alone.drag
    # Both sides far apart still leave it between them: one more answer tells.
    return (round(middle, 4), sd) if sd <= 2 * run.feel.drag_sd_mm else None


@fold.register
def _trusted(what: MeshPointTrusted, run: RunState, entry: Entry) -> RunState:
    mesh, point = Mesh.of(run), (what.column, what.row)
    if point not in mesh.points:
        raise ValueError("That point was not read yet.")
    return run.put(replace(mesh, trusted=mesh.trusted | {point}))


@fold.register
def _base(what: MeshBase, run: RunState, entry: Entry) -> RunState:
    mesh = Mesh.of(run)
    if mesh.plan is None:
        raise ValueError("No mesh is being read, so there is no base point to visit.")
    sounding = Sounding(entry.at.timestamp(), None, what.height_mm)
    return run.put(replace(mesh, soundings=(*mesh.soundings, sounding), base_due=False))


@fold.register
def _point_again(what: MeshPointAgain, run: RunState, entry: Entry) -> RunState:
    """One point of the kept mesh measured again, against a neighbour: the machine follows the new value."""
    mesh = run.mesh
    if mesh is None:
        raise ValueError("There is no kept mesh of which a point could be measured again.")
    columns, rows = len(mesh.grid.xs_mm), len(mesh.grid.ys_mm)
    if max(what.column, what.neighbour_column) >= columns or max(what.row, what.neighbour_row) >= rows:
        raise ValueError(f"The kept mesh has {columns} by {rows} points; there is no such one.")
    step = what.height_mm - what.neighbour_height_mm
    fresh = with_step(mesh, what)
    # What was read is the step between the two places: no zero is in it, of this day or that.
    here, there = run.belief.surface.rows(
        [
            (mesh.grid.xs_mm[what.column], mesh.grid.ys_mm[what.row]),
            (mesh.grid.xs_mm[what.neighbour_column], mesh.grid.ys_mm[what.neighbour_row]),
        ]
    )
    sd = float(np.hypot(run.mesh_noise(mesh), TRAM.local_sd_mm) * 2**0.5)
    return replace(
        run,
        mesh=fresh,
        belief=run.belief.read(here - there, step, sd),
        measured_again=run.measured_again | {(what.column, what.row)},
        step_shift_mm=0.0,
        step_turns=None,
        # The machine has the mesh as it was.
        mesh_sent=False,
        mesh_stored=False,
        mesh_back_mm=None,
    )


def with_step(mesh: MeshSurvey, what: MeshPointAgain) -> MeshSurvey:
    """The mesh with a point measured again: as far from its neighbour as it was found to be."""
    beside = mesh.heights_mm[what.neighbour_row][what.neighbour_column]
    return _with_height(mesh, what.column, what.row, beside + what.height_mm - what.neighbour_height_mm)


def _with_height(mesh: MeshSurvey, column: int, row: int, height_mm: float) -> MeshSurvey:
    values = [list(r) for r in mesh.heights_mm]
    values[row][column] = round(height_mm, 6)
    return mesh.model_copy(update={"heights_mm": tuple(tuple(r) for r in values)})


def _point_replaced(run: RunState, mesh: MeshSurvey, what: MeshPoint) -> RunState:
    """A bare height for a point of a kept mesh, as earlier versions kept it; nobody can enter one any more."""
    if what.column >= len(mesh.grid.xs_mm) or what.row >= len(mesh.grid.ys_mm):
        raise ValueError("The kept mesh has no such point.")
    now = run.moved()
    place = [(mesh.grid.xs_mm[what.column], mesh.grid.ys_mm[what.row])]
    now = _read_mesh(now, mesh, place, [what.height_mm], now.mesh_noise(mesh))
    return replace(now, mesh=_with_height(mesh, what.column, what.row, what.height_mm))


@fold.register
def _kept(what: MeshKept, run: RunState, entry: Entry) -> RunState:
    survey = what.survey
    _refuse_another_plate(survey, run)
    if survey.readings:
        places = np.array([(r.x_mm, r.y_mm) for r in survey.readings])
        now = run
        for place, rise, read in zip(places, mesh_rise(run, survey, places), survey.readings, strict=True):
            now = _read_mesh(now, survey, place[None], [read.height_mm + float(rise)], read.sd_mm)
    else:
        rise = mesh_rise(run, survey, survey.grid.places)
        # Its heights are the plate's, not as they were read; but for those that came from elsewhere with the lean in them.
        lean = 0.0 if survey.leans else run.mesh_reads_high_mm(survey.grid.places, felt=survey.owns_zero)
        as_read = survey.values.ravel() + rise + lean
        now = _read_mesh(run, survey, survey.grid.places, as_read, run.mesh_noise(survey))
    return now.with_mesh(survey).put(Mesh())


def _refuse_another_plate(survey: MeshSurvey, run: RunState) -> None:
    if survey.plate_id != run.setup.plate_id:
        raise ValueError("This mesh belongs to another plate than the one mounted in this run.")
    for x, y in survey.grid.places:
        run.setup.plate.refuse_outside(float(x), float(y))


@fold.register
def _used(what: MeshUsed, run: RunState, entry: Entry) -> RunState:
    if what.on and run.mesh is None:
        raise ValueError("There is no kept mesh to use yet.")
    for_tram = entry.station == "tram" and not what.on
    return replace(run, mesh_on=what.on, mesh_since_offset=True, mesh_on_told=what.on, mesh_off_for_tram=for_tram)


@fold.register
def _sent(what: MeshSent, run: RunState, entry: Entry) -> RunState:
    return replace(_with_kept(run), mesh_sent=True, mesh_back_mm=None)


@fold.register
def _stored(what: MeshStored, run: RunState, entry: Entry) -> RunState:
    return replace(_with_kept(run), mesh_stored=True)


@fold.register
def _read_back(what: MeshReadBack, run: RunState, entry: Entry) -> RunState:
    off = mesh_differs(_with_kept(run), what.heights_mm)
    return replace(run, mesh_sent=True, mesh_back_mm=float(np.abs(off).max()))


def _with_kept(run: RunState) -> RunState:
    if run.mesh is None:
        raise ValueError("There is no kept mesh yet.")
    return run


@fold.register
def _discarded(what: MeshDiscarded, run: RunState, entry: Entry) -> RunState:
    """Nothing is checked any more that is discarded; that it is not offered again is a lesson of the row's."""
    mesh = Mesh.of(run)
    if mesh.earlier is not None and mesh.earlier.measured_at == what.measured_at:
        return run.put(replace(mesh, earlier=None))
    return run


@fold.register
def _check_begun(what: MeshCheckBegun, run: RunState, entry: Entry) -> RunState:
    _refuse_another_plate(what.survey, run)
    return run.put(Mesh(earlier=Earlier(what.survey, what.measured_at)))


@fold.register
def _taken_up(what: MeshTakenUp, run: RunState, entry: Entry) -> RunState:
    """An earlier mesh used again: its zero is of its day; its form is the plate's still, nearly."""
    _refuse_another_plate(what.survey, run)
    survey = what.survey
    rows = run.belief.surface.rows(survey.grid.places)
    values = survey.values.ravel() + mesh_rise(run, survey, survey.grid.places)
    if survey.leans:
        values = values - run.mesh_reads_high_mm(survey.grid.places, felt=False)
    sd = float(np.hypot(run.mesh_noise(survey), TRAM.mesh_keeps_mm))
    belief = run.belief
    for row, value in zip(rows - rows.mean(axis=0), values - values.mean(), strict=True):
        belief = belief.read(row, float(value), sd)
    return replace(run, belief=belief).with_mesh(survey).put(Mesh())


@fold.register
def _checked(what: MeshChecked, run: RunState, entry: Entry) -> RunState:
    mesh = Mesh.of(run)
    if mesh.earlier is None:
        raise ValueError("Choose the earlier mesh that is to be checked first.")
    run.setup.plate.refuse_outside(what.x_mm, what.y_mm)
    sd = run.reading_noise(felt=mesh.earlier.survey.owns_zero)
    read = CheckRead(what.x_mm, what.y_mm, what.height_mm, sd)
    others = tuple(r for r in mesh.earlier.reads if (r.x_mm, r.y_mm) != (read.x_mm, read.y_mm))
    return run.put(replace(mesh, earlier=replace(mesh.earlier, reads=(*others, read))))


def _read_mesh(run: RunState, survey: MeshSurvey, places: ArrayLike, values: Iterable[float], noise: float) -> RunState:
    """The run after mesh heights as readings: felt by hand, where the gauge drags; probed, over an unknown zero."""
    surface = run.belief.surface
    over = "nozzle" if survey.owns_zero else "probe"
    extra = surface.unit(surface.bias if survey.owns_zero else surface.probe_zero)
    for (x, y), row, value in zip(np.asarray(places), surface.rows(places), values, strict=True):
        if survey.owns_zero:
            base = run.belief.shift_mm - run.drag_gap_at(float(x), float(y))
        else:
            base = -float(run.mesh_reads_high_mm([(x, y)], felt=False)[0])
        run = run.read_place((float(x), float(y)), over, row + extra, base + float(value), noise)
    return run
