"""The practice machine's body: axes, heat, probe, the plate under it, and what happens when they meet.

It does what it is told and knows no more than a real machine would: a crash is counted and
left on the plate, and is seen by the trainer alone.
"""

import json
import os
from collections.abc import Callable
from dataclasses import asdict, dataclass, field
from math import hypot
from pathlib import Path
from typing import Any
from uuid import uuid4

import numpy as np

from ivory_table.core.gauge import Gauge
from ivory_table.core.mesh import BILINEAR, MeshLaw, MeshSurvey, believed_by_machine
from ivory_table.core.plate import Machine, Plate
from ivory_table.core.value import Array
from ivory_table.program.laying import moving_time_s

from .elastic import ElasticPlate, Truth, crooked
from .heat import ROOM_C, bed, tip

#: A gauge pressed by more than this, a tip below the plate, or a tip in a clip is a crash.
PRESSED_MM = 0.1
CLIP_MM = 3.0
REACH_MM = 6.0
TOP_MM = 200.0
IDLE_S = 600.0
STEP_MM = 0.0025
LOWEST_MM = -2.0
#: A touch probe triggers with its tip this far above the plate.
TRIGGER_ABOVE_MM = 1.6


class CannotMove(ValueError):
    """What a machine answers instead of moving."""


@dataclass(frozen=True)
class Laid:
    """A short piece of line as it came out: where, at which gap, with how much plastic per mm."""

    x_mm: float
    y_mm: float
    gap_mm: float
    filament_mm: float
    length_mm: float
    tip_c: float
    bed_c: float
    speed_mm_s: float


@dataclass
class Crash:
    x_mm: float
    y_mm: float
    deep_mm: float
    into: str


@dataclass
class Ways:
    """Faults that a trainer or a test can switch on."""

    probe_too_high: bool = False
    dirty_tip_mm: float = 0.0
    stall_mm: float = 0.0
    finger_on_probe: bool = False


