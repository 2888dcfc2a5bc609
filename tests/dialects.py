"""Forty ways of talking that nobody here has heard of, made from a seed, and a practice machine that speaks them.

Nothing of this knows how a manner is taught: lines are written and read by rules of their own. A dialect wraps a
practice machine's line: what comes in is turned into that machine's own words, what goes out into the dialect's.
"""

import random
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from ivory_table.core.manner import shipped
from ivory_table.practice.serve import TcpPlug

INNER = shipped("harbour")
PER_MM = {"mm": 1.0, "inch": 1 / 25.4, "micron": 1000.0}
LENGTHS = {"x", "y", "z", "lowest", "away", "stored", "value", "height"}
LENGTHS |= {"x_first", "y_first", "x_last", "y_last", "x_step", "y_step"}
NUMBER = r"([-+]?\d*\.?\d+)"

#: What each command is called in one of three families, and what its numbers are.
VERBS = {
    "home": ("G28", "reference", "seek_stops"),
    "move": ("G0", "go", "travel"),
    "height": ("G0", "rise", "level"),
    "settle": ("M400", "finish", "rest_now"),
    "where": ("M114", "place?", "tell_place"),
    "motors_off": ("M84", "relax", "let_go"),
    "heat_bed": ("M140", "warm_plate", "bed"),
    "heat_tip": ("M104", "warm_tip", "tip"),
    "heat_bed_wait": ("M190", "warm_plate_now", "bed_wait"),
    "heat_tip_wait": ("M109", "warm_tip_now", "tip_wait"),
    "dwell": ("G4", "idle", "sleep_for"),
    "temperatures": ("M105", "warmth?", "tell_heat"),
    "fan": ("M106", "blow", "wind"),
    "probe": ("G30", "prod", "sense_at"),
    "trigger": ("M119", "prod?", "tell_sense"),
    "mesh_begin": ("M420", "relief", "chart_new"),
    "mesh_point": ("M421", "relief_point", "chart_put"),
    "mesh_on": ("M422", "relief_follow", "chart_use"),
    "mesh_off": ("M423", "relief_ignore", "chart_drop"),
    "mesh_store": ("M424", "relief_keep", "chart_keep"),
    "mesh_read": ("M425", "relief?", "tell_chart"),
    "offset_read": ("M850", "zero?", "tell_zero"),
    "offset_set": ("M851", "zero", "put_zero"),
    "offset_store": ("M500", "zero_keep", "keep_zero"),
    "counter": ("M78", "made?", "tell_made"),
    "limit_open": ("M211", "floor", "lower_to"),
    "limit_close": ("M212", "floor_shut", "lower_end"),
    "nudge": ("M290", "trim", "shift_by"),
    "speed": ("M220", "rate", "haste"),
    "message": ("M117", "show", "say"),
    "tone": ("M300", "beep", "ring"),
    "pause": ("M0", "await", "hold_on"),
    "absolute": ("G90", "from_zero", "places_fixed"),
    "stop": ("M112", "drop_dead", "end_all"),
    "recover": ("M999", "wake_up", "begin_anew"),
    "renumber": ("M110", "count_anew", "line_zero"),
}
PARAMETERS = {
    "move": ("x", "y", "feed"),
    "height": ("z", "feed"),
    "probe": ("x", "y"),
    "heat_bed": ("celsius",),
    "heat_tip": ("celsius",),
    "heat_bed_wait": ("celsius",),
    "heat_tip_wait": ("celsius",),
    "dwell": ("seconds",),
    "fan": ("share",),
    "offset_set": ("stored",),
    "limit_open": ("lowest",),
    "nudge": ("away",),
    "speed": ("percent",),
    "tone": ("hertz", "milliseconds"),
}
#: The word of a manner that each command is.
WORD_OF = {v: f"does.{v}" for v in VERBS}
WORD_OF |= {"offset_read": "offset.read", "offset_set": "offset.set", "offset_store": "offset.store"}
WORD_OF |= {"stop": "line.stop", "recover": "line.recover", "renumber": "line.renumber"}


