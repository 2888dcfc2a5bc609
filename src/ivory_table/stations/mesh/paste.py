"""A grid that was measured elsewhere, as it would be kept."""

from typing import Annotated

import numpy as np
from pydantic import Field

from ivory_table.core.mesh import MeshGrid, MeshSurvey, RowOrder, read_grid
from ivory_table.core.value import Value
from ivory_table.core.words import first_sentence
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh.shown import Shown, show


class MeshPaste(Value):
    """A pasted or uploaded grid, before it is kept."""

    text: Annotated[str, Field(max_length=200_000)]
    rows: RowOrder
    owns_zero: bool


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
