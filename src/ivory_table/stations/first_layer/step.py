"""What to do after the grades on a proof: the ranked steps."""

from dataclasses import replace
from typing import Annotated

import numpy as np
from pydantic import Field

from ivory_table.core.defaults import JUDGE, TRAM
from ivory_table.core.judge import Action, Before, FieldPosterior, Mark, next_actions
from ivory_table.core.mesh import neighbour_of
from ivory_table.core.offset import StoredChange, convention, stored_after
from ivory_table.core.proof import ProofPlan
from ivory_table.core.value import Array, StationName, Value
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.run import OpenRun, once_per_state
from ivory_table.runs.state import RunState
from ivory_table.stations.first_layer.entries import ProofStarted, ZoneCleaned
from ivory_table.stations.sheet import Turn
from ivory_table.stations.stored.entries import OffsetSet
from ivory_table.stations.turned import TurnedAll

Done = Annotated[ZoneCleaned | TurnedAll | OffsetSet | ProofStarted, Field(discriminator="kind")]


class NextStep(Value):
    """An action with what it needs to be done: the new stored value, or the turns."""

    action: Action
    words: str
    stored: StoredChange | None = None
    turns: tuple[Turn, ...] = ()
    #: What is kept when it was done, in this order; and where it leads, when it is done elsewhere.
    keeps: tuple[Done, ...] = ()
    leads_to: StationName | None = None
    #: What the key that does it says.
    does: str
    #: The mesh point to measure again and the neighbour it is measured against, as (column, row).
    mesh_point: tuple[int, int] | None = None
    neighbour: tuple[int, int] | None = None


@once_per_state
def next_steps(run: OpenRun) -> tuple[NextStep, ...]:
    """The ranked steps after the marks on the newest proof; none before its first mark."""
    state = run.state
    proof = state.open_proof
    if proof is None or not proof.marks:
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


def _steps(run: OpenRun, actions: tuple[Action, ...]) -> tuple[NextStep, ...]:
    machine, state = run.setup.machine, run.state
    how = convention(state.convention_id, run.manner)
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
            NextStep(
                action=action,
                words=words,
                stored=stored,
                turns=turns,
                keeps=_keeps(action, stored, turns, state.proofs[-1].plan),
                leads_to=LEADS_TO.get(action.kind),
                does=DOES[action.kind],
                mesh_point=point,
                neighbour=neighbour,
            )
        )
    return tuple(out)


#: Steps that are done at another station.
LEADS_TO: dict[str, StationName] = {"mesh": "mesh", "measure": "mesh", "done": "sign_off"}
DOES = {
    "done": "Go to Sign off",
    "offset": "Sent, set it",
    "knobs": "Turned",
    "mesh": "Go to Mesh",
    "measure": "Go to Mesh",
    "clean": "Cleaned",
    "print_again": "Printed again",
}


def _keeps(action: Action, stored: StoredChange | None, turns: tuple[Turn, ...], laid: ProofPlan) -> tuple[Done, ...]:
    """The rows of a step that was done, each of its own: cleaned, turned, set."""
    if action.kind == "print_again":
        return (ProofStarted(proof=laid),)
    if action.kind == "clean":
        return () if action.zone is None else (ZoneCleaned(zone=action.zone),)
    if action.kind not in ("offset", "knobs"):
        return ()
    cleaned = tuple(ZoneCleaned(zone=zone) for zone in action.clean)
    turned = (TurnedAll(marks=tuple(t.marks for t in turns)),) if action.kind == "knobs" else ()
    return (*cleaned, *turned, *((OffsetSet(stored_mm=stored.new_mm),) if stored else ()))
