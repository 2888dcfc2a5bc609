"""The proof as a program."""

from functools import lru_cache
from math import cos, hypot, pi, sin

import numpy as np

from ivory_table.core.defaults import PROOF
from ivory_table.core.manner import Manner, shipped
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.proof import ProofPlan, Zone
from ivory_table.program.check import Points, is_clear
from ivory_table.program.laying import Program, Writer, ascii_only


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
