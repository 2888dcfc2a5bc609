"""Prepare: the checks that fit this machine, plate and what changed; the heat, the hold, and how the plate moves as it warms."""

from datetime import UTC, datetime
from typing import Any

from ivory_table.core.changes import Change, change, known_changes
from ivory_table.core.defaults import HEAT, PREPARE
from ivory_table.core.face import coat_of, face_of
from ivory_table.core.offset import StoredChange, convention
from ivory_table.core.offset import change as stored_change
from ivory_table.core.proof import zones_on
from ivory_table.core.thermal import School
from ivory_table.core.value import Value
from ivory_table.runs.run import OpenRun
from ivory_table.stations.asked import Caution, cautions, checks_for, fits
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.prepare.heat import ThermalView, hold_words, thermal_view
from ivory_table.stations.sheet import Figure, Sheet, Spot, height_field, sheet_of


class Check(Value):
    id: str
    text: str
    why: str
    #: How to tell that it is right; empty where the text says it.
    right: str
    #: In a few words, why it is on this list.
    because: str
    #: Where it is found on this machine, in its owner's words.
    where: str
    outcome: str | None


class PrepareView(StationView):
    sheet: Sheet
    cautions: tuple[Caution, ...]
    checks: tuple[Check, ...]
    #: What to lay out before the run begins.
    tools: tuple[str, ...]
    school: School
    changes: tuple[Change, ...]
    can_tell: tuple[Change, ...]
    foretold: StoredChange | None
    #: Why, in words: from a thickness, or from what this plate needed before.
    foretold_why: str
    bed_target_c: float
    nozzle_target_c: float
    held_since: datetime | None
    held_minutes: float | None
    hold_wanted_minutes: float
    hold_words: str
    thermal: ThermalView
    ready: bool


def view(run: OpenRun) -> PrepareView:
    state, setup = run.state, run.setup
    rows = checks_for(run)
    held = state.heated.held_since if state.heated else None
    minutes = (datetime.now(UTC) - held).total_seconds() / 60 if held else None
    ticked = sum(1 for c in rows if c["id"] in state.checks)
    thermal = thermal_view(run, minutes)
    wanted = 0.0 if state.school == "cold" else float(PREPARE["held_minutes"])
    if thermal.settled_after_min is not None and state.school != "cold":
        wanted = thermal.settled_after_min
    field = height_field(state, after_mesh=False, level_mm=None, tol_mm=state.tol_mm, against="the common height")
    figures = (
        Figure(name="Checks", value=f"{ticked}", unit=f"of {len(rows)}"),
        Figure(name="Held", value=f"{max(minutes, 0):.0f}" if minutes is not None else "–", unit="min"),
    )
    # A cold plate is as warm as the room: that is what is noted, and what the study is read at.
    bed_c = HEAT.cold_c if state.school == "cold" else state.bed_wanted_c
    return PrepareView(
        **so_far(run),
        sheet=sheet_of(state, field, figures=figures, spots=_pointed_at(run, rows)),
        cautions=cautions(run, "prepare"),
        checks=tuple(
            Check(
                id=c["id"],
                text=c["text"],
                why=c["why"],
                right=c["right"],
                because=_because(c, state.changes),
                where=state.where.get(c["id"], ""),
                outcome=state.checks.get(c["id"]),
            )
            for c in rows
        ),
        tools=_tools(run),
        school=state.school,
        changes=tuple(change(c, found=c in set(setup.changes) - set(setup.told_changes)) for c in state.changes),
        can_tell=tuple(c for c in known_changes() if c.id not in state.changes and c.id not in _FOUND_ONLY),
        foretold=_foretold(run),
        foretold_why=_foretold_why(run),
        bed_target_c=bed_c,
        # Warm, below oozing: a dripping tip falsifies the reading.
        nozzle_target_c=min(setup.filament.nozzle_c, 150.0) if state.school != "cold" else 0.0,
        held_since=held,
        held_minutes=minutes,
        hold_wanted_minutes=wanted,
        hold_words=hold_words(run, thermal, minutes),
        thermal=thermal,
        ready=ticked == len(rows) and (wanted == 0 or (minutes is not None and minutes >= wanted)),
    )


#: Differences that are seen by comparing runs; nobody needs to tell them.
_FOUND_ONLY = {"screws", "material", "new_machine"}


def _tools(run: OpenRun) -> tuple[str, ...]:
    """What this run needs within reach."""
    setup = run.setup
    face, coat = face_of(setup.plate), coat_of(setup.plate)
    cleaning = coat or face
    return (
        setup.gauge.name,
        cleaning.tools if cleaning else "90 % isopropyl and a lint-free cloth",
        *(("washable glue",) if fits("holds_too_well", setup) or fits("holds_poorly", setup) else ()),
        "a soft brass brush for the tip",
        "a caliper for the patches",
        *(("a mark on every knob, or a strip of tape to make one",) if run.state.screws else ()),
        *(("a finger's width of paper for the first search",) if setup.machine.probe and run.state.changes else ()),
    )


def _pointed_at(run: OpenRun, rows: tuple[dict[str, Any], ...]) -> tuple[Spot, ...]:
    """Where on the plate the check at hand is done."""
    state, setup = run.state, run.setup
    shows = next((c["shows"] for c in rows if c["id"] not in state.checks), "")
    x, y = setup.plate.centre
    probe = setup.machine.probe

    def spot(x_mm: float, y_mm: float, label: str) -> Spot:
        return Spot(x_mm=x_mm, y_mm=y_mm, kind="next", label=label)

    match shows:
        case "screws":
            return tuple(spot(s.x_mm, s.y_mm, s.name) for s in state.screws)
        case "keep_outs":
            return tuple(
                spot((k.x_min_mm + k.x_max_mm) / 2, (k.y_min_mm + k.y_max_mm) / 2, k.name)
                for k in setup.plate.keep_outs
            )
        case "centre":
            return (spot(x, y, "tip"),)
        case "probe" if probe is not None:
            return spot(x, y, "tip"), spot(x + probe.beside.x_mm, y + probe.beside.y_mm, "probe")
        case "plate":
            # Where fingers leave grease and crumbs lie: rim and middle alike.
            return tuple(spot(z.x_mm, z.y_mm, "") for z in zones_on(setup.plate, 9))
        case _:
            return ()


def _because(check: dict[str, Any], changes: tuple[str, ...]) -> str:
    after = [change(c).text for c in changes if c in check["only_after"]]
    return f"because of {after[0]}" if after else ""


def _foretold_why(run: OpenRun) -> str:
    sd = run.setup.foretold_sd_mm
    if not sd:
        return "The plate's stack changed"
    return f"This plate sat so when it was mounted before, ±{1.645 * sd:.2f} mm nine times in ten"


def _foretold(run: OpenRun) -> StoredChange | None:
    new = run.setup.foretold_mm
    if new is None or run.state.stored_changes:
        return None
    machine = run.setup.machine
    return stored_change(machine.stored_mm, new, convention(machine.convention, run.manner))
