"""First layer: the proof as a program, its zones judged, and the best next action."""

from typing import Literal

from scipy.special import ndtr

from ivory_table.core.bead import Grade, GradeCard, Swatch, grade_cards, swatch
from ivory_table.core.defaults import JUDGE
from ivory_table.core.judge import Part, parts
from ivory_table.core.offset import StoredChange, direction_words
from ivory_table.core.proof import ProofPlan, ZoneCount
from ivory_table.core.value import Value
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.run import OpenRun
from ivory_table.stations.asked import Caution, cautions
from ivory_table.stations.first_layer.files import program_for
from ivory_table.stations.first_layer.step import NextStep, next_steps
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


def view(run: OpenRun, zone_count: ZoneCount = 5) -> FirstLayerView:
    state, setup = run.state, run.setup
    proof = state.proofs[-1] if state.proofs else None
    laid = proof.plan if proof else state.first_proof(zone_count)
    looking = proof or ProofRun(laid)
    open_proof = state.open_proof or ProofRun(laid)
    field = state.zone_field(open_proof)
    gaps, sds = field.gaps
    bead = laid.bead
    low, high = bead.bands_mm()["sound"]
    target = bead.target_mm(setup.filament.material)
    light = setup.filament.light_mm
    zones = tuple(
        _zone(looking, k, float(gaps[k]), float(sds[k]), (low, high), target, light) for k in range(len(laid.zones))
    )
    judged = len(looking.marks)
    laid_zones = len(zones) if looking.printed is None else looking.printed
    next_zone = next((k for k in range(laid_zones) if k not in looking.marks), None)
    steps = next_steps(run)
    step: Literal["print", "judge", "decide", "print_again", "done"] = "print"
    if proof and state.open_proof is None:
        step = "print_again"
    elif proof and next_zone is not None:
        step = "judge"
    elif proof:
        step = "done" if steps and steps[0].action.kind == "done" else "decide"
    made = program_for(run, laid, run.manner)
    sound = sum(1 for z in zones if z.grade == "sound")
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
                Figure(name="Sound zones", value=str(sound), unit=f"of {judged} judged"),
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
        parts=parts(gaps - target, field.cov[: len(gaps), : len(gaps)], laid.places),
        steps=steps,
        live=_live(run),
        mesh_unseen=state.mesh_unseen,
    )


def _live(run: OpenRun) -> LiveChange | None:
    state = run.state
    if abs(state.nudged_mm) < 5e-4:
        return None
    merge = with_nudges_stored(state, run.manner)
    return LiveChange(away_mm=state.nudged_mm, words=direction_words(state.nudged_mm), merge=merge)


def _zone(
    proof: ProofRun, k: int, gap: float, sd: float, sound: tuple[float, float], target: float, light: float
) -> ZoneView:
    zone, mark = proof.plan.zones[k], proof.marks.get(k)
    p_sound = float(ndtr((sound[1] - gap) / sd) - ndtr((sound[0] - gap) / sd))
    sound_enough = p_sound >= JUDGE.zone_sound_at
    if mark and mark.greasy:
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
        gap_mm=gap,
        sd_mm=sd,
        error_mm=gap - target,
        p_sound=p_sound,
        sound=sound_enough,
        known=mark is not None or sd <= JUDGE.zone_known_mm,
        verdict=verdict,
        swatch=swatch(proof.plan.bead, gap, light),
    )
