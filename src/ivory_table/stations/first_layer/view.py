"""First layer: the proof as a program, its zones judged, and the best next action."""

from typing import Literal

from pydantic import AwareDatetime
from scipy.special import ndtr

from ivory_table.core.bead import Bead, Grade, GradeCard, Swatch, grade_cards, swatch
from ivory_table.core.beside import beside_words
from ivory_table.core.causes import CauseShown, LookFirst, shown
from ivory_table.core.defaults import JUDGE, LAYER
from ivory_table.core.face import stuck_words
from ivory_table.core.offset import StoredChange, direction_words
from ivory_table.core.proof import ProofChoice, ProofPlan
from ivory_table.core.signs import SIGNS, Sign, SignId
from ivory_table.core.value import Value
from ivory_table.core.zones_sound import Part, parts
from ivory_table.runs.mesh_in_use import mesh_unseen
from ivory_table.runs.proof import ProofRun, Wanted
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState
from ivory_table.stations.asked import Caution, cautions, grip_here
from ivory_table.stations.first_layer.doing import NextStep, Printing, printing_of, whole_plate
from ivory_table.stations.first_layer.files import plan_of, program_for
from ivory_table.stations.first_layer.proposals import Proposal, proposals
from ivory_table.stations.first_layer.step import feed_first, left_as_it_is, look_before, next_steps
from ivory_table.stations.head import StationView, so_far
from ivory_table.stations.sheet import Figure, Sheet, height_field, sheet_of
from ivory_table.stations.stored.wanted import with_nudges_stored


class ZoneView(Value):
    """One zone: what was seen, the gap believed there, and what that means."""

    name: str
    x_mm: float
    y_mm: float
    grade: Grade | None
    caliper_mm: float | None
    greasy: bool
    signs: tuple[SignId, ...]
    short_mm: float | None
    foot_mm: float | None
    #: A ladder's step that did not hold and close, as was said of all of them before the first that did.
    open: bool
    skipped: bool
    #: The chance that grease, and not its height, spoils it.
    p_greasy: float
    #: Laid so much further from the plate than the nozzle runs; of a ladder's steps.
    away_mm: float
    gap_mm: float
    sd_mm: float
    error_mm: float
    p_sound: float
    sound: bool
    known: bool
    verdict: str
    swatch: Swatch


class LiveChange(Value):
    """A change of height made while it printed, and not stored: what storing it would be."""

    away_mm: float
    words: str
    merge: StoredChange


class FeedView(Value):
    """What is known of the feed: measured or not, and the correction that would make it right."""

    asked_mm: float
    flow: float
    flow_sd: float
    #: How much more goes in than was commanded, as it was measured; None before that.
    off: float | None
    #: Nobody has measured it on this machine with this filament; it is asked for before anything is printed.
    unknown: bool
    #: When it was measured in an earlier run with this filament, where it was.
    known_at: AwareDatetime | None
    #: So many times as many steps for a mm, where it is off by more than is left as it is.
    times: float | None


class EyeView(Value):
    """How well the person's eye is known."""

    words: str
    scatter_mm: float
    habit_mm: float
    habit_sd_mm: float
    marks: int
    #: How promises of sound zones were kept so far; empty while there are few.
    kept: str


class FirstLayerView(StationView):
    sheet: Sheet
    cautions: tuple[Caution, ...]
    step: Literal["print", "judge", "decide", "print_again", "done"]
    proof_number: int
    plan: ProofPlan
    patch_mm: float
    minutes: float
    filament_mm: float
    zones: tuple[ZoneView, ...]
    next_zone: int | None
    cards: tuple[GradeCard, ...]
    sound_from_mm: float
    sound_to_mm: float
    target_mm: float
    target_swatch: Swatch
    parts: tuple[Part, ...]
    steps: tuple[NextStep, ...]
    live: LiveChange | None
    #: Why nobody knows yet that the machine follows the mesh in use; empty where it was seen, or none is.
    mesh_unseen: str
    #: Done by what is known: something was moved since the last proof, and how it stands now was not printed.
    unseen: bool
    #: Nothing better is known than to leave it, though it is not likely enough sound to be called done.
    left: bool
    #: Said once it is done: what the zones do not say of the plate between them.
    whole_plate: str
    #: Signs that can be told of a zone beside its grade, the causes that are likely, and what is known of feed and eye.
    signs: tuple[Sign, ...]
    causes: tuple[CauseShown, ...]
    #: What two rows of patches side by side say; empty for another proof.
    beside: str
    #: What to do with what would not come off; empty where nobody said that.
    stuck: str
    #: What to look at before the best next step is done; None where no look would tell more.
    look: LookFirst | None
    feed: FeedView
    eye: EyeView
    #: What else could be printed; shown before a print.
    proposals: tuple[Proposal, ...]
    #: Whether a caliper is at hand; None while nobody has said.
    caliper: bool | None
    #: Zones that were laid; fewer than planned where it was cut off.
    printed: int
    #: Said of a first layer that was chosen, and is not the usual one; else empty.
    layer_words: str
    #: Of the proof that is to be printed, or was.
    printing: Printing