@dataclass
class Dialect:
    """One way of talking. `seed` decides everything."""

    seed: int
    numbered: int = field(default=0, init=False)
    said: int = field(default=0, init=False)

    def __post_init__(self) -> None:
        r = random.Random(1000 + self.seed)
        # Each kind at least a few times among forty, otherwise by chance.
        self.unit = ("mm", "inch", "micron")[self.seed % 3]
        # Programs are in plain G-code and mm: a machine that wants other units has words of its own for moving.
        self.family = r.choice((0, 1, 2)) if self.unit == "mm" else r.choice((1, 2))
        self.case = r.choice((str.upper, str.lower, str.capitalize)) if self.family else str.upper
        self.style = ("glued", "equals", "commas", "colons", "brackets", "json")[self.seed % 6]
        if self.family == 0:
            self.style = r.choice(("glued", "glued_tight", "equals"))
        self.dress = ("none", "xor", "sum", "number")[(self.seed // 3) % 4]
        self.ack = ("own", "counted", "same_line", "first", "prompt")[self.seed % 5]
        self.error_ends = r.random() < 0.4
        self.reply = ("letters", "equals", "brackets", "table", "lines")[(self.seed // 2) % 5]
        self.grid_order = (
            ("front left", "front right", "back left", "back right")[self.seed % 4],
            "xy"[(self.seed // 4) % 2],
        )
        self.grid_style = r.choice(("plain", "numbered", "brackets", "commas"))
        self.speed_unit = {"mm": r.choice(("min", "s")), "inch": "min", "micron": "s"}[self.unit]
        self.share = r.choice((255, 100, 1))
        self.seconds = r.choice(("s", "ms"))
        self.index = r.choice(("zero", "one", "back", "place"))
        self.pads = r.random() < 0.2
        self.temperatures_swapped = r.random() < 0.5

    # Lines

    def number(self, name: str, value: float) -> str:
        """A value of ours as this dialect writes it."""
        if name in LENGTHS:
            digits = {"mm": 3, "inch": 5, "micron": 0}[self.unit]
            text = f"{value * PER_MM[self.unit] + 0.0:.{digits}f}"
            return f"{value * PER_MM[self.unit] + 0.0:09.{digits}f}" if self.pads and self.unit == "mm" else text
        if name == "feed":
            per = PER_MM[self.unit] / (60 if self.speed_unit == "s" else 1)
            return f"{value * per:.{1 if self.speed_unit == 's' or self.unit == 'inch' else 0}f}"
        if name == "share":
            return f"{value / 255 * self.share:.{2 if self.share == 1 else 0}f}"
        if name == "seconds":
            return f"{value * (1000 if self.seconds == 'ms' else 1):.0f}"
        return f"{value:.0f}"

    def value(self, name: str, text: str) -> float:
        number = float(text)
        if name in LENGTHS:
            return number / PER_MM[self.unit]
        if name == "feed":
            return number / PER_MM[self.unit] * (60 if self.speed_unit == "s" else 1)
        if name == "share":
            return number / self.share * 255
        if name == "seconds":
            return number / (1000 if self.seconds == "ms" else 1)
        return number

    def verb(self, name: str) -> str:
        return self.case(VERBS[name][self.family])

    def names(self, command: str) -> tuple[str, ...]:
        if command == "mesh_begin":
            return ("x_first", "y_first", "x_step", "y_step", "columns", "rows")
        if command == "mesh_point":
            return {
                "zero": ("column", "row", "height"),
                "one": ("column_1", "row_1", "height"),
                "back": ("column", "row_back", "height"),
                "place": ("x", "y", "height"),
            }[self.index]
        return PARAMETERS.get(command, ())

    def join(self, verb: str, pairs: Sequence[tuple[str, str]]) -> str:
        keys = "XYZABCDEF" if self.family == 0 else "xyzabcdef"
        letters = [key if name not in "xyz" else (name.upper() if self.family == 0 else name)
                   for key, (name, _) in zip(keys[3:] if pairs and pairs[0][0] in "xyz" else keys, pairs, strict=False)]  # fmt: skip
        if not pairs:
            return verb
        match self.style:
            case "glued":
                return verb + "".join(f" {k}{v}" for k, (_, v) in zip(letters, pairs, strict=True))
            case "glued_tight":
                return verb + " " + "".join(f"{k}{v}" for k, (_, v) in zip(letters, pairs, strict=True))
            case "equals":
                return verb + "".join(f" {k}={v}" for k, (_, v) in zip(letters, pairs, strict=True))
            case "commas":
                return f"{verb} " + ",".join(v for _, v in pairs)
            case "colons":
                return f"{verb};" + ";".join(f"{k}:{v}" for k, (_, v) in zip(letters, pairs, strict=True))
            case "brackets":
                return f"{verb}(" + ", ".join(v for _, v in pairs) + ")"
        return f'{{"{verb}":{{' + ",".join(f'"{k}":{v}' for k, (_, v) in zip(letters, pairs, strict=True)) + "}}"

    def line(self, command: str, values: Mapping[str, float | str]) -> str:
        """What a person sends for a command, in our units."""
        if command == "message":
            return (
                f'{self.verb(command)} "{values["text"]}"' if self.family else f"{self.verb(command)} {values['text']}"
            )
        given = dict(values)
        for name in ("column", "row"):
            if name in given:
                given[f"{name}_1"] = float(given[name]) + 1
        return self.join(self.verb(command), [(n, self.number(n, float(given[n]))) for n in self.names(command)])

    def understood(self, line: str) -> tuple[str, dict[str, float]] | None:
        """The command and its values in our units; None for what is not in this dialect."""
        for command in sorted(VERBS, key=lambda c: -len(self.names(c))):
            if command == "message":
                if line.startswith(self.verb(command)):
                    return command, {}
                continue
            names = self.names(command)
            built = self.join(self.verb(command), [(n, "\0") for n in names])
            pattern = re.escape(built).replace("\0", NUMBER).replace(re.escape("\0"), NUMBER)
            if found := re.fullmatch(pattern, line):
                return command, {n: self.value(n, t) for n, t in zip(names, found.groups(), strict=True)}
        return None

    def dressed(self, line: str) -> str:
        if self.dress == "none":
            return line
        self.said += 1
        body = f"N{self.said} {line}"
        total = 0
        for byte in body.encode():
            total = total ^ byte if self.dress == "xor" else (total + byte) % 256
        return body + {"xor": f"*{total}", "sum": f" #{total:02X}", "number": ""}[self.dress]

    def undressed(self, line: str) -> tuple[str, bool]:
        """A line without number and seal, and whether both were right."""
        if self.dress == "none" or line == self.line("stop", {}):
            return line, True
        found = re.fullmatch(r"(N(\d+) (.*?))(?:\*(\d+)| #([0-9A-F]{2}))?", line)
        if found is None:
            return line, False
        total = 0
        for byte in found[1].encode():
            total = total ^ byte if self.dress == "xor" else (total + byte) % 256
        given = {"xor": found[4], "sum": found[5], "number": ""}[self.dress]
        wanted = {"xor": str(total), "sum": f"{total:02X}", "number": ""}[self.dress]
        bare = found[3]
        if bare == self.line("renumber", {}):
            self.numbered = 0
            return bare, given == wanted
        right = given == wanted and int(found[2]) == self.numbered + 1
        if right:
            self.numbered += 1
        return bare, right

    # Replies

    def fields(self, values: Mapping[str, str], head: str) -> list[str]:
        """Named numbers as this dialect answers them."""
        match self.reply:
            case "letters":
                return [head + "".join(f" {k[:1].upper()}{k[-1:]}:{v}" for k, v in values.items())]
            case "equals":
                return [head + " " + " ".join(f"{k.replace('_', '.')}={v}" for k, v in values.items())]
            case "brackets":
                return [f"[{head}: " + ", ".join(values.values()) + "]"]
            case "table":
                return ["| " + " | ".join((head, *values.values())) + " |"]
        return [f"{head} {k.replace('_', ' ')} {v}" for k, v in values.items()]

    def answer(self, kind: str, values: Mapping[str, float]) -> list[str]:
        """The lines of one answer, in our units, without what confirms."""
        if kind == "temperatures":
            order = (
                ("tip", "tip_target", "bed", "bed_target")
                if self.temperatures_swapped
                else ("bed", "bed_target", "tip", "tip_target")
            )
            names = {n: f"{values[n]:.1f}" for n in order}
            return self.fields(names, "heat" if self.family else "T")
        if kind in ("position", "touched", "stored"):
            names = {n: self.length(v) for n, v in values.items()}
            return self.fields(names, {"position": "at", "touched": "met", "stored": "zero"}[kind])
        if kind == "counter":
            return self.fields({"prints": str(int(values["prints"]))}, "made")
        if kind == "trigger":
            words = (("idle", "hit"), ("0", "1"), ("open", "TRIGGERED"))[self.family]
            return [f"probe: {words[int(values['state'])]}"]
        raise AssertionError(kind)

    def length(self, value: float) -> str:
        digits = {"mm": 4, "inch": 6, "micron": 1}[self.unit]
        return f"{value * PER_MM[self.unit] + 0.0:.{digits}f}"

    def grid(self, heights: Sequence[Sequence[float]]) -> list[str]:
        """A mesh as it is listed; `heights` front row first, left to right."""
        rows = [list(row) for row in heights]
        first, along = self.grid_order
        if first.startswith("back"):
            rows.reverse()
        if first.endswith("right"):
            rows = [row[::-1] for row in rows]
        if along == "y":
            rows = [list(column) for column in zip(*rows, strict=True)]
        texts = [[self.length(v) for v in row] for row in rows]
        match self.grid_style:
            case "plain":
                return [" ".join(row) for row in texts]
            case "numbered":
                return [f"{k} " + " ".join(v if "." in v else v + ".0" for v in row) for k, row in enumerate(texts)]
            case "brackets":
                return ["[" + ", ".join(row) + "]" for row in texts]
        return [",".join(row) for row in texts]

    @property
    def ready(self) -> str:
        return f"{self.case('unit')} {self.seed}.2 started"

    @property
    def alive(self) -> str:
        return "..busy" if self.family else "echo: busy"

    def error(self, why: str) -> str:
        return f"!! {why}" if self.family else f"Error: {why}"

    def halted(self, why: str) -> str:
        return f"STOPPED BY {why}"

    def again(self, line: int) -> str:
        return f"Resend: {line}" if self.family == 0 else f"repeat {line}"

    def confirmed(self, lines: Sequence[str]) -> list[str]:
        """An answer, or none, with what confirms."""
        lines = list(lines)
        match self.ack:
            case "own":
                return [*lines, "ok"]
            case "counted":
                self.acks = getattr(self, "acks", 0) + 1
                return [*lines, f"done {self.acks}"]
            case "same_line":
                return [f"ok {lines[0]}", *lines[1:]] if lines else ["ok"]
            case "first":
                return ["ok", *lines]
        return [*lines, "=>"]


class DialectPlug(TcpPlug):
    """A practice machine's line, in a dialect."""

    def __init__(self, dialect: Dialect) -> None:
        super().__init__(0)
        self.dialect = dialect
        self._rest, self._answers, self._refused = b"", [], False
        self._heights: list[list[float]] = []
        self.not_understood: list[str] = []
        self._ny = 0

    def read(self) -> bytes | None:
        data = super().read()
        if data is None:
            self._rest = b""
            self.dialect.numbered = 0
            return None
        *lines, self._rest = (self._rest + data).split(b"\n")
        out = b""
        for raw in lines:
            line = raw.decode("ascii", "replace").strip()
            bare, right = self.dialect.undressed(line)
            if not right:
                self._out([self.dialect.again(self.dialect.numbered + 1)])
                continue
            found = self.dialect.understood(bare)
            if found is None and not re.match(r"[GM]\d", bare):
                self.not_understood.append(bare)
                self._out(
                    [self.dialect.error("unknown"), *([] if self.dialect.error_ends else self.dialect.confirmed([]))]
                )
                continue
            out += (bare if found is None else self._inner(*found)).encode() + b"\n"
        return out

    def _inner(self, command: str, v: dict[str, float]) -> str:
        if command in ("stop", "recover", "renumber"):
            return getattr(INNER.line, command)
        if command.startswith("offset_"):
            return {"offset_read": INNER.offset.probe_offset.read, "offset_store": INNER.offset.probe_offset.store}.get(
                command, INNER.offset.probe_offset.set.format(stored=v.get("stored", 0))
            )
        if command == "mesh_begin":
            self._ny, self._first = int(v["rows"]), (v["x_first"], v["y_first"], v["x_step"], v["y_step"])
        if command == "mesh_point":
            if "column_1" in v:
                v = {"column": v["column_1"] - 1, "row": v["row_1"] - 1, "height": v["height"]}
            elif "row_back" in v:
                v = {"column": v["column"], "row": self._ny - 1 - v["row_back"], "height": v["height"]}
            elif "x" in v:
                x0, y0, dx, dy = self._first
                v = {"column": round((v["x"] - x0) / dx), "row": round((v["y"] - y0) / dy), "height": v["height"]}
        whole = {"column", "row", "columns", "rows", "hertz", "milliseconds"}
        given = {n: round(x) if n in whole else x for n, x in v.items()}
        return INNER.send(command, **({"text": "x"} if command == "message" else given))

    def write(self, data: bytes) -> None:
        for raw in data.split(b"\n"):
            line = raw.decode("ascii", "replace").strip()
            if line:
                self._answer(line)

    def _answer(self, line: str) -> None:
        d, hears = self.dialect, INNER.hears
        if hears("ack", line) is not None:
            answers, self._answers = self._answers, []
            if self._heights:
                answers, self._heights = d.grid(self._heights), []
            refused, self._refused = self._refused, False
            if refused and d.error_ends:
                return
            self._out(d.confirmed(answers))
        elif (m := hears("temperatures", line)) is not None:
            self._answers += d.answer("temperatures", {k: float(v) for k, v in m.items()})
        elif (m := hears("position", line)) is not None:
            self._answers += d.answer("position", {k: float(v) for k, v in m.items()})
        elif (m := hears("touched", line)) is not None:
            self._answers += d.answer("touched", {"z": float(m["z"])})
        elif (m := hears("stored", line)) is not None:
            self._answers += d.answer("stored", {"value": float(m["value"])})
        elif (m := hears("counter", line)) is not None:
            self._answers += d.answer("counter", {"prints": float(m["prints"])})
        elif (m := hears("trigger", line)) is not None:
            self._answers += d.answer("trigger", {"state": m["state"] == "closed"})
        elif hears("missed", line) is not None:
            self._answers += ["met nothing"]
        elif (m := hears("mesh_row", line)) is not None:
            self._heights.append([float(v) for v in m["heights"].split()])
        elif (m := hears("error", line)) is not None:
            self._refused = True
            self._out([d.error(m["text"])])
        elif (m := hears("halt", line)) is not None:
            self._out([d.halted(m["text"])])
        elif hears("ready", line) is not None:
            self.dialect.numbered = 0
            self._out([d.ready])
        else:
            self._out([d.alive])

    def _out(self, lines: Sequence[str]) -> None:
        for line in lines:
            super().write(line.encode() + b"\n")
