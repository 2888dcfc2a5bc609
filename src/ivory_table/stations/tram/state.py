"""What the tram keeps in mind of a run, and what it makes of its rows."""

from dataclasses import replace

import numpy as np

from ivory_table.core import tram_told
from ivory_table.core.beam import level
from ivory_table.core.defaults import BEAD, TRAM
from ivory_table.core.tram import hand_error_mm
from ivory_table.core.travel import backed_off
from ivory_table.core.value import Array
from ivory_table.runs.entry import Entry
from ivory_table.runs.searching import approach_at, searched
from ivory_table.runs.state import RunState, fold
from ivory_table.stations.tram.entries import (
    BackedOff,
    BeamRead,
    BeamTurned,
    BegunAnew,
    CentreFelt,
    Counted,
    NotReached,
    ReadMm,
    ScrewFelt,
    SenseTried,
    SkirtSeen,
    Visited,
    Walked,
    WayChosen,
)
from ivory_table.stations.turned import Turned, TurnedAll

from .slice import Guard, ScrewReading, Stop, Tram


def moved(run: RunState, j: int, marks: float) -> tuple[float, ...]:
    """What each knob has moved its support up by, mm, after one more turn of knob j."""
    up = marks * run.screws[j].mm_per_mark * run.screws[j].sense
    return tuple(m + up if k == j else m for k, m in enumerate(run.moved_mm))


# What is foretold


def drag_gap_at(run: RunState, j: int) -> float:
    """A gauge that drags cold drags where the plate will have risen by its warp when it is hot."""
    s = run.screws[j]
    return run.drag_gap_at(s.x_mm, s.y_mm) - float(run.warp_mm([(s.x_mm, s.y_mm)])[0])


def foretold_marks(run: RunState, j: int) -> tuple[float, float] | None:
    """The count that is expected at a screw, and its sd; None where it was never felt, or the knob's sense is not known."""
    tram = Tram.of(run)
    if j not in tram.visited and j not in tram.round_read:
        return None
    s = run.screws[j]
    rise = float(run.warp_mm([(s.x_mm, s.y_mm)])[0])
    row = run.belief.drag_row(s.x_mm, s.y_mm)
    mean, sd = run.belief.of(row[None, :])
    high = float(mean[0]) - run.belief.shift_mm + run.drag_gap_at(s.x_mm, s.y_mm) - rise
    p_reversed = float(run.belief.p_reversed()[j])
    if min(p_reversed, 1 - p_reversed) > 1 - TRAM.reversed_at:
        return None
    sense = -s.sense if p_reversed > 0.5 else s.sense
    passed = float(run.belief.weight @ np.abs(run.belief.passes[:, j, j])) * s.mm_per_mark
    spread = np.hypot(float(sd[0]), float(run.belief.weight @ run.belief.drag_sd))
    spread = np.hypot(spread, float(hand_error_mm(high)))
    return -high / passed * sense, float(np.hypot(spread / passed, 0.5))


def reading_row(run: RunState, what: ReadMm) -> tuple[Array, float, float, int]:
    """How a reading sees the state: sign * (row . state - zero) = value, with its sd."""
    row = run.belief.gap_row(what.x_mm, what.y_mm)
    rise = float(run.warp_mm([(what.x_mm, what.y_mm)])[0])
    if what.instrument == "feelers":
        # Feelers give the gap itself, with the tip at z 0.
        return row, run.belief.shift_mm + rise, TRAM.feelers_sd_mm, -1
    if what.instrument == "lamp":
        # A contact lamp lights at the plate itself: the height at which it does is the plate's.
        return row, rise + run.belief.shift_mm, TRAM.lamp_sd_mm, 1
    probe = run.setup.machine.probe
    sd = probe.sd_mm if what.instrument == "probe" and probe else TRAM.dial_sd_mm
    if what.instrument == "laser":
        sd = TRAM.laser_sd_mm
    if what.instrument == "probe":
        rise -= float(run.mesh_reads_high_mm([(what.x_mm, what.y_mm)], felt=False)[0])
    return row + run.belief.surface.unit(run.belief.surface.probe_zero), rise, sd, 1


# Whether the knobs and the plate answer


def senses_settled(run: RunState, told: int | None = None) -> RunState:
    """Senses that are as good as known are declared so, each knob by what it has shown itself; `told` by a sense test."""
    tram = Tram.of(run)
    likely = run.belief.p_reversed()
    belief, screws, found = run.belief, list(run.screws), tram.found_reversed
    for j, p in enumerate(likely):
        if p > TRAM.reversed_at:
            belief = belief.declared_anew(j)
            screws[j] = screws[j].model_copy(update={"sense": -screws[j].sense})
            if j != told:
                found = tuple(dict.fromkeys((*found, j)))
    proved = belief.p_reversed() < TRAM.reversed_asked
    screws = [
        s.model_copy(update={"sense_proved": True}) if p and not s.sense_proved else s
        for s, p in zip(screws, proved, strict=True)
    ]
    return run.put(replace(tram, found_reversed=found), belief=belief, screws=tuple(screws))