def _layer_words(run: OpenRun) -> str:
    layer, known = run.state.layer_chosen, run.setup.layer
    if layer is None or layer == Bead.usual(run.setup.machine.nozzle_mm):
        return ""
    since = f", as chosen on {known.at:%Y-%m-%d}" if known is not None and known.bead == layer else ""
    return f"Not the usual first layer: {layer.layer_mm:.2f} mm{since}. Parts are printed so as well."


def view(run: OpenRun, choice: ProofChoice = "advised") -> FirstLayerView:
    state, setup = run.state, run.setup
    open_proof = state.open_proof
    begun = open_proof is not None
    # The proof that is judged; or, before it is printed, the one that would be.
    laid = open_proof.plan if open_proof else plan_of(run, choice)
    looking = open_proof or _closed(state, laid)
    field = state.zone_field(open_proof) if open_proof else state.foreseen(laid)
    gaps, sds = field.gaps
    bead = laid.bead
    low, high = bead.bands_mm()["sound"]
    target = bead.target_mm(setup.filament.material)
    light = setup.filament.light_mm
    zones = tuple(
        _zone(looking, k, float(gaps[k]), float(sds[k]), (low, high), target, light, float(field.greasy[k]))
        for k in range(len(laid.zones))
    )
    judged = len(looking.marks)
    next_zone = looking.next_zone
    steps = next_steps(run)
    step: Literal["print", "judge", "decide", "print_again", "done"] = "print"
    if not begun:
        step = "done" if steps and steps[0].action.kind == "done" else "print_again" if state.proofs else "print"
    elif next_zone is not None:
        step = "judge"
    else:
        step = "done" if steps and steps[0].action.kind == "done" else "decide"
    made = program_for(run, laid, run.manner)
    newest = open_proof or (state.proofs[-1] if state.proofs else ProofRun(laid))
    last = newest.zones_sound
    chance = steps[0].action.p_all_sound if steps else None
    surface = height_field(
        state.with_marks(),
        after_mesh=state.mesh_on,
        level_mm=laid.layer_mm - target,
        tol_mm=min(target - low, high - target),
        against=f"a gap of {target:.3f} mm",
    )
    return FirstLayerView(
        **so_far(run),
        sheet=sheet_of(
            state,
            surface,
            figures=(
                *((Figure(name="Sound zones", value=str(last[0]), unit=f"of {last[1]}"),) if last else ()),
                Figure(name="All sound, if done", value=f"{chance:.0%}" if chance is not None else "–"),
            ),
        ),
        cautions=cautions(run, "first_layer"),
        step=step,
        proof_number=max(len(state.proofs), 1),
        plan=laid,
        patch_mm=laid.patch_mm,
        minutes=made.minutes,
        filament_mm=made.filament_mm,
        zones=zones,
        next_zone=next_zone,
        cards=grade_cards(bead, light),
        sound_from_mm=low,
        sound_to_mm=high,
        target_mm=target,
        target_swatch=swatch(bead, target, light),
        parts=_parts(state.wanted, target) if state.proofs else (),
        steps=steps,
        live=_live(run),
        mesh_unseen=mesh_unseen(state),
        unseen=step == "done" and not begun,
        left=left_as_it_is(run) is not None,
        whole_plate=whole_plate(run) if step == "done" else "",
        signs=SIGNS,
        causes=shown(field.shared) if begun and judged else (),
        beside=beside_words(laid, looking.marks, setup.filament.name) if begun else "",
        stuck=stuck_words(grip_here(run)) if any("holds_hard" in m.signs for m in looking.marks.values()) else "",
        look=look_before(run) if step in ("decide", "done") else None,
        feed=_feed(run),
        eye=_eye(state, bead),
        proposals=() if begun else proposals(run, choice),
        caliper=state.caliper,
        printed=looking.zones_laid,
        layer_words=_layer_words(run),
        printing=printing_of(run, laid),
    )


def _parts(wanted: Wanted, target: float) -> tuple[Part, ...]:
    """What the wanted zones' error is made of, whatever was printed last."""
    gaps = wanted.field.gaps[0]
    return parts(gaps - target, wanted.field.cov[: len(gaps), : len(gaps)], wanted.plan.places)


