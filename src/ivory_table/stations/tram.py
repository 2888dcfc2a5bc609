"""Tram: which screw, how far, and when it is enough."""

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from ivory_table.core import advice
from ivory_table.core.defaults import TRAM
from ivory_table.core.entries import Counted, Felt, ReadMm, SenseTried, Turned, TurnedAll, Way, What
from ivory_table.core.form import FormAmount, believed_forms, form_words
from ivory_table.core.run import RunState
from ivory_table.core.value import Value

from .desk import Desk, OpenRun, Refused
from .head import Caution, RunHead, cautions, head_of
from .sheet import Figure, Sheet, Spot, height_field, knob_marks, sheet_of

Step = Literal["no_knobs", "sense", "count", "further", "read", "turn_all", "centre", "done"]


class StopLine(Value):
    #: The row to take back for this stop to be gone.
    entry_id: str
    screw: str
    marks: float
    further: float | None
    height_mm: float
    spread_mm: float


class Turn(Value):
    screw: str
    marks: float
    up_mm: float


class TramView(Value):
    """One instruction, one number, one answer. Marks clockwise from above are positive."""

    head: RunHead
    sheet: Sheet
    cautions: tuple[Caution, ...]
    way: Way
    step: Step
    screw: str | None = None
    stop: int = 1
    about_marks: float | None = None
    #: The knob has not shown its sense yet: say whether the gauge was tight or loose before the turn.
    ask_before: bool = False
    mm_per_mark: float | None = None
    further: Turn | None = None
    turns: tuple[Turn, ...] = ()
    gives_back: str = ""
    spread_mm: float
    spread_sd_mm: float
    spread_after_mm: float | None = None
    p_after: float | None = None
    p_within: float
    tol_mm: float
    stops_left: float
    passes_twist: tuple[float, float] | None
    against_sense: str | None
    centre: str = ""
    #: The height at which the centre is felt: 0, or as low as is safe.
    centre_z_mm: float
    forms: tuple[FormAmount, ...]
    stops: tuple[StopLine, ...]
    reasons: tuple[str, ...]


@dataclass(frozen=True)
class Now:
    """The step at hand: what is asked, and what the answer is expected to bring."""

    step: Step
    screw: str | None = None
    about_marks: float | None = None
    ask_before: bool = False
    mm_per_mark: float | None = None
    further: Turn | None = None
    turns: tuple[Turn, ...] = ()
    gives_back: str = ""
    p_after: float | None = None
    spread_after_mm: float | None = None
    #: Marks to draw at each knob, and the knob that is worked on.
    marks: dict[int, float] = field(default_factory=dict)
    at: int | None = None
    reasons: tuple[str, ...] = ()


def now_at(run: OpenRun) -> Now:
    """What is to be done next, without the drawing around it."""
    state = run.state
    step = _step(state)
    if step == "sense":
        return Now(step, screw=state.screws[0].name, marks={0: 1.0}, at=0)
    if step == "count":
        stop = _next(state)
        screw = state.screws[stop.screw]
        # Before the first visit the turn is anybody's guess; none is shown.
        known = stop.screw in state.visited
        unvisited = len(state.screws) - len(state.visited)
        unfelt = (f"{unvisited} of {len(state.screws)} knobs have not been felt yet.",) if unvisited else ()
        return Now(
            step,
            screw=screw.name,
            mm_per_mark=screw.mm_per_mark,
            ask_before=advice.sense_in_doubt(state.belief, stop.screw),
            about_marks=stop.about_marks if known else None,
            marks={stop.screw: stop.about_marks} if known else {},
            at=stop.screw,
            spread_after_mm=stop.spread_after_mm,
            reasons=(
                f"This visit is expected to leave {stop.spread_after_mm:.2f} ± {stop.spread_after_sd_mm:.2f} mm.",
                *unfelt,
            ),
        )
    if step == "further" and state.pending is not None:
        more = _further(state, state.pending)
        screw = state.screws[state.pending]
        return Now(
            step,
            screw=screw.name,
            mm_per_mark=screw.mm_per_mark,
            further=Turn(screw=screw.name, marks=more.marks, up_mm=more.up_mm),
            p_after=more.p_within,
            gives_back=_gives_back(state, state.pending, more),
            marks={state.pending: float(more.marks)},
            at=state.pending,
            spread_after_mm=more.spread_mm,
            reasons=(
                f"After it: spread {more.spread_mm:.3f} ± {more.spread_sd_mm:.3f} mm, within with {more.p_within:.0%}.",
            ),
        )
    if step == "read":
        at = next(j for j in range(len(state.screws)) if j not in state.round_read)
        return Now(step, screw=state.screws[at].name, at=at)
    if step == "turn_all":
        marks = advice.turn_plan(state.belief, state.screws, 0.5)
        return Now(
            step,
            turns=tuple(
                Turn(screw=s.name, marks=float(m), up_mm=float(m * s.mm_per_mark * s.sense))
                for s, m in zip(state.screws, marks, strict=True)
            ),
            marks={j: float(m) for j, m in enumerate(marks) if m},
            spread_after_mm=_after_plan(state, marks),
            reasons=("The turns minimise the expected squared spread, in half marks.",),
        )
    return Now(step)


