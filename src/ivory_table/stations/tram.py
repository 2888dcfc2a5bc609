"""Tram: which screw, how far, and when it is enough."""

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import Literal, Self

from ivory_table.core import advice
from ivory_table.core.bead import Grade
from ivory_table.core.beam import BeamAdvice, BeamReading, level
from ivory_table.core.defaults import BEAD, TRAM
from ivory_table.core.entries import (
    BeamRead,
    BeamTurned,
    Counted,
    Felt,
    NotReached,
    ReadMm,
    SenseTried,
    SkirtSeen,
    Turned,
    TurnedAll,
    Way,
    What,
)
from ivory_table.core.form import FormAmount, NamedForm, believed_forms, form_words, named_form
from ivory_table.core.gauge import Feel
from ivory_table.core.hands import Hands
from ivory_table.core.plate import Screw
from ivory_table.core.run import RunState
from ivory_table.core.travel import RunsOut, runs_out
from ivory_table.core.value import Value

from .desk import Desk, OpenRun, Refused
from .head import Caution, RunHead, cautions, head_of
from .sheet import Figure, Sheet, Spot, height_field, knob_marks, many, sheet_of

Step = Literal[
    "beam",
    "no_knobs",
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
]


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


class GradeKey(Value):
    """One answer to how the skirt's line lies beside a screw."""

    key: int
    grade: Grade
    word: str
    look: str


class Turn(Value):
    """A turn of one knob, in its own marks."""

    screw: str
    marks: float
    per_turn: int
    up_mm: float

    @classmethod
    def of(cls, screw: Screw, marks: float) -> Self:
        up_mm = float(marks * screw.mm_per_mark * screw.sense)
        return cls(screw=screw.name, marks=float(marks), per_turn=screw.marks_per_turn, up_mm=up_mm)


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
    #: So far it is turned in search of the drag; then it is said that the drag does not come.
    most_marks: int = 0
    #: The knob has not shown its sense yet: say whether the gauge was tight or loose before the turn.
    ask_before: bool = False
    #: Of the knob at hand: what one mark gives, how many make a turn, and how many show its sense.
    mm_per_mark: float | None = None
    per_turn: int | None = None
    trial_marks: int | None = None
    further: Turn | None = None
    turns: tuple[Turn, ...] = ()
    gives_back: str = ""
    #: The knob that was just turned until it dragged and is well as it stands; None where there is none.
    left: str | None = None
    #: Why the turning was stopped, or why turning on would do no good; empty while the plate answers.
    warning: str = ""
    #: The range of the heights at the screws, and by how much it may be off in two of three cases.
    spread_mm: float
    spread_give_mm: float
    spread_after_mm: float | None = None
    spread_after_give_mm: float | None = None
    p_after: float | None = None
    p_within: float
    tol_mm: float
    #: None where it is not known.
    stops_left: float | None
    passes_twist: tuple[float, float] | None
    against_sense: str | None
    centre: str = ""
    #: The height at which the centre is felt: 0, or as low as is safe.
    centre_z_mm: float
    forms: tuple[FormAmount, ...]
    form: NamedForm | None
    #: A knob that this turn would take to an end of its travel, and what to do instead.
    runs_out: RunsOut | None
    beam: BeamAdvice | None
    learnt: tuple[LearntLine, ...]
    warp_words: str
    #: What to expect of counting where the screws are many.
    doubt: str
    grades: tuple[GradeKey, ...]
    stops: tuple[StopLine, ...]
    rounds: tuple[Round, ...]
    reasons: tuple[str, ...]


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
    spread_after_give_mm: float | None = None
    #: Marks to draw at each knob, and the knob that is worked on.
    marks: dict[int, float] = field(default_factory=dict)
    at: int | None = None
    runs_out: RunsOut | None = None
    #: What the turn at hand does at every other screw, mm up.
    moves_others: dict[str, float] = field(default_factory=dict)
    reasons: tuple[str, ...] = ()


def now_at(run: OpenRun) -> Now:
    """What is to be done next, without the drawing around it."""
    state = run.state
    more = None
    if state.pending is not None and state.way in ("counting", "skirt"):
        more = _further(state, state.pending)
        if not more.marks:
            # Nothing to add: straight to what comes next. It is shown, and a turn can still be entered.
            left = state.screws[state.pending].name
            return replace(_now(state, _step(state, None), None), left=left)
    return _now(state, _step(state, more), more)


