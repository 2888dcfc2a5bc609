"""Jobs made elsewhere, written by a small generator in several dialects, sound or with one seeded fault."""

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from math import cos, pi, sin

from ivory_table.core.manner import checksum


@dataclass(frozen=True)
class Dialect:
    """How a program is written; what it makes the machine do is the same."""

    name: str
    relative_e: bool = True
    inches: bool = False
    arcs: bool = False
    numbered: bool = False
    lower: bool = False
    tight: bool = False
    comments: str = ";"
    mesh: bool = False


DIALECTS = (
    Dialect("plain"),
    Dialect("absolute filament", relative_e=False, mesh=True),
    Dialect("inches", inches=True, comments="("),
    Dialect("arcs", arcs=True, comments=""),
    Dialect("numbered", numbered=True, relative_e=False),
    Dialect("lower", lower=True, tight=True),
    Dialect("tight arcs", arcs=True, tight=True, relative_e=False, comments="("),
)


@dataclass
class Made:
    """A program as lines, each known by a label, so that a fault can be seeded at one and looked for there."""

    dialect: Dialect
    lines: list[tuple[str, str]] = field(default_factory=list)
    filament: float = 0.0

    def say(self, label: str, text: str) -> None:
        self.lines.append((label, text))

    def push(self, mm: float) -> str:
        self.filament += mm
        value = mm if self.dialect.relative_e else self.filament
        return f"E{self._length(value):.5f}"

    def _length(self, mm: float) -> float:
        return mm / 25.4 if self.dialect.inches else mm

    def mm(self, letter: str, value: float) -> str:
        return f"{letter}{self._length(value):.5f}".rstrip("0").rstrip(".")

    def index(self, label: str) -> int:
        return next(k for k, (at, _) in enumerate(self.lines) if at == label)

    def line_of(self, label: str) -> int:
        """The line of a label, counted from 1."""
        return self.index(label) + 1

    def without(self, label: str) -> None:
        self.lines = [(at, text) for at, text in self.lines if at != label]

    def put(self, before: str, label: str, text: str) -> None:
        self.lines.insert(self.index(before), (label, text))

    def replace(self, label: str, text: str) -> None:
        self.lines[self.index(label)] = (label, text)

    def text(self) -> str:
        return "\n".join(self._written(k, text) for k, (_, text) in enumerate(self.lines)) + "\n"

    def _written(self, number: int, text: str) -> str:
        d = self.dialect
        # A machine's own words are written as it knows them.
        plain = re.match(r"[GMT]\d", text) is not None
        out = text.lower() if d.lower and plain else text
        if d.tight and plain:
            out = out.replace(" ", "")
        if d.numbered and out:
            out = f"N{number} {out}"
            return f"{out}*{checksum(out)}"
        if d.comments == ";":
            return f"{out} ; as it comes"
        return f"{out} (as it comes)" if d.comments == "(" else out


def made(
    dialect: Dialect,
    *,
    at: tuple[float, float] = (60.0, 60.0),
    size_mm: float = 60.0,
    layer_mm: float = 0.2,
    layers: int = 4,
    tip_c: float = 206.0,
    bed_c: float = 57.0,
    speed_mm_s: float = 20.0,
    line_mm: float = 0.45,
    mesh_on: str = "CHART_USE S1",
    then: tuple[tuple[float, float], ...] = (),
) -> Made:
    """A ring and lines side by side in it, a few layers high, with a start and an end that surprise nobody.

    `then`: where more of them are laid, each one after the other.
    """
    m = Made(dialect)
    feed = speed_mm_s * 60 / (25.4 if dialect.inches else 1)
    travel = 7200 / (25.4 if dialect.inches else 1)
    lift = 600 / (25.4 if dialect.inches else 1)
    m.say("units", "G20" if dialect.inches else "G21")
    m.say("absolute", "G90")
    m.say("filament", "M83" if dialect.relative_e else "M82")
    m.say("warm", "M104 S150")
    m.say("bed", f"M140 S{bed_c:g}")
    m.say("bed wait", f"M190 S{bed_c:g}")
    m.say("home", "G28")
    if dialect.mesh:
        m.say("mesh", mesh_on)
    m.say("lift", f"G1 {m.mm('Z', 5)} F{lift:.1f}")
    m.say("tip wait", f"M109 S{tip_c:g}")
    m.say("zero filament", "G92 E0")
    m.say("fan off", "M106 S0")
    for k, (x, y) in enumerate((at, *then)):
        if k:
            m.say(f"over {k}", f"G0 {m.mm('Z', layer_mm * layers + 5)} F{lift:.1f}")
        _part(m, f"part {k} " if k else "", x, y, size_mm, (line_mm, layer_mm), layers, feed, travel, lift)
    m.say("pull", f"G1 {m.push(-2)} F{1800 / (25.4 if dialect.inches else 1):.1f}")
    m.say("up at the end", f"G0 {m.mm('Z', layer_mm * layers + 20)} F{lift:.1f}")
    m.say("tip off", "M104 S0")
    m.say("bed off", "M140 S0")
    m.say("motors off", "M84")
    return m


