"""Tram: which screw, how far, and when it is enough."""

from ivory_table.core import advice
from ivory_table.core.bead import Grade
from ivory_table.core.beam import BeamAdvice, level
from ivory_table.core.defaults import BEAD, TRAM
from ivory_table.core.form import FormAmount, NamedForm, believed_forms, form_words, named_form
from ivory_table.core.travel import RunsOut
from ivory_table.core.value import Value
from ivory_table.core.words import many
from ivory_table.runs.run import OpenRun
from ivory_table.runs.searching import first_try_mm
from ivory_table.runs.state import RunState
from ivory_table.stations.asked import Caution, cautions
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.sheet import Figure, Sheet, Spot, Turn, height_field, sheet_of
from ivory_table.stations.tram.entries import Way
from ivory_table.stations.tram.knobs import knob_marks
from ivory_table.stations.tram.slice import Tram
from ivory_table.stations.tram.standing import against_sense, gives_up, out_of_reach, trammed
from ivory_table.stations.tram.step import Step, now_at
from ivory_table.stations.tram.story import LearntLine, Round, StopLine, learnt_lines, rounds_told, story


class GradeKey(Value):
    """One answer to how the skirt's line lies beside a screw."""

    key: int
    grade: Grade
    word: str
    look: str


class TramView(StationView):
    """One instruction, one number, one answer. Marks clockwise from above are positive."""

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
    spread_sd_mm: float
    spread_after_mm: float | None = None
    spread_after_sd_mm: float | None = None
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
    #: How it is level once the knobs are done.
    level_words: str
    #: The line that switches the mesh off, where it is on record.
    mesh_off_line: str
    gives_way: str
    warp_words: str
    #: What to expect of counting where the screws are many.
    doubt: str
    grades: tuple[GradeKey, ...]
    stops: tuple[StopLine, ...]
    rounds: tuple[Round, ...]
    reasons: tuple[str, ...]


def _stops_left(state: RunState, p_within: float, unvisited: int) -> float | None:
    """Known where it was simulated: counting on four screws and fewer, that answer."""
    tram = Tram.of(state)
    if gives_up(state):
        return None
    if p_within < TRAM.done_at and (len(state.screws) >= len(TRAM.stops_left) or tram.way == "read_all"):
        return None
    return advice.stops_left(p_within, unvisited)


#: Measured: `docs/guide/trial.md`.
_TAKES_LONG = (
    "By counts alone so many screws take long, 25 to 30 stops, and what is said to be within is not in one of ten: their supports "
    "are too many to be told by a feel. Read the heights in mm if you can: that takes a few rounds."
)


