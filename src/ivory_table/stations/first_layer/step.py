"""What to do after the grades on a proof: the ranked steps."""

import numpy as np

from ivory_table.core.action import Action, ActionKind, Before
from ivory_table.core.causes import LookFirst, look_first
from ivory_table.core.defaults import JUDGE, LAYER, TRAM
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.form_actions import shim, wait_for_heat
from ivory_table.core.judge import next_actions
from ivory_table.core.proof import ProofPlan
from ivory_table.core.recipe import forgiving_layers
from ivory_table.core.signs import Mark
from ivory_table.core.thermal import settling
from ivory_table.core.value import Array
from ivory_table.core.zones_sound import chance_sound
from ivory_table.runs.proof import ProofRun, Wanted
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.standing import ended
from ivory_table.runs.state import RunState
from ivory_table.stations.first_layer.doing import (
    NextStep,
    area_left,
    as_steps,
    cleaned_alone,
    end_of,
    mesh_point_at,
    proof_begun_by,
)
from ivory_table.stations.first_layer.state import LeftAs, LookedFor


def feed_settled(state: RunState) -> bool:
    """Whether the feed was measured or looked at in this run, or cannot be."""
    return state.fed or state.rule is False or state.checks.get("extrusion_right") == "done"


def feed_unknown(run: OpenRun) -> bool:
    """Whether nobody has ever measured the feed on this machine with this filament."""
    return run.setup.feed_remembered and run.setup.feed is None and not feed_settled(run.state)


def feed_first(run: OpenRun) -> bool:
    """Whether the feed is to be measured before anything is printed."""
    return feed_unknown(run) and not run.state.proofs


@once_per_state
def look_before(run: OpenRun) -> LookFirst | None:
    """What to look at before the best next step is done: where it is open what all zones share."""
    steps, state = next_steps(run), run.state
    if not steps or steps[0].action.kind in ("done", "stop_here"):
        return None
    mended = state.open_proof.mended if state.open_proof else frozenset()
    return look_first(state.wanted.field.shared, LookedFor.of(state).causes | mended)


@once_per_state
def next_steps(run: OpenRun) -> tuple[NextStep, ...]:
    """The ranked steps after the marks on the newest proof, or once something was moved so that no other is needed."""
    state = run.state
    proof = state.open_proof
    if state.sound_unseen is not None:
        return as_steps(run, _done_unseen(state.sound_unseen), state.wanted)
    if proof is None or (not proof.marks and proof.next_zone is not None):
        return ()
    wanted = state.wanted
    if not proof.marks:
        return as_steps(run, (_not_judged(state, proof),), wanted)
    left = LeftAs.now(state)
    before = Before(
        shift_mm=proof.came_by_shift_mm or None,
        turns=proof.came_by_turns,
        repeats=proof.repeats,
        proofs=sum(bool(p.marks) for p in state.proofs),
        measured=frozenset(
            k for k in range(len(wanted.plan.zones)) if mesh_point_at(state, wanted.plan, k) in state.measured_again
        ),
        caliper=state.caliper,
        to_measure=_to_measure(proof, wanted),
        calipered=len(proof.calipered),
        mesh_of_old=state.mesh is not None and state.mesh is run.setup.mesh,
        fed=feed_settled(state),
        feed_unknown=feed_unknown(run),
        judged=wanted.judged,
        fallen=proof.fallen,
        mended_in_vain=_mended_in_vain(state),
        # Asked for only once all of it was looked at.
        apart_mm=_apart_mm(state) if wanted.all_judged else 0.0,
        several_heights=proof.plan.kind == "three_heights",
        trust=state.eye.trust,
        height_unknown=state.height_unknown and (proof.plan.kind != "ladder" or proof.cut_off),
        tram=ended(run, "tram"),
    )
    # What was cleaned or mended is printed again first.
    actions = field_actions(state, wanted.field, wanted.marks, wanted.plan, run.setup.filament.material, before)
    if proof.cleaned or proof.mended:
        in_vain = bool(proof.mended and before.mended_in_vain and proof.fallen)
        again = _again(state, proof, actions, in_vain=in_vain)
        actions = (again, *(a for a in actions if a.kind in ("offset", "knobs")))
    steps = as_steps(run, _with_form(run, actions, wanted), wanted)
    if left is None:
        return steps
    signing = next((s for s in steps if s.action.kind == "stop_here"), None)
    if signing is None:
        return steps
    words = f"Sign off: it is left for parts within {left.words}."
    to, does = end_of(state)
    first = signing.model_copy(update={"words": words, "keeps": (), "leads_to": to, "does": does})
    return (first, *(s for s in steps if s is not signing))


