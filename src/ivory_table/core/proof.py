"""The proof: where its patches lie, and the program that prints it."""

from functools import lru_cache
from math import cos, hypot, pi, sin
from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from .bead import Bead
from .defaults import BEAD, PROOF
from .laying import Points, Program, Writer, ascii_only, is_clear
from .manner import Manner, shipped
from .plate import Filament, Machine, Plate
from .value import Array, Value

ZoneCount = Literal[5, 9]


class Zone(Value):
    """One patch of a proof, named by where it lies, at its centre."""

    name: str
    x_mm: float
    y_mm: float


class ProofPlan(Value):
    """What is printed: zones, line and layer, and the temperatures."""

    zones: Annotated[tuple[Zone, ...], Field(min_length=3, max_length=9)]
    patch_mm: Annotated[float, Field(ge=8, le=60)]
    line_mm: Annotated[float, Field(ge=0.1, le=3)]
    layer_mm: Annotated[float, Field(ge=0.05, le=1.5)]
    bed_c: Annotated[float, Field(ge=0, le=150)]
    nozzle_c: Annotated[float, Field(ge=120, le=350)]

    @model_validator(mode="after")
    def _line_covers_layer(self) -> Self:
        if self.layer_mm > self.line_mm:
            raise ValueError("The layer is higher than the line is wide; such a line is not laid but dropped.")
        return self

    @property
    def bead(self) -> Bead:
        return Bead(self.line_mm, self.layer_mm)

    @property
    def places(self) -> Array:
        return np.array([[z.x_mm, z.y_mm] for z in self.zones])


_ROWS = {
    5: (("front left", -1, -1), ("front right", 1, -1), ("centre", 0, 0), ("rear left", -1, 1), ("rear right", 1, 1)),
    9: (
        ("front left", -1, -1),
        ("front", 0, -1),
        ("front right", 1, -1),
        ("left", -1, 0),
        ("centre", 0, 0),
        ("right", 1, 0),
        ("rear left", -1, 1),
        ("rear", 0, 1),
        ("rear right", 1, 1),
    ),
}


def zones_on(plate: Plate, count: ZoneCount, patch_mm: float = PROOF.patch_mm) -> tuple[Zone, ...]:
    """Five or nine zones, as far out as patch, skirt and keep-outs allow."""
    inset = PROOF.margin_mm + patch_mm / 2
    cx, cy = plate.centre
    reach_x, reach_y = plate.width_mm / 2 - inset, plate.depth_mm / 2 - inset
    zones = []
    for name, i, j in _ROWS[count]:
        dx, dy = i * reach_x, j * reach_y
        if plate.shape == "round" and i and j:
            # The patch's outer corner, not its centre, must stay on the disc.
            diagonal = (plate.width_mm / 2 - PROOF.margin_mm) / 2**0.5 - patch_mm / 2
            dx, dy = i * diagonal, j * diagonal
        x, y = _clear_of_keep_outs(plate, cx + dx, cy + dy, patch_mm)
        zones.append(Zone(name=name, x_mm=round(x, 2), y_mm=round(y, 2)))
    return tuple(zones)


def _clear_of_keep_outs(plate: Plate, x: float, y: float, patch_mm: float) -> tuple[float, float]:
    """Step a patch towards the centre until it and its skirt miss every keep-out."""
    cx, cy = plate.centre
    for share in np.linspace(0, 0.8, 41):
        px, py = x + (cx - x) * share, y + (cy - y) * share
        if not plate.kept_out(px, py, patch_mm / 2 + 2):
            return px, py
    raise ValueError(f"A keep-out leaves no room for the patch near ({x:g}, {y:g}).")


def plan(machine: Machine, plate: Plate, filament: Filament, count: ZoneCount = 5) -> ProofPlan:
    """The proof for this machine, plate and filament: line and layer from the nozzle."""
    return ProofPlan(
        zones=zones_on(plate, count),
        patch_mm=PROOF.patch_mm,
        line_mm=round(BEAD.line_per_nozzle * machine.nozzle_mm, 3),
        layer_mm=round(BEAD.layer_per_nozzle * machine.nozzle_mm, 3),
        bed_c=filament.bed_c,
        nozzle_c=filament.nozzle_c,
    )