def surprised(run: RunState, beyond: bool) -> RunState:
    """What came out was beyond what was promised, or was not. Twice in a row: every knob is in doubt."""
    tram = Tram.of(run)
    if not beyond:
        return run.put(replace(tram, guard=replace(tram.guard, surprises=0)))
    guard = replace(tram.guard, surprises=tram.guard.surprises + 1)
    # Once its knobs have been proved anew, one miss is enough to give it up.
    if guard.surprises < (1 if guard.doubted else 2) or guard.doubted > 1:
        return run.put(replace(tram, guard=guard))
    return _in_doubt(run, guard.doubted + 1)


def _in_doubt(run: RunState, doubted: int) -> RunState:
    """What was believed of the plate is put aside, and every knob is to be proved."""
    tram = Tram.of(run)
    guard = Guard(
        doubted=doubted,
        to_show=() if tram.way == "read_all" else tuple(range(len(run.screws))),
        since=len(tram.stops),
        since_round=tram.rounds,
    )
    return run.put(
        replace(tram, guard=guard, pending=None, at_screw=None, round_read={}, centre_felt=None),
        belief=run.belief.afresh(),
        screws=tuple(s.model_copy(update={"sense_proved": False}) for s in run.screws),
    )


def _round_kept_its_promise(run: RunState, sd_mm: float) -> RunState:
    """Once every screw has been read after turns of all: is the range of what was read what was promised of it?"""
    tram = Tram.of(run)
    promised = tram.guard.promised_mm
    if promised is None or len(tram.round_read) < len(run.screws):
        return run
    if len(frozenset().union(*(tram.round_zeros.get(j, frozenset()) for j in tram.round_read))) > 1:
        return run  # over several zeros their range is no spread
    found = max(tram.round_read.values()) - min(tram.round_read.values())
    asked = run.put(replace(tram, guard=replace(tram.guard, promised_mm=None, before_mm=None)))
    # Turns are made to mend: a plate that is plainly worse for them does not answer, whatever was promised. Below the
    # tolerance nobody is harmed by either.
    before = tram.guard.before_mm
    worse = before is not None and found > TRAM.guard_worse * before + 2 * run.tol_mm
    return surprised(asked, worse or found > max(promised, 2 * run.tol_mm) + 3 * sd_mm)


# The rows


@fold.register
def _way_chosen(what: WayChosen, run: RunState, entry: Entry) -> RunState:
    return run.put(replace(Tram.of(run), way=what.way, pending=None, at_screw=None))


@fold.register
def _beam_read(what: BeamRead, run: RunState, entry: Entry) -> RunState:
    if run.setup.machine.beam is not None:
        # Two readings that tell nothing are refused here, and not on every page after it.
        level(run.setup.machine.beam, what.reading)
    return run.put(replace(Tram.of(run), beam_read=what.reading))


@fold.register
def _beam_turned(what: BeamTurned, run: RunState, entry: Entry) -> RunState:
    return run.put(replace(Tram.of(run), beam_read=None, beam_turned_level=not what.up_mm))


@fold.register
def _backed_off(what: BackedOff, run: RunState, entry: Entry) -> RunState:
    """All springs have the same preload again: where the plate stands is anybody's guess. It ticks Prepare's own check."""
    tram = Tram.of(run)
    return run.put(
        replace(
            tram,
            stops=(),
            readings=(),
            round_read={},
            rounds=0,
            pending=None,
            at_screw=None,
            centre_felt=None,
            guard=Guard(),
        ),
        belief=run.belief.loosened(TRAM.common_prior_sd_mm, TRAM.knob_prior_sd_mm, 0.0),
        screws=backed_off(run.screws, what.turns),
        checks={**run.checks, "rough_back_off": "done"},
        moved_mm=(0.0,) * len(run.screws),
    )


@fold.register
def _begun_anew(what: BegunAnew, run: RunState, entry: Entry) -> RunState:
    return _in_doubt(run, doubted=0)


