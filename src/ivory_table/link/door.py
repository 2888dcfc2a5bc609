"""The side door of a practice machine: asks the person there, over a local socket, as `core.hands.Hands`."""

import json
import socket
import time
from pathlib import Path
from typing import Any

from ivory_table.core.bead import Swatch
from ivory_table.core.gauge import FEELS, Feel, Gauge
from ivory_table.core.hands import Look, Reach
from ivory_table.core.mesh import MeshSurvey
from ivory_table.core.proof import ProofPlan
from ivory_table.core.setup import RunSetup
from ivory_table.core.value import Value

#: A practice machine's process starts beside the server; the first question may come before it is up.
STARTS_WITHIN_S = 6.0


class NobodyThere(ValueError):
    """The practice machine's process does not answer."""


class Address(Value):
    """Where a practice machine is to be met, as its process writes it down when it starts."""

    line: str
    door: int
    pace: float


class Doors:
    """The practice machines whose processes wrote their addresses into one folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def address(self, machine_id: str) -> Address | None:
        file = self.folder / f"{machine_id}.address.json"
        try:
            return Address.model_validate_json(file.read_text())
        except (OSError, ValueError):
            return None

    def hands_for(self, setup: RunSetup) -> "Door | None":
        """The person at a run's practice machine, with the run's plate mounted and its gauge in hand."""
        if not setup.machine.practice:
            return None
        address = self.address(setup.machine.id)
        ends = time.monotonic() + STARTS_WITHIN_S
        while address is None and time.monotonic() < ends:
            time.sleep(0.1)
            address = self.address(setup.machine.id)
        if address is None:
            raise NobodyThere(f"{setup.machine.name}'s practice machine is not running yet; try again in a moment.")
        door = Door(address.door)
        door.mount(setup.plate_id, setup.gauge)
        return door


class Door:
    """`Hands` at the other end of a socket; one question, one connection."""

    def __init__(self, port: int, limit_s: float = 60.0) -> None:
        self.port, self.limit_s = port, limit_s

    def ask(self, name: str, /, **given: Any) -> Any:
        """Raises NobodyThere, or ValueError with what was refused."""
        try:
            with socket.create_connection(("127.0.0.1", self.port), timeout=self.limit_s) as at:
                at.sendall(json.dumps({"ask": name, "given": given}).encode() + b"\n")
                reply = json.loads(at.makefile().readline())
        except (OSError, ValueError):
            raise NobodyThere("The practice machine does not answer; start it again with the application.") from None
        if "refused" in reply:
            raise ValueError(reply["refused"])
        return reply["answer"]

    def mount(self, plate_id: str, gauge: Gauge) -> None:
        self.ask("mount", plate_id=plate_id, gauge=gauge.model_dump())

    def try_sense(self, screw: int) -> str:
        return str(self.ask("try_sense", screw=screw))

    def turn_until_drag(self, screw: int, most_marks: int) -> Reach:
        marks, still = self.ask("turn_until_drag", screw=screw, most_marks=most_marks)
        return Reach(int(marks), still)

    def is_loose(self, screw: int) -> bool:
        return bool(self.ask("is_loose", screw=screw))

    def turn(self, screw: int, marks: float) -> None:
        self.ask("turn", screw=screw, marks=marks)

    def back_off(self, turns: float) -> None:
        self.ask("back_off", turns=turns)

    def turn_beam(self, up_mm: float) -> None:
        self.ask("turn_beam", up_mm=up_mm)

    def gap_at_zero(self, x_mm: float, y_mm: float) -> float:
        return float(self.ask("gap_at_zero", x_mm=x_mm, y_mm=y_mm))

    def read_height(self, x_mm: float, y_mm: float) -> float:
        return float(self.ask("read_height", x_mm=x_mm, y_mm=y_mm))

    def felt_height(self, x_mm: float, y_mm: float) -> float:
        return float(self.ask("felt_height", x_mm=x_mm, y_mm=y_mm))

    def slide_gauge(self, x_mm: float, y_mm: float, z_mm: float) -> Feel:
        return _feel(self.ask("slide_gauge", x_mm=x_mm, y_mm=y_mm, z_mm=z_mm))

    def slide_here(self) -> Feel:
        return _feel(self.ask("slide_here"))

    def use_mesh(self, survey: MeshSurvey | None) -> None:
        self.ask("use_mesh", survey=survey.model_dump() if survey else None)

    def store_mesh(self) -> None:
        self.ask("store_mesh")

    def switch_off_and_on(self) -> None:
        self.ask("switch_off_and_on")

    def move_nozzle(self, away_mm: float) -> None:
        self.ask("move_nozzle", away_mm=away_mm)

    def print_zone(self, proof: ProofPlan, zone: int) -> Look:
        return Look.model_validate(self.ask("print_zone", proof=proof.model_dump(), zone=zone))

    def see_zone(self, proof: ProofPlan, zone: int, light_mm: float) -> Swatch:
        return Swatch.model_validate(self.ask("see_zone", proof=proof.model_dump(), zone=zone, light_mm=light_mm))

    def clean(self, proof: ProofPlan, zone: int) -> None:
        self.ask("clean", proof=proof.model_dump(), zone=zone)

    def mend(self, cause: str) -> None:
        self.ask("mend", cause=cause)

    def look_for(self, cause: str) -> bool:
        return bool(self.ask("look_for", cause=cause))

    def measure_feed(self, commanded_mm: float) -> float:
        return float(self.ask("measure_feed", commanded_mm=commanded_mm))

    def change_feed(self, times: float) -> None:
        self.ask("change_feed", times=times)

    def gauge_second(self) -> float:
        return float(self.ask("gauge_second"))

    def pass_second(self, tops_mm: tuple[float, ...], z_mm: float) -> tuple[bool, ...]:
        return tuple(bool(hit) for hit in self.ask("pass_second", tops_mm=tops_mm, z_mm=z_mm))

    def turn_second(self, up_mm: float) -> None:
        self.ask("turn_second", up_mm=up_mm)

    def touch_probe(self, on: bool) -> None:
        self.ask("touch_probe", on=on)

    def disturb(self) -> None:
        self.ask("disturb")

    def fault(self, name: str, after: int = 1) -> None:
        self.ask("fault", name=name, after=after)

    def crashes(self) -> list[str]:
        return [str(c) for c in self.ask("crashes")]


def _feel(word: Any) -> Feel:
    return next(f for f in FEELS if f == word)
