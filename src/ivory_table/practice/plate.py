"""A practice plate: tilt, form, bumps, yielding supports, a hand and an eye with their scatter.

It answers through `core.hands.Hands` and keeps its truth in a file of its own, so that a
knob that was turned stays turned when the server dies.
"""

import json
import os
from dataclasses import asdict, dataclass, field
from hashlib import sha256
from pathlib import Path

import numpy as np

from ivory_table.core.entries import RunSetup
from ivory_table.core.gauge import FEELS, Feel, Gauge
from ivory_table.core.hands import Look
from ivory_table.core.mesh import MeshSurvey, believed_by_machine
from ivory_table.core.plate import Machine, Plate
from ivory_table.core.proof import ProofPlan
from ivory_table.core.surface import Array, Surface, bending_energy
from ivory_table.core.tram import coupling, hand_error_mm

#: What the drag of an unmeasured sheet really is, and a person's own bias, differ from plate to plate.
_SHEET_MM = 0.09


@dataclass
class Truth:
    """What the advice must not see. Lengths in mm; heights above the nozzle's plane at the start."""

    seed: int
    heights: list[float]
    lam: list[float]
    senses: list[int]
    forms: list[float]
    bumps: list[tuple[float, float, float]]
    feel_bias: float
    greasy: list[tuple[float, float]]
    shift: float = 0.0
    draws: int = 0
    mesh: MeshSurvey | None = field(default=None)


def crooked(machine: Machine, plate: Plate, seed: int) -> Truth:
    """A new crooked plate: knobs off by some tenths, a bow, a bump, one greasy place in three."""
    rng = np.random.default_rng(seed)
    surface = Surface.of(machine, plate)
    m = surface.knobs
    kappa = rng.uniform(0.3, 0.8)
    lam = (1 / kappa - 1) * np.exp(rng.normal(0, 0.2, m))
    off = rng.normal(0, 0.22 if m else 0.02, len(surface.anchors))
    heights = coupling(lam, bending_energy(surface.screws)) @ off if m else off
    x0, y0, x1, y1 = plate.bounds
    bumps = [(rng.uniform(x0, x1), rng.uniform(y0, y1), rng.normal(0, 0.008)) for _ in range(3)]
    greasy = [(rng.uniform(x0, x1), rng.uniform(y0, y1))] if rng.random() < 1 / 3 else []
    return Truth(
        seed=seed,
        heights=[float(h) for h in heights + rng.normal(0, 0.08)],
        lam=[float(v) for v in lam],
        senses=[s.sense for s in machine.screws],
        forms=[float(v) for v in rng.normal(0, [0.025, 0.01, 0.01])],
        bumps=bumps,
        feel_bias=float(rng.normal(0, 0.015)),
        greasy=greasy,
    )