@dataclass
class PracticeMachine:
    """One machine with a plate mounted. `seconds` is its own time; `sleep` makes others wait for it."""

    machine: Machine
    gauge: Gauge
    truth: Truth
    file: Path | None = None
    #: Motors are let go after standing still for so long, in the machine's own seconds.
    idle_s: float = IDLE_S
    sleep: Callable[[float], None] = lambda _: None
    seconds: float = 0.0
    at: list[float] = field(default_factory=lambda: [0.0, 0.0, 30.0])
    homed: bool = False
    drifted_mm: float = 0.0
    live_mm: float = 0.0
    nudge_mm: float = 0.0
    mesh: MeshSurvey | None = None
    mesh_on: bool = False
    #: Whether the mesh is kept through a power cut, and what is made of it.
    mesh_stored: bool = False
    mesh_law: MeshLaw = BILINEAR
    fan: float = 0.0
    speed_share: float = 1.0
    laid: list[Laid] = field(default_factory=list)
    crashes: list[Crash] = field(default_factory=list)
    ways: Ways = field(default_factory=Ways)
    #: Where the person holds the gauge under the tip, if they do.
    gauge_under_tip: bool = False
    probe_warm_mm: float = 0.0

    def __post_init__(self) -> None:
        self.bed, self.tip = bed(), tip()
        self.core_c = ROOM_C
        self._last_motion = 0.0
        self._last_down = True
        self.remount(self.truth.mount or self.machine.plates[0].id)

    @classmethod
    def of(cls, machine: Machine, gauge: Gauge, seed: int, file: Path | None = None) -> "PracticeMachine":
        """The machine as its file left it, or a newly crooked one."""
        if file is not None and file.exists():
            body = json.loads(file.read_text())
            mesh = body.pop("mesh")
            mesh_on = body.pop("mesh_on")
            mesh_stored = body.pop("mesh_stored", False)
            body["bumps"] = [tuple(b) for b in body["bumps"]]
            body["greasy"] = [tuple(g) for g in body["greasy"]]
            # With its mesh from the start: being made it is written down at once.
            kept_mesh = MeshSurvey.model_validate(mesh) if mesh else None
            return cls(machine, gauge, Truth(**body), file, mesh=kept_mesh, mesh_on=mesh_on, mesh_stored=mesh_stored)
        return cls(machine, gauge, crooked(machine, machine.plates[0], seed), file)

    def restart(self, *, cut: bool) -> None:
        """Switched on: where it stands is not known, and live changes are gone; after a cut so is what was not stored of a mesh."""
        self.homed, self.nudge_mm, self.speed_share = False, 0.0, 1.0
        if not cut:
            return
        if not self.mesh_stored:
            self.mesh = None
        self.mesh_on = False

    def remount(self, plate_id: str) -> None:
        """Put a plate on: its stack's thickness is where the surface begins."""
        self.mounted: Plate = self.machine.plate(plate_id)
        self.truth.mount = plate_id
        self.plate = ElasticPlate(self.machine, self.mounted, self.truth)
        usual = _stack_mm(self.machine.plates[0])
        self._stack = _stack_mm(self.mounted) - usual
        self.keep()

    # Time and heat

    def wait(self, seconds: float) -> None:
        """Let the machine's own time go by, and others with it."""
        if seconds > 0:
            self.pass_time(seconds)
            self.sleep(seconds)

    def pass_time(self, seconds: float) -> None:
        """The machine's own time alone: nobody is kept waiting."""
        self.seconds += seconds
        self.bed.pass_time(seconds)
        self.tip.pass_time(seconds)
        # The plate's core follows the bed: the middle takes minutes to come to its shape.
        share = 1 - float(np.exp(-seconds / (60 * self.truth.heat_minutes)))
        self.core_c += (self.bed.body_c - self.core_c) * share
        close = self.at[2] < 12 and self.bed.body_c > 45
        warm = 0.02 if close else 0.0
        self.probe_warm_mm += (warm - self.probe_warm_mm) * (1 - float(np.exp(-seconds / 240)))
        if self.homed and self.seconds - self._last_motion > self.idle_s:
            self.let_go()
        self._creep(seconds)

    def let_go(self) -> None:
        """Motors off: the axes may have moved, and nobody knows by how much."""
        self.homed = False
        self.drifted_mm += float(self.rng().normal(0, 0.05))

    def _creep(self, seconds: float) -> None:
        for j in range(len(self.machine.screws)):
            if self.plate.preload(j) < 2.0:
                self.truth.supports[j] -= 0.004 * seconds / 600

    # Motion

    def home(self) -> float:
        """To the stops; seconds it takes. The stop repeats to a few thousandths."""
        took = max(hypot(self.at[0], self.at[1]) / 60, 1.0) + abs(self.at[2]) / 8 + 4
        x0, y0, _, _ = self.mounted.bounds
        self.at = [x0, y0, 10.0]
        self.drifted_mm = float(self.rng().normal(0, 0.002))
        # Whoever homes for another print has taken the last one off.
        self.laid.clear()
        self.homed, self._last_motion = True, self.seconds
        self.wait(took)
        self._last_motion = self.seconds
        return took

    def move(
        self, x: float | None, y: float | None, z: float | None, feed_mm_s: float, filament_mm: float = 0.0
    ) -> float:
        """A straight move of the nozzle; seconds it takes. Raises CannotMove."""
        if not self.homed:
            raise CannotMove("position unknown, home first")
        end = [self.at[0] if x is None else x, self.at[1] if y is None else y, self.at[2] if z is None else z]
        x0, y0, x1, y1 = self.mounted.bounds
        inside = x0 - REACH_MM <= end[0] <= x1 + REACH_MM and y0 - REACH_MM <= end[1] <= y1 + REACH_MM
        if not inside or not LOWEST_MM <= end[2] <= TOP_MM:
            raise CannotMove(f"outside the limits x{end[0]:.2f} y{end[1]:.2f} z{end[2]:.2f}")
        start = self.at
        length = float(np.linalg.norm(np.array(end) - np.array(start)))
        if end[2] != start[2]:
            self._last_down = end[2] < start[2]
        if self.ways.stall_mm and length:
            self.drifted_mm += self.ways.stall_mm
            self.ways.stall_mm = 0.0
        self.gauge_under_tip = self.gauge_under_tip and end[2] < CLIP_MM
        self._meet(start, end, filament_mm, feed_mm_s * self.speed_share)
        self.at = end
        took = moving_time_s(length, feed_mm_s * self.speed_share) if length else 0.0
        self._last_motion = self.seconds
        self.wait(took)
        self._last_motion = self.seconds
        return took

    def _meet(self, start: list[float], end: list[float], filament_mm: float, speed_mm_s: float) -> None:
        """What the tip passes over, touches, scrapes or lays on the way."""
        length = hypot(end[0] - start[0], end[1] - start[1])
        if min(start[2], end[2]) > CLIP_MM + 1:
            return
        pieces = max(int(length / 2), 1)
        share = (np.arange(pieces) + 1) / pieces
        path = np.array(start) + (np.array(end) - np.array(start)) * share[:, None]
        on = np.array([self.mounted.holds(float(px), float(py)) for px, py in path[:, :2]])
        if not on.any():
            return
        path = path[on]
        gaps = self.gaps(path)
        into = [self.mounted.kept_out(float(px), float(py)) for px, py, _ in path]
        clipped = [k for k, name in enumerate(into) if name and path[k, 2] < CLIP_MM]
        needed = self.sheet_mm() - PRESSED_MM if self.gauge_under_tip else 0.0
        worst = int(np.argmin(gaps))
        if clipped:
            k = clipped[0]
            self.crashes.append(Crash(float(path[k, 0]), float(path[k, 1]), 0.0, str(into[k])))
        elif gaps[worst] < needed:
            what = "the gauge" if gaps[worst] > 0 else "the plate"
            self.crashes.append(Crash(float(path[worst, 0]), float(path[worst, 1]), float(needed - gaps[worst]), what))
        if filament_mm > 0 and length > 0.3:
            each = length / pieces
            for (px, py, _), gap in zip(path, gaps, strict=True):
                self.laid.append(
                    Laid(
                        float(px),
                        float(py),
                        float(gap),
                        filament_mm / length,
                        each,
                        self.tip.body_c,
                        self.bed.body_c,
                        speed_mm_s,
                    )
                )
            del self.laid[:-20_000]

    def press(self, x: float, y: float, gap: float) -> None:
        """A gauge under the tip at a place: pressed too hard, it is a crash."""
        if gap < self.sheet_mm() - PRESSED_MM:
            into = "the gauge" if gap > 0 else "the plate"
            self.crashes.append(Crash(x, y, self.sheet_mm() - PRESSED_MM - gap, into))

    def probe(self) -> float | None:
        """Down until the probe triggers: the nozzle's z there, or None when it never does."""
        probe = self.machine.probe
        if not self.homed:
            raise CannotMove("position unknown, home first")
        if probe is None:
            raise CannotMove("there is no probe")
        place = (self.at[0] + probe.beside.x_mm, self.at[1] + probe.beside.y_mm)
        if not self.mounted.holds(*place):
            raise CannotMove("the probe would miss the plate")
        at = np.array([[*place, 0.0]])
        surface = float(self.surface(at[:, :2])[0]) - self.shift_mm
        trigger = surface + TRIGGER_ABOVE_MM + self.probe_warm_mm + self.ways.dirty_tip_mm
        trigger += float(self.rng().normal(0, probe.sd_mm))
        self.wait(max(self.at[2] - trigger, 0.5) / 5 + 0.6)
        self._last_motion = self.seconds
        if self.ways.probe_too_high:
            # The tip arrives first.
            self.crashes.append(Crash(self.at[0], self.at[1], 0.5, "the plate"))
            return None
        if self.mounted.kept_out(*place):
            trigger += CLIP_MM
        return round(trigger / STEP_MM) * STEP_MM

    # The truth about places

    @property
    def shift_mm(self) -> float:
        """How much further from the plate the nozzle runs than when it was made."""
        return self.truth.shift + self.live_mm + self.nudge_mm + self.drifted_mm

    def surface(self, xy: Array) -> Array:
        """(n, 2) places -> (n,) mm, hot or cold as it is now."""
        return self.plate.heights(xy, self.core_c - ROOM_C) + self._stack

    def gaps(self, path: Array) -> Array:
        """(n, 3) commanded places -> (n,) true gaps in mm."""
        lift = np.zeros(len(path))
        if self.mesh is not None and self.mesh_on:
            lift = believed_by_machine(self.mesh, path[:, :2], self.mesh_law)
            if not self.mesh.owns_zero:
                lift = lift - believed_by_machine(self.mesh, [self.mounted.centre], self.mesh_law)[0]
        z = np.round(path[:, 2] / STEP_MM) * STEP_MM
        play = 0.0 if self._last_down else self.truth.backlash_mm
        hangs = np.zeros(len(path))
        if (beam := self.machine.beam) is not None:
            hangs = self.truth.beam_mm * (path[:, 0] - self.mounted.centre[0]) / (beam.right_mm - beam.left_mm)
        return np.asarray(z + self.shift_mm + play + lift + hangs - self.surface(path[:, :2]))

    def gap(self, x: float, y: float, z: float) -> float:
        return float(self.gaps(np.array([[x, y, z]]))[0])

    def sheet_mm(self) -> float:
        return self.gauge.thickness_mm if self.gauge.measured else self.truth.sheet_mm

    # Keeping

    def rng(self) -> np.random.Generator:
        self.truth.draws += 1
        return np.random.default_rng([self.truth.seed, self.truth.draws])

    def as_kept(self) -> dict[str, Any]:
        """All that outlasts its process, as its file holds it: the truth, and the mesh that it follows."""
        mesh = self.mesh.model_dump(mode="json") if self.mesh else None
        return asdict(self.truth) | {"mesh": mesh, "mesh_on": self.mesh_on, "mesh_stored": self.mesh_stored}

    def keep(self) -> None:
        """To the file, whole or not at all: a knob that was turned stays turned."""
        if self.file is None:
            return
        self.file.parent.mkdir(parents=True, exist_ok=True)
        body = self.as_kept()
        # A name of its own: two who keep at once must not move each other's file.
        fresh = self.file.with_suffix(f".{uuid4().hex}.new")
        with fresh.open("w") as out:
            json.dump(body, out)
            out.flush()
            os.fsync(out.fileno())
        fresh.replace(self.file)


def _stack_mm(plate: Plate) -> float:
    return sum(layer.thickness_mm or 0.0 for layer in plate.layers)
