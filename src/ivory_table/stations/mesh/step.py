"""Where the mesh stands: which point is next, and the survey once all are read."""

from ivory_table.core.mesh import MeshGrid, MeshSurvey, grid_on
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.stations.mesh.state import Mesh


def grid_of(run: OpenRun) -> MeshGrid | None:
    """Where the mesh at hand is measured: the planned one, else the kept one; a probe where it reaches."""
    plan, survey, setup = Mesh.of(run.state).plan, run.state.mesh, run.setup
    if plan is None:
        return survey.grid if survey else None
    return grid_on(setup.plate, plan.columns, plan.rows, probe=None if plan.owns_zero else setup.machine.probe)


def point_order(columns: int, rows: int) -> list[tuple[int, int]]:
    """(row, column) to and fro, so that no move crosses the plate."""
    return [(r, c if r % 2 == 0 else columns - 1 - c) for r in range(rows) for c in range(columns)]


def draft_of(state: RunState, grid: MeshGrid) -> MeshSurvey:
    mesh = Mesh.of(state)
    assert mesh.plan is not None
    return MeshSurvey(
        grid=grid,
        heights_mm=tuple(tuple(mesh.points[(c, r)] for c in range(len(grid.xs_mm))) for r in range(len(grid.ys_mm))),
        owns_zero=mesh.plan.owns_zero,
        plate_id=state.setup.plate_id,
        bed_c=state.heated.bed_c if state.heated else None,
    )
