"""The survey at hand: where its points are read, what its readings say of the plate, which are doubted, and what is next."""

import itertools
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from ivory_table.core.approach import Approach
from ivory_table.core.defaults import FIELD, SURVEY
from ivory_table.core.field import PlaceRead, SurfaceField, Trend
from ivory_table.core.mesh import MeshGrid, MeshSurvey, PointRead, Sounding, drift_taken_out, grid_on
from ivory_table.core.mesh_plan import Known, PlanPoint, plan_points, used_places, walk
from ivory_table.core.plate import Plate, Probe
from ivory_table.core.value import Array
from ivory_table.core.words import signed
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState

from .entries import MeshPlanned
from .state import Mesh, Point


def is_near(height_mm: float, mean_mm: float, sd_mm: float) -> bool:
    """Whether a height is as near to what is expected as a hand may be off."""
    return abs(height_mm - mean_mm) <= max(SURVEY.near_sd * sd_mm, SURVEY.near_mm)


@dataclass(frozen=True)
class Doubt:
    """A point whose reading is doubted: what all the others say of it."""

    point: Point
    read_mm: float
    others_mm: float
    others_sd_mm: float
    #: The chance that it is grossly wrong.
    p: float

    @property
    def words(self) -> str:
        off = self.read_mm - self.others_mm
        return f"{abs(off):.2f} mm {'above' if off > 0 else 'below'} what its neighbours say"