def left_as_it_is(run: OpenRun) -> float | None:
    """The chance that every zone is sound, where the plate is left though that is not likely enough for done; else None."""
    state = run.state
    proof = state.open_proof
    # Only what was seen again, or for long enough, is left: nothing is worked out for it while a proof is being judged.
    if proof is None or len(proof.marks) + len(proof.skipped) < len(proof.plan.zones) or state.proof_done:
        return None
    if proof.repeats < JUDGE.repeats_at_most and len(state.proofs) < JUDGE.proofs_at_most:
        return None
    first = next_steps(run)[0] if run.setup.causes_considered else None
    return first.action.p_all_sound if first is not None and first.action.kind == "done" else None


def mesh_may_come(state: RunState) -> bool:
    """Whether a mesh is worth advising: the machine follows one, and nobody would rather do without.

    Whoever prints the same again and again where one was advised has said so too.
    """
    passed_over = bool(state.proofs) and state.proofs[-1].repeats >= JUDGE.mesh_passed_over
    return state.setup.machine.can_mesh and not state.mesh_declined and not passed_over


def next_proof_advised(run: OpenRun, kind: ActionKind | None = None) -> ProofPlan | None:
    """The proof that the best next step prints, or the best one of a kind; None where it prints nothing."""
    step = next((s for s in next_steps(run) if kind in (None, s.action.kind)), None)
    return proof_begun_by(step.keeps) if step else None


def _mended_in_vain(state: RunState) -> frozenset[str]:
    """Causes that were mended before the newest proof, since the last ladder."""
    last = max((k for k, p in enumerate(state.proofs) if p.plan.kind == "ladder"), default=-1)
    return frozenset[str]().union(*(p.mended for p in state.proofs[last + 1 : -1]))


def _to_measure(proof: ProofRun, wanted: Wanted) -> dict[int, int]:
    """By wanted zone its patch on the newest proof that a caliper can measure; of several of a zone the closest one that is fused."""
    places = wanted.plan.zone_places
    found: dict[int, int] = {}
    for k, mark in sorted(proof.marks.items(), reverse=True):
        if mark.to_measure and (place := proof.plan.zone_places[k]) in places:
            found[places.index(place)] = k
    return {zone: k for zone, k in found.items() if places[zone] not in proof.calipered}


def _apart_mm(state: RunState) -> float:
    """How far from the nozzle's height the next print lays the outer patches of each zone; 0 where it lays whole ones."""
    return float(state.three_heights.away_mm.max()) if state.three_heights is not None else 0.0


def _done_unseen(p: float) -> tuple[Action, ...]:
    """Nothing more to print after a move that surely leaves all zones sound; or print it, to see that."""
    minutes = JUDGE.minutes
    reason = (
        f"the last proof held everywhere, and what was moved since leaves every zone sound with {p:.0%}. One more print takes "
        f"{minutes.proof:.0f} minutes and would find something in {100 * (1 - p):.0f} of 100 cases; the parts' own first layer shows it as well"
    )
    done = Action(kind="done", p_all_sound=p, minutes=0.0, total_minutes=(1 - p) * minutes.failed, reason=reason)
    again = Action(
        kind="print_again",
        p_all_sound=p,
        minutes=minutes.proof,
        total_minutes=minutes.proof + (1 - p) * minutes.proof + minutes.at_last,
        proofs_left=1.0,
        reason=reason,
    )
    return tuple(sorted((done, again), key=lambda a: a.total_minutes))


def _with_form(run: OpenRun, actions: tuple[Action, ...], wanted: Wanted) -> tuple[Action, ...]:
    """The plate's form itself: heat that still moves it comes first, a shim where little else helps comes last."""
    state, field, bead = run.state, wanted.field, wanted.plan.bead
    leaves = bool(actions) and actions[0].leaves
    if not leaves and any(a.kind == "done" for a in actions[:1]):
        return actions
    waits = None if leaves else _wait_for_heat(run, wanted)
    machine = run.setup.machine
    # A mesh evens out what a shim would, and nobody shims what was not looked at.
    evens = wanted.all_judged and (state.mesh_on or not mesh_may_come(state))
    shims = (
        shim(
            field,
            bead,
            wanted.plan.places,
            machine.z_step_mm,
            bead.target_mm(run.setup.filament.material),
            knobs=bool(state.screws),
            so_far=max((a.p_all_sound for a in actions if a.kind not in _LATER), default=0.0),
        )
        if evens
        else None
    )
    stops = _stop_here(run, wanted, actions)
    again = bool(actions) and actions[0].kind == "print_again" and state.proofs[-1].repeats >= JUDGE.repeats_at_most
    if shims is not None and again and shims.p_all_sound >= JUDGE.done_at:
        # Another print of the same would not bring the zones nearer to one another.
        actions, shims = (shims, *actions), None
    return (*((waits,) if waits else ()), *actions, *((shims,) if shims else ()), *((stops,) if stops else ()))


