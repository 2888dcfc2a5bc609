"""The proof as a program, and as solids for those who prepare jobs elsewhere."""

from dataclasses import dataclass
from functools import lru_cache
from math import cos, hypot, pi, sin

import numpy as np

from ivory_table.core.defaults import PROOF
from ivory_table.core.manner import Manner, shipped
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.proof import SIDE_BY_SIDE, ProofPlan, Zone, loop_mm, skirt_half_mm
from ivory_table.program.check import Points, is_clear
from ivory_table.program.laying import CHANGE, LOOK, Program, Writer, ascii_only


@dataclass(frozen=True)
class Stretch:
    """Something that is laid in one go: its name, its lines, how far from the plate, and with the tip how hot."""

    name: str
    lines: tuple[Points, ...]
    away_mm: float = 0.0
    nozzle_c: float | None = None
    #: With the proof's other filament.
    other: bool = False
    #: The tip lifts and waits for an eye after it.
    looked_at: bool = False


@lru_cache(maxsize=32)
def program(
    machine: Machine,
    plate: Plate,
    filament: Filament,
    proof: ProofPlan,
    *,
    mesh_on: bool,
    manner: Manner = shipped("harbour"),
) -> Program:
    """The proof as a complete program: heat, home, mesh on, prime, skirt, what is judged, lifted and warm.

    Each zone begins with a comment "patch n". Raises ValueError when anything would leave the plate or enter a keep-out.
    """
    out = _written(machine, plate, filament, proof, mesh_on=mesh_on, manner=manner)
    return out.program(plate, proof.layer_mm + float(proof.away_mm.min()))


@lru_cache(maxsize=64)
def estimate(machine: Machine, plate: Plate, filament: Filament, proof: ProofPlan) -> Program:
    """The same, not read back: for its minutes and filament alone."""
    out = _written(machine, plate, filament, proof, mesh_on=False, manner=shipped("harbour"))
    return Program(text="", minutes=out.seconds / 60, filament_mm=out.filament_mm)


def _written(
    machine: Machine, plate: Plate, filament: Filament, proof: ProofPlan, *, mesh_on: bool, manner: Manner
) -> Writer:
    out = Writer(machine, filament, proof.bead, manner)
    h = proof.layer_mm
    out.begin(
        f"Proof for {ascii_only(machine.name)}, {ascii_only(plate.name)}, {ascii_only(filament.name)}",
        f"{_WORDS[proof.kind].format(len(proof.zones))}, line {proof.line_mm:g} mm, layer {h:g} mm",
        bed_c=proof.bed_c,
        nozzle_c=proof.nozzle_c,
        mesh="mesh_on" if mesh_on else None,
    )
    prime = _prime(plate, proof)
    out.travel(*prime[0])
    out.lift_to(h + max(proof.zones[0].away_mm, 0.0))
    out.say("; prime")
    for x, y in prime[1:]:
        out.line(x, y)
    celsius, loaded = proof.nozzle_c, False
    for stretch in stretches(plate, proof):
        if proof.other is not None and stretch.other and not loaded:
            loaded = True
            _change_to(out, proof.other, hottest_c=max(celsius, proof.other.nozzle_c), over=prime[0])
            celsius = proof.other.nozzle_c
            out.say("; prime")
            out.path([(x, y + 3 * proof.line_mm) for x, y in prime], h)
        elif stretch.nozzle_c is not None and stretch.nozzle_c != celsius:
            celsius = stretch.nozzle_c
            out.lift_to(PROOF.park_mm)
            out.say(manner.send("heat_tip_wait", celsius=celsius) + " ; another temperature")
        out.say(f"; {stretch.name}")
        for line in stretch.lines:
            out.path(line, h + stretch.away_mm)
        if stretch.looked_at:
            out.lift_to(h + PROOF.lift_mm + max(stretch.away_mm, 0.0))
            out.say(LOOK if not manner.can("dwell") else manner.send("dwell", seconds=PROOF.look_s) + f" {LOOK}")
            out.seconds += PROOF.look_s
    out.end()
    return out


def _change_to(out: Writer, other: Filament, *, hottest_c: float, over: tuple[float, float]) -> None:
    """Lifted clear of what is laid, as hot as the hotter of the two needs it, until somebody has changed the filament."""
    manner = out.manner
    out.push(-PROOF.retract_mm, 25)
    out.lift_to(PROOF.park_mm)
    out.travel(*over)
    out.push(PROOF.retract_mm, 25)
    out.say(manner.send("heat_tip_wait", celsius=hottest_c) + " ; so hot that the old one comes out")
    out.say(f"; load {ascii_only(other.name)}, and push until it comes clean")
    waits = manner.send("pause") if manner.can("pause") else ""
    if not waits and manner.can("dwell"):
        waits = manner.send("dwell", seconds=PROOF.change_s)
    out.say(f"{waits} {CHANGE}".strip())
    out.seconds += PROOF.change_s
    out.say(manner.send("heat_tip_wait", celsius=other.nozzle_c) + " ; another temperature")
    out.load(other)


