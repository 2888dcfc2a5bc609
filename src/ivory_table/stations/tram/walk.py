"""A walk for a machine with nobody on the line: a file that visits every screw and waits there for a hand.

The person turns until the gauge drags, counts, goes on at the machine, and types the counts in afterwards.
"""

import math
from typing import Literal

from ivory_table.core.advice import order_of
from ivory_table.core.defaults import HEAT, MOTION, OFFSET, TRAM
from ivory_table.core.manner import Manner
from ivory_table.core.value import Value
from ivory_table.program.laying import ascii_only
from ivory_table.program.reader import read_program
from ivory_table.runs.motion import go, lift, lowest_mm, refuse_place
from ivory_table.runs.state import RunState
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.standing import centre_after_tram_mm
from ivory_table.stations.tram.then_proof import ThenProof, then_proof

Call = Literal["message", "tone", "pause"]
CALLS: tuple[Call, ...] = ("message", "tone", "pause")


class Visit(Value):
    round: int
    name: str
    x_mm: float
    y_mm: float


class Walk(Value):
    """The file, what it visits in order, and how it calls the person."""

    text: str
    visits: tuple[Visit, ...]
    calls: tuple[Call, ...]
    #: Turns by which every knob is to be turned so that the plate sinks before the first descent; 0 when none are.
    sink_turns: float
    #: The height at which the centre is felt at the end.
    centre_z_mm: float
    #: Where the file goes on into a proof: what it sets and prints.
    then_proof: ThenProof | None = None


def sinking_turns(state: RunState) -> float:
    """How far every knob must first be turned down, in half turns, so that z 0 is safe over every screw.

    While the first screws are brought up again a plate that rocks lifts the next ones by up to a
    quarter of that: so much more is sunk.
    """
    worst = 0.0
    for j, s in enumerate(state.screws):
        low = lowest_mm(state, s.x_mm, s.y_mm)
        if j in Tram.of(state).visited:
            # Felt there before with the tip at z 0: two sd are enough.
            drag, sd = state.drag_height(s.x_mm, s.y_mm)
            low = drag + 2 * sd - OFFSET.deepest_press_mm
        worst = max(worst, low / s.pitch_mm)
    if len(state.screws) > 3:
        worst /= 1 - TRAM.walk_rocks
    return math.ceil(2 * worst - 1e-9) / 2 if worst > 0 else 0.0


def walk(state: RunState, manner: Manner, rounds: int, way: str = "ring", *, print_after: bool = False) -> Walk:
    """G-code for `rounds` rounds of the screws and then the centre: heats, homes, lifts, visits, calls, ends lifted.

    With `print_after` it goes on into the first proof. Raises ValueError without screws, for no or more than six rounds, for a machine that can neither pause
    nor call, and for a screw that must not be visited. The text is read back before it is returned.
    """
    setup = state.setup
    machine, plate = setup.machine, setup.plate
    if not state.screws:
        raise ValueError(f"{machine.name} has no screws to visit.")
    if not 1 <= rounds <= 6:
        raise ValueError("Walk one to six rounds.")
    if not manner.can("pause"):
        raise ValueError(f"The manner of {machine.name} ({manner.name}) has no line that waits for a person.")
    calls = tuple(c for c in CALLS if manner.can(c))
    sink = sinking_turns(state)
    lines = [
        f"; Walk for {ascii_only(machine.name)}, {ascii_only(plate.name)}: {rounds} rounds of {len(state.screws)} screws",
        "; keep a hand near the stop; the plate and the tip are hot",
        "G21 ; mm",
        manner.send("absolute"),
        manner.send("heat_bed", celsius=state.bed_wanted_c),
        manner.send("heat_tip", celsius=min(HEAT.tip_warm_c, setup.filament.nozzle_c)),
        manner.send("heat_bed_wait", celsius=state.bed_wanted_c) + " ; wait for the plate",
        manner.send("home"),
        lift(state, manner).line,
    ]

    def call(words: str) -> None:
        if manner.can("message"):
            lines.append(manner.send("message", text=ascii_only(words)))
        if manner.can("tone"):
            lines.append(manner.send("tone", hertz=880, milliseconds=300))
        lines.append(manner.send("pause"))

    if sink:
        call(f"Turn every knob {sink:g} turns so that the plate sinks")
    visits: list[Visit] = []

    def visit(number: int, name: str, x: float, y: float, z: float) -> None:
        refuse_place(machine, plate, x, y)
        lines.append(f"; round {number}, {ascii_only(name)}")
        lines.extend(s.line for s in go(state, manner, x, y, name))
        # Fast while there is nothing to meet, slow for the last of it.
        lines.append(manner.send("height", z=z + 1.0, feed=MOTION.lift_mm_s * 60))
        lines.append(manner.send("height", z=z, feed=MOTION.down_mm_s * 60))
        visits.append(Visit(round=number, name=name, x_mm=x, y_mm=y))

    back = rocks(state)
    for number in range(1, rounds + 1):
        for j in order_of(state.belief.surface.screws, way):
            s = state.screws[j]
            if number > 1 and back:
                # The others' turns may have lifted this one by any amount: where it came from is below them all.
                lines.extend(step.line for step in go(state, manner, s.x_mm, s.y_mm, s.name))
                call(f"{s.name}: turn it back by all you counted here, so that the plate sinks")
            visit(number, s.name, s.x_mm, s.y_mm, 0.0)
            again = ", less what you turned back" if number > 1 and back else ""
            call(f"{s.name}: turn until it drags, count the marks{again}")
    cx, cy = plate.centre
    # The middle may be bowed: only as low as is proven once the screws are at the drag.
    centre_z = centre_after_tram_mm(state)
    visit(rounds, "centre", cx, cy, centre_z)
    call(f"centre, z {centre_z:.2f}: slide the gauge, note the feel")
    lines.append(lift(state, manner).line)
    proof, rest = then_proof(state, manner) if print_after else (None, "")
    if proof is not None:
        call(
            "Take the gauge away, clear the plate: patches are printed next. Watch the first lines, a hand near the stop"
        )
    lines.append("; lifted; type the counts in at Tram")
    text = "\n".join(lines) + "\n"
    check_walk(text, state)
    return Walk(
        text=text + rest,
        visits=tuple(visits),
        calls=calls,
        sink_turns=sink,
        centre_z_mm=round(centre_z, 3),
        then_proof=proof,
    )


def rocks(state: RunState) -> bool:
    """Whether a screw must be turned back before it is visited once more: three supports do not rock.

    A stiff plate on soft supports wants a long turn while the other corners are low, and leaps up here once they
    are raised: by more than any share of the sinking that could be foretold.
    """
    return len(state.screws) > 3


def check_walk(text: str, state: RunState) -> None:
    """Read a walk back: every sideways move is made lifted, nothing is extruded, it ends lifted.

    Raises ValueError with the line.
    """
    z = None
    for move in read_program(text, own_words=True).moves:
        x, y, to = move.end
        if move.filament_mm > 0:
            raise ValueError(f"Line {move.line} would extrude on a walk.")
        sideways = (x, y) != (move.start[0], move.start[1])
        if sideways and (z is None or z < MOTION.lift_mm - 1e-9):
            raise ValueError(f"Line {move.line} would move sideways at z {z}: not lifted.")
        if sideways:
            refuse_place(state.setup.machine, state.setup.plate, x, y)
        z = to
    if z is None or z < MOTION.lift_mm - 1e-9:
        raise ValueError("The walk does not end lifted.")