@fold.register
def _skirt_seen(what: SkirtSeen, run: RunState, entry: Entry) -> RunState:
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    bead, s = run.bead, run.screws[j]
    low, high = bead.bands_mm()[what.grade]
    row = run.belief.gap_row(s.x_mm, s.y_mm)
    at = bead.layer_mm + run.belief.shift_mm
    sd = float(np.hypot(BEAD.grade_sd * bead.layer_mm, TRAM.local_sd_mm))
    belief = run.belief.felt(row, at - high, at - low, sd)
    stop = Stop(entry.id, j, 0, spread_mm=belief.spread()[0])
    return run.put(replace(tram, pending=j, at_screw=None, stops=(*tram.stops, stop)), belief=belief)


@fold.register
def _sense_tried(what: SenseTried, run: RunState, entry: Entry) -> RunState:
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    tried = run.screws[j]
    if what.felt == "same":
        raise ValueError(
            "A knob that changes nothing is slack or needs more. Turn it back first, tighten what is loose, then try again."
        )
    belief = tram_told.turned(run.belief, run.screws, j, tried.trial_marks)
    belief = belief.sense_shown(j, (what.felt == "tighter") == (tried.sense > 0))
    left = tuple(k for k in tram.guard.to_show if k != j)
    guard = replace(tram.guard, to_show=left)
    shown = run.put(
        replace(tram, guard=guard, sense_shown=True), belief=belief, moved_mm=moved(run, j, tried.trial_marks)
    )
    return senses_settled(shown, told=j)


@fold.register
def _visited(what: Visited, run: RunState, entry: Entry) -> RunState:
    # Whoever goes on to another screw leaves the last one as it stands.
    return run.put(replace(Tram.of(run), at_screw=run.setup.machine.screw(what.screw), pending=None))


@fold.register
def _counted(what: Counted, run: RunState, entry: Entry) -> RunState:
    return counted(run, what, entry.id)


def counted(run: RunState, what: Counted, entry_id: str) -> RunState:
    """The run after one count: what it says of the plate, and whether it is what was foretold."""
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    about = foretold_marks(run, j)
    belief = tram_told.counted(run.belief, run.screws, j, what.marks, drag_gap_at(run, j))
    if what.before is not None:
        belief = tram_told.felt_before(belief, run.screws, j, what.marks, what.before)
    stop = Stop(entry_id, j, what.marks, spread_mm=belief.spread()[0], about=about)
    now = replace(tram, pending=j, at_screw=None, stops=(*tram.stops, stop))
    after = senses_settled(run.put(now, belief=belief, moved_mm=moved(run, j, what.marks)))
    if about is None:
        return after
    beyond = abs(what.marks - about[0]) > max(TRAM.guard_sd * about[1], TRAM.guard_marks)
    # Visits are made to mend: one that takes more than any before it does not, whatever was foretold.
    most = max((abs(s.marks) for s in tram.stops[tram.guard.since :]), default=np.inf)
    return surprised(after, beyond or abs(what.marks) > TRAM.guard_most * most + TRAM.guard_marks)


@fold.register
def _not_reached(what: NotReached, run: RunState, entry: Entry) -> RunState:
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    belief = tram_told.not_reached(
        run.belief, run.screws, j, what.marks, what.still, drag_gap_at(run, j), dragged_before=j in tram.visited
    )
    stop = Stop(entry.id, j, what.marks, spread_mm=belief.spread()[0], still=what.still)
    return run.put(replace(tram, pending=None, at_screw=None, stops=(*tram.stops, stop)), belief=belief)


@fold.register
def _turned(what: Turned, run: RunState, entry: Entry) -> RunState:
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    belief = tram_told.turned(run.belief, run.screws, j, what.marks) if what.marks else run.belief
    spread = belief.spread()[0]
    if tram.pending == j and tram.stops:
        stops = (*tram.stops[:-1], replace(tram.stops[-1], further=what.marks, spread_mm=spread))
    else:
        stops = (*tram.stops, Stop(entry.id, j, 0, what.marks, spread, round=tram.rounds + 1))
    # What was read at a knob before it was turned is no longer how high it stands, nor is the spread what was promised.
    read = {k: v for k, v in tram.round_read.items() if k != j or not what.marks}
    guard = replace(tram.guard, promised_mm=None) if what.marks else tram.guard
    now = replace(tram, pending=None, stops=stops, round_read=read, guard=guard)
    return run.put(now, belief=belief, moved_mm=moved(run, j, what.marks))


