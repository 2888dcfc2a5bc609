"""One tolerant reader: comments, line numbers, checksums, missing spaces, absolute and relative, arcs.

Follows the words of RS-274 as 3D printers use them: G0/G1 moves, G2/G3 arcs, G20/G21 units, G28 home,
G90/G91 and M82/M83 absolute or relative, G92 set. A machine's own word in capitals is a command like any other.
"""

import re
from dataclasses import dataclass, field
from math import acos, atan2, ceil, cos, hypot, pi, sin, sqrt

from ivory_table.core.manner import checksum

_WORD = re.compile(r"([A-Za-z])\s*([+-]?(?:\d+\.?\d*|\.\d+)?)")
#: A command of a G, M or T and a number, or a machine's own word in capitals.
_COMMAND = re.compile(r"([GMTgmt])\s*(\d+(?:\.\d+)?)|([A-Z][A-Z_]+)(?![A-Za-z0-9.])")
#: What is a machine's own word in no manner: a code, or a place without one.
CODE = re.compile(r"(?:N\s*\d+\s*)?[GMTXYZEF]\s*[-+.\d]", re.IGNORECASE)
_TWO_LETTERS = re.compile(r"[A-Za-z]{2}")


@dataclass(frozen=True, slots=True)
class Move:
    """One straight move: from, to (mm), filament pushed (mm), speed (mm/s), its line number."""

    line: int
    start: tuple[float, float, float]
    end: tuple[float, float, float]
    filament_mm: float
    speed_mm_s: float


#: A chord of an arc leaves it by no more than this, mm.
CHORD_MM = 0.005
#: An arc of more chords than this is no arc of a printer.
MOST_CHORDS = 20_000
#: No machine that is meant here is larger, mm.
FARTHEST_MM = 100_000.0
_MOVES = {"G0": "line", "G1": "line", "G00": "line", "G01": "line", "G2": "cw", "G3": "ccw", "G02": "cw", "G03": "ccw"}


@dataclass
class Tip:
    """What a program has said so far of where the tip is and how its numbers are meant. Lengths in mm, speed in mm/s."""

    at: list[float] = field(default_factory=lambda: [0.0, 0.0, 0.0])
    filament: float = 0.0
    speed: float = 0.0
    unit: float = 1.0
    absolute: bool = True
    absolute_e: bool = True

    def take(self, line: int, command: str, values: dict[str, float]) -> list["Move"]:
        """The straight moves of one command; an arc is many. Raises ValueError for an arc that is none."""
        if command in _MOVES:
            return self._moved(line, _MOVES[command], values)
        if command == "G28":
            for axis in [a for a in "XYZ" if a in values] or "XYZ":
                self.at["XYZ".index(axis)] = 0.0
        elif command == "G92":
            for k, axis in enumerate("XYZ"):
                if axis in values and abs(values[axis] * self.unit) <= FARTHEST_MM:
                    self.at[k] = values[axis] * self.unit
            self.filament = values["E"] * self.unit if "E" in values else self.filament
        elif command in ("G90", "G91"):
            self.absolute = self.absolute_e = command == "G90"
        elif command in ("M82", "M83"):
            self.absolute_e = command == "M82"
        elif command in ("G20", "G21"):
            self.unit = 25.4 if command == "G20" else 1.0
        return []

    def _moved(self, line: int, way: str, values: dict[str, float]) -> list["Move"]:
        self.speed = values["F"] * self.unit / 60 if "F" in values else self.speed
        start = (self.at[0], self.at[1], self.at[2])
        to = list(self.at)
        for k, axis in enumerate("XYZ"):
            if axis in values:
                to[k] = values[axis] * self.unit + (0.0 if self.absolute else self.at[k])
        if not all(abs(v) <= FARTHEST_MM for v in to):
            raise ValueError("it goes farther than any machine reaches")
        self.at = to
        pushed = 0.0
        if "E" in values:
            pushed = values["E"] * self.unit - (self.filament if self.absolute_e else 0.0)
            self.filament += pushed
        end = (self.at[0], self.at[1], self.at[2])
        if way == "line":
            return [Move(line, start, end, pushed, self.speed)]
        places = _along_arc(start, end, values, self.unit, clockwise=way == "cw")
        share = pushed / len(places)
        ends = zip([start, *places[:-1]], places, strict=True)
        return [Move(line, a, b, share, self.speed) for a, b in ends]


