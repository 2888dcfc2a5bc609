"""The tram as it is told: stops, rounds, and what this machine has taught."""

import numpy as np

from ivory_table.core.defaults import TRAM
from ivory_table.core.gauge import Feel
from ivory_table.core.plate import THREADS, Screw
from ivory_table.core.value import Value
from ivory_table.runs.state import RunState
from ivory_table.stations.tram.knobs import knob_marks
from ivory_table.stations.tram.slice import Tram


class StopLine(Value):
    #: The row to take back for this stop to be gone.
    entry_id: str
    screw: str
    marks: float
    per_turn: int
    further: float | None
    height_mm: float
    spread_mm: float
    #: How the gauge slid where nothing was turned; how it still was where no turn brought it to drag.
    feel: Feel | None = None
    still: str | None = None
    #: What was foretold of the count, and its sd; None where nobody could know.
    about: tuple[float, float] | None = None


class ReadLine(Value):
    """A reading at a screw beside what was foretold."""

    entry_id: str
    screw: str
    value_mm: float
    foretold_mm: float
    sd_mm: float


class Round(Value):
    """One round as it is told: what was read and turned in it, and the spread, foretold and found."""

    number: int
    spread_mm: float
    spread_foretold_mm: float | None
    stops: tuple[StopLine, ...]
    readings: tuple[ReadLine, ...]


class LearntLine(Value):
    """Something this machine has taught, said only beyond 2 sd."""

    screw: str
    words: str


def story(state: RunState) -> tuple[StopLine, ...]:
    tram = Tram.of(state)
    heights = knob_marks(state, {}, None)
    return tuple(
        StopLine(
            entry_id=s.entry_id,
            screw=state.screws[s.screw].name,
            marks=s.marks,
            per_turn=state.screws[s.screw].marks_per_turn,
            further=s.further,
            height_mm=heights[s.screw].height_mm,
            spread_mm=s.spread_mm,
            feel=s.feel,
            still=s.still,
            about=s.about,
        )
        for s in tram.stops
    )


def rounds_told(state: RunState) -> tuple[Round, ...]:
    """The story: read all by its rounds, counting by as many stops as there are screws."""
    tram = Tram.of(state)
    lines, m = story(state), max(len(state.screws), 1)
    found = []
    if tram.readings:
        last = max(r.round for r in tram.readings)
        for number in range(1, last + 1):
            read = [r for r in tram.readings if r.round == number]
            stops = tuple(line for line, s in zip(lines, tram.stops, strict=True) if s.round == number)
            if not read and not stops:
                # Knobs were turned, and nothing was read in between.
                continue
            # A screw read before and after it was proved stands where the last reading found it.
            at_last = {r.screw: r for r in read}.values()
            values = [r.value_mm for r in at_last]
            foretold = [r.foretold_mm for r in at_last]
            # The first round is read over a zero nobody knows: nothing of it was foretold.
            knew = number > 1 and len(at_last) == m
            found.append(
                Round(
                    number=number,
                    spread_mm=_spread_found(state, number, values),
                    spread_foretold_mm=float(max(foretold) - min(foretold)) if knew else None,
                    stops=stops,
                    readings=tuple(
                        ReadLine(
                            entry_id=r.entry_id,
                            screw=state.screws[r.screw].name,
                            value_mm=r.value_mm,
                            foretold_mm=r.foretold_mm,
                            sd_mm=r.sd_mm,
                        )
                        for r in read
                    ),
                )
            )
        return tuple(found)
    for start in range(0, len(lines), m):
        part = lines[start : start + m]
        found.append(
            Round(
                number=start // m + 1,
                spread_mm=part[-1].spread_mm,
                spread_foretold_mm=None,
                stops=part,
                readings=(),
            )
        )
    return tuple(found)


def _spread_found(state: RunState, number: int, values: list[float]) -> float:
    """Of a round's readings; what is believed where knobs were proved between them, which moves what was read before."""
    tram = Tram.of(state)
    turned = [s for s in tram.stops if s.round == number]
    if values and all(s.spread_before_mm is not None for s in turned):
        return float(max(values) - min(values))
    return next((s.spread_before_mm for s in turned if s.spread_before_mm is not None), state.belief.spread()[0])


def learnt_lines(state: RunState) -> tuple[LearntLine, ...]:
    """Each knob that gives beyond 2 sd more or less than it is declared to; nothing before that. All alike: their thread."""
    if not state.screws:
        return ()
    gains, sds = state.belief.gains()
    sure = (np.abs(gains) > 2 * sds) & (np.abs(gains) > TRAM.gain_said)
    alike = len({(s.pitch_mm, s.marks_per_turn) for s in state.screws}) == 1 and np.ptp(gains) < TRAM.gain_said
    if sure.all() and alike:
        return (LearntLine(screw="all knobs", words=_thread_words(state.screws[0], float(gains.mean()))),)
    return tuple(
        LearntLine(screw=s.name, words=_gives(s.name, "gives", s, float(gain)))
        for s, gain, said in zip(state.screws, gains, sure, strict=True)
        if said
    )


def _gives(who: str, verb: str, screw: Screw, gain: float) -> str:
    given = f"{screw.mm_per_mark * (1 + gain):.3f} mm per 1/{screw.marks_per_turn}"
    return f"{who} {verb} {given}, not {screw.mm_per_mark:.3f}"


def _thread_words(screw: Screw, gain: float) -> str:
    """What all knobs give, and the usual thread that would give it."""
    words = _gives("all knobs", "give", screw, gain)
    pitch = screw.pitch_mm * (1 + gain)
    name, mm = min(THREADS.items(), key=lambda thread: abs(thread[1] - pitch))
    if abs(mm / pitch - 1) > TRAM.thread_fits or mm == screw.pitch_mm:
        return words
    return f"{words}: as {name}, {mm:g} mm a turn, would. Look at the screws, and put their thread right in the set-up"