@lru_cache(maxsize=16)
def program(
    machine: Machine,
    plate: Plate,
    filament: Filament,
    proof: ProofPlan,
    *,
    mesh_on: bool,
    manner: Manner = shipped("harbour"),
) -> Program:
    """The proof as a complete program: heat, home, mesh on, prime, skirt, patches, lifted and warm.

    Raises ValueError when a patch, the skirt or the prime line would leave the plate or enter a keep-out.
    """
    out = Writer(machine, filament, proof.bead, manner)
    h = proof.layer_mm
    out.begin(
        f"Proof for {ascii_only(machine.name)}, {ascii_only(plate.name)}, {ascii_only(filament.name)}",
        f"{len(proof.zones)} patches, line {proof.line_mm:g} mm, layer {h:g} mm",
        bed_c=proof.bed_c,
        nozzle_c=proof.nozzle_c,
        mesh="mesh_on" if mesh_on else None,
    )
    prime = _prime(plate, proof)
    out.travel(*prime[0])
    out.lift_to(h)
    out.say("; prime")
    for x, y in prime[1:]:
        out.line(x, y)
    out.say("; skirt, the first loop primes and is not graded")
    for loop in range(PROOF.skirt_loops):
        out.path(_skirt(plate, proof, (PROOF.skirt_loops - 1 - loop) * proof.line_mm), h)
    for number, zone in enumerate(proof.zones, 1):
        out.say(f"; patch {number}: {zone.name}")
        out.path(_patch(proof, zone), h)
        for stroke in _strokes(proof, zone, number):
            out.path(stroke, h)
    out.end()
    return out.program(plate, h)


def _prime(plate: Plate, proof: ProofPlan) -> Points:
    """A double line inside the plate, clear of keep-outs and patches, near the front if it can be."""
    cx, cy = plate.centre
    length = min(80.0, plate.width_mm / 3)
    for y in np.arange(cy - plate.depth_mm / 2 + 4, cy, 2.0):
        w = proof.line_mm
        points: Points = [
            (cx - length / 2, float(y)), (cx + length / 2, float(y)),
            (cx + length / 2, float(y) + w), (cx - length / 2, float(y) + w),
        ]  # fmt: skip
        if is_clear(plate, points, 3):
            return points
    raise ValueError("The keep-outs leave no room for a prime line in the front half of the plate.")


def _skirt(plate: Plate, proof: ProofPlan, further_out: float) -> Points:
    """A loop around the middle patch: it primes the tip and must not cross any patch."""
    centre = min(proof.zones, key=lambda z: hypot(z.x_mm - plate.centre[0], z.y_mm - plate.centre[1]))
    half = proof.patch_mm / 2 + PROOF.skirt_gap_mm + further_out
    r = half * 2**0.5
    if r * 2 < 30:
        r = 15 + further_out
    turn = np.linspace(0, 2 * pi, 49)
    return [(round(centre.x_mm + r * cos(a), 3), round(centre.y_mm + r * sin(a), 3)) for a in turn]


def _patch(proof: ProofPlan, zone: Zone) -> Points:
    """Parallel lines at the bead's pitch, to and fro."""
    pitch, half = proof.bead.pitch_mm, proof.patch_mm / 2
    count = int(proof.patch_mm / pitch)
    y0 = zone.y_mm - (count - 1) * pitch / 2
    points: Points = []
    for k in range(count):
        ends = (zone.x_mm - half, zone.x_mm + half)
        for x in ends if k % 2 == 0 else reversed(ends):
            points.append((x, y0 + k * pitch))
    return points


def _strokes(proof: ProofPlan, zone: Zone, number: int) -> list[Points]:
    """The zone's number as short strokes beside the patch, on the side of the plate's middle."""
    half = proof.patch_mm / 2
    middle = float(np.mean([z.x_mm for z in proof.zones]))
    side = 1 if zone.x_mm <= middle else -1
    x = zone.x_mm + side * (half + 1.5)
    y0 = zone.y_mm - half
    return [[(x, y0 + 2 * k), (x + side * 3, y0 + 2 * k)] for k in range(number)]
