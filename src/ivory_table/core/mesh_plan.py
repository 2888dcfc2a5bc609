"""A mesh before it is read: where each point can be read, what a number of points leaves, and which point tells most."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from .defaults import FIELD, MOTION, SURVEY
from .field import SurfaceField, Trend
from .mesh import MeshGrid, MeshLaw, MeshSurvey, believed_by_machine
from .plate import Plate, Probe
from .surface import apart, matern
from .value import Array, Value


@dataclass(frozen=True)
class PlanPoint:
    """One point of the machine's grid: where it is read, or why it cannot be. The machine's own point stays where it is."""

    column: int
    row: int
    #: Where it is read: at the point itself, or beside it; None where nothing near it can be read.
    place_mm: tuple[float, float] | None
    why: str = ""

    @property
    def moved(self) -> bool:
        """Whether it lies elsewhere than the even grid would have it."""
        return self.place_mm is not None and bool(self.why)


def plan_points(grid: MeshGrid, plate: Plate, probe: Probe | None) -> tuple[PlanPoint, ...]:
    """Every point of the grid, front row first. Under a clip or out of reach it moves by up to a third of a cell, or drops out.

    With a `probe` a point is read where the probe is over it while the tip stays over the plate or just beside it.
    """
    xs, ys = grid.xs_mm, grid.ys_mm
    cell_x, cell_y = (xs[-1] - xs[0]) / (len(xs) - 1), (ys[-1] - ys[0]) / (len(ys) - 1)

    def wrong(x: float, y: float) -> str:
        if not plate.holds(x, y, SURVEY.edge_mm):
            return "off the plate"
        if (name := plate.kept_out(x, y, MOTION.clear_mm)) is not None:
            return f"under {name}"
        if probe is not None:
            tip = (x - probe.beside.x_mm, y - probe.beside.y_mm)
            if not plate.holds(*tip, -MOTION.over_edge_mm):
                return "out of the probe's reach"
            # The tip, too, keeps clear of clips.
            if (name := plate.kept_out(*tip, MOTION.clear_mm)) is not None:
                return f"the tip would stand over {name}"
        return ""

    out = []
    for row, y in enumerate(ys):
        for column, x in enumerate(xs):
            why = wrong(x, y)
            place: tuple[float, float] | None = (x, y)
            if why:
                near = [
                    (x + dx * cell_x, y + dy * cell_y) for dx in _SHIFTS for dy in _SHIFTS if (dx, dy) != (0.0, 0.0)
                ]
                near.sort(key=lambda p: float(np.hypot(p[0] - x, p[1] - y)))
                place = next(((round(a, 1), round(b, 1)) for a, b in near if not wrong(a, b)), None)
            out.append(PlanPoint(column, row, place, why))
    return tuple(out)


#: Shares of a cell by which a point may move.
_SHIFTS = tuple(float(s) for s in np.linspace(-1 / 3, 1 / 3, 9))


def walk(points: Sequence[PlanPoint]) -> tuple[PlanPoint, ...]:
    """The points that can be read, to and fro, so that no move crosses the plate."""
    return tuple(
        sorted(
            (p for p in points if p.place_mm is not None),
            key=lambda p: (p.row, p.column if p.row % 2 == 0 else -p.column),
        )
    )


def used_places(plate: Plate, grid: MeshGrid, count: int = 15) -> Array:
    """(n, 2) places within the mesh where parts are printed: on the plate, clear of what stands on it."""
    xs = np.linspace(grid.xs_mm[0], grid.xs_mm[-1], count)
    ys = np.linspace(grid.ys_mm[0], grid.ys_mm[-1], count)
    all_of_them = np.array([(x, y) for y in ys for x in xs])
    free = [plate.holds(x, y) and plate.kept_out(x, y) is None for x, y in all_of_them]
    return np.asarray(all_of_them[free] if any(free) else all_of_them)


# What telling costs and brings


@dataclass(frozen=True, eq=False)
class Telling:
    """What readings of a plate would tell, before they are made: the plate as it is believed, at one typical roughness."""

    trend: Trend
    law: MeshLaw
    sigma_mm: float
    length_mm: float

    @classmethod
    def of(cls, field: SurfaceField, law: MeshLaw) -> "Telling":
        """With the roughness that the field's own readings make likeliest, or the usual one where there are none."""
        if not field.readings:
            size = max(field.trend.surface.plate.width_mm, field.trend.surface.plate.depth_mm)
            return cls(field.trend, law, FIELD.sigma_mm, FIELD.lengths[1] * size)
        sigma, length = field.roughness
        return cls(field.trend, law, sigma, length)

    def prior(self, a: Array, b: Array) -> Array:
        """(n, m) prior covariance in mm^2 between places a (n, 2) and b (m, 2) in mm."""
        told = self.trend.rows(a) @ self.trend.cov @ self.trend.rows(b).T
        return np.asarray(told + self.sigma_mm**2 * matern(apart(a, b) / self.length_mm))

    def left_mm(self, grid: MeshGrid, read: Array, used: Array, sd_mm: float) -> float:
        """The rms in mm that a mesh made of readings at (n, 2) places is expected to leave for the first layer over `used`.

        The machine follows its own law between grid points that hold the field's mean (linear in the readings).
        """
        between = self._law_rows(grid, used)
        know = self.prior(read, read) + sd_mm**2 * np.eye(len(read))
        weights = between @ np.linalg.solve(know, self.prior(read, grid.places)).T
        shared = self.prior(used, read)
        own = np.diag(self.prior(used, used))
        variance = own - 2 * (weights * shared).sum(axis=1) + ((weights @ know) * weights).sum(axis=1)
        return float(np.sqrt(np.maximum(variance, 0.0).mean()))

    def _law_rows(self, grid: MeshGrid, used: Array) -> Array:
        """(u, points) weights of the grid's heights in what the machine follows at each place."""
        n = len(grid.places)
        blank = MeshSurvey(
            grid=grid,
            heights_mm=((0.0,) * len(grid.xs_mm),) * len(grid.ys_mm),
            owns_zero=True,
            plate_id=self.trend.surface.plate.id,
        )
        rows = np.zeros((len(used), n))
        as_sent = self.law.model_copy(update={"zero_at": "as_sent"})
        for k in range(n):
            heights = np.zeros(n)
            heights[k] = 1.0
            shape = tuple(map(tuple, heights.reshape(len(grid.ys_mm), len(grid.xs_mm)).tolist()))
            rows[:, k] = believed_by_machine(blank.model_copy(update={"heights_mm": shape}), used, as_sent)
        return rows


