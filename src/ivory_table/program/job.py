"""A job somebody made elsewhere, read as a stream: its start, its first two layers word by word, the rest searched for what matters.

A file may have hundreds of megabytes; what is kept of it is what the first two layers need. Nothing in it is ever fatal: a line
that cannot be read is counted and named.
"""

import re
from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from io import BytesIO
from typing import BinaryIO

from .reader import CODE, Move, Tip, words

#: A longer line is nobody's command: it is named and passed over.
LONGEST_LINE = 65_536
#: More moves than these in two layers are not kept; what was read till then is judged, and it is said.
MOST_MOVES = 2_000_000
#: Of other commands so many are kept from the front and from the end: what matters stands there.
FIRST_SAID, LAST_SAID = 20_000, 2_000
#: So many lines that cannot be read, and words that are not known, are named.
MOST_NAMED = 20
#: Layers whose heights differ by less are one.
SAME_LAYER_MM = 0.02
#: So much must be laid at a height for it to be a layer and not a primed line, mm.
LEAST_LAID_MM = 30.0
#: And so much of what is laid on the layers beside it.
PRIMED_SHARE = 0.1
_CHUNK = 1 << 20
#: Where a part begins after others, so much before it tells where the tip is and how much was pushed.
_BEFORE = 1 << 14
#: A job may come back down so many times to lay another part.
MOST_PARTS = 500

#: Beyond the second layer: lines that are no plain move, and moves that name a height.
_MATTERS = re.compile(
    rb"^[ \t]*(?:[Nn]\d+[ \t]*)?(?:[Gg]0*[0-3](?![0-9.])[^;\n]*[Zz]|(?![Gg]0*[0-3](?![0-9.])|[;\r\n])[^\n]).*$", re.M
)
_PUSHES = re.compile(rb"[ \t]*(?:[Nn]\d+[ \t]*)?[Gg]0*[1-3](?![0-9.])[^;\n]*[XYxy][^;\n]*[Ee]")
_HEIGHT = re.compile(rb"[Zz]\s*([+-]?(?:\d+\.?\d*|\.\d+))")


class NotAJob(ValueError):
    """The file is no program; the sentence says what it seems to be."""


class Cancelled(Exception):
    """Whoever asked has stopped it."""


@dataclass(frozen=True, slots=True)
class Said:
    """One command that is not a move: its line, its words, and where the tip had come to."""

    line: int
    command: str
    values: dict[str, float]
    text: str
    #: How many extruding moves came before it.
    laid_before: int


@dataclass
class Job:
    """What was read. Lengths in mm, temperatures in °C. Its layers are asked for once it is read, and picked out once."""

    bytes: int = 0
    lines: int = 0
    said: list[Said] = field(default_factory=list)
    #: Every move until the second layer is left, in order.
    moves: list[Move] = field(default_factory=list)
    #: Heights of the first layer and of the second; None where nothing is laid, or there is one only.
    first_z: float | None = None
    second_z: float | None = None
    #: Lines that cannot be read: their number, and why. `unreadable` counts all of them.
    bad_lines: list[tuple[int, str]] = field(default_factory=list)
    unreadable: int = 0
    cut: bool = False
    #: Lowest height named anywhere after the first move, and its line.
    lowest: tuple[float, int] | None = None
    #: The last height that was named, and the highest before it, mm.
    last_z: float = 0.0
    highest: float | None = None
    #: The line where it comes back down to the first layer and is not followed: in relative places, or once too often.
    comes_back: int | None = None
    #: The last line that moves along the plate with filament.
    last_laid: int = 0
    #: How its numbers are meant at the end.
    ends_absolute: bool = True

    @cached_property
    def first_layer(self) -> list[Move]:
        """What is laid in the first layer: moves along the plate that push filament at its height."""
        z = self.first_z
        return [] if z is None else [m for m in self.moves if lays(m) and abs(m.end[2] - z) < SAME_LAYER_MM]

    @cached_property
    def second_layer(self) -> list[Move]:
        z = self.second_z
        return [] if z is None else [m for m in self.moves if lays(m) and abs(m.end[2] - z) < SAME_LAYER_MM]

    @cached_property
    def first_spans(self) -> list[tuple[int, int | None]]:
        """Where a first layer begins, and the line that lays what comes after it; several parts have one each."""
        spans: list[tuple[int, int | None]] = []
        inside = False
        for move in self.moves:
            if self.first_z is None or not lays(move):
                continue
            low = abs(move.end[2] - self.first_z) < SAME_LAYER_MM
            if low and not inside:
                spans.append((move.line, None))
            elif not low and inside:
                spans[-1] = (spans[-1][0], move.line)
            inside = low
        return spans


def lays(move: Move) -> bool:
    return move.filament_mm > 0 and move.start[:2] != move.end[:2]


