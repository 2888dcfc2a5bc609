"""Where the tram stands: the next instruction, and what it is expected to bring."""

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Literal

from ivory_table.core import advice
from ivory_table.core.defaults import TRAM
from ivory_table.core.further import Further, further
from ivory_table.core.travel import RunsOut, runs_out
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState
from ivory_table.stations.sheet import Turn
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.standing import (
    beyond_knobs,
    gives_up,
    misses,
    sense_known,
    skirt_gap_mm,
    to_prove,
    to_read,
    trammed,
)
from ivory_table.stations.tram.state import foretold_marks

Step = Literal[
    "beam",
    "no_knobs",
    "mesh_off",
    "sense",
    "count",
    "feel",
    "skirt",
    "further",
    "read",
    "prove",
    "turn_all",
    "centre",
    "done",
    "beyond_knobs",
    "given_up",
]


@dataclass(frozen=True)
class Now:
    """The step at hand: what is asked, and what the answer is expected to bring."""

    step: Step
    screw: str | None = None
    about_marks: float | None = None
    most_marks: int = 0
    ask_before: bool = False
    further: Turn | None = None
    turns: tuple[Turn, ...] = ()
    gives_back: str = ""
    left: str | None = None
    p_after: float | None = None
    spread_after_mm: float | None = None
    spread_after_sd_mm: float | None = None
    #: Marks to draw at each knob, and the knob that is worked on.
    marks: dict[int, float] = field(default_factory=dict)
    at: int | None = None
    runs_out: RunsOut | None = None
    #: What the turn at hand does at every other screw, mm up.
    moves_others: dict[str, float] = field(default_factory=dict)
    reasons: tuple[str, ...] = ()


@once_per_state
def now_at(run: OpenRun) -> Now:
    """What is to be done next, without the drawing around it."""
    state, tram = run.state, Tram.of(run.state)
    more = None
    if tram.pending is not None and tram.way in ("counting", "skirt"):
        more = _further(state, tram.pending)
        if not more.marks:
            # Nothing to add: straight to what comes next. It is shown, and a turn can still be entered.
            left = state.screws[tram.pending].name
            return replace(_now(state, _step(state, None), None), left=left)
    return _now(state, _step(state, more), more)


def _now(state: RunState, step: Step, more: Further | None) -> Now:
    tram = Tram.of(state)
    if step in ("beam", "mesh_off"):
        return Now(step)
    if step == "skirt":
        stop = _next(state)
        return Now(step, screw=state.screws[stop.screw].name, at=stop.screw, spread_after_mm=stop.spread_after_mm)
    if step == "sense":
        j = tram.guard.to_show[0] if tram.guard.to_show else 0
        return Now(step, screw=state.screws[j].name, marks={j: float(state.screws[j].trial_marks)}, at=j)
    if step == "count":
        stop = _next(state)
        screw = state.screws[stop.screw]
        if stop.feel and tram.way == "counting":
            return Now(
                "feel",
                screw=screw.name,
                at=stop.screw,
                spread_after_mm=stop.spread_after_mm,
                reasons=(
                    "This screw is known to be near the drag: a feel tells as much as a count, and moves nothing else.",
                ),
            )
        # Before the first visit the turn is anybody's guess; none is shown.
        known = stop.screw in tram.visited
        unvisited = len(state.screws) - len(tram.visited)
        unfelt = (f"{unvisited} of {len(state.screws)} knobs have not been felt yet.",) if unvisited else ()
        return Now(
            step,
            screw=screw.name,
            ask_before=advice.sense_in_doubt(state.belief, stop.screw),
            about_marks=_about(state, stop) if known else None,
            most_marks=max(
                stop.most_marks, round(TRAM.most_turns * (1 + misses(state, stop.screw)) * screw.marks_per_turn)
            ),
            marks={stop.screw: _about(state, stop)} if known else {},
            at=stop.screw,
            spread_after_mm=stop.spread_after_mm,
            reasons=(
                f"This visit is expected to leave {stop.spread_after_mm:.2f} ± {stop.spread_after_sd_mm:.2f} mm.",
                *unfelt,
            ),
        )
    if step == "further" and more is not None and tram.pending is not None:
        screw = state.screws[tram.pending]
        return Now(
            step,
            screw=screw.name,
            further=Turn.of(screw, more.marks),
            p_after=more.p_within,
            gives_back=_gives_back(state, tram.pending, more),
            moves_others=_moves_others(state, tram.pending, more.others_mm) if more.marks else {},
            runs_out=_ends(state, tram.pending, more.up_mm),
            marks={tram.pending: float(more.marks)},
            at=tram.pending,
            spread_after_mm=more.spread_mm,
            spread_after_sd_mm=more.spread_sd_mm,
            reasons=(
                f"After it: spread {more.spread_mm:.3f} ± {more.spread_sd_mm:.3f} mm, {more.p_within:.0%} likely to be within.",
            ),
        )
    if step == "read" and (at := to_read(state)) is not None:
        linked = ("Read here by hand as well: the probe's zero and the nozzle's are then one.",)
        return Now(step, screw=state.screws[at].name, at=at, reasons=linked if at in tram.round_read else ())
    if step == "prove" and (proving := to_prove(state)) is not None:
        return _proving(state, proving)
    if step == "turn_all":
        marks, after = advice.turns_worth_making(state.belief, state.screws, 0.5, state.tol_mm)
        turns = tuple(Turn.of(s, m) for s, m in zip(state.screws, marks, strict=True))
        return Now(
            step,
            turns=turns,
            runs_out=runs_out(state.screws, state.moved_mm, tuple(t.up_mm for t in turns)),
            marks={j: float(m) for j, m in enumerate(marks) if m},
            spread_after_mm=after.spread()[0],
            p_after=after.p_within(state.tol_mm),
            reasons=("The turns minimise the expected squared spread, in half marks.",),
        )
    return Now(step)


