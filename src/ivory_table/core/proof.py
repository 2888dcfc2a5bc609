"""The proof: what is printed to see how a first layer lies, and where each zone of it is looked at."""

from itertools import combinations
from typing import Annotated, Any, Literal, Self, get_args

import numpy as np
from pydantic import Field, model_validator

from .bead import Bead
from .causes import CauseId
from .defaults import PROOF
from .mesh import MeshGrid
from .plate import Filament, Machine, Plate
from .value import Array, Value

#: What a proof lays: patches in zones; a short loop around the middle; a long one along the rim, twice; one around the rim;
#: strips over the whole plate; patches each nearer to the plate than the last; each zone at three heights, a little closer than
#: the nozzle runs, as it runs, and a little further; patches at two temperatures of the tip; of two filaments.
ProofKind = Literal[
    "patches", "skirt", "long_skirt", "rim", "whole", "ladder", "three_heights", "pair", "two_filaments"
]
#: A proof as it is asked for: as advised (the most telling one, or the same again), five or nine patches, patches at points of
#: the mesh in use, the newest patches in reverse order, or another kind.
ProofChoice = Literal[
    "advised",
    5,
    9,
    "mesh",
    "reversed",
    "skirt",
    "long_skirt",
    "rim",
    "whole",
    "ladder",
    "three_heights",
    "pair",
    "two_filaments",
]
PROOF_CHOICES: tuple[ProofChoice, ...] = get_args(ProofChoice)
#: Two rows of patches that differ in one thing alone.
SIDE_BY_SIDE: tuple[ProofKind, ...] = ("pair", "two_filaments")
#: No proof has more zones.
MOST_ZONES = 48
#: A patch is laid at most so much closer than the nozzle runs, and at most so much further, mm.
CLOSEST_MM, FURTHEST_MM = 3.0, 20.0


class Zone(Value):
    """One place of a proof that is looked at, named by where it lies, at its centre."""

    name: Annotated[str, Field(max_length=60)]
    x_mm: float
    y_mm: float
    #: Laid so much further from the plate than the nozzle runs, mm; below zero closer. Of a ladder's patches and of two heights.
    away_mm: Annotated[float, Field(ge=-CLOSEST_MM, le=FURTHEST_MM)] = 0.0
    #: Laid with the tip at another temperature than the proof's.
    nozzle_c: Annotated[float, Field(ge=120, le=350)] | None = None
    #: Laid with the proof's other filament.
    other: bool = False
    #: What is not at work here, though it may be in the other zones: laid hotter, a tip that is too cold.
    spares: Annotated[tuple[CauseId, ...], Field(max_length=10)] = ()
    #: The middle (x, y) in mm of the zone that this is one patch of, where a zone is laid at three heights.
    patch_of: tuple[float, float] | None = None

    @property
    def place(self) -> tuple[float, float]:
        """The zone's own place (x, y) in mm: that of all its patches where it is laid at three heights."""
        return self.patch_of or (self.x_mm, self.y_mm)