def view(run: OpenRun) -> TramView:
    state, tram = run.state, Tram.of(run.state)
    p = state.belief.p_within(state.tol_mm)
    spread, sd = state.belief.spread()
    unvisited = len(state.screws) - len(tram.visited)
    now = now_at(run)
    step, after = now.step, now.spread_after_mm
    knob = state.screws[now.at] if now.at is not None else None
    reasons = [
        f"P(spread ≤ {2 * state.tol_mm:.2f} mm) = {p:.0%}; done is declared at {TRAM.done_at:.0%}.",
        *now.reasons,
    ]
    passes = state.belief.passes_of_twist()
    if passes and tram.stops:
        reasons.append(f"This plate passes {passes[0]:.0%} ± {passes[1]:.0%} of a twist (A = (I + ΛK)⁻¹).")
    heights = height_field(state, after_mesh=False, level_mm=None, tol_mm=state.tol_mm, against="the common height")
    spots: tuple[Spot, ...] = ()
    if step in ("centre", "done", "no_knobs", "beyond_knobs", "given_up"):
        cx, cy = run.setup.plate.centre
        spots = (Spot(x_mm=cx, y_mm=cy, kind="next" if step in ("centre", "no_knobs") else "measured", label="centre"),)
    figures = (
        Figure(name="Spread", value=f"{spread:.2f}", unit="mm", plus_minus=f"±{sd:.2f}"),
        Figure(name="After this stop", value=f"{after:.2f}", unit="mm")
        if after is not None
        else Figure(name="Within, chance", value=f"{p:.0%}"),
    )
    return TramView.model_validate(
        {
            **so_far(run),
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
            "way": tram.way,
            "step": step,
            "stop": len(tram.stops) + (0 if step == "further" else 1),
            "spread_mm": spread,
            "spread_sd_mm": sd,
            "spread_after_mm": after,
            "spread_after_sd_mm": now.spread_after_sd_mm,
            "p_within": p,
            "tol_mm": state.tol_mm,
            "stops_left": _stops_left(state, p, unvisited),
            "passes_twist": passes,
            "against_sense": against_sense(state),
            "centre": _centre_words(state),
            "centre_z_mm": first_try_mm(state, *run.setup.plate.centre),
            "forms": believed_forms(state.belief),
            "form": named_form(
                state.belief,
                can_mesh=run.setup.machine.can_mesh,
                passes_twist=passes[0] if passes else None,
            ),
            "runs_out": now.runs_out,
            "beam": level(run.setup.machine.beam, tram.beam_read)
            if run.setup.machine.beam and tram.beam_read
            else None,
            "learnt": learnt_lines(state),
            "level_words": "The plate is parallel." if p >= TRAM.done_at else "As level as this hand tells.",
            "mesh_off_line": run.manner.send("mesh_off") if run.manner.can("mesh_off") else "",
            "gives_way": state.gives_way_words,
            "warp_words": state.warp_unknown
            or (
                f"trammed at {state.bed_at_tram_c:.0f} °C, corrected for print temperature"
                if state.school != "hot"
                else ""
            ),
            "doubt": _TAKES_LONG if len(state.screws) > TRAM.counts_tell and tram.way != "read_all" else "",
            "grades": _GRADES if step == "skirt" else (),
            "rounds": rounds_told(state),
            "stops": story(state),
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


def _warning(state: RunState) -> str:
    """Why the turning was stopped, or why it is given up; empty while the plate answers as was promised."""
    tram = Tram.of(state)
    if not state.screws or trammed(state):
        return ""
    if (j := out_of_reach(state)) is not None:
        return (
            f"{state.screws[j].name} brings no drag, however far it is turned: its knob slips, its spring is at an end, or the plate "
            "hangs on something. Turning on would not mend it. Look there, and put it right; where every knob is far off, Prepare's "
            "rough start sets all springs alike."
        )
    if gives_up(state):
        why = (
            "The plate did not answer as it should, though every knob was proved."
            if tram.guard.doubted > 1
            else f"After {many(len(tram.stops) - tram.guard.since, 'turn')} the plate is still not within."
        )
        return (
            f"{why} Turning on would not mend it. Look for a loose nut, a plate that is not seated, a spring at its end "
            "or a gauge that catches on something; then begin the tram anew."
        )
    if tram.guard.doubted and len(tram.visited | set(tram.round_read)) < len(state.screws):
        return (
            "The plate does not answer as it should: twice in a row it came out beyond what was promised. "
            "What was believed of it is put aside, and every knob is proved again, one by one."
        )
    return ""


def _centre_words(state: RunState) -> str:
    tram = Tram.of(state)
    if tram.centre_felt is None:
        return ""
    bow = next(f for f in believed_forms(state.belief) if f.form == "bow")
    if abs(bow.amount_mm) < 2 * bow.sd_mm:
        return f"no bow that this feel can tell ({bow.amount_mm:+.2f} ± {bow.sd_mm:.2f} mm)".replace("-", "−")
    return f"{form_words('bow', bow.amount_mm)}, {abs(bow.amount_mm):.2f} ± {bow.sd_mm:.2f} mm"


_GRADES = tuple(GradeKey(key=g.key, grade=g.grade, word=g.word, look=g.look) for g in BEAD.grades)
