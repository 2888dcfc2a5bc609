"""A grid that was measured elsewhere, as it would be kept: whichever way round it was written."""

from typing import Annotated, Literal

import numpy as np
from pydantic import Field

from ivory_table.core.defaults import LAYOUT
from ivory_table.core.grid_layout import LAYOUTS, Layout, LayoutChance, layout_chances, sure, telling
from ivory_table.core.grid_text import GridText, read_grid
from ivory_table.core.mesh import MeshGrid, MeshSurvey, believed_by_machine
from ivory_table.core.plate import Plate
from ivory_table.core.value import Array, FineMm, PlaceMm, Value
from ivory_table.core.words import first_sentence
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations.mesh.shown import Shown, show

UNITS = {"mm": 1.0, "micron": 0.001, "inch": 25.4}
#: One sd of a height somebody reads again to show which way round a grid lies, mm.
KNOWN_SD_MM = 0.02


class KnownHeight(Value):
    """A place whose height is known, against whichever zero."""

    x_mm: PlaceMm
    y_mm: PlaceMm
    height_mm: FineMm


class MeshPaste(Value):
    """A pasted or uploaded grid, before it is kept."""

    text: Annotated[str, Field(max_length=200_000)]
    owns_zero: bool
    unit: Literal["mm", "micron", "inch"] = "mm"
    #: Which way round it lies, where somebody has said it.
    layout: Layout | None = None
    #: The probe's lean is taken out of it before it is kept; the machine gets it so when it is sent.
    without_lean: bool = False
    #: Heights read again at two or three places, to find out.
    known: Annotated[tuple[KnownHeight, ...], Field(max_length=9)] = ()


class WayRound(Value):
    """One way a grid can lie, with its chance."""

    layout: Layout
    p: float
    words: str


class Pasted(Value):
    """A pasted grid as it would be kept, and which other ways round it could lie."""

    shown: Shown
    layout: Layout
    #: Whether it is to be asked which way round is meant: no way is likely enough.
    ask: bool
    ways: tuple[WayRound, ...]
    #: A few places whose heights would tell the likeliest ways apart.
    to_read: tuple[KnownHeight, ...]
    #: By how much the probe's lean falsifies it from one end to another, mm; 0 where none is known, or it was felt.
    lean_mm: float
    without_lean: bool


def preview(run: OpenRun, paste: MeshPaste) -> Pasted:
    """A pasted grid as it would be kept. Raises Refused with what is wrong in it."""
    plate = run.setup.plate
    try:
        found = _in_mm(read_grid(paste.text), paste.unit)
        ways = {layout: way for layout in _possible(found) if (way := _lying(run, found, layout, paste)) is not None}
        if not ways:
            grid = _lying(run, found, Layout(), paste, refuse=True)
            assert grid is not None
        chances = _chances(run, ways, paste.known)
        layout = paste.layout if paste.layout in ways else chances[0].layout
    except ValueError as wrong:
        raise Refused("unreadable_mesh", first_sentence(wrong), "text") from None
    survey = ways[layout]
    lean_mm = float(np.ptp(_reads_high_mm(run, survey)))
    alike = {c.layout for c in chances if np.array_equal(ways[c.layout].values, survey.values)}
    # Ways that give the same mesh need not be told apart.
    together = sum(c.p for c in chances if c.layout in alike)
    ask = paste.layout is None and not sure((LayoutChance(layout=layout, p=min(together, 1.0)),))
    if lean_mm > 0:
        survey = _without_lean(run, survey) if paste.without_lean else survey.model_copy(update={"leans": True})
    return Pasted(
        shown=show(run, survey),
        layout=layout,
        ask=ask,
        ways=tuple(
            WayRound(layout=c.layout, p=c.p, words=c.layout.words)
            for c in chances[:6]
            if c.p > 0.001 or c.layout == layout
        ),
        to_read=_telling(plate, [ways[c.layout] for c in chances if c.p > LAYOUT.still_possible]) if ask else (),
        lean_mm=lean_mm,
        without_lean=lean_mm > 0 and paste.without_lean,
    )


def _reads_high_mm(run: OpenRun, survey: MeshSurvey) -> Array:
    """(n,) mm that its points were read too high by a probe that leans; zeros where they were felt."""
    places = survey.grid.places
    return np.zeros(len(places)) if survey.owns_zero else run.state.mesh_reads_high_mm(places, felt=False)