def read_job(stream: BinaryIO, progress: Callable[[int], None] = lambda _: None) -> Job:
    """Read a job. `progress` is told how many bytes are read, and may raise Cancelled.

    Raises NotAJob for what is no text, packed, or empty.
    """
    reading = _Reading(stream, progress)
    while not reading.ended:
        reading.word_by_word()
        reading.searched()
    job = reading.job
    job.said += reading.last_said
    if not job.moves and not any(CODE.match(s.command) for s in job.said):
        raise NotAJob("There is no command in this file. Choose the program that is sent to the machine.")
    job.first_z, job.second_z = _layers(job.moves)
    job.ends_absolute = reading.tip.absolute
    return job


class _Reading:
    def __init__(self, stream: BinaryIO, progress: Callable[[int], None]) -> None:
        self.stream, self.progress = stream, progress
        self.job, self.tip = Job(), Tip()
        self.ended = False
        self.laid = 0
        self.last_said: deque[Said] = deque(maxlen=LAST_SAID)
        #: Below this something is laid in the first layer.
        self.second_mm = -1.0
        self.above_mm = 0.0
        self.parts = 0
        #: Read already, and to be read again; and what came right before it.
        self.held = BytesIO()
        self.before = b""

    def word_by_word(self) -> None:
        """From the first layer of a part until its second is left, or there is nothing more."""
        told, lows = self.job.bytes, dict[int, float]()
        while True:
            raw = self._line()
            if not raw:
                self.ended = True
                return
            if not self.job.bytes:
                _refuse_other_files(raw)
            self.job.bytes += len(raw)
            self.job.lines += 1
            if len(raw) == LONGEST_LINE and not raw.endswith(b"\n"):
                self._pass_over()
                continue
            for move in self._take(raw.decode("utf-8", "replace").strip()):
                if move.filament_mm and move.start[:2] != move.end[:2]:
                    self.job.last_laid = self.job.lines
                if lays(move):
                    self.laid += 1
                    _laid_at(lows, move)
            if self.job.bytes - told > _CHUNK:
                told = self.job.bytes
                self.progress(told)
            real = _real(lows)
            # The third layer has begun, and the two below it are whole.
            if (
                len(real) >= 3
                or (self.parts and real and real[-1] * SAME_LAYER_MM > self.above_mm)
                or len(self.job.moves) > MOST_MOVES
                or len(lows) > 400
            ):
                self.job.cut = len(self.job.moves) > MOST_MOVES
                return

    def _line(self) -> bytes:
        raw = self.held.readline(LONGEST_LINE)
        if len(raw) < LONGEST_LINE and not raw.endswith(b"\n"):
            raw += self.stream.readline(LONGEST_LINE - len(raw))
        return raw

    def _take(self, text: str) -> list[Move]:
        try:
            found = words(text)
            if found is None:
                return []
            command, values = found
            moves = self.tip.take(self.job.lines, command, values)
        except ValueError as wrong:
            self._not_read(text, str(wrong))
            return []
        if moves:
            for move in moves:
                self._low(move.end[2])
            self.job.moves += moves
        elif command not in ("G0", "G1", "G00", "G01"):
            self._said(command, values, text)
        return moves

    def _said(self, command: str, values: dict[str, float], text: str) -> None:
        said = Said(self.job.lines, command, values, text[:200], self.laid)
        if len(self.job.said) < FIRST_SAID:
            self.job.said.append(said)
        else:
            self.last_said.append(said)

    def _not_read(self, text: str, why: str) -> None:
        """A machine's own words may have any form: whether it knows them is asked later. A code that is broken is broken."""
        if CODE.match(text):
            self._bad(why)
        else:
            self._said(text.split()[0][:40], {}, text)

    def _bad(self, why: str) -> None:
        self.job.unreadable += 1
        if len(self.job.bad_lines) < MOST_NAMED:
            self.job.bad_lines.append((self.job.lines, why))

    def _low(self, z: float) -> None:
        """A height that is named."""
        if z != self.job.last_z:
            self.job.highest = max(self.job.highest or 0.0, self.job.last_z)
            self.job.last_z = z
        if self.job.lowest is None or z < self.job.lowest[0]:
            self.job.lowest = (z, self.job.lines)

    def _pass_over(self) -> None:
        """The rest of a line that is longer than any command."""
        self._bad(f"the line is longer than {LONGEST_LINE:,} characters")
        while True:
            more = self._line()
            self.job.bytes += len(more)
            self.progress(self.job.bytes)
            if not more or more.endswith(b"\n"):
                return

    def searched(self) -> None:
        """What lies above, a piece at a time: other commands, and heights; until another part begins, or the end."""
        first, second = _layers(self.job.moves)
        if first is not None and second is not None:
            self.second_mm, self.above_mm = (first + second) / 2, second + SAME_LAYER_MM
        rest = b""
        while not self.ended:
            piece = self.held.read() or self.stream.read(_CHUNK)
            self.job.bytes += len(piece)
            self.progress(self.job.bytes)
            whole = rest + piece
            end = whole.rfind(b"\n") + 1 if piece else len(whole)
            if not end and len(whole) > LONGEST_LINE:
                rest = b""
                self.job.lines += 1
                self._pass_over()
                continue
            rest = whole[end:]
            again = self._search(whole[:end])
            if again is not None:
                self.job.bytes -= len(whole) - again
                self.held = BytesIO(whole[again:])
                return
            self.before = whole[max(end - _BEFORE, 0) : end]
            self.ended = not piece

    def _search(self, lines: bytes) -> int | None:
        """Take what matters of some lines; where another part begins in them, if one does."""
        begin, counted = self.job.lines, 0
        at = 0
        for found in _MATTERS.finditer(lines):
            counted += lines.count(b"\n", at, found.start())
            at = found.start()
            self.job.lines = begin + counted + 1
            if self._matters(found[0]):
                self.parts += 1
                self.job.lines -= 1
                self._find_the_tip(lines[:at])
                return at
        self.job.lines = begin + lines.count(b"\n") + (0 if lines.endswith(b"\n") or not lines else 1)
        laid = _last_laid(lines)
        if laid is not None:
            self.job.last_laid = begin + lines.count(b"\n", 0, laid) + 1
        return None

    def _find_the_tip(self, upto: bytes) -> None:
        """Where it is before another part: plain moves were passed over, and the last of them tell."""
        z = self.tip.at[2]
        lines = (self.before + upto)[-_BEFORE:].split(b"\n")
        for raw in lines[1:]:
            try:
                found = words(raw.decode("utf-8", "replace").strip())
                if found is not None:
                    self.tip.take(self.job.lines, *found)
            except ValueError:
                continue
        self.tip.at[2] = z

    def _matters(self, raw: bytes) -> bool:
        """Take one line; whether it goes down to the first layer again."""
        text = raw.decode("utf-8", "replace").strip()
        height = _HEIGHT.search(raw.split(b";")[0])
        head = raw.lstrip()[:1]
        if height and head in b"GgNn" and self._moves(text):
            z = float(height[1]) * self.tip.unit + (0.0 if self.tip.absolute else self.job.last_z)
            if self.job.last_z > self.second_mm > z:
                if self.tip.absolute and self.parts < MOST_PARTS:
                    return True
                self.job.comes_back = self.job.comes_back or self.job.lines
            self.tip.at[2] = z
            self._low(z)
            return False
        try:
            found = words(text)
            if found is None or found[0] in ("G0", "G1", "G2", "G3"):
                return False
            self.tip.take(self.job.lines, *found)
        except ValueError as wrong:
            self._not_read(text, str(wrong))
            return False
        self._said(*found, text)
        return False

    @staticmethod
    def _moves(text: str) -> bool:
        return bool(re.match(r"(?:[Nn]\d+\s*)?[Gg]0*[0-3](?![0-9.])", text))