@fold.register
def _turned_all(what: TurnedAll, run: RunState, entry: Entry) -> RunState:
    if len(what.marks) != len(run.screws):
        raise ValueError(f"{len(what.marks)} turns for {len(run.screws)} knobs. Give one for each, 0 where none.")
    tram, belief, now = Tram.of(run), run.belief, run
    for j, marks in enumerate(what.marks):
        if marks:
            belief = tram_told.turned(belief, run.screws, j, marks)
        now = replace(now, moved_mm=moved(now, j, marks))
    spread, before = belief.spread()[0], run.belief.spread()[0]
    stops = tuple(
        Stop(entry.id, j, 0, m, spread, spread_before_mm=before, round=tram.rounds + 1)
        for j, m in enumerate(what.marks)
        if m
    )
    promised = float(belief.spread_interval(2 * TRAM.guard_share - 1)[1])
    read = list(tram.round_read.values())
    found = max(read) - min(read) if len(read) == len(run.screws) else None
    tram = replace(
        tram,
        stops=(*tram.stops, *stops),
        round_read={},
        rounds=tram.rounds + 1,
        guard=replace(tram.guard, promised_mm=promised, before_mm=found),
    )
    return now.put(tram, belief=belief, step_turns=what.marks)


def sunk(run: RunState, turns: float) -> RunState:
    """Every knob turned so that its support sinks by so many turns; no screw was felt by that."""
    if not turns:
        return run
    belief, ups = run.belief, [-turns * s.pitch_mm for s in run.screws]
    for j, up in enumerate(ups):
        belief = belief.turned(j, up, float(hand_error_mm(up)))
    return replace(run, belief=belief, moved_mm=tuple(m + up for m, up in zip(run.moved_mm, ups, strict=True)))


@fold.register
def _walked(what: Walked, run: RunState, entry: Entry) -> RunState:
    now = sunk(run, what.sunk_turns)
    for count in what.counts:
        # On a walk nobody says how much further: the next visit follows at once.
        now = counted(now, Counted(screw=count.screw, marks=count.marks), entry.id)
        now = now.put(replace(Tram.of(now), pending=None))
    if what.centre is None:
        return now
    return _centre_felt(CentreFelt(z_mm=what.centre_z_mm, feel=what.centre), now, entry)


@fold.register
def _read_mm(what: ReadMm, run: RunState, entry: Entry) -> RunState:
    run.setup.plate.refuse_outside(what.x_mm, what.y_mm)
    row, zero, sd, sign = reading_row(run, what)
    foretold, foretold_sd = run.belief.of(row[None, :])
    value = zero + sign * what.value_mm
    if what.screw is None:
        return run.read_place((what.x_mm, what.y_mm), what.instrument, row, value, sd)
    belief = run.belief.read(row, value, sd)
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    expected = sign * (float(foretold[0]) - zero)
    reading = ScrewReading(entry.id, tram.rounds + 1, j, what.value_mm, expected, float(np.hypot(foretold_sd[0], sd)))
    tram = tram.over_zero(j, "nozzle" if what.instrument in ("feelers", "lamp") else what.instrument)
    tram = replace(tram, round_read={**tram.round_read, j: what.value_mm}, readings=(*tram.readings, reading))
    return _round_kept_its_promise(senses_settled(run.put(tram, belief=belief)), sd)


@fold.register
def _screw_felt(what: ScrewFelt, run: RunState, entry: Entry) -> RunState:
    tram, j = Tram.of(run), run.setup.machine.screw(what.screw)
    s = run.screws[j]
    rise = float(run.warp_mm([(s.x_mm, s.y_mm)])[0])
    if tram.way == "read_all":
        # Stepped down to, answer by answer.
        approach = approach_at(run, s.x_mm, s.y_mm).feel(what.z_mm, what.feel)
        now = searched(run, s.x_mm, s.y_mm, approach, rise)
        drag, sd = approach.drag
        if not approach.touched or sd > TRAM.stepped_sd_mm:
            return now
        # Known well enough: this screw has been read in this round.
        return now.put(replace(tram.over_zero(j, "nozzle"), round_read={**tram.round_read, j: drag}))
    belief = run.felt_once(s.x_mm, s.y_mm, what.z_mm, what.feel, rise)
    tram = replace(tram, pending=None)
    if tram.way == "counting" and what.z_mm == 0:
        if what.feel in ("free", "stuck"):
            # One-sided, so it cannot be sized: turned until it drags and counted, here.
            tram = replace(tram, at_screw=j)
        else:
            stop = Stop(entry.id, j, 0, spread_mm=belief.spread()[0], feel=what.feel)
            tram = replace(tram, pending=j, at_screw=None, stops=(*tram.stops, stop))
    return run.put(tram, belief=belief)


@fold.register
def _centre_felt(what: CentreFelt, run: RunState, entry: Entry) -> RunState:
    x, y = run.setup.plate.centre
    belief = run.felt_once(x, y, what.z_mm, what.feel, float(run.warp_mm([(x, y)])[0]))
    return run.put(replace(Tram.of(run), centre_felt=what, pending=None), belief=belief)
