"""What could be printed next: how long it takes, how much filament, and what it would tell."""

from ivory_table.core.proof import PROOF_CHOICES, ProofChoice, ProofPlan
from ivory_table.core.proof_field import expected_sd
from ivory_table.core.value import Value
from ivory_table.program.proof import estimate
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.stations.first_layer.doing import Printing, printing_of
from ivory_table.stations.first_layer.files import plan_of, program_for

NAMES: dict[ProofChoice, str] = {
    5: "five patches: corners and centre",
    9: "nine patches",
    "mesh": "patches at points of the mesh",
    "reversed": "the same patches in reverse order",
    "skirt": "a short skirt around the middle",
    "long_skirt": "a long skirt, two laps, to nudge along",
    "rim": "a loop around the rim",
    "whole": "strips over the whole plate",
    "ladder": "a ladder, closer step by step",
    "three_heights": "each zone at three heights",
    "pair": "two temperatures of the tip side by side",
    "two_filaments": "two filaments side by side",
}


class Proposal(Value):
    """A proof that could be printed."""

    choice: ProofChoice
    name: str
    minutes: float
    filament_mm: float
    #: What all zones share would be known to so many mm after it; now it is known to the other.
    leaves_mm: float
    now_mm: float
    chosen: bool
    advised: bool
    why_not: str = ""


class OtherProof(Value):
    """A proof of another kind than the next step prints, for whoever would rather have that."""

    plan: ProofPlan
    minutes: float
    filament_mm: float
    proposals: tuple[Proposal, ...]
    printing: Printing


def other_proof(run: OpenRun, choice: ProofChoice) -> OtherProof:
    """Raises Refused where it has no room."""
    laid = plan_of(run, choice)
    made = program_for(run, laid, run.manner)
    return OtherProof(
        plan=laid,
        minutes=made.minutes,
        filament_mm=made.filament_mm,
        proposals=proposals(run, choice),
        printing=printing_of(run, laid),
    )


def proposals(run: OpenRun, choice: ProofChoice) -> tuple[Proposal, ...]:
    """Every kind of proof that fits, with the one that is advised marked."""
    state, setup = run.state, run.setup
    best = next_proof(state, "advised")
    wanted = next_proof(state, choice)
    now = state.common_gap[1]
    known = state.with_marks()
    absent = {
        "advised",
        *(["mesh"] if state.mesh is None else []),
        *(["reversed"] if not state.proofs else []),
        *(["two_filaments"] if state.other_filament is None else []),
    }
    out = []
    for one in PROOF_CHOICES:
        if one in absent:
            continue
        try:
            laid = next_proof(state, one)
            made = estimate(state.machine_now, setup.plate, setup.filament, laid)
        except ValueError as wrong:
            nothing = {"minutes": 0.0, "filament_mm": 0.0, "leaves_mm": now, "now_mm": now}
            out.append(
                Proposal(choice=one, name=NAMES[one], chosen=False, advised=False, why_not=str(wrong), **nothing)
            )
            continue
        out.append(
            Proposal(
                choice=one,
                name=NAMES[one],
                minutes=made.minutes,
                filament_mm=made.filament_mm,
                leaves_mm=expected_sd(*known.gaps_before(laid), laid.bead, known.eye.scatter),
                now_mm=now,
                chosen=laid == wanted,
                advised=laid == best,
            )
        )
    return tuple(out)