def _without_lean(run: OpenRun, survey: MeshSurvey) -> MeshSurvey:
    """The plate's own heights."""
    heights = np.round(survey.values - _reads_high_mm(run, survey).reshape(survey.values.shape), 6)
    return survey.model_copy(update={"heights_mm": tuple(map(tuple, heights.tolist()))})


def _in_mm(found: GridText, unit: str) -> GridText:
    heights = tuple(tuple(round(v * UNITS[unit], 6) for v in row) for row in found.heights_mm)
    worst = max(abs(v) for row in heights for v in row)
    if worst > 10:
        raise ValueError(
            f"{worst:g} is not a plate's height in mm. Are these micrometres? Choose the unit, or divide them by 1000."
        )
    return found.model_copy(update={"heights_mm": heights})


def _possible(found: GridText) -> tuple[Layout, ...]:
    """The ways a grid can lie: positions beside it settle where it begins, and nothing more."""
    if found.xs_mm is None and found.ys_mm is None:
        return LAYOUTS
    return tuple(layout for layout in LAYOUTS if layout.first == "front left")


def _lying(
    run: OpenRun, found: GridText, layout: Layout, paste: MeshPaste, *, refuse: bool = False
) -> MeshSurvey | None:
    """The survey if the grid lies so; None where its points would not be on the plate."""
    plate = run.setup.plate
    heights = layout.turned(np.array(found.heights_mm))
    along, across = (found.xs_mm, found.ys_mm) if layout.along == "x" else (found.ys_mm, found.xs_mm)
    even = _even_grid(plate, *heights.shape[::-1])
    try:
        survey = MeshSurvey(
            grid=MeshGrid(xs_mm=along or even.xs_mm, ys_mm=across or even.ys_mm),
            heights_mm=tuple(map(tuple, heights.tolist())),
            owns_zero=paste.owns_zero,
            plate_id=plate.id,
            bed_c=run.state.heated.bed_c if run.state.heated else None,
        )
        for x, y in survey.grid.places:
            plate.refuse_outside(float(x), float(y))
    except ValueError:
        if refuse:
            raise
        return None
    return survey


def _chances(run: OpenRun, ways: dict[Layout, MeshSurvey], known: tuple[KnownHeight, ...]) -> tuple[LayoutChance, ...]:
    """By what the run believes of the plate, and by what was read again."""
    belief = run.state.belief
    spots = np.array([(x, y) for x, y in _even_grid(run.setup.plate, 5, 5).places])
    rows = belief.surface.rows(spots)
    mean, cov = belief.collapsed
    # The belief is of the plate itself; what is read again leans as the grid does.
    at = {layout: believed_by_machine(_without_lean(run, survey), spots) for layout, survey in ways.items()}
    chances = layout_chances(at, rows @ mean, rows @ cov @ rows.T)
    if known:
        places = np.array([(k.x_mm, k.y_mm) for k in known])
        heights = np.array([k.height_mm for k in known])
        at = {layout: believed_by_machine(survey, places) for layout, survey in ways.items()}
        chances = layout_chances(at, heights, KNOWN_SD_MM**2 * np.eye(len(known)), chances)
    return chances


def _telling(plate: Plate, ways: list[MeshSurvey]) -> tuple[KnownHeight, ...]:
    """A few places at which the ways differ most, and what the likeliest has there."""
    spots = _even_grid(plate, 3, 3).places
    heights = np.array([believed_by_machine(way, spots) for way in ways])
    return tuple(
        KnownHeight(x_mm=float(spots[k][0]), y_mm=float(spots[k][1]), height_mm=round(float(heights[0, k]), 3))
        for k in telling(heights, np.ones(len(ways)), LAYOUT.to_read)
    )


def _even_grid(plate: Plate, columns: int, rows: int) -> MeshGrid:
    """Where a grid without headings was measured: evenly over the plate, as the sheet shows it."""
    x0, y0, x1, y1 = plate.bounds
    inset = 20.0
    if plate.shape == "round":
        inset = (x1 - x0) / 2 * (1 - 2**-0.5) + 12
    xs, ys = np.linspace(x0 + inset, x1 - inset, columns), np.linspace(y0 + inset, y1 - inset, rows)
    return MeshGrid(xs_mm=tuple(float(v) for v in np.round(xs, 2)), ys_mm=tuple(float(v) for v in np.round(ys, 2)))