def _closed(state: RunState, laid: ProofPlan) -> ProofRun:
    """The newest proof as it was judged, where the same is printed again; else one that nobody has looked at."""
    newest = state.proofs[-1] if state.proofs else None
    return newest if newest is not None and newest.plan == laid else ProofRun(laid)


def feed_times(state: RunState) -> float | None:
    """So many times as many steps for a mm make the measured feed right; None where it was not measured, or is right."""
    return 1 / (1 + state.feed_off) if state.fed and abs(state.feed_off) > LAYER.feed.within else None


def _feed(run: OpenRun) -> FeedView:
    state = run.state
    belief = state.with_marks().belief
    mean, sd = belief.of(belief.surface.unit(belief.surface.extrusion)[None])
    earlier = run.setup.feed if not state.fed else None
    off = state.feed_off if state.fed else earlier.off if earlier else None
    return FeedView(
        asked_mm=LAYER.feed.commanded_mm,
        flow=float(mean[0]),
        flow_sd=float(sd[0]),
        off=off,
        unknown=feed_first(run),
        known_at=earlier.at if earlier else None,
        times=feed_times(state),
    )


def _eye(state: RunState, bead: Bead) -> EyeView:
    eye = state.with_marks().eye
    h = bead.layer_mm
    if eye.marks < LAYER.measured.few_marks:
        words = "too few patches judged to say"
    else:
        words = f"your grades scatter by ±{eye.scatter * h:.3f} mm"
        if abs(eye.habit) > 2 * eye.habit_sd:
            words += (
                f" and run {abs(eye.habit) * h:.3f} mm too {'far' if eye.habit > 0 else 'close'} against the caliper"
            )
    kept = ""
    if eye.foretold >= LAYER.measured.few_promises:
        kept = f"{eye.promised / eye.foretold:.0%} of the zones of {eye.foretold} proofs were promised to look sound, {eye.came / eye.foretold:.0%} did"
        if eye.trust < 0.95:
            kept += f"; promises are given as {eye.trust:.0%} of what is computed"
    return EyeView(
        words=words,
        scatter_mm=eye.scatter * h,
        habit_mm=eye.habit * h,
        habit_sd_mm=eye.habit_sd * h,
        marks=eye.marks,
        kept=kept,
    )


def _live(run: OpenRun) -> LiveChange | None:
    state = run.state
    if abs(state.nudged_mm) < 5e-4:
        return None
    merge = with_nudges_stored(state, run.manner)
    return LiveChange(away_mm=state.nudged_mm, words=direction_words(state.nudged_mm), merge=merge)


def _zone(
    proof: ProofRun,
    k: int,
    gap: float,
    sd: float,
    sound: tuple[float, float],
    target: float,
    light: float,
    p_greasy: float,
) -> ZoneView:
    zone, mark = proof.plan.zones[k], proof.marks.get(k)
    # One patch of several tells of its zone as the nozzle runs, not as it was laid itself.
    laid_gap, gap = gap, gap - zone.away_mm if zone.patch_of else gap
    p_sound = float(ndtr((sound[1] - gap) / sd) - ndtr((sound[0] - gap) / sd))
    sound_enough = p_sound >= JUDGE.zone_sound_at
    if mark and (mark.greasy or p_greasy > 0.5):
        verdict = "clean this zone"
    elif sound_enough:
        verdict = "sound"
    elif gap > target:
        verdict = f"{gap - target:.2f} mm too far" if sd < 0.05 else "not known well"
    else:
        verdict = f"{target - gap:.2f} mm too close" if sd < 0.05 else "not known well"
    return ZoneView(
        name=zone.name,
        x_mm=zone.x_mm,
        y_mm=zone.y_mm,
        grade=mark.grade if mark else None,
        caliper_mm=mark.caliper_mm if mark else None,
        greasy=bool(mark and mark.greasy),
        signs=mark.signs if mark else (),
        short_mm=mark.short_mm if mark else None,
        foot_mm=mark.foot_mm if mark else None,
        open=bool(mark and mark.open),
        skipped=k in proof.skipped,
        p_greasy=p_greasy,
        away_mm=zone.away_mm,
        gap_mm=laid_gap,
        sd_mm=sd,
        error_mm=gap - target,
        p_sound=p_sound,
        sound=sound_enough,
        known=mark is not None or sd <= JUDGE.zone_known_mm,
        verdict=verdict,
        swatch=swatch(proof.plan.bead, laid_gap, light),
    )
