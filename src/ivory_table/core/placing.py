"""Where on a plate parts hold best: the chance that all of a footprint is sound, wherever it may lie."""

from functools import lru_cache
from typing import Annotated, Any

import numpy as np
from numpy.typing import NDArray
from pydantic import Field
from scipy.special import ndtr

from .bead import Bead
from .belief import Belief
from .defaults import LAYER
from .normals import normal_points
from .plate import Plate
from .value import Array, PlaceMm, Value


class Footprint(Value):
    """A part as it lies: its two sides, mm, and how many of them."""

    width_mm: Annotated[float, Field(gt=0, le=1000)]
    depth_mm: Annotated[float, Field(gt=0, le=1000)]
    count: Annotated[int, Field(ge=1, le=LAYER.placing.most)] = 1
    height_mm: Annotated[float, Field(gt=0, le=2000)] = 20.0


class Place(Value):
    """One part: its middle, whether it is turned by a quarter, and the chance that all of it is sound."""

    x_mm: float
    y_mm: float
    turned: bool
    p_sound: float


class Placing(Value):
    """The best places found, and the chance of each place of the plate by itself."""

    places: tuple[Place, ...]
    #: Parts that found no room.
    left_over: int
    #: The chance that all placed parts are sound together.
    p_all: float
    xs_mm: tuple[float, ...]
    ys_mm: tuple[float, ...]
    #: (rows from front to rear, columns from left to right); 0 where nothing may be laid.
    p_sound: tuple[tuple[float, ...], ...]


def placing(
    belief: Belief,
    plate: Plate,
    bead: Bead,
    believes: Array,
    cells: Array,
    footprint: Footprint,
    holds: Array | None = None,
) -> Placing:
    """The best places for parts, one after the other, each where it is likeliest sound beside those placed.

    `holds` (ny, nx): the chance that nothing but the gap keeps a place from holding (a cooler rim, a draught). It ranks the places,
    by its mean over each; the chances told are those of the gap.

    `cells` (ny, nx, 2) as from `grid_of`, `believes` (ny, nx) mm that the machine's mesh lifts there. The gap is drawn
    from the belief over all cells together, so that what two places share counts once.
    """
    ny, nx = cells.shape[:2]
    sound, free = _drawn_sound(belief, plate, bead, believes, cells)
    dx, dy = float(cells[0, 1, 0] - cells[0, 0, 0]), float(cells[1, 0, 1] - cells[0, 0, 1])
    found: list[Place] = []
    all_sound = np.ones(len(sound), dtype=bool)
    taken, held = ~free, None if holds is None else _summed(holds)
    for _ in range(footprint.count):
        best: tuple[float, int, int, bool, int, int] | None = None
        bad, used = _summed(~(sound & all_sound[:, None, None])), _summed(taken)
        for turned in (False, True) if footprint.width_mm != footprint.depth_mm else (False,):
            w, d = footprint.width_mm, footprint.depth_mm
            if turned:
                w, d = d, w
            # Every cell that the footprint touches.
            cols, lines = max(int(np.ceil(w / dx)) + 1, 1), max(int(np.ceil(d / dy)) + 1, 1)
            if cols > nx or lines > ny:
                continue
            room = _windows(used, lines, cols) == 0
            good = (_windows(bad, lines, cols) == 0).mean(axis=0)
            if held is not None:
                good = good * _windows(held, lines, cols) / (lines * cols)
            good = np.where(room, good, -1.0)
            # Of places as good as one another the one nearest to the middle.
            off = np.hypot(
                *np.meshgrid(np.arange(good.shape[1]) - (nx - cols) / 2, np.arange(good.shape[0]) - (ny - lines) / 2)
            )
            j, i = np.unravel_index(int(np.argmax(good - 1e-4 * off)), good.shape)
            if good[j, i] >= 0 and (best is None or good[j, i] > best[0] + 1e-9):
                best = (float(good[j, i]), int(j), int(i), turned, lines, cols)
        if best is None:
            break
        _, row, column, turned, lines, cols = best
        here = sound[:, row : row + lines, column : column + cols].all(axis=(1, 2))
        all_sound &= here
        x = float(cells[row, column, 0] + (cols - 1) * dx / 2)
        y = float(cells[row, column, 1] + (lines - 1) * dy / 2)
        found.append(Place(x_mm=round(x, 1), y_mm=round(y, 1), turned=turned, p_sound=float(here.mean())))
        gap_x, gap_y = int(np.ceil(LAYER.placing.apart_mm / dx)), int(np.ceil(LAYER.placing.apart_mm / dy))
        taken[max(row - gap_y, 0) : row + lines + gap_y, max(column - gap_x, 0) : column + cols + gap_x] = True
    each = np.where(free, sound.mean(axis=0), 0.0)
    return Placing(
        places=tuple(found),
        left_over=footprint.count - len(found),
        p_all=float(all_sound.mean()) if found else 0.0,
        xs_mm=tuple(float(x) for x in np.round(cells[0, :, 0], 2)),
        ys_mm=tuple(float(y) for y in np.round(cells[:, 0, 1], 2)),
        p_sound=tuple(tuple(float(p) for p in row) for row in np.round(each, 3)),
    )