class Choice(Value):
    """A mesh that could be read: how many points of which grid, what it leaves, and how long it takes."""

    columns: int
    rows: int
    readings: int
    left_mm: float
    minutes: float


def choices(
    telling: Telling,
    grid_of: Callable[[int], MeshGrid],
    plate: Plate,
    probe: Probe | None,
    sd_mm: float,
    minutes: float,
) -> tuple[Choice, ...]:
    """The usual sizes with what each leaves; of 5 x 5 also a part of its points, as they would be chosen one by one."""
    out = []
    for size in SURVEY.sizes:
        grid = grid_of(size)
        places = np.array([p.place_mm for p in walk(plan_points(grid, plate, probe))])
        if len(places) < 3:
            continue
        used = used_places(plate, grid, 9)
        for count in (
            sorted({n for n in SURVEY.parts_of_5 if n < len(places)} | {len(places)}) if size == 5 else (len(places),)
        ):
            some = places if count == len(places) else places[_spread(telling, places, used, count, sd_mm)]
            left = telling.left_mm(grid, some, used, sd_mm)
            out.append(Choice(columns=size, rows=size, readings=count, left_mm=left, minutes=round(count * minutes, 1)))
    return tuple(out)


def _spread(telling: Telling, places: Array, used: Array, count: int, sd_mm: float) -> list[int]:
    """Which places tell most, one after the other."""
    cov = telling.prior(np.vstack([places, used]), np.vstack([places, used]))
    n, chosen = len(places), list[int]()
    for _ in range(count):
        variance = np.diag(cov)[:n] + sd_mm**2
        gain = np.square(cov[n:, :n]).sum(axis=0) / variance
        gain[chosen] = -1.0
        k = int(gain.argmax())
        chosen.append(k)
        cov = cov - np.outer(cov[:, k], cov[k]) / variance[k]
    return chosen


# Point after point


@dataclass(frozen=True, eq=False)
class Known:
    """Where a survey stands: what is known of the places used, and which point tells most."""

    field: SurfaceField
    used: Array
    tol_mm: float

    @cached_property
    def _known(self) -> tuple[Array, Array]:
        return self.field.at(self.used)

    @property
    def sd_mm(self) -> float:
        """The rms sd over the places used."""
        return float(np.sqrt(np.square(self._known[1]).mean()))

    @property
    def share_known(self) -> float:
        """The share of the places used that are known within the mesh's part of the tolerance, with 90 %."""
        return float((1.645 * self._known[1] <= FIELD.enough_of_tol * self.tol_mm).mean())

    @property
    def enough(self) -> bool:
        """Whether what is left unknown is less than what was asked for."""
        return self.share_known >= FIELD.enough_share

    def next_of(
        self, points: Sequence[PlanPoint], sd_mm: float, at_mm: tuple[float, float] | None
    ) -> tuple[PlanPoint, float] | None:
        """The point to read next and by how much it lowers the rms sd, mm: of those that tell nearly most, the nearest."""
        if not points:
            return None
        places = np.array([p.place_mm for p in points])
        gains = self.field.gains(places, self.used, sd_mm)
        far = np.zeros(len(points)) if at_mm is None else np.linalg.norm(places - at_mm, axis=1)
        good = gains >= FIELD.nearly * gains.max()
        k = int(np.where(good, far, np.inf).argmin())
        left = max(self.sd_mm**2 - float(gains[k]), 0.0)
        return points[k], self.sd_mm - left**0.5