def _now(state: RunState, step: Step, more: advice.Further | None) -> Now:
    if step == "beam":
        return Now(step)
    if step == "skirt":
        stop = _next(state)
        return Now(step, screw=state.screws[stop.screw].name, at=stop.screw, spread_after_mm=stop.spread_after_mm)
    if step == "sense":
        j = state.guard.to_show[0] if state.guard.to_show else 0
        return Now(step, screw=state.screws[j].name, marks={j: float(state.screws[j].trial_marks)}, at=j)
    if step == "count":
        stop = _next(state)
        screw = state.screws[stop.screw]
        if stop.feel and state.way == "counting":
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
        known = stop.screw in state.visited
        unvisited = len(state.screws) - len(state.visited)
        unfelt = (f"{unvisited} of {len(state.screws)} knobs have not been felt yet.",) if unvisited else ()
        return Now(
            step,
            screw=screw.name,
            ask_before=advice.sense_in_doubt(state.belief, stop.screw),
            about_marks=_about(state, stop) if known else None,
            most_marks=stop.most_marks,
            marks={stop.screw: _about(state, stop)} if known else {},
            at=stop.screw,
            spread_after_mm=stop.spread_after_mm,
            reasons=(
                f"This visit is expected to leave {stop.spread_after_mm:.2f} ± {stop.spread_after_sd_mm:.2f} mm.",
                *unfelt,
            ),
        )
    if step == "further" and more is not None and state.pending is not None:
        screw = state.screws[state.pending]
        return Now(
            step,
            screw=screw.name,
            further=Turn.of(screw, more.marks),
            p_after=more.p_within,
            gives_back=_gives_back(state, state.pending, more),
            moves_others=_moves_others(state, state.pending, more.others_mm) if more.marks else {},
            runs_out=_ends(state, state.pending, more.up_mm),
            marks={state.pending: float(more.marks)},
            at=state.pending,
            spread_after_mm=more.spread_mm,
            spread_after_give_mm=more.spread_give_mm,
            reasons=(
                f"After it: spread {more.spread_mm:.3f} ± {more.spread_give_mm:.3f} mm, {more.p_within:.0%} likely to be within.",
            ),
        )
    if step == "read" and state.to_read is not None:
        at = state.to_read
        linked = ("Read here by hand as well: the probe's zero and the nozzle's are then one.",)
        return Now(step, screw=state.screws[at].name, at=at, reasons=linked if at in state.round_read else ())
    if step == "prove" and state.to_prove is not None:
        return _proving(state, state.to_prove)
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


def _stops_left(state: RunState, p_within: float, unvisited: int) -> float | None:
    """Known where it was simulated: counting on four screws and fewer."""
    if p_within < TRAM.done_at and (len(state.screws) >= len(TRAM.stops_left) or state.way == "read_all"):
        return None
    return advice.stops_left(p_within, unvisited)


#: Measured: `docs/guide/trial.md`.
_TAKES_LONG = (
    "By counts alone so many screws take long, 25 to 30 stops, and what is said to be within is not in one of ten: their supports "
    "are too many to be told by a feel. Read the heights in mm if you can: that takes a few rounds."
)