@dataclass(frozen=True, eq=False)
class Survey:
    """A survey as it stands. Points by (column, row) from the front left."""

    state: RunState
    plan: MeshPlanned
    grid: MeshGrid
    points: tuple[PlanPoint, ...]
    trend: Trend
    used: Array

    @cached_property
    def mesh(self) -> Mesh:
        return Mesh.of(self.state)

    @cached_property
    def place_of(self) -> dict[Point, tuple[float, float]]:
        return {(p.column, p.row): p.place_mm for p in self.points if p.place_mm is not None}

    @cached_property
    def base_mm(self) -> tuple[float, float]:
        """Where the base point is: where the survey began, or will begin."""
        begun = next((s.point for s in self.mesh.counting if s.point in self.place_of), None)
        first = self.place_of[begun] if begun is not None else walk(self.points)[0].place_mm
        assert first is not None
        return first

    @cached_property
    def sd_mm(self) -> float:
        """One sd of a reading to come, its step of the machine included."""
        step = self.state.setup.machine.z_step_mm if self.plan.owns_zero else 0.0
        return float(np.hypot(self.state.reading_noise(felt=self.plan.owns_zero), step / 12**0.5))

    @cached_property
    def _read(self) -> tuple[tuple[Sounding, PlaceRead], ...]:
        """Every reading that counts, with its place and sitting."""
        told = [s for s in self.mesh.counting if s.point is None or s.point in self.place_of]
        sitting, before, out = 0, None, []
        for k, s in enumerate(told):
            if before is not None and s.at_s - before > 60 * SURVEY.pause_minutes:
                sitting += 1
            before = s.at_s
            x, y = self.base_mm if s.point is None else self.place_of[s.point]
            sd = s.sd_mm if s.sd_mm is not None else self.sd_mm
            at = k / max(len(told) - 1, 1)
            out.append((s, PlaceRead(x, y, s.height_mm, sd, at=at, sitting=sitting)))
        return tuple(out)

    @cached_property
    def _trusted(self) -> tuple[int, ...]:
        return tuple(k for k, (s, _) in enumerate(self._read) if s.point is None or s.point in self.mesh.trusted)

    @cached_property
    def field(self) -> SurfaceField:
        """What the readings say of the plate, those that are likelier wrong than not left out."""
        drifts = any(s.point is None for s, _ in self._read)
        whole = SurfaceField(self.trend, tuple(read for _, read in self._read), drifts)
        return whole.doubting(self._trusted)

    @cached_property
    def doubts(self) -> tuple[Doubt, ...]:
        """The points worth another reading, the worst first."""
        worth, p = self.field.to_repeat(self._trusted), self.field.gross()
        found: dict[Point, Doubt] = {}
        for k, (sounding, read) in enumerate(self._read):
            if worth[k] and sounding.point is not None:
                others, sd = self.field.without(k)
                chance = 1.0 if self.field.readings[k].doubted else float(p[k])
                found[sounding.point] = Doubt(sounding.point, read.value_mm, others, sd, chance)
        return tuple(sorted(found.values(), key=lambda d: -d.p))

    @cached_property
    def standing(self) -> Known:
        return Known(self.field, self.used, self.state.tol_mm)

    @cached_property
    def waiting(self) -> tuple[PlanPoint, ...]:
        """Points that can be read and were not, in the order of the shortest walk."""
        return tuple(p for p in walk(self.points) if (p.column, p.row) not in self.mesh.points)

    @property
    def at_mm(self) -> tuple[float, float] | None:
        """Where the last reading was made."""
        return (self._read[-1][1].x_mm, self._read[-1][1].y_mm) if self._read else None

    @cached_property
    def wanted(self) -> int:
        """How many points are to be read."""
        able = len(walk(self.points))
        return able if self.plan.readings is None else min(self.plan.readings, able)

    @cached_property
    def minutes_each(self) -> float:
        """What a point takes: as long as this person or probe took for the ones before, pauses left out."""
        usual = SURVEY.hand_minutes if self.plan.owns_zero else SURVEY.probe_minutes
        times = [s.at_s for s, _ in self._read]
        took = [b - a for a, b in itertools.pairwise(times) if 0 < b - a < 60 * SURVEY.pause_minutes]
        return float(np.median(took)) / 60 if len(took) >= SURVEY.pace_from else usual

    @cached_property
    def complete(self) -> bool:
        """Whether as much was read as was wanted, or as it takes."""
        read = len(self.mesh.points)
        if not self.waiting:
            return True
        if self.plan.readings is not None:
            return read >= self.wanted
        return self.plan.owns_zero and read >= SURVEY.least_readings and self.standing.enough

    @cached_property
    def coming(self) -> tuple[PlanPoint, float] | None:
        """The point that tells most, and by how much it lowers the rms sd; a point half felt comes first."""
        if self.mesh.feeling is not None:
            begun = next((p for p in self.points if (p.column, p.row) == self.mesh.feeling[0]), None)
            if begun is not None:
                return begun, 0.0
        if not self.waiting:
            return None
        every = self.plan.readings is not None and self.wanted == len(walk(self.points))
        # Where all are read anyway, or by a probe: the shortest walk.
        maybe = self.waiting[:1] if every or not self.plan.owns_zero else self.waiting
        return self.standing.next_of(maybe, self.sd_mm, self.at_mm)

    def expected(self, place_mm: tuple[float, float]) -> tuple[float, float]:
        """Mean and sd in mm of what a faultless hand would read at a place."""
        mean, sd = self.field.at([place_mm])
        return float(mean[0]), float(sd[0])

    def odd_beside(self, place_mm: tuple[float, float], height_mm: float) -> PlaceRead | None:
        """Of the readings nearest to a place the one that was wrong, should this height be right; None where none explains it."""
        readings = self.field.readings
        away = [np.hypot(r.x_mm - place_mm[0], r.y_mm - place_mm[1]) for r in readings]
        for k in map(int, np.argsort(away)[: SURVEY.looks_beside]):
            rest = replace(self.field, readings=(*readings[:k], *readings[k + 1 :]))
            mean, sd = rest.at([place_mm])
            off, _ = rest.at([(readings[k].x_mm, readings[k].y_mm)])
            if (
                is_near(height_mm, float(mean[0]), float(sd[0]))
                and abs(readings[k].value_mm - float(off[0])) > SURVEY.near_mm
            ):
                return readings[k]
        return None

    def approach(self, point: Point) -> Approach:
        """Where the gauge may drag over a point, with what was felt there so far."""
        mean, sd = self.expected(self.place_of[point])
        setup = self.state.setup
        approach = Approach.over(
            mean,
            max(sd, 0.004),
            scale=self.state.feel,
            gauge_mm=self.state.drag_gap_mm,
            step_mm=min(setup.machine.z_presses_mm, default=setup.machine.z_step_mm),
            seen_above=True,
        )
        if self.mesh.feeling is not None and self.mesh.feeling[0] == point:
            for z, feel in self.mesh.feeling[1]:
                approach = approach.feel(z, feel)
        return approach

    def draft(self) -> MeshSurvey:
        """The mesh as the machine would get it: the field's mean at every point, and what was really read."""
        heights = self.field.at(self.grid.places)[0]
        heights = heights - self.state.mesh_reads_high_mm(self.grid.places, felt=self.plan.owns_zero)
        heights = heights.reshape(len(self.grid.ys_mm), len(self.grid.xs_mm))
        plain, _ = drift_taken_out(self.mesh.counting)
        doubted = {s.point for (s, _), r in zip(self._read, self.field.readings, strict=True) if r.doubted}
        counts: dict[Point, list[float]] = {}
        for sounding, read in self._read:
            if sounding.point is not None:
                counts.setdefault(sounding.point, []).append(read.sd_mm)
        readings = tuple(
            PointRead(
                x_mm=self.place_of[point][0],
                y_mm=self.place_of[point][1],
                height_mm=round(height, 5),
                sd_mm=round(FIELD.gross_mm if point in doubted else float(np.mean(each)) / len(each) ** 0.5, 5),
            )
            for point, height in sorted(plain.items())
            if (each := counts.get(point))
        )
        state = self.state
        return MeshSurvey(
            grid=self.grid,
            heights_mm=tuple(tuple(round(float(v), 4) for v in row) for row in heights),
            owns_zero=self.plan.owns_zero,
            plate_id=state.setup.plate_id,
            bed_c=state.heated.bed_c if state.heated else None,
            readings=readings,
        )

    @property
    def closing_mm(self) -> float:
        """What the base point has moved from its first visit to its last."""
        return drift_taken_out(self.mesh.counting)[1]

    @property
    def base_words(self) -> str:
        """How the base point stands; empty where it was visited once at most."""
        visits = [s for s in self.mesh.counting if s.point is None]
        if len(visits) < 2:
            return ""
        return f"The base point closes by {signed(self.closing_mm, 3)} mm over {len(visits)} visits; the drift is taken out."


