"""Mesh: a survey by hand or by import, what it shows, and what the machine makes of it."""

from typing import Literal

import numpy as np

from ivory_table.core.mesh import MeshGrid, MeshSurvey
from ivory_table.runs.run import OpenRun
from ivory_table.stations.asked import Caution, cautions
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.mesh.shown import Shown, show
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.mesh.step import draft_of, grid_of, point_order
from ivory_table.stations.sheet import Figure, Sheet, Spot, height_field, sheet_of


class MeshView(StationView):
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Literal["choose", "read", "keep", "kept"]
    grid: MeshGrid | None
    points: tuple[Spot, ...]
    next_column: int | None
    next_row: int | None
    owns_zero: bool | None
    shown: Shown | None
    mesh_on: bool
    can_mesh: bool
    after_tram: str
    #: What is to be known of the mesh in use: taken at another temperature, or brought from an earlier run.
    mesh_words: str
    draft: MeshSurvey | None


def view(run: OpenRun) -> MeshView:
    state = run.state
    plan, survey = Mesh.of(state).plan, state.mesh
    grid = grid_of(run)
    points: list[Spot] = []
    following: tuple[int, int] | None = None
    if plan and grid:
        for row, column in point_order(plan.columns, plan.rows):
            x, y = grid.xs_mm[column], grid.ys_mm[row]
            value = Mesh.of(state).points.get((column, row))
            if value is None and following is None:
                following = (column, row)
            kind = "measured" if value is not None else "next" if following == (column, row) else "waiting"
            points.append(Spot.model_validate({"x_mm": x, "y_mm": y, "kind": kind, "value_mm": value}))
    draft = draft_of(state, grid) if plan and grid and following is None else None
    looked_at = draft or survey
    shown = show(run, looked_at) if looked_at else None
    field = height_field(
        state,
        after_mesh=survey is not None and state.mesh_on,
        level_mm=None,
        tol_mm=state.tol_mm,
        against="what the machine follows" if survey and state.mesh_on else "the common height",
    )
    residual = float(np.ptp(np.array(field.mean_mm)))
    figures = (
        Figure(name="Range", value=f"{shown.fit.range_mm:.2f}", unit="mm")
        if shown
        else Figure(name="Range", value="–"),
        Figure(name="Left to the first layer", value=f"{residual:.2f}", unit="mm"),
    )
    return MeshView(
        **so_far(run),
        sheet=sheet_of(state, field, spots=tuple(points) or (shown.spots if shown else ()), figures=figures),
        cautions=cautions(run, "mesh"),
        step="keep" if draft else "read" if plan else "kept" if survey else "choose",
        grid=grid,
        points=tuple(points),
        next_column=following[0] if following else None,
        next_row=following[1] if following else None,
        owns_zero=plan.owns_zero if plan else survey.owns_zero if survey else None,
        shown=shown,
        mesh_on=state.mesh_on,
        can_mesh=run.setup.machine.can_mesh,
        after_tram=f"{residual:.2f} mm from place to place "
        + ("with the mesh on" if state.mesh_on else "without a mesh"),
        mesh_words=state.mesh_words,
        draft=draft,
    )
