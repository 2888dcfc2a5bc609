"""A mesh: where it was measured, who owns its constant, and what the machine makes of it."""

import csv
import io
import itertools
import re
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal, Self

import numpy as np
from numpy.typing import ArrayLike
from pydantic import FailFast, Field, model_validator

from .defaults import MOTION, PROOF
from .plate import Plate, Probe
from .value import Array, FineMm, PlaceMm, Value

RowOrder = Literal["front_first", "back_first"]
MAX_PASTE = 200_000
#: A row of 25 heights with all their digits has a few hundred characters, a height a dozen.
MAX_LINE = 4000
MAX_CELL = 40
#: The most points each way of a mesh read one by one.
MOST_POINTS = 15


class MeshGrid(Value):
    """Where a mesh is measured: columns left to right, rows front to back."""

    xs_mm: Annotated[tuple[PlaceMm, ...], Field(min_length=2, max_length=25)]
    ys_mm: Annotated[tuple[PlaceMm, ...], Field(min_length=2, max_length=25)]

    @model_validator(mode="after")
    def _grows(self) -> Self:
        for name, axis in (("x", self.xs_mm), ("y", self.ys_mm)):
            if any(b - a < 1 for a, b in itertools.pairwise(axis)):
                raise ValueError(f"The {name} positions of a mesh must grow by at least 1 mm from one to the next.")
        return self

    @property
    def places(self) -> Array:
        """(ny * nx, 2) places, front row first."""
        xs, ys = np.meshgrid(self.xs_mm, self.ys_mm)
        return np.column_stack([xs.ravel(), ys.ravel()])


class MeshSurvey(Value):
    """A measured mesh. `heights_mm` rows front to back, plate high positive.

    Felt by hand, its zero is where the gauge dragged: it owns the constant. Probed, only
    differences count.
    """

    grid: MeshGrid
    heights_mm: Annotated[
        tuple[Annotated[tuple[FineMm, ...], Field(max_length=25), FailFast()], ...],
        Field(min_length=2, max_length=25),
        FailFast(),
    ]
    owns_zero: bool
    plate_id: str
    bed_c: Annotated[float, Field(ge=0, le=150)] | None = None

    @model_validator(mode="after")
    def _fits_grid(self) -> Self:
        if len(self.heights_mm) != len(self.grid.ys_mm):
            raise ValueError(f"{len(self.heights_mm)} rows of heights for {len(self.grid.ys_mm)} rows of places.")
        for i, row in enumerate(self.heights_mm):
            if len(row) != len(self.grid.xs_mm):
                raise ValueError(f"Row {i + 1} has {len(row)} numbers, the grid has {len(self.grid.xs_mm)} columns.")
        return self

    @property
    def values(self) -> Array:
        return np.array(self.heights_mm)


def grid_on(
    plate: Plate, nx: int, ny: int, margin_mm: float = PROOF.margin_mm + 8, probe: Probe | None = None
) -> MeshGrid:
    """An even grid inside the plate; on a round one, inside its inscribed square.

    With a `probe`, only where it reaches while the tip stays over the plate's edge or inside it.
    """
    if not (2 <= nx <= MOST_POINTS and 2 <= ny <= MOST_POINTS):
        raise ValueError(f"A mesh has 2 to {MOST_POINTS} points each way.")
    x0, y0, x1, y1 = plate.bounds
    if plate.shape == "round":
        half = (plate.width_mm / 2 - margin_mm) / 2**0.5
        x0, y0, x1, y1 = -half, -half, half, half
        margin_mm = 0.0
    x0, y0, x1, y1 = x0 + margin_mm, y0 + margin_mm, x1 - margin_mm, y1 - margin_mm
    if probe is not None:
        edge = MOTION.over_edge_mm
        left, front, right, back = plate.bounds
        x0, x1 = max(x0, left - edge + probe.x_offset_mm), min(x1, right + edge + probe.x_offset_mm)
        y0, y1 = max(y0, front - edge + probe.y_offset_mm), min(y1, back + edge + probe.y_offset_mm)
    return MeshGrid(
        xs_mm=tuple(float(v) for v in np.round(np.linspace(x0, x1, nx), 2)),
        ys_mm=tuple(float(v) for v in np.round(np.linspace(y0, y1, ny), 2)),
    )


def believed_by_machine(survey: MeshSurvey, xy: ArrayLike) -> Array:
    """What a machine takes the height to be: bilinear between mesh points, constant outside."""
    at = np.atleast_2d(np.asarray(xy, dtype=float))
    xs, ys, z = np.array(survey.grid.xs_mm), np.array(survey.grid.ys_mm), survey.values
    x, y = np.clip(at[:, 0], xs[0], xs[-1]), np.clip(at[:, 1], ys[0], ys[-1])
    i = np.clip(np.searchsorted(xs, x, side="right") - 1, 0, len(xs) - 2)
    j = np.clip(np.searchsorted(ys, y, side="right") - 1, 0, len(ys) - 2)
    s, t = (x - xs[i]) / (xs[i + 1] - xs[i]), (y - ys[j]) / (ys[j + 1] - ys[j])
    front = z[j, i] * (1 - s) + z[j, i + 1] * s
    back = z[j + 1, i] * (1 - s) + z[j + 1, i + 1] * s
    return np.asarray(front * (1 - t) + back * t)


@dataclass(frozen=True)
class Sounding:
    """One reading of a mesh in the making: when (s), which point (column, row) or the base, and its height."""

    at_s: float
    point: tuple[int, int] | None
    height_mm: float


