"""What the mesh keeps in mind of a run, and what it makes of its rows."""

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike

from ivory_table.core.defaults import TRAM
from ivory_table.core.mesh import MeshSurvey, Sounding, drift_taken_out
from ivory_table.runs.entry import Entry
from ivory_table.runs.state import RunState, Slice, fold

from .entries import MeshBase, MeshKept, MeshPlanned, MeshPoint, MeshPointAgain, MeshUsed


@dataclass(frozen=True)
class Mesh(Slice):
    """The mesh in the making; the kept one belongs to the machine."""

    plan: MeshPlanned | None = None
    soundings: tuple[Sounding, ...] = ()

    @property
    def points(self) -> dict[tuple[int, int], float]:
        """The heights read so far, mm, by (column, row), drift taken out."""
        return drift_taken_out(self.soundings)[0]


@fold.register
def _planned(what: MeshPlanned, run: RunState, entry: Entry) -> RunState:
    return run.put(Mesh(what))


@fold.register
def _point(what: MeshPoint, run: RunState, entry: Entry) -> RunState:
    mesh = Mesh.of(run)
    if mesh.plan is None and run.mesh is not None:
        return _point_replaced(run, run.mesh, what)
    if mesh.plan is None or what.column >= mesh.plan.columns or what.row >= mesh.plan.rows:
        raise ValueError("That point is not on the mesh being read. Choose the mesh's size first.")
    point = (what.column, what.row)
    others = tuple(s for s in mesh.soundings if s.point != point)
    sounding = Sounding(entry.at.timestamp(), point, what.height_mm)
    return run.put(replace(mesh, soundings=(*others, sounding)))


@fold.register
def _base(what: MeshBase, run: RunState, entry: Entry) -> RunState:
    mesh = Mesh.of(run)
    if mesh.plan is None:
        raise ValueError("No mesh is being read, so there is no base point to visit.")
    sounding = Sounding(entry.at.timestamp(), None, what.height_mm)
    return run.put(replace(mesh, soundings=(*mesh.soundings, sounding)))


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
    now = _read_mesh(now, mesh, place, [what.height_mm])
    return replace(now, mesh=_with_height(mesh, what.column, what.row, what.height_mm))


@fold.register
def _kept(what: MeshKept, run: RunState, entry: Entry) -> RunState:
    survey = what.survey
    if survey.plate_id != run.setup.plate_id:
        raise ValueError("This mesh belongs to another plate than the one mounted in this run.")
    for x, y in survey.grid.places:
        run.setup.plate.refuse_outside(float(x), float(y))
    return _read_mesh(run, survey, survey.grid.places, survey.values.ravel()).put(
        Mesh(),
        mesh=survey,
        mesh_on=True,
        measured_again=frozenset(),
        mesh_since_offset=True,
    )


@fold.register
def _used(what: MeshUsed, run: RunState, entry: Entry) -> RunState:
    if what.on and run.mesh is None:
        raise ValueError("There is no kept mesh to use yet.")
    return replace(run, mesh_on=what.on, mesh_since_offset=True)


def _read_mesh(run: RunState, survey: MeshSurvey, places: ArrayLike, values: Iterable[float]) -> RunState:
    """The run after mesh heights as readings: felt by hand, where the gauge drags; probed, over an unknown zero."""
    belief = run.belief
    surface = belief.surface
    over = "nozzle" if survey.owns_zero else "probe"
    extra = surface.unit(surface.bias if survey.owns_zero else surface.probe_zero)
    base = belief.shift_mm - run.drag_gap_mm if survey.owns_zero else 0.0
    noise = run.mesh_noise(survey)
    rows = surface.rows(places)
    rise = run.mesh_rise(survey) if len(rows) == survey.values.size else np.zeros(len(rows))
    for (x, y), row, value, warm in zip(np.asarray(places), rows, values, rise, strict=True):
        run = run.read_place((float(x), float(y)), over, row + extra, base + float(value) + float(warm), noise)
    return run
