"""Where the tram stands: whether it is done, whether turning on would help, and which screw comes next."""

from ivory_table.core import advice
from ivory_table.core.defaults import BEAD, OFFSET, TRAM
from ivory_table.core.words import many
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, Standing, records, stands
from ivory_table.runs.state import RunState
from ivory_table.stations.tram.entries import Counted, WalkCount, Walked
from ivory_table.stations.tram.slice import Tram


def sense_known(run: RunState) -> bool:
    """Whether any knob has shown its sense, in this run or before it: the others likely work the same way."""
    return not run.screws or Tram.of(run).sense_shown or any(s.sense_proved for s in run.setup.machine.screws)


def trammed(run: RunState) -> bool:
    """Whether the knobs are done: likely enough within, and not by the prior alone. What many supports made of turns must be read.

    Where only a twist is left that this plate does not pass, likely is enough: turning on would not mend the rest.
    """
    tram = Tram.of(run)
    if not run.screws or tram.guard.to_show:
        return False
    p = run.belief.p_within(run.tol_mm)
    if p < TRAM.done_at:
        # A plate that has broken its promises is not within by another one: turns of all are read first.
        given_up = gives_up(run) and not _turned_in(run, tram.rounds)
        return p >= TRAM.likely_at and (only_twist_left(run) or given_up or told_enough(run))
    if tram.way == "read_all" and tram.rounds > tram.guard.since_round:
        return not (run.belief.surface.many and _turned_in(run, tram.rounds))
    return tram.rounds > tram.guard.since_round or advice.enough_felt(len(tram.visited), run.belief.surface)


def told_enough(run: RunState) -> bool:
    """Whether counting on would tell hardly more: so many visits for each knob, the last of which turned none by more than a mark.

    A rough hand comes no nearer, however often it visits.
    """
    tram, m = Tram.of(run), len(run.screws)
    stops = tram.stops[tram.guard.since :]
    last = stops[-m:]
    still = all(abs(s.marks + (s.further or 0)) <= 1 and s.still is None for s in last)
    return tram.way != "read_all" and len(stops) >= TRAM.tells_enough * m and still


def _turned_in(run: RunState, number: int) -> bool:
    """Whether knobs were turned all at once at the end of that round."""
    tram = Tram.of(run)
    return any(s.round == number and s.spread_before_mm is not None for s in tram.stops)


def beyond_knobs(run: RunState) -> bool:
    """Whether only a twist is left that this plate does not pass: the knobs can do no more."""
    return bool(run.screws) and not trammed(run) and not gives_up(run) and only_twist_left(run)


def misses(run: RunState, j: int) -> int:
    """How often in a row knob j did not bring the gauge to drag."""
    found = 0
    tram = Tram.of(run)
    for stop in reversed(tram.stops[tram.guard.since :]):
        if stop.screw == j and stop.still is None:
            break
        found += stop.screw == j
    return found


def out_of_reach(run: RunState) -> int | None:
    """The knob that brings no drag however far it is turned: it slips, is at its end, or the plate hangs on something."""
    return next((j for j in range(len(run.screws)) if misses(run, j) >= TRAM.misses_give_up), None)


def gives_up(run: RunState) -> bool:
    """Whether the plate did not answer as promised though its knobs were proved, a knob brings no drag, or there is no end."""
    tram = Tram.of(run)
    if out_of_reach(run) is not None:
        return True
    tried = (len(tram.stops) - tram.guard.since) / max(len(run.screws), 1)
    rounds = tram.rounds - tram.guard.since_round
    return tram.guard.doubted > 1 or max(tried, rounds) >= TRAM.stops_per_screw


def only_twist_left(run: RunState) -> bool:
    tram = Tram.of(run)
    passes = run.belief.passes_of_twist()
    if passes is None or len(tram.visited | set(tram.round_read)) < len(run.screws):
        return False
    if passes[0] + passes[1] > TRAM.knobs_reach:
        return False
    return run.belief.p_within(run.tol_mm, twist_out=True) >= TRAM.done_at


