"""How a job lays its first layer, and where its tip goes in the first two: on the plate, through what is kept out, too low."""

from collections.abc import Iterator
from math import pi

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import JOB_CHECK, LAYER, PROOF
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.recipe import forgives

from .check import every
from .finding import Finding
from .job import Job, lays, move_length


def of_moves(job: Job, plate: Plate, machine: Machine) -> Iterator[Finding]:
    """Where the tip goes in the first two layers, travels included; one finding of a kind, at its first line."""
    if job.lowest is not None and job.lowest[0] < -0.001:
        yield Finding(
            code="below_zero",
            level="stop",
            line=job.lowest[1],
            text=f"The tip is sent to z {job.lowest[0]:.3f}, below the plate.",
        )
    # A plate is convex: a line is on it where both its ends are.
    off = next((m for m in job.moves if lays(m) and not (plate.holds(*m.start[:2]) and plate.holds(*m.end[:2]))), None)
    if off is not None:
        x, y = off.start[:2] if plate.holds(*off.end[:2]) else off.end[:2]
        text = f"It lays off the plate at ({x:.1f}, {y:.1f})."
        yield Finding(code="off_plate", level="stop", line=off.line, text=text)
    yield from _kept_out(job, plate, machine)
    z = job.first_z
    low = next((m for m in job.moves if z is not None and lays(m) and m.end[2] < z - 0.03), None)
    if low is not None and z is not None:
        yield Finding(
            code="primes_low",
            level="note",
            line=low.line,
            text=f"It lays at z {low.end[2]:.3f}, lower than the first layer's {z:.3f}.",
        )


def _kept_out(job: Job, plate: Plate, machine: Machine) -> Iterator[Finding]:
    """The first low move through each keep-out, travels included."""
    for out in plate.keep_outs:
        wide = machine.nozzle_mm
        for move in job.moves:
            (x0, y0, z0), (x1, y1, z1) = move.start, move.end
            if (
                min(z0, z1) >= JOB_CHECK.low_travel_mm
                or max(x0, x1) < out.x_min_mm - wide
                or min(x0, x1) > out.x_max_mm + wide
            ):
                continue
            if max(y0, y1) < out.y_min_mm - wide or min(y0, y1) > out.y_max_mm + wide:
                continue
            at = next((p for p in every([(x0, y0), (x1, y1)], 1.0) if out.holds(*p, wide)), None)
            if at is not None:
                text = f"At z {min(z0, z1):g} it goes through '{out.name}' at ({at[0]:.1f}, {at[1]:.1f})."
                yield Finding(code="keep_out", level="stop", line=move.line, text=text)
                break


def _thin(z: float, machine: Machine, line: int) -> Iterator[Finding]:
    """A first layer as thin as the ones over it, where the usual one would forgive more."""
    usual = Bead.usual(machine.nozzle_mm)
    if z >= usual.layer_mm - LAYER.recipe.within_mm or z < JOB_CHECK.thin * machine.nozzle_mm:
        return
    now, then = (forgives(Bead(usual.line_mm, layer))[1] for layer in (z, usual.layer_mm))
    yield Finding(
        code="thin_first_layer",
        level="note",
        line=line,
        text=f"Its first layer is {z:.2f} mm high and forgives ±{now:.3f} mm of gap. One of {usual.layer_mm:.2f} mm under the same thin layers "
        f"forgives ±{then:.3f}.",
    )


def of_the_layer(job: Job, machine: Machine, filament: Filament) -> Iterator[Finding]:
    """How the first layer is laid, as it is really sent."""
    laid = job.first_layer
    z = job.first_z
    if not laid or z is None:
        return
    if not JOB_CHECK.thin * machine.nozzle_mm <= z <= JOB_CHECK.thick * machine.nozzle_mm:
        yield Finding(
            code="layer_height",
            level="warning",
            line=laid[0].line,
            text=f"A first layer of {z:.3f} mm is {'thick' if z > JOB_CHECK.thin * machine.nozzle_mm else 'thin'} for a {machine.nozzle_mm:g} mm nozzle.",
        )
    yield from _thin(z, machine, laid[0].line)
    section = pi / 4 * filament.diameter_mm**2
    melts = LAYER.recipe.melt_mm3_s[filament.material] * machine.nozzle_mm / 0.4
    worst = max(laid, key=lambda m: m.filament_mm / max(move_length(m), 0.2) * m.speed_mm_s)
    flow = worst.filament_mm * section / max(move_length(worst), 0.2) * worst.speed_mm_s
    if flow > melts:
        yield Finding(
            code="melts_too_little",
            level="warning",
            line=worst.line,
            text=f"{flow:.1f} mm³ a second is asked for; about {melts:.0f} melt with {filament.material} and this nozzle.",
        )
    yield from _quickening(job, laid[-1].line)
    speeds = sorted((m.speed_mm_s for m in laid), reverse=True)
    fast = speeds[len(speeds) // 20]
    if fast > 2.5 * PROOF.first_layer_mm_s:
        yield Finding(
            code="too_fast",
            level="warning",
            line=next(m.line for m in laid if m.speed_mm_s >= fast),
            text=f"The first layer is laid at up to {fast:.0f} mm a second; the proofs that were judged at {PROOF.first_layer_mm_s:.0f}.",
        )
    fan = next(
        (
            (s.values.get("S", 255.0), s.line)
            for s in reversed(job.said)
            if s.command == "M106" and s.line < laid[-1].line
        ),
        None,
    )
    off = next((s.line for s in reversed(job.said) if s.command == "M107" and s.line < laid[-1].line), 0)
    if fan is not None and fan[0] > 255 * filament.first_layer_fan + 20 and fan[1] > off:
        yield Finding(
            code="fan_in_layer",
            level="note",
            line=fan[1],
            text=f"The part fan blows at {fan[0] / 2.55:.0f} % in the first layer; {filament.name} was judged with {100 * filament.first_layer_fan:.0f} %.",
        )


def acceleration(job: Job, before_line: int) -> tuple[float, str, int] | None:
    """What was last said of it before a line, mm/s^2, by which letter, and where."""
    for said in reversed(job.said):
        letter = next((a for a in "PS" if a in said.values), None)
        if said.command == "M204" and letter is not None and said.line < before_line:
            return said.values[letter], letter, said.line
    return None


def _quickening(job: Job, last_line: int) -> Iterator[Finding]:
    found = acceleration(job, last_line)
    usual = LAYER.recipe.acceleration_mm_s2
    if found is None or found[0] <= JOB_CHECK.quick * usual:
        return
    much, letter, line = found
    text = f"The first layer is laid with {much:.0f} mm/s² of acceleration: lines are torn up at bends. {usual:.0f} holds better."
    yield Finding(code="accelerates_much", level="note", line=line, text=text, instead=(f"M204 {letter}{usual:.0f}",))
