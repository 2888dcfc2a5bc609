"""What a command of a job means on a machine: by the lines of its manner first, then as plain G-code."""

import re
from string import Formatter

from ivory_table.core.manner import Manner
from ivory_table.core.plate import ConventionId
from ivory_table.core.units import ours, split

from .job import Said

#: Plain G-code that most machines take, where their manner has no line of that word: what it does, and the letter of its value.
_PLAIN: dict[str, tuple[str, str, str]] = {
    "G28": ("home", "", ""),
    "M104": ("heat_tip", "S", "celsius"),
    "M109": ("heat_tip_wait", "S", "celsius"),
    "M140": ("heat_bed", "S", "celsius"),
    "M190": ("heat_bed_wait", "S", "celsius"),
    "M106": ("fan", "S", "share"),
    "M84": ("motors_off", "", ""),
    "M18": ("motors_off", "", ""),
    "G4": ("dwell", "S", "seconds"),
}
#: Understood, and nothing to say about.
SILENT = frozenset(
    [
        "G10",
        "G11",
        "G17",
        "G20",
        "G21",
        "G90",
        "G91",
        "G92",
        "M17",
        "M73",
        "M82",
        "M83",
        "M105",
        "M110",
        "M117",
        "M201",
        "M203",
        "M204",
        "M205",
        "M400",
    ]
)
#: What a job may do that reaches past itself.
Meaning = tuple[str, dict[str, float]]


class Meanings:
    def __init__(self, manner: Manner, convention: ConventionId) -> None:
        lines = [(name, template) for name, template in manner.does if template]
        of = getattr(manner.offset, convention)
        lines += [(f"offset_{name}", getattr(of, name)) for name in ("set", "store", "read") if getattr(of, name)]
        # Of two that fit, the one with fewer places says more.
        lines.sort(key=lambda line: line[1].count("{"))
        self._lines = [(name, _shape(template)) for name, template in lines]

    def of(self, said: Said) -> Meaning | None:
        """What it does and with which values, in our units; None where nobody here knows the word."""
        text = bare_command(said.text)
        for name, shape in self._lines:
            if found := shape.fullmatch(text):
                return name, {
                    split(place)[0]: ours(place, float(value)) for place, value in found.groupdict().items() if value
                }
        if said.command in _PLAIN:
            name, letter, field = _PLAIN[said.command]
            return name, {field: said.values[letter]} if letter in said.values else {}
        if said.command == "M107":
            return "fan", {"share": 0.0}
        if said.command[0] == "T" and said.command[1:].isdigit():
            return "tool", {"number": float(said.command[1:])}
        return ("", {}) if said.command in SILENT else None


_NUMBER = r"[-+]?(?:\d+\.?\d*|\.\d+)"


def _shape(template: str) -> re.Pattern[str]:
    """A template as what its lines look like: any number in each place, letters in either case."""
    out = ""
    for before, place, _, _ in Formatter().parse(template):
        out += re.sub(r"(?:\\ |\s)+", r"\\s*", re.escape(before))
        if place is not None:
            out += f"(?P<{place}>{_NUMBER})" if place != "text" else ".*"
    return re.compile(_numbers_alike(out.strip()), re.IGNORECASE)


def _numbers_alike(shape: str) -> str:
    """A fixed whole number is also taken with nothing behind its point."""
    return re.sub(r"(?<=[A-Za-z])(\d+)(?![\d.\\\\])", r"0*\1(?:\\.0*)?", shape)


def bare_command(text: str) -> str:
    """A line without number, checksum and comment."""
    text = re.sub(r"\([^)]*\)", "", text.split(";")[0])
    return re.sub(r"^[Nn]\s*\d+\s*", "", text.split("*")[0]).strip()
