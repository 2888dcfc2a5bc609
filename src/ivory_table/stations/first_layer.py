"""First layer: the proof as a program, its zones judged, and the best next action."""

from dataclasses import replace
from typing import Literal

import numpy as np
from scipy.special import ndtr

from ivory_table.core.bead import Grade, GradeCard, Swatch, grade_cards, swatch
from ivory_table.core.defaults import JUDGE, TRAM
from ivory_table.core.entries import Judged, ProofStarted
from ivory_table.core.judge import Action, Before, FieldPosterior, Mark, Part, next_actions, parts
from ivory_table.core.laying import Program
from ivory_table.core.manner import Manner
from ivory_table.core.mesh import neighbour_of
from ivory_table.core.offset import StoredChange, convention, stored_after
from ivory_table.core.proof import ProofPlan, ZoneCount, plan, program
from ivory_table.core.run import ProofRun, RunState
from ivory_table.core.value import Array, Value

from .desk import Desk, OpenRun, Refused
from .head import Caution, RunHead, cautions, head_of
from .sheet import Figure, Sheet, height_field, sheet_of
from .tram import Turn


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


class NextStep(Value):
    """An action with what it needs to be done: the new stored value, or the turns."""

    action: Action
    words: str
    stored: StoredChange | None = None
    turns: tuple[Turn, ...] = ()
    #: The mesh point to measure again and the neighbour it is measured against, as (column, row).
    mesh_point: tuple[int, int] | None = None
    neighbour: tuple[int, int] | None = None


class FirstLayerView(Value):
    head: RunHead
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


def view(run: OpenRun, zone_count: ZoneCount = 5) -> FirstLayerView:
    state, setup = run.state, run.setup
    proof = state.proofs[-1] if state.proofs else None
    laid = proof.plan if proof else plan(setup.machine, setup.plate, setup.filament, zone_count)
    looking = proof or ProofRun(laid)
    open_proof = looking if not looking.closed else ProofRun(laid)
    field = state.zone_field(open_proof)
    gaps, sds = field.gaps
    bead = laid.bead
    low, high = bead.bands_mm()["sound"]
    target = bead.target_mm(setup.filament.material)
    zones = tuple(_zone(looking, k, float(gaps[k]), float(sds[k]), (low, high), target) for k in range(len(laid.zones)))
    judged = len(looking.marks)
    laid_zones = len(zones) if looking.printed is None else looking.printed
    next_zone = next((k for k in range(laid_zones) if k not in looking.marks), None)
    steps = next_steps(run)
    step: Literal["print", "judge", "decide", "print_again", "done"] = "print"
    if proof and proof.closed:
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
        head=head_of(run),
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
        cards=grade_cards(bead),
        sound_from_mm=low,
        sound_to_mm=high,
        target_mm=target,
        target_swatch=swatch(bead, target),
        parts=parts(gaps - target, field.cov[: len(gaps), : len(gaps)], laid.places),
        steps=steps,
    )


def next_steps(run: OpenRun) -> tuple[NextStep, ...]:
    """The ranked steps after the marks on the newest proof; none before its first mark."""
    state = run.state
    proof = state.proofs[-1] if state.proofs else None
    if proof is None or proof.closed or not proof.marks:
        return ()
    # A cleaned zone asks for a new print, not for cleaning again.
    asked = tuple(replace(m, greasy=False, grade=None) if m.zone in proof.cleaned else m for m in proof.marks.values())
    judged = state.judged(proof)
    before = Before(
        shift_mm=proof.came_by_shift_mm or None,
        turns=proof.came_by_turns,
        repeats=proof.repeats,
        proofs=len(state.proofs),
        measured=frozenset(
            k for k in range(len(proof.plan.zones)) if mesh_point_at(state, proof, k) in state.measured_again
        ),
    )
    return _steps(run, field_actions(state, judged.field, asked, proof.plan, run.setup.filament.material, before))


def mesh_point_at(state: RunState, proof: ProofRun, zone: int) -> tuple[int, int] | None:
    """(column, row) of the kept mesh's point nearest to a zone."""
    if state.mesh is None:
        return None
    grid, at = state.mesh.grid, proof.plan.zones[zone]
    column = int(np.argmin(np.abs(np.array(grid.xs_mm) - at.x_mm)))
    return column, int(np.argmin(np.abs(np.array(grid.ys_mm) - at.y_mm)))


def field_actions(
    state: RunState,
    field: FieldPosterior,
    marks: tuple[Mark, ...],
    laid: ProofPlan,
    material: str,
    before: Before | None = None,
) -> tuple[Action, ...]:
    """The ranked actions for a judged proof."""
    moves, mark_mm = _knob_moves(state, laid)
    probe = state.setup.machine.probe
    return next_actions(
        field,
        laid.bead,
        material,
        marks,
        z_step_mm=state.setup.machine.z_step_mm,
        knob_moves=moves,
        mark_mm=mark_mm,
        mesh_in_use=state.mesh_on,
        can_mesh=state.setup.machine.can_mesh,
        reading_sd_mm=float(np.hypot(probe.sd_mm if probe else state.setup.feel.drag_sd_mm, TRAM.local_sd_mm)),
        before=before,
    )