def _part(
    m: Made,
    name: str,
    x0: float,
    y0: float,
    size_mm: float,
    line: tuple[float, float],
    layers: int,
    feed: float,
    travel: float,
    lift: float,
) -> None:
    dialect = m.dialect
    width, layer_mm = line
    per_mm = ((width - layer_mm) * layer_mm + pi * layer_mm**2 / 4) / (pi / 4 * 1.75**2)
    r = size_mm / 2
    cx, cy = x0 + r, y0 + r
    for k in range(layers):
        z = layer_mm * (k + 1)
        m.say(f"{name}up {k}", f"G0 {m.mm('Z', z + 0.6)} F{lift:.1f}")
        m.say(f"{name}to ring {k}", f"G0 {m.mm('X', cx + r)} {m.mm('Y', cy)} F{travel:.1f}")
        m.say(f"{name}down {k}", f"G0 {m.mm('Z', z)} F{lift:.1f}")
        if dialect.arcs:
            for half, sign in ((0, -1), (1, 1)):
                push = m.push(pi * r * per_mm)
                m.say(
                    f"{name}ring {k} {half}",
                    f"G3 {m.mm('X', cx + sign * r)} {m.mm('Y', cy)} {m.mm('I', sign * r)} {m.mm('J', 0)} {push} F{feed:.1f}",
                )
        else:
            for j in range(1, 33):
                a = 2 * pi * j / 32
                push = m.push(2 * r * sin(pi / 32) * per_mm)
                m.say(
                    f"{name}ring {k} {j}",
                    f"G1 {m.mm('X', cx + r * cos(a))} {m.mm('Y', cy + r * sin(a))} {push} F{feed:.1f}",
                )
        rows = int(size_mm / 2 / 0.41)
        for j in range(rows):
            y = cy - size_mm / 4 + 0.41 * j
            ends = (cx - r / 2, cx + r / 2) if j % 2 == 0 else (cx + r / 2, cx - r / 2)
            m.say(f"{name}row {k} {j}", f"G0 {m.mm('X', ends[0])} {m.mm('Y', y)} F{travel:.1f}")
            m.say(f"{name}lay {k} {j}", f"G1 {m.mm('X', ends[1])} {m.mm('Y', y)} {m.push(r * per_mm)} F{feed:.1f}")


@dataclass(frozen=True)
class Fault:
    """One thing done wrong: the code of what must be found, and at the line of which label; None: it is about what is missing."""

    code: str
    seed: Callable[[Made], None]
    at: str | None
    mesh_on: bool = False


def _several(*acts: Callable[[Made], None]) -> Callable[[Made], None]:
    def seed(m: Made) -> None:
        for act in acts:
            act(m)

    return seed


def _without(*labels: str) -> Callable[[Made], None]:
    return _several(*(lambda m, label=label: m.without(label) for label in labels))


def _put(before: str, text: str) -> Callable[[Made], None]:
    return lambda m: m.put(before, "seeded", text)


FAULTS: tuple[Fault, ...] = (
    Fault("not_homed", _without("home", "mesh"), "ring 0"),
    Fault("cold_tip", _without("tip wait"), "ring 0"),
    Fault("tip_not_waited", lambda m: m.replace("tip wait", "M104 S206"), "tip wait"),
    Fault("cold_plate", _without("bed", "bed wait"), "ring 0"),
    Fault("plate_not_waited", _without("bed wait"), "bed"),
    Fault("hot_home", _put("home", "M109 S206"), "home"),
    Fault("tip_too_hot", lambda m: m.replace("tip wait", "M109 S290"), "tip wait"),
    Fault("plate_too_hot", lambda m: m.replace("bed wait", "M190 S95"), "bed wait"),
    Fault("tip_heat_differs", lambda m: m.replace("tip wait", "M109 S225"), "tip wait"),
    Fault("mesh_missing", _without("mesh"), "home", mesh_on=True),
    Fault("mesh_before_home", _several(_without("mesh"), _put("home", "CHART_USE S1")), "seeded", mesh_on=True),
    Fault("mesh_off", _several(_without("mesh"), _put("lift", "CHART_USE S0")), "seeded", mesh_on=True),
    Fault("mesh_unjudged", _several(_without("mesh"), _put("lift", "CHART_USE S1")), "seeded"),
    Fault("offset_overwritten", _put("lift", "ZERO_STOP Z1.5"), "seeded"),
    Fault("live_change", _put("lift", "TRIM Z-0.05"), "seeded"),
    Fault("limit_left_open", _put("lift", "FLOOR Z-2"), "seeded"),
    Fault("low_travel", _several(_without("lift"), lambda m: m.put("up 0", "seeded", f"G0 {m.mm('X', 100)} {m.mm('Y', 100)} F600")), "seeded"),
    Fault("tip_left_hot", _without("tip off"), "tip wait"),
    Fault("plate_left_hot", _without("bed off"), "bed wait"),
    Fault("speed_left", _put("up 2", "PACE S150"), "seeded"),
    Fault("flow_left", _put("up 3", "M221 S110"), "seeded"),
    Fault("left_relative", _put("motors off", "G91"), None),
    Fault("not_lifted", _without("up at the end"), None),
    Fault("below_zero", lambda m: m.put("up 3", "seeded", f"G0 {m.mm('Z', -0.5)} F600"), "seeded"),
    Fault("off_plate", lambda m: m.replace("lay 0 3", f"G1 {m.mm('X', 400)} {m.mm('Y', 90)} {m.push(5)} F1200"), "lay 0 3"),
    Fault("other_tool", _put("up 1", "T1"), "seeded"),
    Fault("unknown_word", _put("up 3", "M9876 S1"), "seeded"),
    Fault("unknown_word", _put("lift", "purge the tip = 1"), "seeded"),
    Fault("motors_left_on", _without("motors off"), None),
    Fault("unreadable", _put("up 2", "G1 X5 Y??"), "seeded"),
    Fault("accelerates_much", _put("lift", "M204 P5000 T8000"), "seeded"),
    Fault("heat_between_layers", _put("up 1", "M140 S50"), "seeded"),
    Fault("fan_in_layer", lambda m: m.replace("fan off", "M106 S255"), "fan off"),
)  # fmt: skip
