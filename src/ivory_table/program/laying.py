"""Programs that lay lines: how each begins and ends, its filament and time, and the check it is read back with."""

from math import hypot, pi
from typing import Literal

import numpy as np

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import HEAT, PROOF
from ivory_table.core.manner import Manner
from ivory_table.core.offset import convention
from ivory_table.core.plate import Filament, Machine, Plate
from ivory_table.core.units import filled
from ivory_table.core.value import Array, Value
from ivory_table.program.check import Points, check_program
from ivory_table.program.reader import Toolpath

#: Where a program has ended and only keeps the machine warm for a while.
WARM = f"; stays warm for {PROOF.warm_minutes:g} minutes, then off"
#: Where somebody changes the filament.
CHANGE = "; change the filament here"
#: Where the tip waits for an eye, and a ladder may be stopped.
LOOK = "; look: stop it here where this one is right"


class Program(Value):
    """A program ready to send, with what it will take."""

    text: str
    minutes: float
    filament_mm: float


class Writer:
    """Lines of one program, keeping the place, the filament and the time."""

    def __init__(self, machine: Machine, filament: Filament, bead: Bead, manner: Manner) -> None:
        self.machine, self.filament, self.manner = machine, filament, manner
        self.lines: list[str] = []
        self.relative = machine.relative_extrusion
        self.bead = bead
        self.load(filament)
        self.at = (0.0, 0.0)
        self.filament_mm = 0.0
        self.seconds = 0.0

    def say(self, *lines: str) -> None:
        self.lines += lines

    def load(self, filament: Filament) -> None:
        """What is laid from here on."""
        self.per_mm = self.bead.area_mm2 / (pi / 4 * filament.diameter_mm**2)

    def push(self, mm: float, speed_mm_s: float) -> None:
        self.filament_mm += mm
        self.seconds += abs(mm) / speed_mm_s
        self.lines.append(f"G1 E{mm if self.relative else self.filament_mm:.5f} F{speed_mm_s * 60:.0f}")

    def travel(self, x: float, y: float) -> None:
        self._took(hypot(x - self.at[0], y - self.at[1]), PROOF.travel_mm_s)
        self.at = (x, y)
        self.lines.append(f"G0 X{x:.3f} Y{y:.3f} F{PROOF.travel_mm_s * 60:.0f}")

    def lift_to(self, z: float) -> None:
        self._took(abs(z), 10)
        self.lines.append(f"G0 Z{z:.3f} F600")

    def line(self, x: float, y: float) -> None:
        length = hypot(x - self.at[0], y - self.at[1])
        self._took(length, PROOF.first_layer_mm_s)
        pushed = length * self.per_mm
        self.filament_mm += pushed
        self.at = (x, y)
        e = pushed if self.relative else self.filament_mm
        self.lines.append(f"G1 X{x:.3f} Y{y:.3f} E{e:.5f} F{PROOF.first_layer_mm_s * 60:.0f}")

    def path(self, points: Points, layer_mm: float) -> None:
        """Lift, go above the start, come down from above, lay the points."""
        self.push(-PROOF.retract_mm, 25)
        self.lift_to(layer_mm + PROOF.lift_mm)
        self.travel(*points[0])
        self.lift_to(layer_mm)
        self.push(PROOF.retract_mm, 25)
        for x, y in points[1:]:
            self.line(x, y)

    def begin(
        self,
        *titles: str,
        bed_c: float,
        nozzle_c: float,
        mesh: Literal["mesh_on", "mesh_off"] | None,
    ) -> None:
        """Heat the plate, home with the tip below oozing, the mesh as it should be, then heat the tip.

        Whatever heats, waits, homes or blows is in the machine's own words.
        """
        manner = self.manner
        how = convention(self.machine.convention, manner)
        self.say(
            *(f"; {t}" for t in titles),
            "G21 ; mm",
            "G90 ; absolute places",
            "M83 ; relative filament" if self.relative else "M82 ; absolute filament",
            manner.send("heat_bed", celsius=bed_c) + " ; heat the plate",
            manner.send("heat_tip", celsius=min(nozzle_c, HEAT.tip_warm_c)) + " ; tip warm, below oozing",
            manner.send("heat_bed_wait", celsius=bed_c) + " ; wait for the plate",
            manner.send("home") + " ; home, tip still below oozing",
        )
        if manner.can("fan"):
            share = self.filament.first_layer_fan
            words = f"part fan at {share:.0%}" if share else "part fan off in the first layer"
            self.say(f"{manner.send('fan', share=255 * share)} ; {words}")
        if mesh is not None and manner.can(mesh):
            words = (
                "on again: homing may have switched it off" if mesh == "mesh_on" else "off: it would hide what knobs do"
            )
            self.say(f"{manner.send(mesh)} ; mesh {words}")
        elif mesh == "mesh_on":
            self.say("; its mesh must be on: the line for it is not known, so see to it on the machine's own screen")
        if not how.stores and how.set:
            stored = filled(how.set, stored=self.machine.stored_mm)
            self.say(f"{stored} ; live adjustment, this machine stores none")
        elif not how.stores and self.machine.stored_mm:
            self.say(
                f"; now adjust its height by {self.machine.stored_mm:+.3f} on its own screen: the line for it is not known"
            )
        wait = manner.send("heat_tip_wait", celsius=nozzle_c)
        self.say(f"G0 Z{PROOF.park_mm:g} F600", f"{wait} ; wait for the tip", "G92 E0")

    def end(self) -> None:
        """Lifted, warm for some minutes, then off."""
        self.say("; lifted and warm, so that the next try starts at once")
        self.push(-2 * PROOF.retract_mm, 25)
        self.lift_to(PROOF.park_mm)
        manner = self.manner
        self.say(WARM, manner.send("heat_tip", celsius=HEAT.tip_warm_c))
        if manner.can("dwell"):
            self.say(manner.send("dwell", seconds=PROOF.warm_minutes * 60))
        self.say(manner.send("heat_tip", celsius=0), manner.send("heat_bed", celsius=0))
        if manner.can("motors_off"):
            self.say(manner.send("motors_off") + " ; motors off: home again before the next measurement")

    def program(self, plate: Plate, lowest_z_mm: float) -> Program:
        """What was written, read back. Raises ValueError as `check_program`."""
        text = "\n".join(self.lines) + "\n"
        check_program(text, self.machine, plate, lowest_z_mm)
        return Program(text=text, minutes=self.seconds / 60, filament_mm=self.filament_mm)

    def _took(self, length: float, speed: float) -> None:
        self.seconds += moving_time_s(length, speed)


def seconds_by_line(read: Toolpath, count: int) -> Array:
    """(count,) seconds each line of a program takes, moves with their ramps; heating is not known."""
    seconds = np.zeros(count)
    for move in read.moves:
        length = float(np.linalg.norm(np.subtract(move.end, move.start))) or abs(move.filament_mm)
        if length and move.speed_mm_s:
            seconds[move.line - 1] += moving_time_s(length, move.speed_mm_s)
    return seconds


def moving_time_s(length_mm: float, speed_mm_s: float) -> float:
    """Trapezoidal motion: length / speed and one ramp, or two ramps where full speed is not reached."""
    ramp = speed_mm_s / PROOF.acceleration_mm_s2
    if length_mm < speed_mm_s * ramp:
        return float(2 * (length_mm / PROOF.acceleration_mm_s2) ** 0.5)
    return length_mm / speed_mm_s + ramp


def ascii_only(text: str) -> str:
    """Comments a machine can swallow: one line, no odd characters."""
    return "".join(c if 32 <= ord(c) < 127 and c not in ";()*" else "?" for c in text)