def _knob_moves(state: RunState, laid: ProofPlan) -> tuple[Array | None, Array | None]:
    """(z, m) mm the gap shrinks per mark of each knob, and (m,) mm per mark at the support."""
    if not state.screws:
        return None, None
    belief = state.belief
    mark = np.array([s.mm_per_mark * s.sense for s in state.screws])
    passes = np.tensordot(belief.weight, belief.passes, axes=1)
    return belief.surface.weights(laid.places) @ passes * mark, np.abs(mark)


def _zone(proof: ProofRun, k: int, gap: float, sd: float, sound: tuple[float, float], target: float) -> ZoneView:
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
        swatch=swatch(proof.plan.bead, gap),
    )


def _steps(run: OpenRun, actions: tuple[Action, ...]) -> tuple[NextStep, ...]:
    machine, state = run.setup.machine, run.state
    how = convention(machine.convention, run.manner)
    zones = state.proofs[-1].plan.zones
    out = []
    for action in actions:
        stored: StoredChange | None = None
        turns: tuple[Turn, ...] = ()
        if action.shift_mm is not None:
            stored = stored_after(state.stored_mm, action.shift_mm, how, machine.z_step_mm)
        if action.kind == "knobs" and action.marks is not None:
            turns = tuple(Turn.of(s, m) for s, m in zip(state.screws, action.marks, strict=True))
        zone = zones[action.zone].name if action.zone is not None else ""
        words = {
            "done": "Every zone is sound. Sign off.",
            "offset": f"Bring the nozzle {stored.words}." if stored else "",
            "knobs": f"Turn these knobs, then bring the nozzle {stored.words}." if stored else "Turn these knobs.",
            "mesh": "Measure a mesh and use it.",
            "measure": f"Measure the mesh point at {zone} again, beside a neighbour.",
            "clean": f"Clean {zone}, do not change the height.",
            "print_again": "Print the same proof again.",
        }[action.kind]
        if action.kind == "done" and action.p_all_sound < JUDGE.done_at:
            words = (
                f"Leave it: every zone is sound with {action.p_all_sound:.0%}, and nothing is expected to better that."
            )
        if action.whole_plate:
            words = "Clean the whole plate, look at its temperature and whether the last offset was stored. Then print the same again."
        elif action.clean and action.kind not in ("clean", "done", "print_again"):
            names = " and ".join(zones[k].name for k in action.clean)
            words = f"Clean {names}, and in the same go: {words[0].lower()}{words[1:]}"
        point = neighbour = None
        if action.kind == "measure" and action.zone is not None and state.mesh is not None:
            point = mesh_point_at(state, state.proofs[-1], action.zone)
            neighbour = neighbour_of(state.mesh, *point) if point else None
        out.append(
            NextStep(action=action, words=words, stored=stored, turns=turns, mesh_point=point, neighbour=neighbour)
        )
    return tuple(out)


def program_for(run: OpenRun, laid: ProofPlan, manner: Manner) -> Program:
    """The program of a proof in a machine's words. Raises Refused when it does not fit the plate."""
    setup, state = run.setup, run.state
    try:
        return program(state.machine_now, setup.plate, setup.filament, laid, mesh_on=state.mesh_on, manner=manner)
    except ValueError as wrong:
        raise Refused("proof_does_not_fit", str(wrong), "plan") from None


def proof_file(run: OpenRun, zone_count: ZoneCount) -> tuple[str, str]:
    """(file name, program) of the proof at hand."""
    state, setup = run.state, run.setup
    laid = state.proofs[-1].plan if state.proofs else plan(setup.machine, setup.plate, setup.filament, zone_count)
    name = f"proof-{setup.machine.id}-{len(laid.zones)}-zones.gcode"
    return name, program_for(run, laid, run.manner).text


def proof_again(run: OpenRun) -> ProofStarted:
    """The newest proof printed once more, as it was."""
    return ProofStarted(proof=run.state.proofs[-1].plan)


def practice(desk: Desk, run: OpenRun, zone_count: ZoneCount) -> ProofStarted | Judged:
    """The practice plate's answer: a print, or the look of the next patch."""
    state = run.state
    if not state.proofs or state.proofs[-1].closed:
        desk.hands(run)
        return ProofStarted(proof=plan(run.setup.machine, run.setup.plate, run.setup.filament, zone_count))
    proof = state.proofs[-1]
    laid_zones = len(proof.plan.zones) if proof.printed is None else proof.printed
    zone = next((k for k in range(laid_zones) if k not in proof.marks), None)
    if zone is None:
        raise Refused("nothing_to_read", "Every zone of this proof has been judged.")
    look = desk.hands(run).print_zone(proof.plan, zone)
    return Judged(zone=zone, grade=look.grade, caliper_mm=look.caliper_mm, greasy=look.greasy)
