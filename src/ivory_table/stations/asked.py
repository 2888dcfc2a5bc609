"""The checks and cautions that are for this machine, this plate and what was changed: asked and shown at its stations."""

from typing import Any

from ivory_table.core.defaults import PREPARE
from ivory_table.core.plate import Machine, Plate
from ivory_table.core.value import StationName, Value
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun


class Caution(Value):
    id: str
    text: str
    seen: bool


def fits(needs: str, machine: Machine, plate: Plate) -> bool:
    """Whether a check or caution is for this machine and plate."""
    glued = any("glue" in layer.name.lower() for layer in plate.layers)
    return {
        "always": True,
        "glued": glued,
        "not_glued": not glued,
        "keep_outs": bool(plate.keep_outs),
        "screws": bool(machine.screws),
        "no_screws": not machine.screws,
        "probe": machine.probe is not None,
        "live_only": machine.convention == "live_only",
    }[needs]


def cautions(run: OpenRun, station: StationName) -> tuple[Caution, ...]:
    rows: list[dict[str, Any]] = PREPARE["cautions"]
    machine, plate = run.setup.machine, run.setup.plate
    return tuple(
        Caution(id=c["id"], text=c["text"], seen=c["id"] in run.state.cautions)
        for c in rows
        if c["station"] == station
        and fits(c["needs"], machine, plate)
        and ("only_after" not in c or set(run.state.changes) & set(c["only_after"]))
        and "done" not in [run.state.checks.get(check) for check in c.get("unless_done", ())]
    )


def checks_for(run: OpenRun) -> tuple[dict[str, Any], ...]:
    """The checks for this machine, plate, and what changed since its last run."""
    machine, plate, changes = run.setup.machine, run.setup.plate, set(run.state.changes)
    return tuple(
        c
        for c in PREPARE["checks"]
        if fits(c["needs"], machine, plate) and (not c["only_after"] or changes & set(c["only_after"]))
    )


def refuse_open_limit(run: OpenRun, field: str) -> None:
    """Raise Refused while the machine's soft limit stands open: the next slip would go into the plate."""
    if run.state.limit_open_mm:
        raise Refused(
            "limit_open",
            f"The soft limit is open by {run.state.limit_open_mm:g} mm below zero. Close it at the Z offset first: until then "
            "nothing stops the tip above the plate.",
            field,
        )