def against_sense(run: RunState) -> str | None:
    """The knobs that were found to work against the sense they were entered with."""
    tram = Tram.of(run)
    return " and ".join(run.screws[j].name for j in tram.found_reversed) or None


def to_read(run: RunState) -> int | None:
    """The screw to be read next in a round of all; None when they are read and can be compared.

    A probe that does not reach every screw leaves the rest to the hand: one of those it has read is then read by hand
    as well, or nobody knows how the two zeros lie.
    """
    tram = Tram.of(run)
    left = next((j for j in range(len(run.screws)) if j not in tram.round_read), None)
    if left is not None:
        return left
    zeros = {j: tram.round_zeros.get(j, frozenset()) for j in tram.round_read}
    if len(frozenset().union(*zeros.values())) < 2 or any(len(z) > 1 for z in zeros.values()):
        return None
    return next((j for j, z in zeros.items() if "nozzle" not in z), None)


def to_prove(run: RunState) -> int | None:
    """The knob just read in mm that has not shown its sense: turned and read again here, it shows what it does."""
    tram = Tram.of(run)
    if tram.way != "read_all" or not tram.readings:
        return None
    j = tram.readings[-1].screw
    unproved = j in tram.round_read and j not in tram.visited and advice.sense_in_doubt(run.belief, j)
    return j if unproved else None


def centre_after_tram_mm(run: RunState) -> float:
    """The z at which the centre can be tried once the screws are at the drag: as low as its form allows."""
    x, y = run.setup.plate.centre
    row = run.belief.gap_row(x, y) - run.belief.surface.rows(run.belief.surface.anchors).mean(axis=0)
    mean, sd = run.belief.of(row[None, :])
    above = float(mean[0]) + OFFSET.start_above_sd * float(sd[0]) - OFFSET.deepest_press_mm
    return round(max(0.0, above), 2)


def skirt_gap_mm(run: RunState) -> float:
    """What stands for the drag when a skirt is judged: the gap wanted under the tip less the layer it runs at."""
    bead = run.bead
    return BEAD.target[run.setup.filament.material] * bead.layer_mm - bead.layer_mm


@stands("tram")
def standing(run: OpenRun) -> Standing:
    state, tram = run.state, Tram.of(run.state)
    figure = "no knobs"
    if state.screws:
        spread = f"spread {state.belief.spread()[0]:.2f} mm, {many(len(tram.stops), 'stop')}"
        figure = spread if tram.stops else "not begun"
    begun, done = bool(tram.stops or tram.round_read), trammed(state) or beyond_knobs(state)
    if run.setup.sound_ends_tram and not done:
        begun = begun or tram.beam_read is not None or tram.beam_turned_level
        without_knobs = not state.screws and tram.beam_level(run.setup.machine) and tram.centre_felt is not None
        # Knobs turned by a proof leave the screws in doubt; that every zone is sound answers what the tram was for.
        done = without_knobs or (begun and state.proof_done)
    return Standing(
        begun=begun,
        done=done,
        figure=figure,
        gave_up=bool(state.screws) and gives_up(state),
    )


@records("tram")
def record(run: OpenRun) -> tuple[RecordLine, ...]:
    tram = Tram.of(run.state)
    if not tram.stops:
        return ()
    spread, sd = run.state.belief.spread()
    return (
        RecordLine(name="Spread at the screws", before=_found_spread(run), after=f"{spread:.2f} ± {sd:.2f} mm"),
        RecordLine(name="Stops", before="", after=str(len(tram.stops))),
    )


def _found_spread(run: OpenRun) -> str:
    """How crooked the plate was: what is now believed, with the turns since taken back out."""
    screws = run.state.screws
    firsts: dict[str, float] = {}
    for entry in run.kept:
        counts = entry.what.counts if isinstance(entry.what, Walked) else (entry.what,)
        for count in counts:
            if isinstance(count, Counted | WalkCount):
                firsts.setdefault(count.screw, count.marks)
    if len(firsts) < len(screws):
        return ""
    up = [firsts[s.name] * s.mm_per_mark * s.sense for s in screws]
    return f"about {max(up) - min(up):.2f} mm"