def view(run: OpenRun) -> TramView:
    state = run.state
    p = state.belief.p_within(state.tol_mm)
    spread, give = state.belief.spread()
    unvisited = len(state.screws) - len(state.visited)
    now = now_at(run)
    step, after = now.step, now.spread_after_mm
    knob = state.screws[now.at] if now.at is not None else None
    reasons = [
        f"P(spread ≤ {2 * state.tol_mm:.2f} mm) = {p:.0%}; done is declared at {TRAM.done_at:.0%}.",
        *now.reasons,
    ]
    passes = state.belief.passes_of_twist()
    if passes and state.stops:
        reasons.append(f"This plate passes {passes[0]:.0%} ± {passes[1]:.0%} of a twist (A = (I + ΛK)⁻¹).")
    heights = height_field(state, after_mesh=False, level_mm=None, tol_mm=state.tol_mm, against="the common height")
    spots: tuple[Spot, ...] = ()
    if step in ("centre", "done", "no_knobs", "beyond_knobs"):
        cx, cy = run.setup.plate.centre
        spots = (Spot(x_mm=cx, y_mm=cy, kind="next" if step in ("centre", "no_knobs") else "measured", label="centre"),)
    figures = (
        Figure(name="Spread", value=f"{spread:.2f}", unit="mm", give=f"±{give:.2f}"),
        Figure(name="After this stop", value=f"{after:.2f}", unit="mm")
        if after is not None
        else Figure(name="Within, chance", value=f"{p:.0%}"),
    )
    return TramView.model_validate(
        {
            "head": head_of(run),
            "sheet": sheet_of(
                state,
                heights,
                knobs=knob_marks(
                    state,
                    now.marks,
                    now.at,
                    now.moves_others,
                    about=now.about_marks is not None,
                ),
                spots=spots,
                figures=figures,
            ),
            "cautions": cautions(run, "tram"),
            "way": state.way,
            "step": step,
            "stop": len(state.stops) + (0 if step == "further" else 1),
            "spread_mm": spread,
            "spread_give_mm": give,
            "spread_after_mm": after,
            "spread_after_give_mm": now.spread_after_give_mm,
            "p_within": p,
            "tol_mm": state.tol_mm,
            "stops_left": _stops_left(state, p, unvisited),
            "passes_twist": passes,
            "against_sense": state.against_sense,
            "centre": _centre_words(state),
            "centre_z_mm": state.first_try_mm(*run.setup.plate.centre),
            "forms": believed_forms(state.belief),
            "form": named_form(
                state.belief,
                can_mesh=run.setup.machine.can_mesh,
                passes_twist=passes[0] if passes else None,
            ),
            "runs_out": now.runs_out,
            "beam": level(run.setup.machine.beam, state.beam_read)
            if run.setup.machine.beam and state.beam_read
            else None,
            "learnt": _learnt(state),
            "warp_words": state.warp_unknown
            or (
                f"trammed at {state.bed_at_tram_c:.0f} °C, corrected for print temperature"
                if state.school != "hot"
                else ""
            ),
            "doubt": _TAKES_LONG if len(state.screws) > TRAM.counts_tell and state.way != "read_all" else "",
            "grades": _GRADES if step == "skirt" else (),
            "rounds": _rounds(state),
            "stops": _story(state),
            "reasons": tuple(reasons),
            "screw": now.screw,
            "about_marks": now.about_marks,
            "most_marks": now.most_marks,
            "ask_before": now.ask_before,
            "mm_per_mark": knob and knob.mm_per_mark,
            "per_turn": knob and knob.marks_per_turn,
            "trial_marks": knob and knob.trial_marks,
            "further": now.further,
            "turns": now.turns,
            "gives_back": now.gives_back,
            "left": now.left,
            "warning": _warning(state),
            "p_after": now.p_after,
        }
    )


def _step(state: RunState, more: advice.Further | None) -> Step:
    if not state.beam_level:
        return "beam"
    if not state.screws:
        return "no_knobs" if state.centre_felt is None else "done"
    if not state.sense_known or (state.guard.to_show and state.way != "read_all"):
        return "sense"
    if more is not None:
        return "further"
    if state.beyond_knobs and not state.round_read:
        return "centre" if state.centre_felt is None else "beyond_knobs"
    if state.trammed and not state.round_read:
        return "centre" if state.centre_felt is None else "done"
    if state.to_prove is not None:
        return "prove"
    if state.way == "read_all":
        return "turn_all" if state.to_read is None else "read"
    return "skirt" if state.way == "skirt" else "count"


def _warning(state: RunState) -> str:
    """Why the turning was stopped, or why it is given up; empty while the plate answers as was promised."""
    if not state.screws or state.trammed:
        return ""
    if state.gives_up:
        why = (
            "The plate did not answer as it should, though every knob was proved."
            if state.guard.doubted > 1
            else f"After {many(len(state.stops) - state.guard.since, 'turn')} the plate is still not within."
        )
        return (
            f"{why} Turning on would not mend it. Look for a loose nut, a plate that is not seated, a spring at its end "
            "or a gauge that catches on something; then begin the tram afresh with Prepare."
        )
    if state.guard.doubted and len(state.visited | set(state.round_read)) < len(state.screws):
        return (
            "The plate does not answer as it should: twice in a row it came out beyond what was promised. "
            "What was believed of it is put aside, and every knob is proved again, one by one."
        )
    return ""


def _about(state: RunState, stop: advice.Stop) -> float:
    """The count that is expected, the plate's warming taken into it."""
    told = state.foretold_marks(stop.screw)
    return told[0] if told else stop.about_marks


def _gap(state: RunState) -> float:
    """The gap that the turns aim at, with the tip at z 0."""
    return state.skirt_gap_mm if state.way == "skirt" else state.drag_gap_mm


