"""The proof: where its patches lie, and the program that prints it."""

from typing import Annotated, Literal, Self

import numpy as np
from pydantic import Field, model_validator

from .bead import Bead
from .defaults import BEAD, PROOF
from .mesh import MeshGrid
from .plate import Filament, Machine, Plate
from .value import Array, Value

#: Where the patches of a proof lie: five or nine over the plate, or up to nine points of the mesh in use.
ZoneCount = Literal[5, 9, "mesh"]


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


def zones_on(plate: Plate, count: Literal[5, 9], patch_mm: float = PROOF.patch_mm) -> tuple[Zone, ...]:
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


def zones_at(plate: Plate, grid: MeshGrid, patch_mm: float) -> tuple[Zone, ...]:
    """Up to nine points of a mesh, its corners and middles first, where a patch has room; a patch near the edge moves inwards."""
    xs, ys = (tuple(dict.fromkeys((0, (len(a) - 1) // 2, len(a) - 1))) for a in (grid.xs_mm, grid.ys_mm))
    inset = PROOF.margin_mm + patch_mm / 2
    x0, y0, x1, y1 = plate.bounds
    zones: list[Zone] = []
    for j in ys:
        for i in xs:
            x = min(max(grid.xs_mm[i], x0 + inset), x1 - inset)
            y = min(max(grid.ys_mm[j], y0 + inset), y1 - inset)
            x, y = _clear_of_keep_outs(plate, x, y, patch_mm)
            apart = all(max(abs(x - z.x_mm), abs(y - z.y_mm)) >= patch_mm + 4 for z in zones)
            if apart and plate.holds(x, y, patch_mm / 2):
                zones.append(Zone(name=f"column {i + 1}, row {j + 1}", x_mm=round(x, 2), y_mm=round(y, 2)))
    return tuple(zones)


def _clear_of_keep_outs(plate: Plate, x: float, y: float, patch_mm: float) -> tuple[float, float]:
    """Step a patch towards the centre until it and its skirt miss every keep-out."""
    cx, cy = plate.centre
    for share in np.linspace(0, 0.8, 41):
        px, py = x + (cx - x) * share, y + (cy - y) * share
        if not plate.kept_out(px, py, patch_mm / 2 + 2):
            return px, py
    raise ValueError(f"A keep-out leaves no room for the patch near ({x:g}, {y:g}).")


def plan(
    machine: Machine, plate: Plate, filament: Filament, count: ZoneCount = 5, mesh: MeshGrid | None = None
) -> ProofPlan:
    """The proof for this machine, plate and filament: line and layer from the nozzle. At mesh points, where there are any."""
    zones = zones_at(plate, mesh, PROOF.patch_mm) if count == "mesh" and mesh is not None else ()
    return ProofPlan(
        zones=zones if len(zones) >= 3 else zones_on(plate, 5 if count == "mesh" else count),
        patch_mm=PROOF.patch_mm,
        line_mm=round(BEAD.line_per_nozzle * machine.nozzle_mm, 3),
        layer_mm=round(BEAD.layer_per_nozzle * machine.nozzle_mm, 3),
        bed_c=filament.bed_c,
        nozzle_c=filament.nozzle_c,
    )
