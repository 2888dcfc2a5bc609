"""A mesh: where it was measured, who owns its constant, and what the machine makes of it."""

import itertools
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Literal, Self

import numpy as np
from numpy.typing import ArrayLike
from pydantic import FailFast, Field, model_validator
from scipy.interpolate import RectBivariateSpline

from .defaults import MOTION, PROOF
from .grid_layout import Listing
from .plate import Plate, Probe
from .value import Array, FineMm, PlaceMm, Value

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
    def centre(self) -> tuple[float, float]:
        """The middle of the grid, (x, y) in mm."""
        return (self.xs_mm[0] + self.xs_mm[-1]) / 2, (self.ys_mm[0] + self.ys_mm[-1]) / 2

    @property
    def places(self) -> Array:
        """(ny * nx, 2) places, front row first."""
        xs, ys = np.meshgrid(self.xs_mm, self.ys_mm)
        return np.column_stack([xs.ravel(), ys.ravel()])


class PointRead(Value):
    """What was really read for a mesh: where, the height, and its sd in mm."""

    x_mm: PlaceMm
    y_mm: PlaceMm
    height_mm: FineMm
    sd_mm: Annotated[float, Field(gt=0, le=5)]


class MeshSurvey(Value):
    """A mesh. `heights_mm` rows front to back, plate high positive.

    Felt by hand, its zero is where the gauge dragged: it owns the constant. Probed, only
    differences count. With `readings`, the heights are what these say of the grid's points; without, they are the readings.
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
    readings: Annotated[tuple[PointRead, ...], Field(max_length=625), FailFast()] = ()
    #: As a leaning probe has read them: its lean is still in the heights, and the machine follows that too.
    leans: bool = False

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
        """(rows, columns) heights in mm."""
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
        x0, x1 = max(x0, left - edge + probe.beside.x_mm), min(x1, right + edge + probe.beside.x_mm)
        y0, y1 = max(y0, front - edge + probe.beside.y_mm), min(y1, back + edge + probe.beside.y_mm)
    return MeshGrid(
        xs_mm=tuple(float(v) for v in np.round(np.linspace(x0, x1, nx), 2)),
        ys_mm=tuple(float(v) for v in np.round(np.linspace(y0, y1, ny), 2)),
    )


class MeshLaw(Value):
    """What a machine makes of a mesh: how it fills the space between points, and how high it goes on following it."""

    between: Literal["bilinear", "bicubic", "triangles"] = "bilinear"
    #: The machine fills each side of a cell with so many steps of its own, straight in between; 1: none.
    divided: Annotated[int, Field(ge=1, le=16)] = 1
    #: The height at which nothing is left of the correction, mm; 0 where it never fades.
    fade_mm: Annotated[float, Field(ge=0, le=200)] = 0.0
    #: What the machine takes off all of the mesh before it follows it.
    zero_at: Literal["as_sent", "centre", "mean"] = "as_sent"
    #: The row that the machine lists first, and the most points it takes each way.
    first_row: Literal["front", "back"] = "front"
    #: Which way round it lists its mesh, where its manner was taught; without, rows as `first_row` says.
    listed: Listing | None = None
    most_points: Annotated[int, Field(ge=2, le=25)] = 25


BILINEAR = MeshLaw()


def believed_by_machine(survey: MeshSurvey, xy: ArrayLike, law: MeshLaw = BILINEAR) -> Array:
    """What a machine takes the height to be, mm (n,) at (n, 2) places: by its law between points, constant outside."""
    at = np.atleast_2d(np.asarray(xy, dtype=float))
    xs, ys, z = np.array(survey.grid.xs_mm), np.array(survey.grid.ys_mm), survey.values
    taken = 0.0
    if law.zero_at == "mean":
        taken = float(z.mean())
    elif law.zero_at == "centre":
        taken = float(
            believed_by_machine(survey, [survey.grid.centre], law.model_copy(update={"zero_at": "as_sent"}))[0]
        )
    if law.between == "bicubic":
        curved = RectBivariateSpline(ys, xs, z, kx=min(3, len(ys) - 1), ky=min(3, len(xs) - 1))
        if law.divided == 1:
            x, y = np.clip(at[:, 0], xs[0], xs[-1]), np.clip(at[:, 1], ys[0], ys[-1])
            return np.asarray(curved.ev(y, x) - taken)
        xs, ys = _divided(xs, law.divided), _divided(ys, law.divided)
        z = curved(ys, xs)
    return _between_points(xs, ys, z, at, triangles=law.between == "triangles") - taken


def _divided(axis: Array, parts: int) -> Array:
    return np.unique(np.concatenate([np.linspace(a, b, parts + 1) for a, b in itertools.pairwise(axis)]))


def _between_points(xs: Array, ys: Array, z: Array, at: Array, *, triangles: bool) -> Array:
    x, y = np.clip(at[:, 0], xs[0], xs[-1]), np.clip(at[:, 1], ys[0], ys[-1])
    i = np.clip(np.searchsorted(xs, x, side="right") - 1, 0, len(xs) - 2)
    j = np.clip(np.searchsorted(ys, y, side="right") - 1, 0, len(ys) - 2)
    s, t = (x - xs[i]) / (xs[i + 1] - xs[i]), (y - ys[j]) / (ys[j + 1] - ys[j])
    a, b, c, d = z[j, i], z[j, i + 1], z[j + 1, i], z[j + 1, i + 1]
    if triangles:
        # Each cell is cut from its front left to its rear right corner.
        right, left = a + s * (b - a) + t * (d - b), a + t * (c - a) + s * (d - c)
        return np.asarray(np.where(s >= t, right, left))
    front, back = a * (1 - s) + b * s, c * (1 - s) + d * s
    return np.asarray(front * (1 - t) + back * t)


def fade_for(survey: MeshSurvey, share: float) -> float:
    """The fade height in mm above which no layer is thinner or thicker than drawn by more than this share.

    While the correction fades from d to nothing over a height F, each layer there is off by d / F of its own height.
    """
    return float(np.abs(survey.values - survey.values.mean()).max() / share)


@dataclass(frozen=True)
class Sounding:
    """One reading of a mesh in the making: when (s), which point (column, row) or the base, and its height."""

    at_s: float
    point: tuple[int, int] | None
    height_mm: float
    #: Where its kind of reading has an sd of its own, mm.
    sd_mm: float | None = None
    #: False once another reading was put in its place.
    counts: bool = True
    reason: str = ""


def neighbour_of(survey: MeshSurvey, column: int, row: int) -> tuple[int, int]:
    """(column, row) of the point that another one is measured again beside: the nearest, towards the middle."""
    columns, rows = len(survey.grid.xs_mm), len(survey.grid.ys_mm)
    towards = 1 if column < (columns - 1) / 2 else -1
    if 0 <= column + towards < columns:
        return column + towards, row
    return column, row + (1 if row < (rows - 1) / 2 else -1)


def drift_taken_out(soundings: Sequence[Sounding]) -> tuple[dict[tuple[int, int], float], float]:
    """Heights by point with the base point's drift taken out linearly in time, and the closing error in mm.

    Between two visits to the base the drift is interpolated; before the first and after the last it stays. Of several
    readings of a point the mean counts. The closing error is what the base has moved from its first visit to its last.
    """
    base = [s for s in soundings if s.point is None]
    times, heights = [s.at_s for s in base], [s.height_mm for s in base]
    found: dict[tuple[int, int], list[float]] = {}
    for s in soundings:
        if s.point is not None:
            drift = float(np.interp(s.at_s, times, heights)) - heights[0] if len(base) > 1 else 0.0
            found.setdefault(s.point, []).append(s.height_mm - drift)
    return {point: float(np.mean(each)) for point, each in found.items()}, heights[-1] - heights[0] if base else 0.0
