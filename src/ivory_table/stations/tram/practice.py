"""What a practice machine answers at the tram, and what a turn does to it."""

from typing import Literal

from ivory_table.core.beam import BeamReading, level
from ivory_table.core.hands import Hands
from ivory_table.desk.desk import Desk
from ivory_table.runs.by_hand import by_hand
from ivory_table.runs.doubts import Refused
from ivory_table.runs.row import Row
from ivory_table.runs.run import OpenRun
from ivory_table.runs.searching import first_try_mm
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.tram.entries import (
    BackedOff,
    BeamRead,
    BeamTurned,
    CentreFelt,
    Counted,
    NotReached,
    ReadMm,
    ScrewFelt,
    SenseTried,
    SkirtSeen,
    Walked,
)
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.step import now_at
from ivory_table.stations.turned import Turned, TurnedAll


def practice(desk: Desk, run: OpenRun) -> Row:
    """The practice plate's answer to the step at hand."""
    hands, state = desk.hands(run), run.state
    now = now_at(run)
    cx, cy = run.setup.plate.centre
    if now.step == "sense" and now.screw:
        felt = hands.try_sense(run.setup.machine.screw(now.screw))
        return SenseTried.model_validate({"screw": now.screw, "felt": felt})
    if now.step == "count" and now.screw:
        j = run.setup.machine.screw(now.screw)
        loose = hands.is_loose(j) if now.ask_before else None
        before: Literal["loose", "tight"] | None = None if loose is None else "loose" if loose else "tight"
        marks, still = hands.turn_until_drag(j, now.most_marks)
        if still is not None:
            return NotReached(screw=now.screw, marks=marks, still=still)
        return Counted(screw=now.screw, marks=marks, before=before)
    if now.step == "feel" and now.screw:
        screw = state.screws[run.setup.machine.screw(now.screw)]
        feel = hands.slide_gauge(screw.x_mm, screw.y_mm, 0.0)
        return ScrewFelt(screw=screw.name, z_mm=0.0, feel=feel)
    if now.step in ("further", "prove") and now.further:
        hands.turn(run.setup.machine.screw(now.further.screw), now.further.marks)
        return Turned(screw=now.further.screw, marks=now.further.marks)
    if now.step == "mesh_off":
        hands.use_mesh(None)
        return MeshUsed(on=False)
    if now.step == "beam":
        return _beam_by_practice(hands, run)
    if now.step == "skirt" and now.screw:
        s = state.screws[run.setup.machine.screw(now.screw)]
        gap = state.bead.layer_mm + hands.gap_at_zero(s.x_mm, s.y_mm)
        return SkirtSeen(screw=s.name, grade=state.bead.grade_at(gap))
    if now.step == "read" and now.screw:
        screw = state.screws[run.setup.machine.screw(now.screw)]
        instrument: Literal["probe", "dial"] = "probe" if run.setup.machine.probe else "dial"
        value = hands.read_height(screw.x_mm, screw.y_mm)
        return ReadMm(x_mm=screw.x_mm, y_mm=screw.y_mm, instrument=instrument, value_mm=value, screw=screw.name)
    if now.step == "turn_all":
        for j, turn in enumerate(now.turns):
            hands.turn(j, turn.marks)
        return TurnedAll(marks=tuple(t.marks for t in now.turns))
    if now.step in ("centre", "no_knobs"):
        z = first_try_mm(state, cx, cy)
        return CentreFelt(z_mm=z, feel=hands.slide_gauge(cx, cy, z))
    raise Refused("nothing_to_read", "The tram is done; there is nothing left to read here.")


def _beam_by_practice(hands: Hands, run: OpenRun) -> Row:
    """Both sides read, or the right drive turned as advised."""
    beam, read = run.setup.machine.beam, Tram.of(run.state).beam_read
    assert beam is not None
    if read is not None:
        wanted = level(beam, read)
        if not wanted.level:
            hands.turn_beam(wanted.up_mm)
        return BeamTurned(up_mm=round(wanted.up_mm, 4))
    x0, _, x1, _ = run.setup.plate.bounds
    cy = run.setup.plate.centre[1]
    left, right = x0 + 0.15 * (x1 - x0), x1 - 0.15 * (x1 - x0)
    reading = BeamReading(
        left_x_mm=left,
        right_x_mm=right,
        left_mm=round(hands.gap_at_zero(left, cy), 3),
        right_mm=round(hands.gap_at_zero(right, cy), 3),
    )
    return BeamRead(reading=reading)


@by_hand.register
def _turn_one(what: Counted | Turned, hands: Hands, before: OpenRun) -> None:
    hands.turn(before.setup.machine.screw(what.screw), what.marks)


@by_hand.register
def _try_sense(what: SenseTried, hands: Hands, before: OpenRun) -> None:
    j = before.setup.machine.screw(what.screw)
    hands.turn(j, before.state.screws[j].trial_marks)


@by_hand.register
def _turn_all(what: TurnedAll, hands: Hands, before: OpenRun) -> None:
    for j, marks in enumerate(what.marks):
        hands.turn(j, marks)


@by_hand.register
def _walk(what: Walked, hands: Hands, before: OpenRun) -> None:
    for j, screw in enumerate(before.setup.machine.screws):
        hands.turn(j, -what.sunk_turns * screw.marks_per_turn * before.state.screws[j].sense)
    for count in what.counts:
        hands.turn(before.setup.machine.screw(count.screw), count.marks)


@by_hand.register
def _back_off(what: BackedOff, hands: Hands, before: OpenRun) -> None:
    hands.back_off(what.turns)


@by_hand.register
def _turn_beam(what: BeamTurned, hands: Hands, before: OpenRun) -> None:
    hands.turn_beam(what.up_mm)