#: Proofs whose patches are lines alone, with no outline around them.
BARE = ("ladder", "three_heights")
_WORDS = {
    "patches": "{} patches",
    "skirt": "a short skirt",
    "long_skirt": "a long skirt, two laps",
    "rim": "a loop around the rim",
    "whole": "strips over the whole plate",
    "ladder": "a ladder of {} steps",
    "three_heights": "{} patches, closer, as it runs and further by turns",
    "pair": "{} patches at two temperatures",
    "two_filaments": "{} patches of two filaments",
}


def stretches(plate: Plate, proof: ProofPlan) -> tuple[Stretch, ...]:
    """What the proof lays after priming, in order. The zones' own begin with "patch n"."""
    zones = proof.zones
    if proof.kind in ("skirt", "long_skirt", "rim"):
        return tuple(
            Stretch(f"patch {k}: {zone.name}", lines)
            for k, (zone, lines) in enumerate(zip(zones, _loops(plate, proof), strict=True), 1)
        )
    if proof.kind == "whole":
        return _strips(plate, proof)
    skirt = [_skirt(plate, proof, (PROOF.skirt_loops - 1 - loop) * proof.line_mm) for loop in range(PROOF.skirt_loops)]
    ladder, bare = proof.kind == "ladder", proof.kind in BARE
    out = [] if ladder else [Stretch("skirt, the first loop primes and is not graded", tuple(skirt))]
    for number, zone in enumerate(zones, 1):
        strokes = _strokes(proof, zone, number)
        lines = (_patch(proof, zone),) if bare else (_outline(proof, zone), _patch(proof, zone))
        heat = zone.nozzle_c or (proof.nozzle_c if proof.kind in SIDE_BY_SIDE else None)
        name = f"patch {number}: {zone.name}"
        out.append(Stretch(name, (*lines, *strokes), zone.away_mm, heat, zone.other, looked_at=ladder))
    return tuple(out)


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
    x, y = min(proof.zone_places, key=lambda at: hypot(at[0] - plate.centre[0], at[1] - plate.centre[1]))
    wide = max(abs(z.x_mm - x) for z in proof.zones if z.place == (x, y))
    half = proof.patch_mm / 2 + wide + PROOF.skirt_gap_mm + further_out
    r = half * 2**0.5
    if r * 2 < 30:
        r = 15 + further_out
    turn = np.linspace(0, 2 * pi, 49)
    return [(round(x + r * cos(a), 3), round(y + r * sin(a), 3)) for a in turn]


def _loops(plate: Plate, proof: ProofPlan) -> list[tuple[Points, ...]]:
    """For each zone of a skirt or a loop, its share of the lines beside one another, clockwise from where it begins."""
    pitch, count = proof.bead.pitch_mm, len(proof.zones)
    if proof.kind == "skirt":
        laps, each = [(skirt_half_mm(plate),) * 2], count
    elif proof.kind == "rim":
        laps, each = [loop_mm(plate, PROOF.margin_mm)], count
    else:
        laps, each = [loop_mm(plate, PROOF.margin_mm + inset) for inset in (0, PROOF.lap_mm)], count // 2
    out: list[tuple[Points, ...]] = []
    for half in laps:
        for k in range(each):
            lines: list[Points] = []
            for line in range(PROOF.skirt_lines):
                inner = (half[0] - line * pitch, half[1] - line * pitch)
                lines.append(_arc(plate, inner, (k - 0.5) / each, (k + 0.5) / each))
            out.append(tuple(line if i % 2 == 0 else line[::-1] for i, line in enumerate(lines)))
    return out


def _arc(plate: Plate, half: tuple[float, float], start: float, end: float) -> Points:
    """A stretch of a loop with these half sides, from one share of a turn to another, clockwise from the front."""
    cx, cy = plate.centre
    points: Points = []
    for turn in np.linspace(start, end, 25):
        dx, dy = -sin(2 * pi * turn), -cos(2 * pi * turn)
        # A rectangle with well rounded corners, so that the tip need not stop there; a circle on a round plate.
        power = 2.0 if plate.shape == "round" else 12.0
        reach = (abs(dx) ** power + abs(dy) ** power) ** (-1 / power)
        points.append((round(cx + dx * reach * half[0], 3), round(cy + dy * reach * half[1], 3)))
    return points


