"""Mesh: a survey by hand or by import, what it shows, and what the machine makes of it."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ivory_table.core.entries import MeshKept, MeshPoint
from ivory_table.core.form import PlaneFit, fit, form_words
from ivory_table.core.mesh import MeshGrid, MeshSurvey, RowOrder, grid_on, read_grid
from ivory_table.core.run import RunState
from ivory_table.core.value import Value

from .desk import Desk, OpenRun, Refused
from .head import Caution, RunHead, cautions, head_of
from .sheet import Figure, Sheet, Spot, height_field, sheet_of, signed


class MeshPaste(Value):
    """A pasted or uploaded grid, before it is kept."""

    text: Annotated[str, Field(max_length=200_000)]
    rows: RowOrder
    owns_zero: bool


class Shown(Value):
    """What a mesh shows: plane, forms, range, in words and numbers."""

    survey: MeshSurvey
    fit: PlaneFit
    words: str
    spots: tuple[Spot, ...]


class MeshView(Value):
    head: RunHead
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
    plan, survey = state.mesh_plan, state.mesh
    grid = grid_of(run)
    points: list[Spot] = []
    following: tuple[int, int] | None = None
    if plan and grid:
        for row, column in walk(plan.columns, plan.rows):
            x, y = grid.xs_mm[column], grid.ys_mm[row]
            value = state.mesh_points.get((column, row))
            if value is None and following is None:
                following = (column, row)
            kind = "measured" if value is not None else "next" if following == (column, row) else "waiting"
            points.append(Spot.model_validate({"x_mm": x, "y_mm": y, "kind": kind, "value_mm": value}))
    draft = _draft(state, grid) if plan and grid and following is None else None
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
        head=head_of(run),
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


def grid_of(run: OpenRun) -> MeshGrid | None:
    """Where the mesh at hand is measured: the planned one, else the kept one; a probe where it reaches."""
    plan, survey, setup = run.state.mesh_plan, run.state.mesh, run.setup
    if plan is None:
        return survey.grid if survey else None
    return grid_on(setup.plate, plan.columns, plan.rows, probe=None if plan.owns_zero else setup.machine.probe)


def walk(columns: int, rows: int) -> list[tuple[int, int]]:
    """(row, column) to and fro, so that no move crosses the plate."""
    return [(r, c if r % 2 == 0 else columns - 1 - c) for r in range(rows) for c in range(columns)]


def _draft(state: RunState, grid: MeshGrid) -> MeshSurvey:
    assert state.mesh_plan is not None
    return MeshSurvey(
        grid=grid,
        heights_mm=tuple(
            tuple(state.mesh_points[(c, r)] for c in range(len(grid.xs_mm))) for r in range(len(grid.ys_mm))
        ),
        owns_zero=state.mesh_plan.owns_zero,
        plate_id=state.setup.plate_id,
        bed_c=state.heated.bed_c if state.heated else None,
    )


def show(run: OpenRun, survey: MeshSurvey) -> Shown:
    """Plane, form and range of a survey, for looking at before it is kept."""
    places, values = survey.grid.places, survey.values.ravel()
    found = fit(places, values, run.setup.plate.bounds)
    named = [f for f in found.forms if abs(f.amount_mm) > max(2 * f.sd_mm, 0.01)]
    form = ", ".join(f"{form_words(f.form, f.amount_mm)} {abs(f.amount_mm):.2f} mm" for f in named)
    words = (
        f"plane {signed(found.tilt_x_mm)} mm left to right, {signed(found.tilt_y_mm)} mm front to back; "
        f"{form or 'no form beyond its noise'}; range {found.range_mm:.2f} mm"
    )
    return Shown(
        survey=survey,
        fit=found,
        words=words,
        spots=tuple(
            Spot(x_mm=float(x), y_mm=float(y), kind="measured", value_mm=float(v))
            for (x, y), v in zip(places, values, strict=True)
        ),
    )


def preview(run: OpenRun, paste: MeshPaste) -> Shown:
    """A pasted grid as it would be kept. Raises Refused with what is wrong in it."""
    plate = run.setup.plate
    try:
        found = read_grid(paste.text, paste.rows)
        rows, columns = len(found.heights_mm), len(found.heights_mm[0])
        even = _even_grid(run, columns, rows)
        survey = MeshSurvey(
            grid=MeshGrid(xs_mm=found.xs_mm or even.xs_mm, ys_mm=found.ys_mm or even.ys_mm),
            heights_mm=found.heights_mm,
            owns_zero=paste.owns_zero,
            plate_id=plate.id,
            bed_c=run.state.heated.bed_c if run.state.heated else None,
        )
        for x, y in survey.grid.places:
            plate.refuse_outside(float(x), float(y))
    except ValueError as wrong:
        raise Refused("unreadable_mesh", first_sentence(wrong), "text") from None
    return show(run, survey)


def _even_grid(run: OpenRun, columns: int, rows: int) -> MeshGrid:
    """Where a grid without headings was measured: evenly over the plate, as the sheet shows it."""
    x0, y0, x1, y1 = run.setup.plate.bounds
    inset = 20.0
    if run.setup.plate.shape == "round":
        inset = (x1 - x0) / 2 * (1 - 2**-0.5) + 12
    xs, ys = np.linspace(x0 + inset, x1 - inset, columns), np.linspace(y0 + inset, y1 - inset, rows)
    return MeshGrid(xs_mm=tuple(float(v) for v in np.round(xs, 2)), ys_mm=tuple(float(v) for v in np.round(ys, 2)))


def first_sentence(wrong: ValueError) -> str:
    """The sentence of a ValueError, also when Pydantic wraps it."""
    errors = getattr(wrong, "errors", None)
    return str(errors()[0]["msg"]).removeprefix("Value error, ") if callable(errors) else str(wrong)


def practice(desk: Desk, run: OpenRun) -> MeshPoint | MeshKept:
    """The practice plate's answer to the step at hand."""
    now = view(run)
    if now.step == "read" and now.grid and now.next_column is not None and now.next_row is not None:
        x, y = now.grid.xs_mm[now.next_column], now.grid.ys_mm[now.next_row]
        hands = desk.hands(run)
        height = hands.felt_height(x, y) if now.owns_zero else hands.read_height(x, y)
        return MeshPoint(column=now.next_column, row=now.next_row, height_mm=height)
    if now.step == "keep" and now.draft:
        desk.hands(run).use_mesh(now.draft)
        return MeshKept(survey=now.draft)
    raise Refused("nothing_to_read", "Choose how many points to measure first.")
