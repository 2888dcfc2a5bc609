"""The practice machine's firmware: lines in, replies out, in the words of one manner.

Motion and heat are plain G-code; what differs between machines (offset, mesh, probe, reports)
is understood through the manner's own templates, so that nothing here is wired to one of them.
"""

import re
import tomllib
from collections.abc import Iterator
from importlib.resources import files
from string import Formatter

import numpy as np

from ivory_table.core.manner import OWN_WORDS, Manner, checksum
from ivory_table.core.mesh import MeshGrid, MeshSurvey
from ivory_table.core.offset import convention, shift_of
from ivory_table.program.reader import words

from .machine import CannotMove, PracticeMachine

_VOICES = tomllib.loads(files(__package__).joinpath("voices.toml").read_text("utf-8"))


class Halted(Exception):
    """The machine stopped itself or was stopped; only `recover` or power brings it back."""


class Firmware:
    """Obeys lines. `obey` yields replies as they come; time passes on the body's own clock."""

    def __init__(self, body: PracticeMachine, manner: Manner) -> None:
        self.body, self.manner, self.voice = body, manner, _VOICES[manner.id]
        self.how = convention(body.machine.convention, manner)
        self._own = _understood(manner)
        body.mesh_law = manner.mesh
        # Whoever looks at it again finds it as it was left: it stayed on meanwhile.
        self.start(cut=False)

    def start(self, *, cut: bool = True) -> list[str]:
        """Power on: after a cut everything that was not stored is gone."""
        self.halted = ""
        self.line = 0
        self.absolute = self.absolute_e = True
        self.filament, self.feed = 0.0, 20.0
        self._printing = False
        self._grid: MeshGrid | None = None
        self._points: dict[tuple[int, int], float] = {}
        body = self.body
        body.restart(cut=cut)
        body.bed.target_c = body.tip.target_c = 0.0
        if cut and not self.how.stores:
            self._set_offset(0.0)
        self._saved = body.truth.stored_mm
        return [self.say("ready")]

    def say(self, name: str, **values: float | str) -> str:
        return str(self.voice[name].format(**values))

    def halt(self, why: str) -> str:
        """Everything off and still; the position is no longer known."""
        self.halted = why
        self.body.homed = False
        self.body.bed.target_c = self.body.tip.target_c = 0.0
        return self.say("halt", text=why)

    def obey(self, raw: str) -> Iterator[str]:
        """The replies to one line, the last of them an acknowledgement, unless it is refused."""
        line = raw.strip()
        if not line:
            return
        if line == self.manner.line.stop:
            if not self.halted:
                yield self.halt("stopped")
            return
        if self.halted:
            if line == self.manner.line.recover or re.sub(r"^N\d+\s*|\*\d+$", "", line) == self.manner.line.recover:
                yield from self.start()
                yield self.say("ack")
            else:
                yield self.say("halt", text=self.halted)
            return
        numbered = re.match(r"N(\d+)\s", line)
        if self.manner.line.numbered and numbered:
            body, _, given = line.rpartition("*")
            if not given.isdigit() or int(given) != checksum(body):
                yield self.say("again", line=str(self.line + 1))
                return
            number = int(numbered[1])
            renumber = self.manner.line.renumber and body.split(None, 1)[1].startswith(self.manner.line.renumber)
            if not renumber and number != self.line + 1:
                yield self.say("again", line=str(self.line + 1))
                return
            self.line = number
        try:
            found = words(line)
            if found:
                yield from self._do(*found)
        except CannotMove as why:
            yield self.say("error", text=str(why))
        except ValueError as why:
            yield self.say("error", text=f"not understood, {why}")
        except Halted as why:
            yield self.halt(str(why))
            return
        yield self.say("ack")

    def _do(self, command: str, given: dict[str, float]) -> Iterator[str]:
        for name, at, fixed, letters in self._own:
            if command == at and letters.keys() <= given.keys() and all(given.get(k) == v for k, v in fixed.items()):
                yield from self._own_thing(name, {letters[k]: v for k, v in given.items() if k in letters})
                return
        body = self.body
        match command:
            case "G0" | "G1":
                self._move(given)
            case "G28":
                body.home()
                self._count_print(ended=True)
                if self.manner.line.homing_ends_mesh:
                    body.mesh_on = False
            case "G4":
                yield from self._dwell(given.get("S", given.get("P", 0.0) / 1000))
            case "G90" | "G91":
                self.absolute = self.absolute_e = command == "G90"
            case "M82" | "M83":
                self.absolute_e = command == "M82"
            case "G92":
                self.filament = given.get("E", self.filament)
            case "M104" | "M109":
                body.tip.target_c = given.get("S", 0.0)
                self._count_print(ended=not body.tip.target_c)
                if command == "M109":
                    yield from self._heated()
            case "M140" | "M190":
                body.bed.target_c = given.get("S", 0.0)
                if command == "M190":
                    yield from self._heated()
            case "M106" | "M107":
                body.fan = given.get("S", 0.0) if command == "M106" else 0.0
            case "M84" | "M18":
                body.let_go()
            case "G21" | "M17":
                pass
            case _:
                yield self.say("error", text=f"no command {command}")
        self._guard_heat()

    def _own_thing(self, name: str, v: dict[str, float]) -> Iterator[str]:
        body = self.body
        match name:
            case "temperatures":
                yield self._temperatures()
                self._guard_heat()
            case "where":
                x, y, z = body.at
                yield self.say("position", x=x, y=y, z=z)
            case "probe":
                body.move(v["x"], v["y"], None, 80)
                found = body.probe()
                yield self.say("missed") if found is None else self.say("touched", z=found)
            case "trigger":
                yield self.say("trigger", state="closed" if body.ways.finger_on_probe else "open")
            case "counter":
                yield self.say("counter", prints=body.truth.prints)
            case "mesh_begin":
                xs = np.round(v["x_first"] + v["x_step"] * np.arange(int(v["columns"])), 2)
                ys = np.round(v["y_first"] + v["y_step"] * np.arange(int(v["rows"])), 2)
                self._grid = MeshGrid(xs_mm=tuple(map(float, xs)), ys_mm=tuple(map(float, ys)))
                self._points, body.mesh_on = {}, False
            case "mesh_point":
                self._points[int(v["column"]), int(v["row"])] = v["height"]
            case "mesh_on":
                self._mesh_on()
            case "mesh_off":
                body.mesh_on = False
                body.keep()
            case "mesh_store":
                if body.mesh is None:
                    raise ValueError("there is no mesh to keep")
                body.mesh_stored = True
                body.keep()
            case "mesh_read":
                yield from self._mesh_listed()
            case "nudge":
                body.nudge_mm += v["away"]
            case "speed":
                body.speed_share = min(max(v["percent"] / 100, 0.1), 3.0)
            case "offset_read":
                yield self.say("stored", value=body.truth.stored_mm)
            case "offset_set":
                self._set_offset(v["stored"])
            case "offset_store":
                self._saved = body.truth.stored_mm
                body.keep()

    def _mesh_on(self) -> None:
        body = self.body
        if self._grid is not None:
            n, m = len(self._grid.xs_mm), len(self._grid.ys_mm)
            if len(self._points) < n * m:
                raise ValueError(f"the mesh has {len(self._points)} of {n * m} points")
            rows = tuple(tuple(self._points[c, r] for c in range(n)) for r in range(m))
            # What is sent is relative to the nozzle's zero: the sender has settled whose constant it is.
            body.mesh = MeshSurvey(grid=self._grid, heights_mm=rows, owns_zero=True, plate_id=body.mounted.id)
            body.mesh_stored = False
            self._grid = None
        if body.mesh is None:
            raise ValueError("there is no mesh to switch on")
        body.mesh_on = True
        body.keep()

    def _mesh_listed(self) -> Iterator[str]:
        if self.body.mesh is None:
            raise ValueError("there is no mesh to list")
        rows = list(enumerate(self.body.mesh.heights_mm))
        for number, row in rows if self.manner.mesh.first_row == "front" else reversed(rows):
            heights = self.voice["between"].join(f"{v:+.3f}" for v in row)
            yield self.say("mesh_row", row=str(number), heights=heights)

    def _set_offset(self, stored_mm: float) -> None:
        truth = self.body.truth
        truth.shift += shift_of(truth.stored_mm, stored_mm, self.how)
        truth.stored_mm = stored_mm

    def _move(self, given: dict[str, float]) -> None:
        body = self.body
        self.feed = given.get("F", self.feed * 60) / 60
        if self.feed <= 0:
            raise ValueError("a speed of nothing")

        def end(letter: str, now: float) -> float | None:
            if letter not in given:
                return None
            return given[letter] if self.absolute else now + given[letter]

        pushed = 0.0
        if "E" in given:
            pushed = given["E"] - (self.filament if self.absolute_e else 0.0)
            self.filament += pushed
            self._printing = self._printing or pushed > 0
        places = [end(letter, now) for letter, now in zip("XYZ", body.at, strict=True)]
        if any(p is not None for p in places):
            body.move(places[0], places[1], places[2], self.feed, pushed)
        else:
            body.wait(abs(pushed) / self.feed)

    def _count_print(self, *, ended: bool) -> None:
        """A print is over once the tip is let cool, or the machine homes for another."""
        if ended and self._printing:
            self._printing = False
            self.body.truth.prints += 1
            self.body.keep()

    def _dwell(self, seconds: float) -> Iterator[str]:
        while seconds > 0:
            self.body.wait(min(seconds, 2.0))
            seconds -= 2.0
            yield self.say("alive")

    def _heated(self) -> Iterator[str]:
        body = self.body
        for _ in range(1800):
            self._guard_heat()
            low = [h for h in (body.bed, body.tip) if h.target_c and h.reading_c < h.target_c - 1]
            if not low:
                return
            body.wait(1.0)
            yield self._temperatures()
        raise Halted("heating took too long")

    def _guard_heat(self) -> None:
        for name, heater in (("bed", self.body.bed), ("tip", self.body.tip)):
            if heater.fault == "open":
                raise Halted(f"{name} thermistor open")
            if heater.fault == "stopped" and heater.target_c and heater.reading_c < heater.target_c - 10:
                raise Halted(f"{name} does not heat")

    def _temperatures(self) -> str:
        body = self.body
        return self.say(
            "temperatures",
            bed=body.bed.reading_c,
            bed_target=body.bed.target_c,
            tip=body.tip.reading_c,
            tip_target=body.tip.target_c,
        )


