"""What is drawn on the sheet, as numbers: the field, the knobs, the points. Heights: plate high positive."""

from functools import lru_cache
from typing import Literal, Self

import numpy as np
from scipy.special import ndtr

from ivory_table.core.field import SurfaceField
from ivory_table.core.plate import KeepOut, Screw
from ivory_table.core.proof import zones_on
from ivory_table.core.surface import Surface
from ivory_table.core.value import Array, Value
from ivory_table.runs.state import RunState

POINTS = 19


#: A place is surely high or low from this chance on; where no class is likelier than the other, nobody can tell.
SURELY_AT = 0.9
TOLD_AT = 0.55
Grid = tuple[tuple[float, ...], ...]
FieldClass = Literal["surely high", "probably high", "within", "probably low", "surely low", "cannot tell"]


class HeightField(Value):
    """Heights in mm on a grid, rows front to back, with one sd each, and the chances of being too high or too low.

    Every place has one class: see `class_of`.
    """

    xs_mm: tuple[float, ...]
    ys_mm: tuple[float, ...]
    mean_mm: Grid
    sd_mm: Grid
    p_high: Grid
    p_low: Grid
    tol_mm: float
    against: str
    surely_at: float = SURELY_AT
    told_at: float = TOLD_AT
    #: Which parts of the plate are of which class, for whoever does not see the drawing.
    said: str


def class_of(p_high: float, p_low: float) -> FieldClass:
    """What is believed of a place: the likeliest of high, within and low, where one is likely enough."""
    within = 1 - p_high - p_low
    most = max(p_high, p_low, within)
    if most < TOLD_AT:
        return "cannot tell"
    if most == within:
        return "within"
    sure = "surely" if most >= SURELY_AT else "probably"
    return f"{sure} high" if most == p_high else f"{sure} low"  # type: ignore[return-value]


class KnobMark(Value):
    """A screw on the sheet: its height against the others, and the turn to make there, if any."""

    name: str
    x_mm: float
    y_mm: float
    height_mm: float
    sd_mm: float
    visited: bool
    marks: float | None = None
    per_turn: int
    #: Whether the turn ends at the drag, and `marks` is only what is expected.
    about: bool = False
    next: bool = False
    #: What the turn at hand does to the plate at this screw, mm up; None when nothing is turned.
    moves_mm: float | None = None


class Spot(Value):
    """A place on the plate: measured, to be measured next, still to come, doubted, or believed from its neighbours."""

    x_mm: float
    y_mm: float
    kind: Literal["measured", "next", "waiting", "doubtful", "believed"]
    value_mm: float | None = None
    label: str = ""


class Figure(Value):
    """A number of the title block."""

    name: str
    value: str
    unit: str = ""
    plus_minus: str = ""


class Sheet(Value):
    shape: Literal["rectangle", "round"]
    bounds_mm: tuple[float, float, float, float]
    keep_outs: tuple[KeepOut, ...]
    field: HeightField | None
    knobs: tuple[KnobMark, ...] = ()
    spots: tuple[Spot, ...] = ()
    figures: tuple[Figure, ...] = ()


@lru_cache(maxsize=64)
def _grid(surface: Surface) -> tuple[Array, Array, Array, Array, dict[str, int]]:
    """Axes, places, rows and named zones of the grid that is drawn; the same for as long as a run is open."""
    x0, y0, x1, y1 = surface.plate.bounds
    xs, ys = np.linspace(x0, x1, POINTS), np.linspace(y0, y1, POINTS)
    gx, gy = np.meshgrid(xs, ys)
    places = np.column_stack([gx.ravel(), gy.ravel()])
    zones = {
        z.name: int(np.linalg.norm(places - (z.x_mm, z.y_mm), axis=1).argmin()) for z in zones_on(surface.plate, 9)
    }
    return xs, ys, places, surface.rows(places), zones


def height_field(
    state: RunState, *, after_mesh: bool, level_mm: float | None, tol_mm: float, against: str
) -> HeightField:
    """The believed surface. `level_mm` is taken off; None takes the common height of the anchors off,
    together with its uncertainty. With `after_mesh`, what the machine's mesh follows is taken off too.
    """
    belief = state.belief
    xs, ys, places, rows, zones = _grid(belief.surface)
    if level_mm is None:
        anchors = belief.surface.rows(belief.surface.anchors).mean(axis=0)
        mean, sd = belief.of(rows - anchors)
    else:
        mean, sd = belief.of(rows)
        mean = mean - belief.shift_mm - level_mm
    if after_mesh:
        mean = mean - state.machine_believes(places)
    return _field_of(xs, ys, mean, sd, zones, tol_mm, against)


def read_field(state: RunState, field: SurfaceField, against: str) -> HeightField:
    """The surface as a survey's readings show it, against its height at the anchors."""
    surface = state.belief.surface
    xs, ys, places, _, zones = _grid(surface)
    mean, sd = field.at(np.vstack([places, surface.anchors]))
    n = len(places)
    return _field_of(xs, ys, mean[:n] - mean[n:].mean(), sd[:n], zones, state.tol_mm, against)


def _field_of(
    xs: Array, ys: Array, mean: Array, sd: Array, zones: dict[str, int], tol_mm: float, against: str
) -> HeightField:
    p_high, p_low = ndtr((mean - tol_mm) / sd), ndtr((-tol_mm - mean) / sd)
    return HeightField(
        xs_mm=_row(xs, 1),
        ys_mm=_row(ys, 1),
        mean_mm=tuple(_row(r, 4) for r in mean.reshape(POINTS, POINTS)),
        sd_mm=tuple(_row(r, 3) for r in sd.reshape(POINTS, POINTS)),
        p_high=tuple(_row(r, 3) for r in p_high.reshape(POINTS, POINTS)),
        p_low=tuple(_row(r, 3) for r in p_low.reshape(POINTS, POINTS)),
        tol_mm=tol_mm,
        against=against,
        said=_said(zones, p_high, p_low),
    )


def _said(zones: dict[str, int], p_high: Array, p_low: Array) -> str:
    """The plate's nine zones by class: 'Probably high: rear left. Within: centre, front left.'"""
    by_class: dict[str, list[str]] = {}
    for name, k in zones.items():
        by_class.setdefault(class_of(float(p_high[k]), float(p_low[k])), []).append(name)
    order = ("surely high", "probably high", "within", "probably low", "surely low", "cannot tell")
    if len(by_class) == 1:
        return f"The whole plate: {next(iter(by_class))}."
    return " ".join(f"{name.capitalize()}: {', '.join(by_class[name])}." for name in order if name in by_class)


def sheet_of(state: RunState, field: HeightField | None, **more: object) -> Sheet:
    plate = state.setup.plate
    body = {"shape": plate.shape, "bounds_mm": plate.bounds, "keep_outs": plate.keep_outs, "field": field}
    return Sheet.model_validate(body | more)


def _row(values: Array, digits: int) -> tuple[float, ...]:
    return tuple(np.round(values, digits).tolist())


class Turn(Value):
    """A turn of one knob, in its own marks."""

    screw: str
    marks: float
    per_turn: int
    up_mm: float

    @classmethod
    def of(cls, screw: Screw, marks: float) -> Self:
        up_mm = float(marks * screw.mm_per_mark * screw.sense)
        return cls(screw=screw.name, marks=float(marks), per_turn=screw.marks_per_turn, up_mm=up_mm)
