"""A walk that goes on into the first proof: with nobody on the line one file does both.

The screws have just been brought to the drag with the tip at z 0, so the plate lies the gauge's thickness below it: the file
brings the tip closer by that, not stored, and lays patches in five zones.
"""

from ivory_table.core.defaults import JUDGE, OFFSET
from ivory_table.core.manner import Manner
from ivory_table.core.offset import StoredChange, convention, stored_after
from ivory_table.core.proof import ProofPlan, plan
from ivory_table.core.units import filled
from ivory_table.core.value import Value
from ivory_table.program.laying import ascii_only
from ivory_table.program.proof import program
from ivory_table.runs.state import RunState


class ThenProof(Value):
    """What the file does after the walk: the value it sets, and what it prints."""

    stored: StoredChange
    proof: ProofPlan
    minutes: float
    filament_mm: float


def then_proof(state: RunState, manner: Manner) -> tuple[ThenProof, str]:
    """The proof and its lines of G-code, to follow a walk's.

    Raises ValueError where nobody has seen which way the stored value counts, where the machine has no line that sets it,
    and where the patches have no room.
    """
    setup = state.setup
    machine, plate = setup.machine, setup.plate
    how = convention(state.convention_id, manner)
    if not state.sign_proved:
        raise ValueError(
            f"Nobody has seen yet which way the stored value of {machine.name} counts: show it at Z offset first, then the file may go on."
        )
    if not how.set:
        raise ValueError(f"The manner of {machine.name} ({manner.name}) has no line that sets the offset.")
    laid = plan(machine, plate, setup.filament, 5, bead=state.bead)
    stored = stored_after(state.stored_mm, closer_by_mm(state, laid), how, machine.z_step_mm)
    printed = program(
        state.machine_now.model_copy(update={"stored_mm": stored.new_mm}),
        plate,
        setup.filament,
        laid,
        mesh_on=False,
        manner=manner,
    )
    set_line = filled(how.set, stored=stored.new_mm) + f" ; {ascii_only(stored.words)}, for this proof: not stored"
    does = ThenProof(stored=stored, proof=laid, minutes=printed.minutes, filament_mm=printed.filament_mm)
    return does, f"{set_line}\n{printed.text}"


def closer_by_mm(state: RunState, laid: ProofPlan) -> float:
    """How far the nozzle moves for the proof, mm, closer negative: by the gauge, but not so far that it might scrape a bow."""
    places, surface = laid.places, state.belief.surface
    # What rises between the screws, once these stand where the drag is.
    mean, sd = state.belief.of(surface.rows(places) - surface.weights(places) @ surface.rows(surface.anchors))
    highest = float((mean + OFFSET.start_above_sd * sd).max())
    return max(0.0, JUDGE.scrape_mm + highest - laid.layer_mm) - state.drag_gap_mm