def neighbour_of(survey: MeshSurvey, column: int, row: int) -> tuple[int, int]:
    """(column, row) of the point that another one is measured again beside: the nearest, towards the middle."""
    columns, rows = len(survey.grid.xs_mm), len(survey.grid.ys_mm)
    towards = 1 if column < (columns - 1) / 2 else -1
    if 0 <= column + towards < columns:
        return column + towards, row
    return column, row + (1 if row < (rows - 1) / 2 else -1)


def drift_taken_out(soundings: Sequence[Sounding]) -> tuple[dict[tuple[int, int], float], float]:
    """Heights by point with the base point's drift taken out linearly in time, and the closing error in mm.

    Between two visits to the base the drift is interpolated; before the first and after the last it stays.
    The closing error is what the base has moved from its first visit to its last.
    """
    base = [s for s in soundings if s.point is None]
    if len(base) < 2:
        return {s.point: s.height_mm for s in soundings if s.point is not None}, 0.0
    times, heights = [s.at_s for s in base], [s.height_mm for s in base]
    out = {}
    for s in soundings:
        if s.point is not None:
            out[s.point] = s.height_mm - float(np.interp(s.at_s, times, heights)) + heights[0]
    return out, heights[-1] - heights[0]


class PastedGrid(Value):
    """A grid of numbers read from text, rows front to back, with headings when it had them."""

    heights_mm: tuple[tuple[float, ...], ...]
    xs_mm: tuple[float, ...] | None = None
    ys_mm: tuple[float, ...] | None = None


def read_grid(text: str, rows: RowOrder) -> PastedGrid:
    """Numbers from pasted text: commas, semicolons, tabs or spaces, headings or not.

    Raises ValueError with the line and column of what it cannot read.
    """
    if len(text) > MAX_PASTE:
        raise ValueError(f"That is {len(text):,} characters; a mesh has a few hundred. Paste the grid alone.")
    lines = [(n, line) for n, line in enumerate(text.splitlines(), 1) if line.strip()]
    if not lines:
        raise ValueError("There are no numbers here. Paste one row of the mesh per line.")
    cells = [(n, _cells(line, n)) for n, line in lines]
    x_head = _x_headings(cells)
    body = cells[1:] if x_head is not None else cells
    y_head: list[float] | None = None
    if body and x_head is not None and all(len(row) == len(x_head) + 1 for _, row in body):
        y_head = [_number(row[0], n, 1) for n, row in body]
        body = [(n, row[1:]) for n, row in body]
    width = len(body[0][1]) if body else 0
    heights: list[list[float]] = []
    for n, row in body:
        if len(row) != width:
            raise ValueError(
                f"Line {n} has {len(row)} numbers where the first row has {width}. Every row needs the same."
            )
        heights.append([_number(cell, n, c + 1) for c, cell in enumerate(row)])
    if len(heights) < 2 or width < 2:
        raise ValueError("A mesh needs at least two rows and two columns of numbers.")
    if len(heights) > 25 or width > 25:
        raise ValueError(f"{len(heights)} rows by {width} columns is more than 25 each way.")
    worst = max(abs(v) for row in heights for v in row)
    if worst > 10:
        raise ValueError(f"{worst:g} is not a plate's height in mm. Are these micrometres? Divide them by 1000.")
    if y_head is not None:
        # Positions beside the rows say more than an order asked for.
        order = sorted(range(len(y_head)), key=y_head.__getitem__)
        heights, y_head = [heights[i] for i in order], [y_head[i] for i in order]
    elif rows == "back_first":
        heights.reverse()
    return PastedGrid(
        heights_mm=tuple(tuple(row) for row in heights),
        xs_mm=tuple(x_head) if x_head else None,
        ys_mm=tuple(y_head) if y_head else None,
    )


def _cells(line: str, number: int) -> list[str]:
    line = line.strip("\ufeff").replace("−", "-").strip("\r\n")
    if len(line) > MAX_LINE:
        raise ValueError(f"Line {number} has {len(line):,} characters; a row of a mesh has a few hundred.")
    mark = next((mark for mark in ("\t", ";", ",") if mark in line), None)
    cells = [c.strip() for c in next(csv.reader(io.StringIO(line), delimiter=mark))] if mark else line.split()
    for column, cell in enumerate(cells, 1):
        if len(cell) > MAX_CELL:
            raise ValueError(
                f"Line {number}, number {column} begins with '{cell[:20]}' and is too long for a number of mm."
            )
    return cells


def _x_headings(cells: list[tuple[int, list[str]]]) -> list[float] | None:
    """The first row as x positions: numbers that grow, far larger than any height, or a corner left empty."""
    n, first = cells[0]
    if len(cells) < 2:
        return None
    wider = len(cells[1][1]) == len(first) + 1
    body = first if wider or _is_number(first[0]) else first[1:]
    if not body or not all(_is_number(c) for c in body):
        if all(not _is_number(c) for c in first):
            raise ValueError(f"Line {n} holds words, not positions in mm. Leave the line out, or give positions.")
        return None
    values = [float(c) for c in body]
    grows = all(b - a >= 1 for a, b in itertools.pairwise(values))
    if max(map(abs, values)) > 2000:
        return None  # no place on any plate
    return values if grows and (wider or len(body) < len(first) or max(values) > 10) else None


def _is_number(cell: str) -> bool:
    return re.fullmatch(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?", cell) is not None


def _number(cell: str, line: int, column: int) -> float:
    if not cell:
        raise ValueError(f"Line {line}, number {column} is missing. A mesh cannot have a hole: measure that point.")
    if not _is_number(cell):
        raise ValueError(f"Line {line}, number {column} is '{cell[:20]}', which is not a number of mm.")
    value = float(cell)
    if not abs(value) < 1e6:
        raise ValueError(f"Line {line}, number {column} is {cell[:20]}, which is no height in mm.")
    return value