class PracticePlate:
    """`Hands` over a `Truth`. Every action is written to the file before it is answered."""

    def __init__(self, machine: Machine, plate: Plate, gauge: Gauge, truth: Truth, file: Path | None = None) -> None:
        self.machine, self.plate, self.gauge, self._truth, self._file = machine, plate, gauge, truth, file
        self._surface = Surface.of(machine, plate)
        self._passes = coupling(truth.lam, bending_energy(self._surface.screws)) if machine.screws else np.zeros((0, 0))

    # The hand

    def try_sense(self, screw: int) -> str:
        self._move(screw, 1)
        self._keep()
        return "tighter" if self._truth.senses[screw] > 0 else "looser"

    def turn_until_drag(self, screw: int) -> int:
        rng = self._rng()
        s = self.machine.screws[screw]
        up = (self._drag_gap_height(s.x_mm, s.y_mm) + rng.normal(0, 0.014)) / self._passes[screw, screw]
        marks = up / (s.mm_per_mark * self._truth.senses[screw])
        self._move(screw, marks, rng)
        self._keep()
        return round(float(marks))

    def turn(self, screw: int, marks: int) -> None:
        self._move(screw, marks)
        self._keep()

    def slide_gauge(self, x_mm: float, y_mm: float, z_mm: float) -> Feel:
        gap = self._gap(x_mm, y_mm, z_mm) + self._rng().normal(0, 0.012)
        self._keep()
        cuts = self._sheet_mm() + self._truth.feel_bias + np.array([-0.040, -0.012, 0.008, 0.030])
        return FEELS[int(np.searchsorted(cuts, gap))]

    def clean(self, proof: ProofPlan, zone: int) -> None:
        at = proof.zones[zone]
        self._truth.greasy = [g for g in self._truth.greasy if np.hypot(g[0] - at.x_mm, g[1] - at.y_mm) > 40]
        self._keep()

    # The machine

    def read_height(self, x_mm: float, y_mm: float) -> float:
        """A dial or probe: repeatable, over a zero of its own."""
        sd = self.machine.probe.sd_mm if self.machine.probe else 0.006
        value = self._height(x_mm, y_mm) + 0.3 + self._rng().normal(0, sd)
        self._keep()
        return round(float(value), 3)

    def felt_height(self, x_mm: float, y_mm: float) -> float:
        """The height at which the gauge drags, by stepping the tip down to it."""
        value = self._height(x_mm, y_mm) - self._truth.shift + self._sheet_mm() + self._truth.feel_bias
        value += self._rng().normal(0, 0.013)
        self._keep()
        return round(float(value), 2)

    def use_mesh(self, survey: MeshSurvey | None) -> None:
        self._truth.mesh = survey
        self._keep()

    def move_nozzle(self, away_mm: float) -> None:
        self._truth.shift += away_mm
        self._keep()

    def print_zone(self, proof: ProofPlan, zone: int) -> Look:
        at, rng = proof.zones[zone], self._rng()
        gap = self._gap(at.x_mm, at.y_mm, proof.layer_mm)
        self._keep()
        greasy = any(np.hypot(g[0] - at.x_mm, g[1] - at.y_mm) < 40 for g in self._truth.greasy)
        if greasy:
            return Look(grade="loose", greasy=True)
        bead = proof.bead
        grade = bead.grade_at(gap + rng.normal(0, 0.04 * proof.layer_mm))
        fused = grade in ("sound", "ridged", "squeezed") and gap > 0.02
        caliper = round(float(gap + rng.normal(0, 0.01)), 2) if fused else None
        return Look(grade=grade, caliper_mm=caliper if caliper and caliper > 0 else None)

    # The truth

    def _sheet_mm(self) -> float:
        return self.gauge.thickness_mm if self.gauge.measured else _SHEET_MM

    def _height(self, x: float, y: float) -> float:
        place = np.array([[x, y]])
        base = self._surface.weights(place) @ np.array(self._truth.heights)
        form = self._surface.forms(place) @ np.array(self._truth.forms)
        bumps = sum(a * np.exp(-((x - bx) ** 2 + (y - by) ** 2) / (2 * 35.0**2)) for bx, by, a in self._truth.bumps)
        return float(base[0] + form[0] + bumps)

    def _gap(self, x: float, y: float, z: float) -> float:
        lift = 0.0
        if self._truth.mesh is not None:
            lift = float(believed_by_machine(self._truth.mesh, [(x, y)])[0])
            if not self._truth.mesh.owns_zero:
                lift -= float(believed_by_machine(self._truth.mesh, [self.plate.centre])[0])
        return z + self._truth.shift + lift - self._height(x, y)

    def _drag_gap_height(self, x: float, y: float) -> float:
        """How far the plate must rise here until the gauge drags with the tip at z 0."""
        return self._truth.shift - self._sheet_mm() - self._truth.feel_bias - self._height(x, y)

    def _move(self, screw: int, marks: float, rng: np.random.Generator | None = None) -> None:
        if not marks:
            return
        up = marks * self.machine.screws[screw].mm_per_mark * self._truth.senses[screw]
        up += (rng or self._rng()).normal(0, float(hand_error_mm(up)))
        heights: Array = np.array(self._truth.heights) + self._passes[:, screw] * up
        self._truth.heights = [float(h) for h in heights]

    def _rng(self) -> np.random.Generator:
        self._truth.draws += 1
        return np.random.default_rng([self._truth.seed, self._truth.draws])

    def _keep(self) -> None:
        if self._file is None:
            return
        body = {**asdict(self._truth), "mesh": self._truth.mesh.model_dump() if self._truth.mesh else None}
        fresh = self._file.with_suffix(".new")
        with fresh.open("w") as out:
            json.dump(body, out)
            out.flush()
            os.fsync(out.fileno())
        fresh.replace(self._file)


class PracticeRoom:
    """One practice plate per run, found again after a restart. With a `seed`, the same for every run."""

    def __init__(self, folder: Path, seed: int | None = None) -> None:
        self.folder, self.seed = folder, seed

    def hands_for(self, setup: RunSetup) -> PracticePlate | None:
        """The plate a run works on; None for a machine that is not marked as practice."""
        if not setup.machine.practice:
            return None
        self.folder.mkdir(parents=True, exist_ok=True)
        file = self.folder / f"{setup.id}.json"
        plate = setup.plate
        if file.exists():
            body = json.loads(file.read_text())
            mesh = body.pop("mesh")
            body["bumps"] = [(x, y, height) for x, y, height in body["bumps"]]
            body["greasy"] = [(x, y) for x, y in body["greasy"]]
            truth = Truth(**body, mesh=MeshSurvey.model_validate(mesh) if mesh else None)
        else:
            seed = self.seed
            if seed is None:
                seed = int.from_bytes(sha256(setup.id.encode()).digest()[:4], "big")
            truth = crooked(setup.machine, plate, seed)
        return PracticePlate(setup.machine, plate, setup.gauge, truth, file)
