"""One tolerant reader: comments, line numbers, checksums, missing spaces, absolute and relative.

Follows the words of RS-274 as 3D printers use them: G0/G1 moves, G20/G21 units, G28 home,
G90/G91 and M82/M83 absolute or relative, G92 set. A machine's own word in capitals is a command like any other.
"""

import re
from dataclasses import dataclass, field

from ivory_table.core.manner import checksum

_WORD = re.compile(r"([A-Za-z])\s*([+-]?(?:\d+\.?\d*|\.\d+)?)")
#: A command of a G, M or T and a number, or a machine's own word in capitals.
_COMMAND = re.compile(r"([GMTgmt])\s*(\d+(?:\.\d+)?)|([A-Z][A-Z_]+)(?![A-Za-z0-9.])")
#: What is a machine's own word in no manner: a code, or a place without one.
_CODE = re.compile(r"(?:N\s*\d+\s*)?[GMTXYZEF]\s*[-+.\d]", re.IGNORECASE)
_TWO_LETTERS = re.compile(r"[A-Za-z]{2}")


@dataclass(frozen=True)
class Move:
    """One straight move: from, to (mm), filament pushed (mm), speed (mm/s), its line number."""

    line: int
    start: tuple[float, float, float]
    end: tuple[float, float, float]
    filament_mm: float
    speed_mm_s: float


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
    program = Toolpath()
    at = [0.0, 0.0, 0.0]
    filament, speed, unit = 0.0, 0.0, 1.0
    absolute = absolute_e = True
    for number, line in enumerate(text.splitlines(), 1):
        try:
            found = words(line)
        except ValueError as wrong:
            if own_words and not _CODE.match(line.strip()):
                program.commands.append((number, line.strip(), {}))
                continue
            raise ValueError(f"Line {number}: {wrong}.") from None
        if found is None:
            continue
        command, values = found
        program.commands.append((number, command, values))
        if command in ("G2", "G3", "G02", "G03"):
            raise ValueError(f"Line {number}: arcs are not read yet; give straight moves.")
        if command in ("G0", "G1", "G00", "G01"):
            speed = values["F"] * unit / 60 if "F" in values else speed
            start = (at[0], at[1], at[2])
            for k, axis in enumerate("XYZ"):
                if axis in values:
                    at[k] = values[axis] * unit + (0.0 if absolute else at[k])
            pushed = 0.0
            if "E" in values:
                pushed = values["E"] * unit - (filament if absolute_e else 0.0)
                filament += pushed
            program.moves.append(Move(number, start, (at[0], at[1], at[2]), pushed, speed))
        elif command == "G28":
            axes = [a for a in "XYZ" if a in values] or list("XYZ")
            for axis in axes:
                at["XYZ".index(axis)] = 0.0
        elif command == "G92":
            for k, axis in enumerate("XYZ"):
                if axis in values:
                    at[k] = values[axis] * unit
            filament = values["E"] * unit if "E" in values else filament
        elif command in ("G90", "G91"):
            absolute = absolute_e = command == "G90"
        elif command in ("M82", "M83"):
            absolute_e = command == "M82"
        elif command in ("G20", "G21"):
            unit = 25.4 if command == "G20" else 1.0
    return program