class ProofPlan(Value):
    """What is printed: zones, line and layer, and the temperatures."""

    zones: Annotated[tuple[Zone, ...], Field(min_length=1, max_length=MOST_ZONES)]
    kind: ProofKind = "patches"
    patch_mm: Annotated[float, Field(ge=8, le=60)]
    line_mm: Annotated[float, Field(ge=0.1, le=3)]
    layer_mm: Annotated[float, Field(ge=0.05, le=1.5)]
    bed_c: Annotated[float, Field(ge=0, le=150)]
    nozzle_c: Annotated[float, Field(ge=120, le=350)]
    #: What is laid beside the run's own filament, where two are.
    other: Filament | None = None

    @model_validator(mode="after")
    def _other_is_told(self) -> Self:
        if self.other is None and any(z.other for z in self.zones):
            raise ValueError("Say which other filament is printed beside it.")
        return self

    @model_validator(mode="after")
    def _line_covers_layer(self) -> Self:
        if self.layer_mm > self.line_mm:
            raise ValueError("The layer is higher than the line is wide; such a line is not laid but dropped.")
        return self

    def with_bead(self, bead: Bead) -> "ProofPlan":
        """The same proof laid in such lines."""
        return self.model_copy(update={"line_mm": round(bead.line_mm, 3), "layer_mm": round(bead.layer_mm, 3)})

    @property
    def bead(self) -> Bead:
        """The line as it is commanded."""
        return Bead(self.line_mm, self.layer_mm)

    @property
    def places(self) -> Array:
        """(z, 2) the zones' centres in mm."""
        return np.array([[z.x_mm, z.y_mm] for z in self.zones])

    @property
    def zone_places(self) -> tuple[tuple[float, float], ...]:
        """By zone the place (x, y) in mm it tells of; the patches of a zone share one."""
        return tuple(z.place for z in self.zones)

    @property
    def spares(self) -> tuple[tuple[CauseId, ...], ...]:
        """By zone what is not at work there; empty where nothing is spared anywhere."""
        return tuple(z.spares for z in self.zones) if any(z.spares for z in self.zones) else ()

    @property
    def away_mm(self) -> Array:
        """(z,) mm by which each zone is laid further from the plate than the nozzle runs."""
        return np.array([z.away_mm for z in self.zones])

    @property
    def is_shape(self) -> bool:
        """Whether the shapes alone say what is printed; several heights, temperatures or filaments are the machine's doing."""
        return self.kind not in ("ladder", "three_heights", *SIDE_BY_SIDE)

    @property
    def judges_all(self) -> bool:
        """Whether it shows the plate as a whole, so that its zones together can be found sound."""
        return self.kind in ("patches", "whole", "rim") and len(self.zones) >= 5

    @property
    def shows_all(self) -> bool:
        """Whether it tells of the plate as a whole, as it stands or a little beside that."""
        return self.judges_all or self.kind == "three_heights"

    def shows_the_same(self, other: "ProofPlan") -> bool:
        """Whether both tell of the same places in the same first layer; each zone at three heights tells of it as one patch does."""
        alike = self == other or (self.shows_all and other.shows_all)
        return alike and self.bead == other.bead and set(self.zone_places) == set(other.zone_places)

    @property
    def in_reverse(self) -> Self:
        """The same zones, laid in reverse order."""
        return self.model_copy(update={"zones": self.zones[::-1]})

    def only(self, zones: tuple[int, ...]) -> Self:
        """The same proof with some of its zones alone."""
        return self.model_copy(update={"zones": tuple(self.zones[k] for k in zones)})


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


def loop_mm(plate: Plate, inset_mm: float) -> tuple[float, float]:
    """Half the width and half the depth, mm, of a loop so far inside the plate's edge."""
    return plate.width_mm / 2 - inset_mm, plate.depth_mm / 2 - inset_mm


def _zones_along(plate: Plate, half: tuple[float, float], names: tuple[str, ...], start: float) -> tuple[Zone, ...]:
    """Zones evenly around a loop, the first at an angle of `start` turns, clockwise from the front seen from above."""
    cx, cy = plate.centre
    out = []
    for k, name in enumerate(names):
        angle = 2 * np.pi * (start + k / len(names))
        dx, dy = float(np.sin(angle)), -float(np.cos(angle))
        if plate.shape == "round":
            x, y = cx - dx * half[0], cy + dy * half[1]
        else:
            # On the rectangle, where the ray from the middle meets it.
            reach = 1 / max(abs(dx), abs(dy))
            x, y = cx - dx * reach * half[0], cy + dy * reach * half[1]
        out.append(Zone(name=name, x_mm=round(x, 2), y_mm=round(y, 2)))
    return tuple(out)


_SIDES = ("front", "left", "rear", "right")
_AROUND = ("front", "front left", "left", "rear left", "rear", "rear right", "right", "front right")


def skirt_half_mm(plate: Plate) -> float:
    """Half the side of a short skirt around the plate's middle, mm."""
    return min(PROOF.skirt_half_mm, 0.35 * min(plate.width_mm, plate.depth_mm))


def ladder_zones(plate: Plate, aways_mm: tuple[float, ...], patch_mm: float) -> tuple[Zone, ...]:
    """Patches as near the plate's middle as they fit, row by row from the front, each at its own height.

    Where not all of them fit, the nearest heights are left for another one. Raises ValueError where hardly any does.
    """
    cx, cy = plate.centre
    pitch = patch_mm + PROOF.ladder_gap_mm
    around = range(-6, 7)
    free = [
        (cx + i * pitch, cy + j * pitch)
        for j in around
        for i in around
        if plate.holds(cx + i * pitch, cy + j * pitch, pitch / 2)
        and not plate.kept_out(cx + i * pitch, cy + j * pitch, pitch / 2 + 2)
    ]
    near = sorted(free, key=lambda p: max(abs(p[0] - cx), abs(p[1] - cy)))[: len(aways_mm)]
    if len(near) < min(len(aways_mm), PROOF.ladder_least):
        raise ValueError(f"There is no room for a ladder on {plate.name}: {len(near)} of its patches fit.")
    ordered = sorted(near, key=lambda p: (round(p[1], 3), p[0]))
    return tuple(
        Zone(name=f"step {k + 1}, {_step_words(away)}", x_mm=round(x, 2), y_mm=round(y, 2), away_mm=away)
        for k, ((x, y), away) in enumerate(zip(ordered, aways_mm[: len(near)], strict=True))
    )