def _stop_here(run: OpenRun, wanted: Wanted, actions: tuple[Action, ...]) -> Action | None:
    """Good enough for what is printed: a part of the plate in which every place is sound, where not all of it is.

    Nothing is left for a plate that something else than the height keeps from holding.
    """
    if not wanted.all_judged or any(a.kind in ("clean", "remedy") for a in actions):
        return None
    area = area_left(run)
    if area is None:
        return None
    return Action(
        kind="stop_here",
        p_all_sound=area.p,
        minutes=0.0,
        total_minutes=(1 - area.p) * JUDGE.minutes.failed,
        reason=f"within {area.words} every place is sound with {area.p:.0%}: enough for parts that lie there, and no print more",
    )


#: What these bring is seen only once they are done.
_LATER = ("mesh", "tram", "print_again", "patches", "ladder", "feed", "caliper", "settings")


def _wait_for_heat(run: OpenRun, wanted: Wanted) -> Action | None:
    """Where the newest proof was judged on a plate that was not still yet."""
    state = run.state
    found = settling(state.study) if state.study is not None else None
    if found is None or state.heated is None or state.study is None:
        return None
    held = (run.entries[-1].at - state.heated.held_since).total_seconds() / 60
    to_come = found.still_to_come_mm(max(held, 0.0))
    rise = to_come * state.belief.surface.bow(wanted.plan.places)
    return wait_for_heat(wanted.field, wanted.plan.bead, rise, found.settled_after_min - held)


def _not_judged(state: RunState, proof: ProofRun) -> Action:
    """The same print again where nothing of it was laid, or nobody judged what was."""
    return Action(
        kind="ladder" if proof.plan.kind == "ladder" else "print_again",
        p_all_sound=state.eye.trust * chance_sound(state.wanted.field, state.wanted.plan.bead),
        minutes=JUDGE.minutes.proof,
        total_minutes=JUDGE.minutes.proof,
        proofs_left=1.0,
        reason="nothing of the newest proof was judged, so nothing more is known than before it",
    )


def _again(state: RunState, proof: ProofRun, actions: tuple[Action, ...], *, in_vain: bool) -> Action:
    """The same proof again, once something was cleaned or mended; a ladder where that was done `in_vain` before, since it tells as
    well whether it is the height."""
    what = [f"zone {k + 1} was cleaned" for k in sorted(proof.cleaned)]
    what += [LAYER.causes[name].remedy for name in sorted(proof.mended)]
    now, done = max((a.p_all_sound for a in actions), default=0.0), "; ".join(what)
    if in_vain:
        return Action(
            kind="ladder",
            p_all_sound=now,
            minutes=JUDGE.minutes.proof,
            total_minutes=2 * JUDGE.minutes.proof + JUDGE.minutes.offset,
            proofs_left=2.0,
            reason=f"{done}. What was mended before was in vain, so patches that come closer one by one are printed: they tell whether it "
            "was that, or the height",
        )
    alone = cleaned_alone(state)
    minutes = JUDGE.minutes.proof * (len(alone.zones) / len(proof.plan.zones) if alone else 1.0)
    return Action(
        kind="print_again",
        p_all_sound=now,
        minutes=minutes,
        total_minutes=minutes,
        proofs_left=1.0,
        reason=f"{done}: only the next print shows whether that was it",
    )


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
    probe, nozzle = state.setup.machine.probe, state.setup.machine.nozzle_mm
    return next_actions(
        field,
        laid.bead,
        material,
        marks,
        layers=forgiving_layers(laid.bead, nozzle),
        z_step_mm=state.setup.machine.z_step_mm,
        knob_moves=moves,
        mark_mm=mark_mm,
        mesh_in_use=state.mesh_on,
        can_mesh=mesh_may_come(state),
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
