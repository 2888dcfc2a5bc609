"""Prepare: the checks that fit this machine, plate and what changed; the heat, the hold, and how the plate moves as it warms."""

from datetime import UTC, datetime
from typing import Any

import numpy as np

from ivory_table.core.changes import Change, change, known_changes
from ivory_table.core.defaults import HEAT, PREPARE
from ivory_table.core.entries import School
from ivory_table.core.offset import StoredChange, convention
from ivory_table.core.offset import change as stored_change
from ivory_table.core.thermal import CENTRE, Settling, moves, settling, still_range
from ivory_table.core.value import Value

from .desk import OpenRun
from .head import Caution, RunHead, cautions, checks_for, head_of
from .sheet import Figure, Sheet, height_field, sheet_of


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


class Curve(Value):
    """One place of the thermal study: temperatures, rising, and heights."""

    place: str
    bed_c: tuple[float, ...]
    height_mm: tuple[float, ...]


class PlaceToRead(Value):
    place: str
    x_mm: float
    y_mm: float


class ThermalView(Value):
    """The thermal study of this plate: what was read, what it says, and where to read next."""

    curves: tuple[Curve, ...]
    places: tuple[PlaceToRead, ...]
    still_c: tuple[float, float] | None
    settling: Settling | None
    settled_after_min: float | None
    #: How far the middle still moves from now on, where a hold is noted.
    still_to_come_mm: float | None
    #: What those who tram below print temperature get added, by place, mm.
    correction: dict[str, float]
    words: tuple[str, ...]


class PrepareView(Value):
    head: RunHead
    sheet: Sheet
    cautions: tuple[Caution, ...]
    checks: tuple[Check, ...]
    school: School
    changes: tuple[Change, ...]
    can_tell: tuple[Change, ...]
    foretold: StoredChange | None
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
    thermal = _thermal(run, minutes)
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
        head=head_of(run),
        sheet=sheet_of(state, field, figures=figures),
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
        school=state.school,
        changes=tuple(change(c, found=c in setup.changes) for c in state.changes),
        can_tell=tuple(c for c in known_changes() if c.id not in state.changes and c.id not in _FOUND_ONLY),
        foretold=_foretold(run),
        bed_target_c=bed_c,
        # Warm, below oozing: a dripping tip falsifies the reading.
        nozzle_target_c=min(setup.filament.nozzle_c, 150.0) if state.school != "cold" else 0.0,
        held_since=held,
        held_minutes=minutes,
        hold_wanted_minutes=wanted,
        hold_words=_hold_words(run, thermal, minutes),
        thermal=thermal,
        ready=ticked == len(rows) and (wanted == 0 or (minutes is not None and minutes >= wanted)),
    )


#: Differences that are seen by comparing runs; nobody needs to tell them.
_FOUND_ONLY = {"screws", "material", "new_machine"}


def _because(check: dict[str, Any], changes: tuple[str, ...]) -> str:
    after = [change(c).text for c in changes if c in check["only_after"]]
    return f"because of {after[0]}" if after else ""


def _foretold(run: OpenRun) -> StoredChange | None:
    new = run.setup.foretold_mm
    if new is None or run.state.offset_changes:
        return None
    machine = run.setup.machine
    return stored_change(machine.stored_mm, new, convention(machine.convention, run.manner))


def _hold_words(run: OpenRun, thermal: ThermalView, minutes: float | None) -> str:
    if run.state.school == "cold":
        return "Trammed cold: nothing to hold."
    if thermal.settled_after_min is None:
        return "No thermal study tells when this plate has settled: hold as the house does."
    if minutes is None:
        return f"By its thermal study this plate settles in {thermal.settled_after_min:.0f} min."
    left = thermal.still_to_come_mm or 0.0
    if abs(left) <= HEAT.still_mm:
        return "Settled: the middle moves by less than 0.01 mm from now on."
    more = thermal.settled_after_min - minutes
    return f"The middle still rises by {left:.2f} mm; settled in {max(more, 1):.0f} min."


def _thermal(run: OpenRun, held: float | None) -> ThermalView:
    state, setup = run.state, run.setup
    cx, cy = setup.plate.centre
    places = [PlaceToRead(place=CENTRE, x_mm=cx, y_mm=cy)]
    places += [PlaceToRead(place=s.name, x_mm=s.x_mm, y_mm=s.y_mm) for s in state.screws]
    study = state.study
    if study is None:
        words = (
            *((state.warp_unknown,) if state.warp_unknown else ()),
            "No thermal study of this plate yet. Read a dial at the centre and the screws, cold and at each step of heat.",
        )
        return ThermalView(
            curves=(), places=tuple(places), still_c=None, settling=None, settled_after_min=None,
            still_to_come_mm=None, correction={}, words=words,
        )  # fmt: skip
    found = settling(study)
    still = still_range(study)
    words_list: list[str] = []
    if still is not None:
        words_list.append(f"From {still[0]:.0f} to {still[1]:.0f} °C nothing moves by more than {HEAT.still_mm:g} mm.")
    correction: dict[str, float] = {}
    if state.school != "hot":
        if problem := state.warp_unknown:
            words_list.append(problem)
        else:
            at = np.array([(p.x_mm, p.y_mm) for p in places])
            rise = state.warp_mm(at)
            correction = {p.place: round(float(v), 4) for p, v in zip(places, rise, strict=True)}
            words_list.append(
                f"Trammed at {state.bed_at_tram_c:.0f} °C for {setup.filament.bed_c:.0f} °C: each reading is corrected by this."
            )
    else:
        for place in study.places:
            try:
                rise_mm, sd = moves(study, place, HEAT.cold_c, setup.filament.bed_c)
            except ValueError:
                continue
            words_list.append(
                f"{place}: {rise_mm:+.3f} ± {sd:.3f} mm from {HEAT.cold_c:.0f} to {setup.filament.bed_c:.0f} °C".replace(
                    "-", "−"
                )
            )
    curves = []
    for place in study.places:
        t, h = study.settled(place)
        curves.append(Curve(place=place, bed_c=tuple(t.tolist()), height_mm=tuple(h.tolist())))
    return ThermalView(
        curves=tuple(curves),
        places=tuple(places),
        still_c=still,
        settling=found,
        settled_after_min=found.settled_after_min if found else None,
        still_to_come_mm=found.still_to_come_mm(max(held, 0.0)) if found and held is not None else None,
        correction=correction,
        words=tuple(words_list),
    )