def _step_words(away_mm: float) -> str:
    if abs(away_mm) < 5e-4:
        return "as it stands"
    return f"{abs(away_mm):.2f} mm {'closer' if away_mm < 0 else 'further'}"


def ladder_aways(gap_mm: float, sd_mm: float, layer_mm: float) -> tuple[float, ...]:
    """Heights of a ladder's patches against the present one, mm, from far to near, for gaps believed so at layer height.

    It begins where the tip surely does not scrape, and goes down to where it surely holds: whoever watches it ends it at the
    first that does, so that those below cost nothing. Each step is so small that
    from a patch that does not hold the next cannot scrape.
    """
    step = round(PROOF.ladder_step * layer_mm, 3)
    above = max(PROOF.ladder_clear * layer_mm - (gap_mm - 2 * sd_mm), 0.0)
    down = max(gap_mm + 3 * sd_mm - 0.8 * layer_mm, step)
    first = min(int(np.ceil(above / step)), int(FURTHEST_MM / step))
    count = min(first + int(min(np.ceil(down / step), CLOSEST_MM // step)) + 1, PROOF.ladder_most)
    return tuple(round((first - k) * step, 3) for k in range(count))


def _at_three_heights(plate: Plate, bead: Bead) -> tuple[Zone, ...]:
    """Five zones, each in three patches from left to right: closer, as the nozzle runs, and further.

    So far apart that of a zone in the middle of what is sound the outer ones lie a little beyond its ends: an eye tells most where
    a band ends. They begin where a whole patch would and reach towards the plate's middle. Raises ValueError for want of room.
    """
    low, high = bead.bands_mm()["sound"]
    away = round(PROOF.heights_apart_share * (high - low), 3)
    pitch, cx = PROOF.third_mm + PROOF.third_gap_mm, plate.centre[0]
    inward = (3 * PROOF.third_mm + 2 * PROOF.third_gap_mm - PROOF.patch_mm) / 2
    out = []
    for zone in zones_on(plate, 5):
        middle = zone.x_mm + float(np.sign(round(cx - zone.x_mm, 2))) * inward
        for side, word in ((-1, "closer"), (0, "as it runs"), (1, "further")):
            x = round(middle + side * pitch, 2)
            if plate.kept_out(x, zone.y_mm, PROOF.third_mm / 2 + 2) or not plate.holds(
                x, zone.y_mm, PROOF.third_mm / 2
            ):
                raise ValueError(f"There is no room for three patches at {zone.name}.")
            patch = {"name": f"{zone.name}, {word}", "x_mm": x, "away_mm": side * away, "patch_of": zone.place}
            out.append(zone.model_copy(update=patch))
    for a, b in combinations(out, 2):
        # Between two rows there is room for the number of each.
        beside = PROOF.third_mm + (PROOF.third_gap_mm if a.place == b.place else 2 * PROOF.ladder_gap_mm)
        if abs(a.x_mm - b.x_mm) < beside - 1e-6 and abs(a.y_mm - b.y_mm) < PROOF.third_mm + PROOF.third_gap_mm:
            raise ValueError(f"There is no room on {plate.name} for three patches to a zone.")
    return tuple(out)


def _nine_places(plate: Plate) -> tuple[Zone, ...]:
    """Nine places in three rows and three columns, where strips over the whole plate are looked at."""
    (half_x, half_y), (cx, cy) = loop_mm(plate, PROOF.margin_mm), plate.centre
    share = 0.6 if plate.shape == "round" else 0.85
    return tuple(
        Zone(name=name, x_mm=round(cx + i * share * half_x, 2), y_mm=round(cy + j * share * half_y, 2))
        for name, i, j in _ROWS[9]
    )


def _beside(plate: Plate, patch_mm: float, differing: str, **differs: Any) -> tuple[Zone, ...]:
    """Three patches as usual, and beside each a `differing` one that `differs` in the fields of a zone, around the middle."""
    cx, cy = plate.centre
    off = patch_mm / 2 + PROOF.ladder_gap_mm
    rows = (("front", -1), ("middle", 0), ("rear", 1))
    out = []
    for words, side, how in (("as usual", -1, {}), (differing, 1, differs)):
        for name, j in rows:
            x, y = cx + side * off, cy + j * (patch_mm + 2 * PROOF.ladder_gap_mm)
            if plate.kept_out(x, y, patch_mm / 2 + 2) or not plate.holds(x, y, patch_mm / 2):
                raise ValueError("There is no room for two rows of patches around the plate's middle.")
            at = {"name": f"{name}, {words}", "x_mm": round(x, 2), "y_mm": round(y, 2)}
            out.append(Zone.model_validate({**at, **how}))
    return tuple(out)


def _two_filaments(plate: Plate, patch_mm: float, filament: Filament, other: Filament | None) -> tuple[Zone, ...]:
    """Raises ValueError where nobody has said which other filament, or the drive cannot take it."""
    if other is None:
        raise ValueError("Say first which other filament is printed beside it.")
    if abs(other.diameter_mm - filament.diameter_mm) > PROOF.diameter_within_mm:
        raise ValueError(
            f"{other.name} is {other.diameter_mm:g} mm thick, and {filament.name} {filament.diameter_mm:g} mm; one drive does not take both."
        )
    return _beside(plate, patch_mm, "other", nozzle_c=other.nozzle_c, other=True, spares=PROOF.other_spares)


def plan(
    machine: Machine,
    plate: Plate,
    filament: Filament,
    choice: ProofChoice = 5,
    mesh: MeshGrid | None = None,
    ladder_mm: tuple[float, ...] = (0.0,),
    bead: Bead | None = None,
    other: Filament | None = None,
) -> ProofPlan:
    """The proof for this machine, plate and filament. At mesh points, where there are any.

    `bead`: the lines it is laid in, the nozzle's usual ones when not given. `ladder_mm`: heights of a ladder's patches against the present one.
    `other`: the second one of two filaments. Raises ValueError where it has no room.
    """
    kind: ProofKind = "patches" if choice in ("advised", 5, 9, "mesh", "reversed") else choice  # type: ignore[assignment]
    patch = {"ladder": PROOF.ladder_patch_mm, "three_heights": PROOF.third_mm}.get(kind, PROOF.patch_mm)
    bead = bead or Bead.usual(machine.nozzle_mm)
    line, layer = round(bead.line_mm, 3), round(bead.layer_mm, 3)
    at_points = zones_at(plate, mesh, patch) if choice == "mesh" and mesh is not None else ()
    if kind == "skirt":
        zones = _zones_along(plate, (skirt_half_mm(plate),) * 2, _SIDES, 0.0)
    elif kind == "long_skirt":
        laps = [
            _zones_along(plate, loop_mm(plate, PROOF.margin_mm + inset), _SIDES, 0.0) for inset in (0, PROOF.lap_mm)
        ]
        zones = tuple(
            z.model_copy(update={"name": f"{z.name}, lap {lap}"}) for lap, lot in enumerate(laps, 1) for z in lot
        )
    elif kind == "rim":
        zones = _zones_along(plate, loop_mm(plate, PROOF.margin_mm), _AROUND, 0.0)
    elif kind == "ladder":
        zones = ladder_zones(plate, ladder_mm, patch)
    elif kind == "three_heights":
        zones = _at_three_heights(plate, Bead(line, layer))
    elif kind == "pair":
        hotter = min(filament.nozzle_c + PROOF.pair_c, 350.0)
        zones = _beside(plate, patch, "hotter", nozzle_c=hotter, spares=PROOF.hotter_spares)
    elif kind == "two_filaments":
        zones = _two_filaments(plate, patch, filament, other)
    elif kind == "whole":
        zones = _nine_places(plate)
    else:
        zones = at_points if len(at_points) >= 3 else zones_on(plate, 9 if choice == 9 else 5)
        zones = zones[::-1] if choice == "reversed" else zones
    return ProofPlan(
        zones=zones,
        kind=kind,
        patch_mm=patch,
        line_mm=line,
        layer_mm=layer,
        bed_c=filament.bed_c,
        nozzle_c=filament.nozzle_c,
        other=other if kind == "two_filaments" else None,
    )