def _next(state: RunState) -> advice.Stop:
    if state.at_screw is not None:
        return advice.at_stop(state.belief, state.screws, _gap(state), state.at_screw)
    stop = advice.next_stop(state.belief, state.screws, _gap(state), state.tol_mm, _last(state))
    if state.way not in ("ring", "diagonal", "pairs"):
        return stop
    order = advice.order_of(state.belief.surface.screws, state.way)
    last = _last(state)
    j = order[0] if last is None else order[(order.index(last) + 1) % len(order)]
    return stop if j == stop.screw else advice.at_stop(state.belief, state.screws, state.drag_gap_mm, j)


def _last(state: RunState) -> int | None:
    return state.stops[-1].screw if state.stops else None


def _further(state: RunState, j: int) -> advice.Further:
    return advice.further(state.belief, state.screws, j, state.tol_mm, _gap(state))


def _gives_back(state: RunState, at: int, more: advice.Further) -> str:
    moved = [(abs(mm), j) for j, mm in enumerate(more.others_mm) if j != at]
    size, j = max(moved)
    if not more.marks or size < 0.004:
        return ""
    way = "down" if more.others_mm[j] < 0 else "up"
    return f"this plate rocks: {state.screws[j].name} goes {size:.2f} mm {way} with it"


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
            per_turn=state.screws[s.screw].marks_per_turn,
            further=s.further,
            height_mm=heights[s.screw].height_mm,
            spread_mm=s.spread_mm,
            feel=s.feel,
            still=s.still,
            about=s.about,
        )
        for s in state.stops
    )


def _rounds(state: RunState) -> tuple[Round, ...]:
    """The story: read all by its rounds, counting by as many stops as there are screws."""
    lines, m = _story(state), max(len(state.screws), 1)
    found = []
    if state.readings:
        last = max(r.round for r in state.readings)
        for number in range(1, last + 1):
            read = [r for r in state.readings if r.round == number]
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
                    stops=tuple(line for line, s in zip(lines, state.stops, strict=True) if s.round == number),
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
    turned = [s for s in state.stops if s.round == number]
    if all(s.spread_before_mm is not None for s in turned):
        return float(max(values) - min(values))
    return next((s.spread_before_mm for s in turned if s.spread_before_mm is not None), state.belief.spread()[0])


def _learnt(state: RunState) -> tuple[LearntLine, ...]:
    """Each knob that gives beyond 2 sd more or less than it is declared to; nothing before that."""
    if not state.screws:
        return ()
    gains, sds = state.belief.gains()
    out = []
    for s, gain, sd in zip(state.screws, gains, sds, strict=True):
        if abs(gain) > 2 * sd and abs(gain) > TRAM.gain_said:
            out.append(
                LearntLine(
                    screw=s.name,
                    words=f"{s.name} gives {s.mm_per_mark * (1 + gain):.3f} mm per 1/{s.marks_per_turn}, not {s.mm_per_mark:.3f}",
                )
            )
    return tuple(out)


_GRADES = tuple(GradeKey(key=g.key, grade=g.grade, word=g.word, look=g.look) for g in BEAD.grades)


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
        marks, still = hands.turn_until_drag(j, now.most_marks)
        if still is not None:
            return NotReached(screw=now.screw, marks=marks, still=still)
        return Counted(screw=now.screw, marks=marks, before=before)
    if now.step == "feel" and now.screw:
        screw = state.screws[run.setup.machine.screw(now.screw)]
        feel = hands.slide_gauge(screw.x_mm, screw.y_mm, 0.0)
        return Felt(x_mm=screw.x_mm, y_mm=screw.y_mm, z_mm=0.0, feel=feel, screw=screw.name)
    if now.step in ("further", "prove") and now.further:
        hands.turn(run.setup.machine.screw(now.further.screw), now.further.marks)
        return Turned(screw=now.further.screw, marks=now.further.marks)
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
        z = state.first_try_mm(cx, cy)
        return Felt(x_mm=cx, y_mm=cy, z_mm=z, feel=hands.slide_gauge(cx, cy, z))
    raise Refused("nothing_to_read", "The tram is done; there is nothing left to read here.")


def _beam_by_practice(hands: Hands, run: OpenRun) -> What:
    """Both sides read, or the right drive turned as advised."""
    beam, state = run.setup.machine.beam, run.state
    assert beam is not None
    if state.beam_read is not None:
        wanted = level(beam, state.beam_read)
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
