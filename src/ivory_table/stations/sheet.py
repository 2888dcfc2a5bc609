"""What is drawn on the sheet, as numbers: the field, the knobs, the points. Heights: plate high positive."""

from functools import lru_cache
from typing import Literal

import numpy as np

from ivory_table.core.plate import KeepOut, Screw
from ivory_table.core.run import RunState
from ivory_table.core.surface import Surface
from ivory_table.core.value import Array, Value

POINTS = 19


class HeightField(Value):
    """Heights in mm on a grid, rows front to back, with one sd each."""

    xs_mm: tuple[float, ...]
    ys_mm: tuple[float, ...]
    mean_mm: tuple[tuple[float, ...], ...]
    sd_mm: tuple[tuple[float, ...], ...]
    tol_mm: float
    against: str


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
    """A place on the plate: measured, to be measured next, or still to come."""

    x_mm: float
    y_mm: float
    kind: Literal["measured", "next", "waiting", "doubtful"]
    value_mm: float | None = None
    label: str = ""


class Figure(Value):
    """A number of the title block."""

    name: str
    value: str
    unit: str = ""
    give: str = ""


class Sheet(Value):
    shape: Literal["rectangle", "round"]
    bounds_mm: tuple[float, float, float, float]
    keep_outs: tuple[KeepOut, ...]
    field: HeightField | None
    knobs: tuple[KnobMark, ...] = ()
    spots: tuple[Spot, ...] = ()
    figures: tuple[Figure, ...] = ()


@lru_cache(maxsize=64)
def _grid(surface: Surface) -> tuple[Array, Array, Array, Array]:
    """Axes, places and rows of the grid that is drawn; the same for as long as a run is open."""
    x0, y0, x1, y1 = surface.plate.bounds
    xs, ys = np.linspace(x0, x1, POINTS), np.linspace(y0, y1, POINTS)
    gx, gy = np.meshgrid(xs, ys)
    places = np.column_stack([gx.ravel(), gy.ravel()])
    return xs, ys, places, surface.rows(places)


def height_field(
    state: RunState, *, after_mesh: bool, level_mm: float | None, tol_mm: float, against: str
) -> HeightField:
    """The believed surface. `level_mm` is taken off; None takes the common height of the anchors off,
    together with its uncertainty. With `after_mesh`, what the machine's mesh follows is taken off too.
    """
    belief = state.belief
    xs, ys, places, rows = _grid(belief.surface)
    if level_mm is None:
        anchors = belief.surface.rows(belief.surface.anchors).mean(axis=0)
        mean, sd = belief.of(rows - anchors)
    else:
        mean, sd = belief.of(rows)
        mean = mean - belief.shift_mm - level_mm
    if after_mesh:
        mean = mean - state.machine_believes(places)
    return HeightField(
        xs_mm=_row(xs, 1),
        ys_mm=_row(ys, 1),
        mean_mm=tuple(_row(r, 4) for r in mean.reshape(POINTS, POINTS)),
        sd_mm=tuple(_row(r, 3) for r in sd.reshape(POINTS, POINTS)),
        tol_mm=tol_mm,
        against=against,
    )


def sheet_of(state: RunState, field: HeightField | None, **more: object) -> Sheet:
    plate = state.setup.plate
    body = {"shape": plate.shape, "bounds_mm": plate.bounds, "keep_outs": plate.keep_outs, "field": field}
    return Sheet.model_validate(body | more)


def knob_marks(
    state: RunState,
    turns: dict[int, float],
    at: int | None,
    moves: dict[str, float] | None = None,
    *,
    about: bool = False,
) -> tuple[KnobMark, ...]:
    """Every screw with its height against the common height. `moves`: what a turn elsewhere does at it, mm up."""
    if not state.screws:
        return ()
    m = len(state.screws)
    rows = np.zeros((m, state.belief.surface.size))
    rows[:, :m] = np.eye(m) - 1 / m
    mean, sd = state.belief.of(rows)
    known = state.visited | set(state.round_read)
    return tuple(
        KnobMark(
            name=s.name,
            x_mm=s.x_mm,
            y_mm=s.y_mm,
            height_mm=float(mean[j]),
            sd_mm=float(sd[j]),
            visited=j in known,
            marks=turns.get(j),
            per_turn=s.marks_per_turn,
            about=about,
            next=j == at,
            moves_mm=(moves or {}).get(s.name),
        )
        for j, s in enumerate(state.screws)
    )


def many(count: int, one: str) -> str:
    """1 stop, 2 stops."""
    return f"{count} {one}" if count == 1 else f"{count} {one}s"


def signed(mm: float, digits: int = 2) -> str:
    """+0.13 or −0.09: a sign always, with a true minus; nothing is plain 0.00."""
    text = f"{mm:+.{digits}f}"
    return text[1:] if float(text) == 0 else text.replace("-", "−")


def turn_words(marks: float, screw: Screw, seen_from: Literal["above", "below"]) -> str:
    """'3/16 clockwise, seen from above': the turn as the technician sees the knob."""
    return f"{marks_words(marks, screw.marks_per_turn)} {way_words(marks, seen_from)}, seen from {seen_from}"


def way_words(marks: float, seen_from: Literal["above", "below"]) -> str:
    """Marks are clockwise seen from above; from below the same turn runs the other way."""
    return "clockwise" if (marks > 0) == (seen_from == "above") else "counter-clockwise"


def marks_words(marks: float, per_turn: int) -> str:
    """'3/16', '1 turn 3/16', or '7/32' where half a mark is asked for; never reduced, as a hand counts marks."""
    turns, half = divmod(round(2 * abs(marks)), 2 * per_turn)
    part = f"{half // 2}/{per_turn}" if half % 2 == 0 else f"{half}/{2 * per_turn}"
    if not turns:
        return part
    return f"{many(turns, 'turn')} {part}" if half else many(turns, "turn")


def _row(values: Array, digits: int) -> tuple[float, ...]:
    return tuple(np.round(values, digits).tolist())