Place = tuple[float, float, float]


def _along_arc(start: Place, end: Place, values: dict[str, float], unit: float, *, clockwise: bool) -> list[Place]:
    """Ends of the chords of an arc in the plane of the plate, rising evenly; a full circle where it ends where it began."""
    if "R" in values:
        x, y, r = end[0] - start[0], end[1] - start[1], values["R"] * unit
        across = hypot(x, y)
        if across == 0 or abs(r) < across / 2 - 0.01:
            raise ValueError("the arc's radius does not reach its end")
        side = sqrt(max(r * r - across * across / 4, 0.0)) * (1 if (r < 0) != clockwise else -1)
        cx, cy = start[0] + x / 2 + side * y / across, start[1] + y / 2 - side * x / across
    else:
        if "I" not in values and "J" not in values:
            raise ValueError("an arc needs its middle, I and J, or its radius R")
        cx, cy = start[0] + values.get("I", 0.0) * unit, start[1] + values.get("J", 0.0) * unit
    radius = hypot(start[0] - cx, start[1] - cy)
    if abs(hypot(end[0] - cx, end[1] - cy) - radius) > max(0.05, 0.01 * radius):
        raise ValueError("the arc does not end on its circle")
    begin, stop = atan2(start[1] - cy, start[0] - cx), atan2(end[1] - cy, end[0] - cx)
    turn = (begin - stop if clockwise else stop - begin) % (2 * pi) or 2 * pi
    step = 2 * acos(max(1 - CHORD_MM / radius, -1.0)) if radius > CHORD_MM else 2 * pi
    count = min(max(ceil(turn / step), 1), MOST_CHORDS)
    sign = -1 if clockwise else 1
    out = []
    for k in range(1, count):
        angle = begin + sign * turn * k / count
        out.append((cx + radius * cos(angle), cy + radius * sin(angle), start[2] + (end[2] - start[2]) * k / count))
    return [*out, end]


@dataclass
class Toolpath:
    moves: list[Move] = field(default_factory=list)
    commands: list[tuple[int, str, dict[str, float]]] = field(default_factory=list)


def bare(line: str) -> str:
    """A line of our own programs without its comment, which stands behind a blank: a machine's own words may hold a semicolon."""
    return "" if line.startswith(";") else line.split(" ;")[0].strip()


def words(line: str) -> tuple[str, dict[str, float]] | None:
    """The command and its parameters of one line, or None for an empty one.

    Raises ValueError for what is no command, or a checksum that does not match.
    """
    text = re.sub(r"\([^)]*\)", "", line.split(";")[0]).strip()
    if "*" in text:
        body, _, given = text.rpartition("*")
        total = checksum(body)
        if not given.strip().isdigit() or int(given) != total:
            raise ValueError(f"the checksum is {given.strip() or 'missing'}, the line adds up to {total}")
        text = body.strip()
    text = re.sub(r"^[Nn]\s*\d+\s*", "", text)
    if not text:
        return None
    head = _COMMAND.match(text)
    if not head:
        raise ValueError(f"'{text[:30]}' does not begin with a command: G, M or T and a number, or a word in capitals")
    command = head[3] or f"{head[1].upper()}{head[2]}"
    rest = text[head.end() :]
    if (head[3] or command[0] == "M") and _TWO_LETTERS.search(rest):
        # Words for a display, not letters with numbers.
        return command, {}
    if re.sub(_WORD, "", rest).strip():
        raise ValueError(f"'{rest.strip()[:30]}' is not made of letters with numbers")
    return command, {m[1].upper(): float(m[2] or 0) for m in _WORD.finditer(rest)}


def read_program(text: str, *, own_words: bool = False) -> Toolpath:
    """Every command and every straight move. Raises ValueError with the line and the reason.

    `own_words`: lines in the words of a machine's manner are taken as they stand; nothing that is laid depends on them.
    """
    program, tip = Toolpath(), Tip()
    for number, line in enumerate(text.splitlines(), 1):
        try:
            found = words(line)
            if found is None:
                continue
            program.commands.append((number, *found))
            program.moves += tip.take(number, *found)
        except ValueError as wrong:
            if own_words and not CODE.match(line.strip()):
                program.commands.append((number, line.strip(), {}))
                continue
            raise ValueError(f"Line {number}: {wrong}.") from None
    return program