class SoundArea(Value):
    """A rectangle of the plate in which every place is sound with the chance `p`."""

    left_mm: PlaceMm
    front_mm: PlaceMm
    width_mm: Annotated[float, Field(gt=0, le=2000)]
    depth_mm: Annotated[float, Field(gt=0, le=2000)]
    p: Annotated[float, Field(ge=0, le=1)]

    @property
    def words(self) -> str:
        """The area as it is said: its size and where it lies."""
        x, y = self.left_mm + self.width_mm / 2, self.front_mm + self.depth_mm / 2
        return f"{self.width_mm:.0f} by {self.depth_mm:.0f} mm about X {x:.0f}, Y {y:.0f}"


def largest_sound(
    belief: Belief, plate: Plate, bead: Bead, believes: Array, cells: Array, at_least: float
) -> SoundArea | None:
    """The largest rectangle, as wide to deep as the grid, that is sound all over with `at_least`; None where not a quarter of the side is.

    Arguments as for `placing`. Of as large ones the likeliest counts.
    """
    ny, nx = cells.shape[:2]
    sound, free = _drawn_sound(belief, plate, bead, believes, cells)
    bad, kept_out = _summed(~sound), _summed(~free)
    for size in range(min(nx, ny), max(min(nx, ny) // 4, 1), -1):
        lines, cols = size * ny // min(nx, ny), size * nx // min(nx, ny)
        room = _windows(kept_out, lines, cols) == 0
        if not room.any():
            continue
        good = np.where(room, (_windows(bad, lines, cols) == 0).mean(axis=0), -1.0)
        j, i = np.unravel_index(int(np.argmax(good)), good.shape)
        if good[j, i] >= at_least:
            (x0, y0), (x1, y1) = cells[j, i], cells[j + lines - 1, i + cols - 1]
            return SoundArea(
                left_mm=float(x0),
                front_mm=float(y0),
                width_mm=float(x1 - x0),
                depth_mm=float(y1 - y0),
                p=float(good[j, i]),
            )
    return None


def share_sound(belief: Belief, plate: Plate, bead: Bead, believes: Array, cells: Array) -> float:
    """The share of the plate, 0 to 1, that is expected to be sound: the mean over all places where something may be laid.

    Arguments as for `placing`.
    """
    mean, sd = belief.of(-belief.surface.rows(cells.reshape(-1, 2)))
    gaps = mean + bead.layer_mm + belief.shift_mm + believes.reshape(-1)
    low, high = bead.bands_mm()["sound"]
    p = ndtr((high - gaps) / sd) - ndtr((low - gaps) / sd)
    return float(p[_free(plate).reshape(-1)].mean())


@lru_cache(maxsize=16)
def _free(plate: Plate) -> NDArray[np.bool_]:
    """(ny, nx) where something may be laid, of the cells of `grid_of`."""
    return np.array(
        [
            [
                plate.holds(float(x), float(y), LAYER.placing.edge_mm) and not plate.kept_out(float(x), float(y), 2.0)
                for x, y in row
            ]
            for row in grid_of(plate)
        ]
    )


def _drawn_sound(
    belief: Belief, plate: Plate, bead: Bead, believes: Array, cells: Array
) -> tuple[NDArray[np.bool_], NDArray[np.bool_]]:
    """(draws, ny, nx) whether each cell is sound, drawn over all of them together, and (ny, nx) where something may be laid."""
    ny, nx = cells.shape[:2]
    flat = cells.reshape(-1, 2)
    rows = -belief.surface.rows(flat)
    mean, cov = belief.collapsed
    root = np.linalg.cholesky(cov + 1e-12 * np.eye(len(mean)))
    state = mean + normal_points(LAYER.placing.draws, len(mean)) @ root.T
    gaps = state @ rows.T + bead.layer_mm + belief.shift_mm + believes.reshape(-1)
    low, high = bead.bands_mm()["sound"]
    return ((gaps > low) & (gaps < high)).reshape(-1, ny, nx), _free(plate)


def grid_of(plate: Plate) -> Array:
    """(ny, nx, 2) places in mm over the whole plate, from front to rear and left to right."""
    x0, y0, x1, y1 = plate.bounds
    xs = np.linspace(x0, x1, LAYER.placing.cells)
    ys = np.linspace(y0, y1, LAYER.placing.cells)
    return np.stack(np.meshgrid(xs, ys), axis=2)


def _summed(marked: NDArray[Any]) -> Array:
    """(..., ny, nx) -> (..., ny + 1, nx + 1) how many marked cells, or how much in all, lie before each corner in both directions."""
    total = np.zeros((*marked.shape[:-2], marked.shape[-2] + 1, marked.shape[-1] + 1))
    total[..., 1:, 1:] = marked.cumsum(axis=-2).cumsum(axis=-1)
    return total


def _windows(total: Array, lines: int, cols: int) -> Array:
    """What each window of so many lines and columns holds, from its first corner on, of sums as from `_summed`."""
    return np.asarray(
        total[..., lines:, cols:]
        - total[..., :-lines, cols:]
        - total[..., lines:, :-cols]
        + total[..., :-lines, :-cols]
    )