def plan_grid(plan: MeshPlanned, plate: Plate, probe: Probe | None) -> MeshGrid:
    """Where the planned mesh has its points."""
    if plan.area_mm is None:
        return grid_on(plate, plan.columns, plan.rows, probe=None if plan.owns_zero else probe)
    left, front, right, back = plan.area_mm
    xs, ys = np.linspace(left, right, plan.columns), np.linspace(front, back, plan.rows)
    return MeshGrid(xs_mm=tuple(float(v) for v in np.round(xs, 2)), ys_mm=tuple(float(v) for v in np.round(ys, 2)))


def trend_of(state: RunState, *, felt: bool) -> Trend:
    """What the run believes of the plate, as a survey would read it."""
    belief = state.belief
    surface = belief.surface
    mean, cov = belief.collapsed
    if felt:
        return Trend(
            surface,
            mean,
            cov,
            surface.unit(surface.bias),
            state.drag_gap_at(*state.setup.plate.centre) - belief.shift_mm,
        )
    return Trend(surface, mean, cov, surface.unit(surface.probe_zero))


def survey_of(plan: MeshPlanned, state: RunState) -> Survey:
    setup = state.setup
    probe = None if plan.owns_zero else setup.machine.probe
    grid = plan_grid(plan, setup.plate, setup.machine.probe)
    points = plan_points(grid, setup.plate, probe)
    return Survey(state, plan, grid, points, trend_of(state, felt=plan.owns_zero), used_places(setup.plate, grid))


@once_per_state
def survey_at(run: OpenRun) -> Survey | None:
    """The survey being read in a run; None where none is."""
    plan = Mesh.of(run.state).plan
    return None if plan is None else survey_of(plan, run.state)
