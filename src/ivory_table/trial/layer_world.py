"""The truth of a first-layer trial: a plate, its filament, and what an eye tells of a zone. What is drawn is in `first_layer.toml`."""

import tomllib
from importlib.resources import files
from typing import Any, Literal

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.plate import Machine
from ivory_table.core.proof import ProofPlan, zones_on
from ivory_table.core.value import Array

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("first_layer.toml").read_text("utf-8"))
ZONES: Literal[5] = 5


class World:
    """One machine, its plate, its filament, and the person at it."""

    def __init__(self, machine: Machine, off_mm: float, rng: np.random.Generator, bead: Bead, target_mm: float) -> None:
        self.machine, self.plate, self.rng = machine, machine.plates[0], rng
        self.shift = target_mm - bead.layer_mm + off_mm
        self.tilt = rng.normal(0, SCENARIO["tilt_sd_mm"], 3) * (1, 1, 0.3)
        self.raised = np.zeros(len(machine.screws))
        self.own: dict[tuple[float, float], float] = {}
        self.eye = float(rng.uniform(*SCENARIO["eye_mm"]))
        self.habit = float(rng.normal(0, SCENARIO["habit_mm"]))
        self.flow = 1 + float(rng.normal(0, SCENARIO["flow_sd"]))
        draw = float(rng.random())
        shares = [SCENARIO[name] for name in ("grease_share", "feed_share", "cold_share")]
        self.cause = next(
            (n for n, top in zip(("grease", "feed", "cold_plate"), np.cumsum(shares), strict=True) if draw < top), ""
        )
        self.greasy: tuple[float, float] | None = None
        if self.cause == "grease":
            zone = zones_on(self.plate, ZONES)[int(rng.integers(ZONES))]
            self.greasy = (zone.x_mm, zone.y_mm)
        if self.cause == "feed":
            self.flow = 1 + float(rng.choice([-1, 1])) * SCENARIO["feed_off"]
        self.cold = self.cause == "cold_plate"
        self.lowest = np.inf

    def gaps(self, laid: ProofPlan) -> Array:
        """(z,) true gaps in mm."""
        (w, d), (cx, cy) = (self.plate.width_mm, self.plate.depth_mm), self.plate.centre
        u, v = (laid.places[:, 0] - cx) * 2 / w, (laid.places[:, 1] - cy) * 2 / d
        own = [
            self.own.setdefault(place, float(self.rng.normal(0, SCENARIO["zone_sd_mm"]))) for place in laid.zone_places
        ]
        screws = np.array([[s.x_mm, s.y_mm] for s in self.machine.screws])
        su, sv = (screws[:, 0] - cx) * 2 / w, (screws[:, 1] - cy) * 2 / d
        lift = np.linalg.lstsq(np.column_stack([np.ones(4), su, sv, su * sv]), self.raised, rcond=None)[0]
        height = self.tilt[0] * u + self.tilt[1] * v + self.tilt[2] * u * v
        height = height + np.column_stack([np.ones_like(u), u, v, u * v]) @ lift
        return np.asarray(laid.layer_mm + self.shift + laid.away_mm - height + np.array(own))

    def look(self, laid: ProofPlan, k: int, gap: float) -> dict[str, Any]:
        """What is told of one zone by eye."""
        zone, rng = laid.zones[k], self.rng
        here = self.greasy is not None and np.hypot(zone.x_mm - self.greasy[0], zone.y_mm - self.greasy[1]) < 25
        # Where the tip has no room it tears and scrapes, however the plate is.
        room = gap > SCENARIO["room_share"] * laid.layer_mm
        fails = room and (
            (here and rng.random() < SCENARIO["grease_fails"]) or (self.cold and rng.random() < SCENARIO["cold_fails"])
        )
        if fails:
            return {"grade": "loose" if rng.random() < SCENARIO["fails_loose"] else "barely"}
        seen = gap + float(rng.normal(0, self.eye)) + self.habit
        return {"grade": Bead(laid.line_mm, laid.layer_mm, self.flow).grade_at(seen)}