def _strips(plate: Plate, proof: ProofPlan) -> tuple[Stretch, ...]:
    """Strips of lines along x over the whole plate, from front to rear; a zone begins with the strip nearest to it."""
    pitch, (cx, cy) = proof.bead.pitch_mm, plate.centre
    half_x, half_y = loop_mm(plate, PROOF.margin_mm)
    rows = np.arange(-half_y, half_y - PROOF.strip_lines * pitch, PROOF.strip_every_mm)
    by_row: dict[int, list[Points]] = {}
    for n, y0 in enumerate(rows):
        for k in range(PROOF.strip_lines):
            y = cy + float(y0) + k * pitch
            reach = half_x
            if plate.shape == "round":
                reach = float(np.sqrt(max(half_x**2 - (y - cy) ** 2, 0.0)))
            ends = (cx - reach, cx + reach)
            pieces = _clear_pieces(plate, y, ends)
            for x0, x1 in pieces if k % 2 == 0 else [(b, a) for a, b in pieces[::-1]]:
                by_row.setdefault(n, []).append([(round(x0, 3), round(y, 3)), (round(x1, 3), round(y, 3))])
    thirds = sorted({round(z.y_mm, 2) for z in proof.zones})
    out: list[Stretch] = []
    for third in thirds:
        here = [z for z in proof.zones if round(z.y_mm, 2) == third]
        near = [n for n, y0 in enumerate(rows) if min(thirds, key=lambda t: abs(t - cy - y0)) == third]
        lines = [line for n in near for line in by_row.get(n, [])]
        first = 1 + sum(1 for z in proof.zones if round(z.y_mm, 2) < third)
        for k, zone in enumerate(here):
            # The zones of one row are laid together: all of them are there once its last strip is.
            out.append(Stretch(f"patch {first + k}: {zone.name}", tuple(lines) if k == len(here) - 1 else ()))
    return tuple(out)


def _clear_pieces(plate: Plate, y: float, ends: tuple[float, float]) -> list[tuple[float, float]]:
    """Stretches along x at a height y that stay out of every keep-out."""
    if ends[1] - ends[0] < 4:
        return []
    if not plate.keep_outs:
        return [ends]
    xs = np.arange(ends[0], ends[1] + 1e-6, 1.0)
    free = np.array([plate.kept_out(float(x), y, 2.5) is None for x in xs])
    edges = np.flatnonzero(np.diff(np.concatenate([[0], free.astype(int), [0]])))
    pairs = zip(edges[::2], edges[1::2], strict=True)
    return [(float(xs[a]), float(xs[b - 1])) for a, b in pairs if b - a > 4]


def _outline(proof: ProofPlan, zone: Zone) -> Points:
    """Once around the patch: a round bend at one corner, a fine point at the opposite one."""
    half, r, point = proof.patch_mm / 2, 4.0, 1.5
    x, y = zone.x_mm, zone.y_mm
    bend = [(x + half - r + r * sin(a), y + half - r + r * cos(a)) for a in np.linspace(pi / 2, 0, 9)]
    path: Points = [
        (x - half, y - half + 3),
        (x - half - point, y - half - point),
        (x - half + 3, y - half),
        (x + half, y - half),
        *bend,
        (x - half, y + half),
        (x - half, y - half + 3),
    ]
    return [(round(px, 3), round(py, 3)) for px, py in path]


def _patch(proof: ProofPlan, zone: Zone) -> Points:
    """Parallel lines at the bead's pitch, to and fro; inside the outline, where there is one."""
    pitch = proof.bead.pitch_mm
    bare = proof.kind in BARE
    half = proof.patch_mm / 2 - (0.0 if bare else pitch)
    count = int(2 * half / pitch)
    y0 = zone.y_mm - (count - 1) * pitch / 2
    points: Points = []
    for k in range(count):
        y = y0 + k * pitch
        # Short of the round corner.
        over = y - (zone.y_mm + half - 4.0)
        cut = 4.0 - (16.0 - over**2) ** 0.5 if not bare and 0 < over < 4.0 else 0.0
        ends = (zone.x_mm - half, zone.x_mm + half - cut)
        for x in ends if k % 2 == 0 else reversed(ends):
            points.append((round(x, 4), round(y, 4)))
    return points


def _strokes(proof: ProofPlan, zone: Zone, number: int) -> list[Points]:
    """The zone's number beside the patch, a long stroke for five, on the side of the plate's middle; a ladder's to the right.

    The patches of a zone have one number, beside the outermost on that side.
    """
    half = proof.patch_mm / 2
    middle = float(np.mean([z.x_mm for z in proof.zones]))
    side = 1 if proof.kind == "ladder" or zone.place[0] <= middle else -1
    if zone.patch_of is not None:
        if any((z.x_mm - zone.x_mm) * side > 0 for z in proof.zones if z.patch_of == zone.patch_of):
            return []
        number = list(dict.fromkeys(proof.zone_places)).index(zone.place) + 1
    fives, ones = divmod(number, 5)
    apart = min(2.0, (proof.patch_mm - 1) / max(fives + ones - 1, 1))
    x = zone.x_mm + side * (half + 1.5)
    y0 = zone.y_mm - half
    return [
        [(x, y0 + apart * k), (x + side * (3.5 if k < fives else 1.8), y0 + apart * k)] for k in range(fives + ones)
    ]
