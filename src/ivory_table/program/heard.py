"""What a job has said up to a place in it, and what is found in a single command."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Literal

from ivory_table.core.defaults import HEAT, JOB_CHECK, PREPARE
from ivory_table.core.manner import Manner
from ivory_table.core.plate import Filament

from .finding import Finding
from .job import Said


@dataclass
class SoFar:
    """What has been said up to a place in the job."""

    homed: int | None = None
    mesh: tuple[str, int] | None = None
    tip_c: float = 0.0
    bed_c: float = 0.0
    tip_waited: bool = False
    bed_waited: bool = False
    tip_line: int | None = None
    bed_line: int | None = None
    fan: tuple[float, int] | None = None
    percent: tuple[float, int] | None = None
    flow: tuple[float, int] | None = None
    nudged: float = 0.0
    limit: int | None = None
    motors_off: bool = False
    units_said: bool = False
    places_said: bool = False
    filament_said: bool = False
    inches: int | None = None
    found: list[Finding] = field(default_factory=list)


def hear(
    known: SoFar,
    said: Said,
    meaning: tuple[str, dict[str, float]] | None,
    filament: Filament,
    manner: Manner,
    *,
    started: bool,
) -> None:
    """One command taken in."""
    command, line = said.command, said.line
    if command in ("G20", "G21"):
        known.units_said, known.inches = True, line if command == "G20" else None
    known.places_said |= command in ("G90", "G91")
    known.filament_said |= command in ("M82", "M83")
    name, values = meaning or ("", {})
    if name == "home":
        known.homed = line
        if known.tip_c >= HEAT.oozes_c and known.tip_waited:
            known.found.append(
                Finding(
                    code="hot_home",
                    level="note",
                    line=line,
                    text=f"It homes with the tip at {known.tip_c:.0f} °C, which oozes: what hangs from it is homed with it.",
                    instead=(
                        manner.send("heat_tip", celsius=150.0),
                        manner.send("home"),
                        manner.send("heat_tip_wait", celsius=known.tip_c),
                    ),
                )
            )
    elif name in ("heat_tip", "heat_tip_wait"):
        known.tip_c, known.tip_line = values.get("celsius", 0.0), line
        known.tip_waited = name == "heat_tip_wait"
        known.found += _too_hot(known.tip_c, "tip", filament, line)
    elif name in ("heat_bed", "heat_bed_wait"):
        known.bed_c, known.bed_line = values.get("celsius", 0.0), line
        known.bed_waited = name == "heat_bed_wait"
        known.found += _too_hot(known.bed_c, "plate", filament, line)
    elif name in ("mesh_on", "mesh_off"):
        known.mesh = (name, line)
    elif name in ("offset_set", "offset_store"):
        known.found.append(
            Finding(
                code="offset_overwritten",
                level="warning",
                line=line,
                text="It writes a Z offset over the one that was found for this plate. Leave the line out.",
            )
        )
    elif name == "nudge":
        known.nudged += values.get("away", 0.0)
        known.found.append(
            Finding(
                code="live_change",
                level="warning",
                line=line,
                text=f"It moves the tip by {values.get('away', 0.0):+.3f} mm beside the stored value. Leave the line out, or merge it into the value.",
            )
        )
    elif name == "limit_open":
        known.limit = line
    elif name == "limit_close":
        known.limit = None
    elif name == "speed":
        known.percent = (values.get("percent", 100.0), line)
    elif command == "M220" and "S" in said.values:
        known.percent = (said.values["S"], line)
    elif command == "M221" and "S" in said.values:
        known.flow = (said.values["S"], line)
    elif name == "fan":
        known.fan = (values.get("share", 255.0), line)
    elif name == "motors_off":
        known.motors_off = True
    elif name == "tool" and values["number"] >= 1:
        known.found.append(
            Finding(
                code="other_tool",
                level="warning",
                line=line,
                text=f"It changes to tool {values['number']:.0f}: its own height is not judged here.",
            )
        )
    if name in ("mesh_begin", "probe") and started:
        known.found.append(
            Finding(code="probes_late", level="warning", line=line, text="It probes after it has begun to lay.")
        )


def _too_hot(celsius: float, what: Literal["tip", "plate"], filament: Filament, line: int) -> Iterator[Finding]:
    most = PREPARE["stands"][filament.material]["tip_c" if what == "tip" else "bed_c"]
    wanted = filament.nozzle_c if what == "tip" else filament.bed_c
    if celsius > most:
        yield Finding(
            code=f"{what}_too_hot",
            level="warning",
            line=line,
            text=f"{celsius:.0f} °C at the {what} is more than {filament.material} stands ({most:.0f} °C).",
        )
    elif abs(celsius - wanted) > JOB_CHECK.alike_c and celsius >= (HEAT.oozes_c if what == "tip" else 35.0):
        yield Finding(
            code=f"{what}_heat_differs",
            level="note",
            line=line,
            text=f"{celsius:.0f} °C at the {what}; {filament.name} was judged with {wanted:.0f} °C.",
        )