def _moves_others(state: RunState, j: int, moved_mm: Iterable[float]) -> dict[str, float]:
    """What a turn of knob j does at every other screw, mm up."""
    named = zip(state.screws, moved_mm, strict=True)
    return {s.name: float(mm) for k, (s, mm) in enumerate(named) if k != j}


def _ends(state: RunState, j: int, up_mm: float) -> RunsOut | None:
    """What knob j alone would run into when it is turned so far."""
    return runs_out(state.screws, state.moved_mm, tuple(up_mm if k == j else 0.0 for k in range(len(state.screws))))


def _proving(state: RunState, j: int) -> Now:
    """A turn whose reading shows what this knob does; less, or the other way, where it would run out."""
    screw = state.screws[j]
    turns = advice.proving_turns(state.belief, state.screws, j)
    made = [Turn.of(screw, marks) for marks in turns]
    turn = next((t for t in made if _ends(state, j, t.up_mm) is None), made[0])
    return Now(
        "prove",
        screw=screw.name,
        further=turn,
        runs_out=_ends(state, j, turn.up_mm),
        marks={j: turn.marks},
        at=j,
        moves_others=_moves_others(state, j, state.belief.weight @ state.belief.passes[:, :, j] * turn.up_mm),
        reasons=(
            "A turn between two readings tells the knob's sense and how much of it the plate passes.",
            "It goes where the plate wants it, as far as is known yet: at least a quarter turn, at most a whole one.",
        ),
    )


#: Steps that find out how the plate lies with the tip at one height.
_LEVELS = ("sense", "count", "skirt", "read")


def _step(state: RunState, more: Further | None) -> Step:
    """The step at hand. A machine that follows a mesh brings the tip to z 0 over the plate it measured: knobs turned to that
    would never level it, so the mesh is switched off first."""
    step = _step_without_mesh(state, more)
    return "mesh_off" if state.mesh_on and step in _LEVELS else step


def _step_without_mesh(state: RunState, more: Further | None) -> Step:
    tram = Tram.of(state)
    if not tram.beam_level(state.setup.machine):
        return "beam"
    if not state.screws:
        return "no_knobs" if tram.centre_felt is None else "done"
    if not sense_known(state) or (tram.guard.to_show and tram.way != "read_all"):
        return "sense"
    if more is not None:
        return "further"
    if gives_up(state) and not trammed(state) and not tram.round_read:
        return "given_up"
    if beyond_knobs(state) and not tram.round_read:
        return "centre" if tram.centre_felt is None else "beyond_knobs"
    if trammed(state) and not tram.round_read:
        return "centre" if tram.centre_felt is None else "done"
    if to_prove(state) is not None:
        return "prove"
    if tram.way == "read_all":
        return "turn_all" if to_read(state) is None else "read"
    return "skirt" if tram.way == "skirt" else "count"


def _about(state: RunState, stop: advice.Stop) -> float:
    """The count that is expected, the plate's warming taken into it."""
    told = foretold_marks(state, stop.screw)
    return told[0] if told else stop.about_marks


def _gap(state: RunState) -> float:
    """The gap that the turns aim at, with the tip at z 0."""
    return skirt_gap_mm(state) if Tram.of(state).way == "skirt" else state.drag_gap_mm


def _next(state: RunState) -> advice.Stop:
    tram = Tram.of(state)
    if tram.at_screw is not None:
        return advice.at_stop(state.belief, state.screws, _gap(state), tram.at_screw)
    stop = advice.next_stop(state.belief, state.screws, _gap(state), state.tol_mm, _last(state))
    if tram.way not in ("ring", "diagonal", "pairs"):
        return stop
    order = advice.order_of(state.belief.surface.screws, tram.way)
    last = _last(state)
    j = order[0] if last is None else order[(order.index(last) + 1) % len(order)]
    return stop if j == stop.screw else advice.at_stop(state.belief, state.screws, state.drag_gap_mm, j)


def _last(state: RunState) -> int | None:
    return Tram.of(state).stops[-1].screw if Tram.of(state).stops else None


def _further(state: RunState, j: int) -> Further:
    return further(state.belief, state.screws, j, state.tol_mm, _gap(state))


def _gives_back(state: RunState, at: int, more: Further) -> str:
    moved = [(abs(mm), j) for j, mm in enumerate(more.others_mm) if j != at]
    size, j = max(moved)
    if not more.marks or size < 0.004:
        return ""
    way = "down" if more.others_mm[j] < 0 else "up"
    return f"this plate rocks: {state.screws[j].name} goes {size:.2f} mm {way} with it"
