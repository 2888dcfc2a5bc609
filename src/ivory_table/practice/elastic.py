"""A bending plate on springs: the practice machine's own physics, richer than what the stations believe.

Kirchhoff plate by Ritz's method with Legendre polynomials (Timoshenko and Woinowsky-Krieger
1959, ch. 10), on supports of uneven stiffness whose bolts go slack when the spring's preload
is used up. Lengths in mm, forces in N.
"""

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
from numpy.polynomial import legendre

from ivory_table.core.plate import Machine, Plate
from ivory_table.core.surface import Surface
from ivory_table.core.value import Array

_DEGREE = 8
_MODULUS_N_MM2, _POISSON = 70_000.0, 0.33
_TERMS = tuple((i, j) for i in range(_DEGREE + 1) for j in range(_DEGREE + 1 - i))


@dataclass
class Truth:
    """What no advice may see. Everything a restart needs, as plain numbers."""

    seed: int
    #: Where each screw holds its support, mm up; three fixed rests where there are no screws.
    supports: list[float]
    stiffness: list[float]
    senses: list[int]
    #: True mm per turn over the declared pitch.
    pitch_share: list[float]
    #: The support heights at which a spring is relaxed, and fully compressed.
    relaxed: list[float]
    lowest: list[float]
    base_mm: float = 3.0
    #: Natural shape of the unloaded plate: u^2 + v^2, u^2 - v^2, u v.
    shape: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0])
    #: x, y, height and width of local bumps.
    bumps: list[tuple[float, float, float, float]] = field(default_factory=list)
    heat_bow_mm_c: float = 0.0
    heat_minutes: float = 3.0
    feel_bias: float = 0.0
    feel_scatter: float = 0.012
    sheet_mm: float = 0.09
    extrusion: float = 1.0
    greasy: list[tuple[float, float]] = field(default_factory=list)
    #: What keeps all zones from holding, or spoils what is fed, beside the height; see `core.causes`.
    cause: str = ""
    #: How much longer the tip is for each °C, mm, against what it is at printing heat.
    tip_mm_per_c: float = 0.0
    backlash_mm: float = 0.012
    shift: float = 0.0
    #: How far a second tip hangs above the first; None before anybody has looked.
    second_mm: float | None = None
    #: Prints it has made so far, by its own count.
    prints: int = 0
    #: How much higher the right end of a beam on two drives hangs than the left one.
    beam_mm: float = 0.0
    stored_mm: float = 0.0
    mount: str = ""
    draws: int = 0


#: Springs push with this many N for each mm they are compressed.
SPRING_N_MM = 8.0


def crooked(machine: Machine, plate: Plate, seed: int, *, knob_sd_mm: float = 0.22) -> Truth:
    """A new crooked plate: knobs off by some tenths, uneven supports, a form, bumps, grease on one in three."""
    rng = np.random.default_rng(seed)
    # A stream that neither this one nor any of the machine's draws meets.
    beam = np.random.default_rng(np.random.SeedSequence(seed, spawn_key=(0,)))
    m = len(machine.screws)
    rests = m or 3
    x0, y0, x1, y1 = plate.bounds
    common = rng.normal(0, 0.08)
    return Truth(
        seed=seed,
        supports=[float(v) for v in common + rng.normal(0, knob_sd_mm if m else 0.02, rests)],
        stiffness=[float(v) for v in np.exp(rng.uniform(np.log(25), np.log(300))) * np.exp(rng.normal(0, 0.3, rests))],
        senses=[s.sense for s in machine.screws],
        pitch_share=[float(v) for v in rng.normal(1, 0.01, m)],
        relaxed=[float(v) for v in rng.uniform(3.0, 5.0, rests)],
        lowest=[float(v) for v in rng.uniform(-4.0, -2.5, rests)],
        shape=[float(v) for v in rng.normal(0, [0.025, 0.012, 0.012])],
        bumps=[
            (float(rng.uniform(x0, x1)), float(rng.uniform(y0, y1)), float(rng.normal(0, 0.008)), 35.0)
            for _ in range(3)
        ],
        heat_bow_mm_c=float(abs(rng.normal(0.0003, 0.0002))),
        feel_bias=float(rng.normal(0, 0.015)),
        greasy=[(float(rng.uniform(x0, x1)), float(rng.uniform(y0, y1)))] if rng.random() < 1 / 3 else [],
        extrusion=float(rng.normal(1, 0.015)),
        stored_mm=machine.stored_mm,
        beam_mm=float(beam.normal(0, 0.35)) if machine.beam else 0.0,
        mount=plate.id,
    )