def view(run: OpenRun) -> TramView:
    state = run.state
    p = state.belief.p_within(state.tol_mm)
    spread, spread_sd = state.belief.spread()
    unvisited = len(state.screws) - len(state.visited)
    now = now_at(run)
    step, after = now.step, now.spread_after_mm
    reasons = [
        f"P(spread ≤ {2 * state.tol_mm:.2f} mm) = {p:.0%}; done is declared at {TRAM.done_at:.0%}.",
        *now.reasons,
    ]
    passes = state.belief.passes_of_twist()
    if passes and state.stops:
        reasons.append(f"This plate passes {passes[0]:.0%} ± {passes[1]:.0%} of a twist (A = (I + ΛK)⁻¹).")
    heights = height_field(state, after_mesh=False, level_mm=None, tol_mm=state.tol_mm, against="the common height")
    spots: tuple[Spot, ...] = ()
    if step in ("centre", "done", "no_knobs"):
        cx, cy = run.setup.plate.centre
        spots = (Spot(x_mm=cx, y_mm=cy, kind="next" if step != "done" else "measured", label="centre"),)
    figures = (
        Figure(name="Spread", value=f"{spread:.2f}", unit="mm", give=f"±{spread_sd:.2f}"),
        Figure(name="After this stop", value=f"{after:.2f}", unit="mm")
        if after is not None
        else Figure(name="Within, chance", value=f"{p:.0%}"),
    )
    return TramView.model_validate(
        {
            "head": head_of(run),
            "sheet": sheet_of(state, heights, knobs=knob_marks(state, now.marks, now.at), spots=spots, figures=figures),
            "cautions": cautions(run, "tram"),
            "way": state.way,
            "step": step,
            "stop": len(state.stops) + (0 if step == "further" else 1),
            "spread_mm": spread,
            "spread_sd_mm": spread_sd,
            "spread_after_mm": after,
            "p_within": p,
            "tol_mm": state.tol_mm,
            "stops_left": advice.stops_left(p, unvisited),
            "passes_twist": passes,
            "against_sense": state.against_sense,
            "centre": _centre_words(state),
            "centre_z_mm": state.first_try_mm(*run.setup.plate.centre),
            "forms": believed_forms(state.belief),
            "stops": _story(state),
            "reasons": tuple(reasons),
            "screw": now.screw,
            "about_marks": now.about_marks,
            "ask_before": now.ask_before,
            "mm_per_mark": now.mm_per_mark,
            "further": now.further,
            "turns": now.turns,
            "gives_back": now.gives_back,
            "p_after": now.p_after,
        }
    )