_Known = tuple[str, str, dict[str, float], dict[str, str]]


def _understood(manner: Manner) -> list[_Known]:
    """(name, command, fixed letters, letter -> field) of each template that is this manner's own."""
    # Of some nothing comes here: there is no display, no horn and nobody to wait for.
    templates = [(name, getattr(manner.does, name)) for name in ("temperatures", "where", *OWN_WORDS)]
    templates.append(("renumber", manner.line.renumber))
    for lines in (
        manner.offset.probe_offset,
        manner.offset.home_offset,
        manner.offset.stop_position,
        manner.offset.live_only,
    ):
        # Setting before reading: the same command without its value asks.
        templates += [("offset_set", lines.set), ("offset_read", lines.read), ("offset_store", lines.store)]
    known: list[_Known] = []
    for name, template in templates:
        if not template:
            continue
        letters: dict[str, str] = {}
        for literal, fieldname, _, _ in Formatter().parse(template):
            if fieldname and fieldname != "text":
                letters[literal.rstrip()[-1]] = fieldname
        command, fixed = words(re.sub(r"\{[^}]*\}", "", template)) or ("", {})
        fixed = {k: v for k, v in fixed.items() if k not in letters}
        known.append((name, command, fixed, letters))
    # The more a template says, the earlier it is tried: "set" before "read" of the same command.
    return sorted(known, key=lambda k: -(len(k[2]) + len(k[3])))