class ElasticPlate:
    """Heights of a plate held by its supports, for a `Truth` that others may change between calls."""

    def __init__(self, machine: Machine, plate: Plate, truth: Truth) -> None:
        self.plate, self.truth = plate, truth
        self.anchors = Surface.of(machine, plate).anchors
        self._at_anchors = self._basis(self.anchors)
        self._bending = _bending(plate.width_mm, plate.depth_mm, truth.base_mm)
        self._solved: tuple[tuple[float, ...], Array] | None = None
        self._linear: Array | None = None

    def heights(self, xy: Array, heat_c: float = 0.0) -> Array:
        """(n, 2) places -> (n,) mm. `heat_c`: how far the plate's core is above the room."""
        basis = self._at_anchors if xy is self.anchors else self._basis(xy)
        return np.asarray(basis @ self._deflection(heat_c) + self._natural(xy, heat_c))

    def preload(self, j: int) -> float:
        """N with which a spring presses its bolt; none left is a slack screw."""
        return SPRING_N_MM * max(self.truth.relaxed[j] - self.truth.supports[j], 0.0)

    def slack(self) -> list[int]:
        """The screws whose bolts carry nothing now."""
        d = self.heights(self.anchors) - np.array(self.truth.supports)
        k = np.array(self.truth.stiffness)
        preload = np.array([self.preload(j) for j in range(len(k))])
        return [int(j) for j in np.flatnonzero(k * d <= -preload + 1e-9)]

    def passes(self) -> Array:
        """(m, m) how the plate at the screws follows the supports while no bolt is slack."""
        if self._linear is None:
            k = np.array(self.truth.stiffness)
            b = self._at_anchors
            self._linear = np.asarray(b @ np.linalg.solve(self._bending + (b.T * k) @ b, b.T * k))
        return self._linear

    def _deflection(self, heat_c: float) -> Array:
        """Coefficients at equilibrium, by Newton's method on the piecewise linear supports."""
        t = self.truth
        key = (*t.supports, round(heat_c, 2), *t.shape)
        if self._solved is not None and self._solved[0] == key:
            return self._solved[1]
        b, k = self._at_anchors, np.array(t.stiffness)
        wanted = np.array(t.supports) - self._natural(self.anchors, heat_c)
        preload = np.array([self.preload(j) for j in range(len(k))])
        relaxed = np.array(t.relaxed) - self._natural(self.anchors, heat_c)
        slack = np.zeros(len(k), dtype=bool)
        q = np.zeros(len(_TERMS))
        for _ in range(2 * len(k) + 2):
            # A slack bolt holds nothing: the spring alone pushes, softly, towards where it is relaxed.
            stiff = np.where(slack, SPRING_N_MM, k)
            push = np.where(slack, SPRING_N_MM * (relaxed - preload / k), k * wanted)
            q = np.asarray(np.linalg.solve(self._bending + (b.T * stiff) @ b, b.T @ push), dtype=float)
            now = k * (b @ q - wanted) < -preload - 1e-9
            if (now == slack).all():
                break
            slack = now
        self._solved = (key, q)
        return q

    def _natural(self, xy: Array, heat_c: float) -> Array:
        u, v = self._normal(xy)
        bow, saddle, twist = self.truth.shape
        # Clamped at the screws and hot below, the middle rises.
        bow -= self.truth.heat_bow_mm_c * heat_c
        z: Array = np.asarray(bow * (u * u + v * v) + saddle * (u * u - v * v) + twist * u * v)
        for x, y, height, width in self.truth.bumps:
            z = np.asarray(
                z + height * np.exp(-((xy[:, 0] - x) ** 2 + (xy[:, 1] - y) ** 2) / (2 * width**2)), dtype=float
            )
        return np.asarray(z)

    def _normal(self, xy: Array) -> tuple[Array, Array]:
        cx, cy = self.plate.centre
        return (xy[:, 0] - cx) * 2 / self.plate.width_mm, (xy[:, 1] - cy) * 2 / self.plate.depth_mm

    def _basis(self, xy: Array) -> Array:
        u, v = self._normal(np.atleast_2d(np.asarray(xy, dtype=float)))
        pu, pv = legendre.legvander(u, _DEGREE), legendre.legvander(v, _DEGREE)
        return np.column_stack([pu[:, i] * pv[:, j] for i, j in _TERMS])


@lru_cache(maxsize=64)
def _bending(width_mm: float, depth_mm: float, thick_mm: float) -> Array:
    """Hessian of the bending energy, (terms, terms), by Gauss-Legendre quadrature."""
    stiff = _MODULUS_N_MM2 * thick_mm**3 / (12 * (1 - _POISSON**2))
    nodes, weights = legendre.leggauss(_DEGREE + 1)

    def along(order: int) -> Array:
        """(nodes, degree + 1) Legendre polynomials, differentiated `order` times."""
        columns = []
        for n in range(_DEGREE + 1):
            unit = np.zeros(n + 1)
            unit[n] = 1
            columns.append(
                legendre.legval(nodes, legendre.legder(unit, order)) if order else legendre.legval(nodes, unit)
            )
        return np.column_stack(columns)

    p, d1, d2 = along(0), along(1), along(2)
    su, sv = 2 / width_mm, 2 / depth_mm
    energy = np.zeros((len(_TERMS), len(_TERMS)))
    for a in range(len(nodes)):
        for b in range(len(nodes)):
            xx = np.array([d2[a, i] * p[b, j] for i, j in _TERMS]) * su * su
            yy = np.array([p[a, i] * d2[b, j] for i, j in _TERMS]) * sv * sv
            xy = np.array([d1[a, i] * d1[b, j] for i, j in _TERMS]) * su * sv
            mixed = np.outer(xx, yy)
            density = np.outer(xx, xx) + np.outer(yy, yy) + _POISSON * (mixed + mixed.T)
            density += 2 * (1 - _POISSON) * np.outer(xy, xy)
            energy += weights[a] * weights[b] * density
    return stiff * energy * width_mm * depth_mm / 4