def _step(state: RunState) -> Step:
    if not state.screws:
        return "no_knobs" if state.centre_felt is None else "done"
    if not state.sense_known:
        return "sense"
    if state.pending is not None and state.way == "counting":
        return "further"
    if state.trammed and not state.round_read:
        return "centre" if state.centre_felt is None else "done"
    if state.way == "read_all":
        return "turn_all" if len(state.round_read) == len(state.screws) else "read"
    return "count"


def _next(state: RunState) -> advice.Stop:
    if state.at_screw is not None:
        return advice.at_stop(state.belief, state.screws, state.drag_gap_mm, state.at_screw)
    stop = advice.next_stop(state.belief, state.screws, state.drag_gap_mm, state.tol_mm, _last(state))
    if state.way not in ("ring", "diagonal", "pairs"):
        return stop
    order = advice.order_of(state.belief.surface.screws, state.way)
    last = _last(state)
    j = order[0] if last is None else order[(order.index(last) + 1) % len(order)]
    return stop if j == stop.screw else advice.at_stop(state.belief, state.screws, state.drag_gap_mm, j)


def _last(state: RunState) -> int | None:
    return state.stops[-1].screw if state.stops else None


def _further(state: RunState, j: int) -> advice.Further:
    return advice.further(state.belief, state.screws, j, state.tol_mm, state.drag_gap_mm)


def _gives_back(state: RunState, at: int, more: advice.Further) -> str:
    moved = [(abs(mm), j) for j, mm in enumerate(more.others_mm) if j != at]
    size, j = max(moved)
    if not more.marks or size < 0.004:
        return ""
    way = "down" if more.others_mm[j] < 0 else "up"
    return f"this plate rocks: {state.screws[j].name} goes {size:.2f} mm {way} with it"


def _after_plan(state: RunState, marks: np.ndarray) -> float:
    belief = state.belief
    for j, m in enumerate(marks):
        if m:
            belief = advice.turned(belief, state.screws, j, float(m))
    return belief.spread()[0]


def _centre_words(state: RunState) -> str:
    if state.centre_felt is None:
        return ""
    bow = next(f for f in believed_forms(state.belief) if f.form == "bow")
    if abs(bow.amount_mm) < 2 * bow.sd_mm:
        return f"no bow that this feel can tell ({bow.amount_mm:+.2f} ± {bow.sd_mm:.2f} mm)".replace("-", "−")
    return f"{form_words('bow', bow.amount_mm)}, {abs(bow.amount_mm):.2f} ± {bow.sd_mm:.2f} mm"


def _story(state: RunState) -> tuple[StopLine, ...]:
    heights = knob_marks(state, {}, None)
    return tuple(
        StopLine(
            entry_id=s.entry_id,
            screw=state.screws[s.screw].name,
            marks=s.marks,
            further=s.further,
            height_mm=heights[s.screw].height_mm,
            spread_mm=s.spread_mm,
        )
        for s in state.stops
    )


def practice(desk: Desk, run: OpenRun) -> What:
    """The practice plate's answer to the step at hand."""
    hands, state = desk.hands(run), run.state
    now = now_at(run)
    cx, cy = run.setup.plate.centre
    if now.step == "sense":
        return SenseTried.model_validate({"screw": now.screw, "felt": hands.try_sense(0)})
    if now.step == "count" and now.screw:
        j = run.setup.machine.screw(now.screw)
        loose = hands.is_loose(j) if now.ask_before else None
        before: Literal["loose", "tight"] | None = None if loose is None else "loose" if loose else "tight"
        return Counted(screw=now.screw, marks=hands.turn_until_drag(j), before=before)
    if now.step == "further" and now.further:
        hands.turn(run.setup.machine.screw(now.further.screw), now.further.marks)
        return Turned(screw=now.further.screw, marks=now.further.marks)
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
        z = state.first_try_mm(cx, cy)
        return Felt(x_mm=cx, y_mm=cy, z_mm=z, feel=hands.slide_gauge(cx, cy, z))
    raise Refused("nothing_to_read", "The tram is done; there is nothing left to read here.")