def _last_laid(lines: bytes) -> int | None:
    """Where the last line begins that moves along the plate and pushes, by its letters alone."""
    end = len(lines)
    while end > 0:
        begin = lines.rfind(b"\n", 0, end - 1) + 1
        if _PUSHES.match(lines, begin, end):
            return begin
        end = begin
    return None


def move_length(move: Move) -> float:
    (x0, y0, _), (x1, y1, _) = move.start, move.end
    return float(((x1 - x0) ** 2 + (y1 - y0) ** 2) ** 0.5)


def _laid_at(lengths: dict[int, float], move: Move) -> None:
    """Add a move to what is laid at each height, in steps of `SAME_LAYER_MM`; what lies above a first layer and before it is primed."""
    z = round(move.end[2] / SAME_LAYER_MM)
    if lengths and z < min(lengths):
        lengths.clear()
    lengths[z] = lengths.get(z, 0.0) + move_length(move)


def _real(lengths: dict[int, float]) -> list[int]:
    """The heights that are layers: a primed line below them is short beside what is laid on them."""
    enough = sorted(z for z, length in lengths.items() if length >= LEAST_LAID_MM)
    return [z for z in enough if lengths[z] >= PRIMED_SHARE * max(lengths[e] for e in enough[:3])]


def _layers(moves: list[Move]) -> tuple[float | None, float | None]:
    """Heights of the two lowest layers on which something worth the name is laid."""
    laid: dict[int, float] = {}
    for move in moves:
        if lays(move):
            _laid_at(laid, move)
    real = _real(laid) or sorted(laid)
    heights: list[float] = []
    for z in real:
        exact = [m.end[2] for m in moves if lays(m) and round(m.end[2] / SAME_LAYER_MM) == z]
        heights.append(sum(exact) / len(exact))
        if len(heights) == 2:
            break
    return (heights[0] if heights else None, heights[1] if len(heights) > 1 else None)


def _refuse_other_files(first: bytes) -> None:
    if first[:2] == b"\x1f\x8b" or first[:4] == b"PK\x03\x04":
        raise NotAJob("This file is packed. Unpack it first, then choose the program in it.")
    if b"\0" in first[:4096]:
        raise NotAJob("This is no text. Choose the program that is sent to the machine.")
