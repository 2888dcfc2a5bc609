"""Random plates for the tram's trial, and the hand on their knobs: the policies cannot look into them."""

import tomllib
from importlib.resources import files
from typing import Any, Literal

import numpy as np

from ivory_table.core.defaults import FEEL
from ivory_table.core.gauge import FEELS, Feel, FeelScale
from ivory_table.core.plate import Machine, Plate, Screw
from ivory_table.core.surface import Surface
from ivory_table.core.tram import coupling, hand_error_mm, tolerance_mm
from ivory_table.core.value import Array
from ivory_table.practice.elastic import ElasticPlate, Truth

SCENARIO: dict[str, Any] = tomllib.loads(files(__package__).joinpath("tram.toml").read_text("utf-8"))
TOL = tolerance_mm(SCENARIO["layer_mm"])
PLATE = Plate(id="trial", name="trial", width_mm=SCENARIO["width_mm"], depth_mm=SCENARIO["depth_mm"])


def screws_of(count: int = 4, pitch_mm: float = SCENARIO["pitch_mm"]) -> tuple[Screw, ...]:
    at = next(s["at"] for s in SCENARIO["sets"] if s["name"] == str(count))
    marks = SCENARIO["marks_per_turn"]
    return tuple(
        Screw(name=f"screw {k + 1}", x_mm=x, y_mm=y, pitch_mm=pitch_mm, marks_per_turn=marks, sense_proved=True)
        for k, (x, y) in enumerate(at)
    )


def surface_of(screws: tuple[Screw, ...]) -> Surface:
    return Surface(PLATE, np.array([[s.x_mm, s.y_mm] for s in screws]))


class CoupledPlate:
    """The model's own truth: one compliance for all supports, given by the share of a twist that is passed."""

    def __init__(self, rng: np.random.Generator, screws: tuple[Screw, ...], kappa: float) -> None:
        self.a = coupling(np.full(len(screws), 1 / kappa - 1), surface_of(screws).bending)
        self.heights = self.a @ rng.normal(0, SCENARIO["knob_sd_mm"], len(screws))

    def move(self, j: int, up_mm: float) -> float:
        """Moves a support; says by how much."""
        self.heights = self.heights + self.a[:, j] * up_mm
        return up_mm


class SprungPlate:
    """The practice machine's truth: a bending plate on uneven supports whose bolts go slack. A crown is its own form."""

    def __init__(self, rng: np.random.Generator, screws: tuple[Screw, ...], crown_mm: float = 0.0) -> None:
        m, how = len(screws), SCENARIO["elastic"]
        low, high = np.log(how["stiffness_n_mm"])
        shape = rng.normal(0, SCENARIO["shape_sd_mm"])
        self.truth = Truth(
            seed=0,
            supports=[float(v) for v in rng.normal(0, SCENARIO["knob_sd_mm"], m)],
            stiffness=[float(v) for v in np.exp(rng.uniform(low, high, m))],
            senses=[1] * m,
            pitch_share=[float(v) for v in rng.normal(1, 0.01, m)],
            relaxed=[float(v) for v in rng.uniform(how["relaxed_mm"][0], how["relaxed_mm"][1], m)],
            lowest=[-4.0] * m,
            base_mm=how["base_mm"],
            shape=[float(shape[0] - crown_mm / 2), float(shape[1]), float(shape[2])],
        )
        machine = Machine(id="trial", name="trial", plates=(PLATE,), screws=screws, convention="live_only")
        self.plate = ElasticPlate(machine, PLATE, self.truth)

    @property
    def heights(self) -> Array:
        return self.plate.heights(self.plate.anchors)

    def move(self, j: int, up_mm: float) -> float:
        # Nobody turns a nut off its bolt, and nobody gets past a fully compressed spring.
        before, share = self.truth.supports[j], self.truth.pitch_share[j]
        self.truth.supports[j] = float(np.clip(before + up_mm * share, self.truth.lowest[j], self.truth.relaxed[j]))
        return (self.truth.supports[j] - before) / share

    def restart(self, rng: np.random.Generator) -> None:
        """The same machine, its knobs off anew."""
        self.truth.supports = [float(v) for v in rng.normal(0, SCENARIO["knob_sd_mm"], len(self.truth.supports))]


class Person:
    """The hand on the knob: its errors are the person's, the plate is the machine's."""

    def __init__(
        self, rng: np.random.Generator, screws: tuple[Screw, ...], plant: Any, reversed_knob: int = -1
    ) -> None:
        self.rng, self.screws, self.plant, self.reversed_knob = rng, screws, plant, reversed_knob

    def _turn_mm(self, j: int, up: float) -> None:
        """A knob turned so that, by its true sense, the support should move by `up`."""
        if up:
            self.plant.move(j, up + float(self.rng.normal(0, float(hand_error_mm(up)))))

    def until_drag(self, j: int, most_marks: float = 160) -> tuple[int, Literal["tight", "loose"] | None]:
        """Turned until the gauge drags, as a hand does it: a long turn, then a look, then the rest.

        The marks, and how the gauge still is where a knob is at its end or was turned as far as it should be.
        """
        mark = self.screws[j].mm_per_mark
        wanted_height = float(self.rng.normal(0, SCENARIO["feel_sd_mm"]))
        turned, passed, most = 0.0, 0.8, most_marks * mark
        for _ in range(12):
            before = float(self.plant.heights[j])
            if abs(wanted_height - before) < 0.002:
                break
            made = self.plant.move(j, float(np.clip((wanted_height - before) / passed, -most - turned, most - turned)))
            turned += made
            if abs(made) < 0.002:
                break
            passed = min(max((float(self.plant.heights[j]) - before) / made, 0.05), 1.2)
        off = float(self.plant.heights[j]) - wanted_height
        still: Literal["tight", "loose"] | None = None
        if abs(off) > SCENARIO["still_mm"]:
            still = "tight" if off > 0 else "loose"
        # What the hand did not mean to do: the count is of what it meant.
        if turned:
            self.plant.move(j, float(self.rng.normal(0, float(hand_error_mm(turned)))))
        return round(turned / mark) * (-1 if j == self.reversed_knob else 1), still

    def slide(self, j: int) -> Feel:
        """The gauge slid under the tip at z 0, and nothing turned."""
        scatter = (SCENARIO["feel_sd_mm"] ** 2 - FeelScale().stopping_sd_mm ** 2) ** 0.5
        gap = -float(self.plant.heights[j]) + float(self.rng.normal(0, scatter))
        return FEELS[int(np.searchsorted(FEEL.cuts_mm, gap))]

    def turn(self, j: int, marks: float) -> None:
        up = marks * self.screws[j].mm_per_mark
        self._turn_mm(j, -up if j == self.reversed_knob else up)

    def within(self) -> bool:
        return bool(np.ptp(self.plant.heights) <= 2 * TOL)
