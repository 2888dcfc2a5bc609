"""What a job stands on: the feet of its parts in the first layer, their sharpest corners, and whether they stay down."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import pairwise
from math import acos, degrees, hypot, pi, sqrt

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import binary_closing, binary_fill_holes, label

from ivory_table.core.defaults import JOB_CHECK
from ivory_table.core.hold_down import HoldDown, Mask, hold_down
from ivory_table.core.plate import Filament
from ivory_table.core.value import Array

from .finding import Finding
from .job import Job
from .reader import Move

#: Feet are looked at in cells of this size, mm; larger ones on a job that would have more than so many.
CELL_MM, MOST_CELLS, MOST_ACROSS = 0.5, 1_500_000, 5000
#: So many moves are laid on the raster at a time.
AT_A_TIME = 20_000
#: So many parts are looked at, and so many of those likeliest to come off are told.
MOST_FEET, MOST_TOLD = 200, 5
#: Neighbouring lines are one foot.
_TOUCHING = np.ones((3, 3), dtype=bool)


@dataclass(frozen=True)
class Foot:
    """One foot: where it begins in the job, its middle, and how it stays down."""

    line: int
    x_mm: float
    y_mm: float
    corner_deg: float
    brim_mm: float
    held: HoldDown


def of_feet(job: Job, filament: Filament, grip: float = 1.0) -> Iterator[Finding]:
    """The parts that may come off, the likeliest first; `grip` as in `hold_down`."""
    worst = sorted(feet(job, filament, grip), key=lambda f: -f.held.p_off)[:MOST_TOLD]
    for foot in worst:
        if foot.held.p_off < JOB_CHECK.comes_off_told_at:
            return
        # The top of each part is not followed: the job's own is the most it can be.
        text = f"The part at ({foot.x_mm:.0f}, {foot.y_mm:.0f}), if it is as high as the job. {foot.held.words}"
        yield Finding(
            code="may_come_off",
            level="warning" if foot.held.p_off >= JOB_CHECK.comes_off_warned_at else "note",
            line=foot.line,
            text=text,
        )


def feet(job: Job, filament: Filament, grip: float = 1.0) -> list[Foot]:
    """Every foot that carries something: what has no second layer is a skirt or a primed line."""
    first, second = job.first_layer, job.second_layer
    if not first or not second or job.first_z is None:
        return []
    corner, cell, shape = _raster(first + second)
    below = _closed(_laid(first, corner, cell, shape))
    above = binary_fill_holes(_closed(_laid(second, corner, cell, shape)))
    numbered, count = label(below, _TOUCHING)
    number_of = _numbers_at(numbered, np.array([m.end[:2] for m in first]), corner, cell)
    corners = _corners(second, above, corner, cell)
    # The last height is where the tip is lifted to.
    height = max(job.highest or 0.0, job.first_z)
    found: list[Foot] = []
    for k in range(1, min(count, MOST_FEET) + 1):
        own = numbered == k
        carried = own & above
        if carried.sum() * cell**2 < 1.0:
            continue
        rows, cols = np.nonzero(own)
        cut = own[rows.min() : rows.max() + 1, cols.min() : cols.max() + 1]
        brim = _brim(own, carried, cell)
        sharpest = min((deg for (j, i), deg in corners if own[j, i]), default=180.0)
        lines = np.flatnonzero(number_of == k)
        found.append(
            Foot(
                line=first[int(lines[0])].line if len(lines) else first[0].line,
                x_mm=float(corner[0] + (cols.mean() + 0.5) * cell),
                y_mm=float(corner[1] + (rows.mean() + 0.5) * cell),
                corner_deg=sharpest,
                brim_mm=brim,
                held=hold_down(cut, cell, height, filament.material, corner_deg=sharpest, brim_mm=brim, grip=grip),
            )
        )
    return found


def _raster(moves: Sequence[Move]) -> tuple[Array, float, tuple[int, int]]:
    """Lower left corner (2,), side and shape of a raster around some moves."""
    ends = np.array([p for m in moves for p in (m.start[:2], m.end[:2])])
    low, high = ends.min(axis=0) - 2.0, ends.max(axis=0) + 2.0
    across = high - low
    cell = max(CELL_MM, float(np.sqrt(np.prod(across) / MOST_CELLS)), float(across.max()) / MOST_ACROSS)
    nx, ny = (np.ceil(across / cell).astype(int) + 1).tolist()
    return low, cell, (ny, nx)


def _laid(moves: Sequence[Move], corner: Array, cell: float, shape: tuple[int, int]) -> Mask:
    """The cells over which something is laid."""
    mask = np.zeros(shape, dtype=bool)
    for first in range(0, len(moves), AT_A_TIME):
        some = moves[first : first + AT_A_TIME]
        a, b = (np.array([getattr(m, end)[:2] for m in some]) for end in ("start", "end"))
        count = np.ceil(np.linalg.norm(b - a, axis=1) / (cell / 2)).astype(int) + 1
        which = np.repeat(np.arange(len(count)), count)
        step = np.arange(len(which)) - np.repeat(np.cumsum(count) - count, count)
        share = step / np.maximum(count - 1, 1)[which]
        at = np.floor((a[which] + share[:, None] * (b - a)[which] - corner) / cell).astype(int)
        mask[at[:, 1], at[:, 0]] = True
    return mask


def _closed(mask: Mask) -> Mask:
    """Lines side by side are one foot, wherever the raster falls."""
    return np.asarray(binary_closing(np.pad(mask, 2), _TOUCHING)[2:-2, 2:-2])


def _numbers_at(numbered: NDArray[np.int32], places: Array, corner: Array, cell: float) -> NDArray[np.int32]:
    at = np.floor((places - corner) / cell).astype(int)
    return np.asarray(numbered[at[:, 1], at[:, 0]])


def _brim(own: Mask, carried: Mask, cell: float) -> float:
    """How far a foot reaches beyond what stands on it, by its extra area: P b + pi b^2 around an edge of length P."""
    inside = (
        carried & np.roll(carried, 1, 0) & np.roll(carried, -1, 0) & np.roll(carried, 1, 1) & np.roll(carried, -1, 1)
    )
    edge = float((carried & ~inside).sum()) * cell
    more = float((binary_fill_holes(own) & ~carried).sum()) * cell**2
    wide = (-edge + sqrt(edge**2 + 4 * pi * more)) / (2 * pi)
    return wide if wide >= JOB_CHECK.least_brim_mm else 0.0


def _corners(moves: Sequence[Move], above: Mask, corner: Array, cell: float) -> list[tuple[tuple[int, int], float]]:
    """Cells and inner angles in degrees of the outline's outward corners."""
    found: list[tuple[tuple[int, int], float]] = []
    reach = int(JOB_CHECK.corner_side_mm / cell)
    y, x = np.mgrid[-reach : reach + 1, -reach : reach + 1]
    disc = np.hypot(x, y) <= reach
    around = np.pad(above, reach)
    for one, two in pairwise(moves):
        if one.end != two.start:
            continue
        ax, ay = one.end[0] - one.start[0], one.end[1] - one.start[1]
        bx, by = two.end[0] - two.start[0], two.end[1] - two.start[1]
        la, lb = hypot(ax, ay), hypot(bx, by)
        if la < JOB_CHECK.corner_side_mm or lb < JOB_CHECK.corner_side_mm:
            continue
        turn = degrees(acos(min(max((ax * bx + ay * by) / (la * lb), -1.0), 1.0)))
        if turn < JOB_CHECK.corner_deg:
            continue
        i, j = (int((one.end[k] - corner[k]) // cell) for k in (0, 1))
        # An outward corner has its own angle of the disc around it, and no more.
        share = float(around[j : j + 2 * reach + 1, i : i + 2 * reach + 1][disc].mean())
        if share <= (180 - turn) / 360 + 0.2:
            found.append(((j, i), 180 - turn))
    return found
