"""What could be printed next: how long it takes, how much filament, and what it would tell."""

from ivory_table.core.proof import PROOF_CHOICES, ProofChoice
from ivory_table.core.proof_field import expected_sd
from ivory_table.core.value import Value
from ivory_table.program.proof import estimate
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun

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
    "two_heights": "each zone at two heights",
    "pair": "two temperatures of the tip side by side",
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


def proposals(run: OpenRun, choice: ProofChoice) -> tuple[Proposal, ...]:
    """Every kind of proof that fits, with the one that is advised marked."""
    state, setup = run.state, run.setup
    best = next_proof(state, "advised")
    wanted = next_proof(state, choice)
    now = state.common_gap[1]
    known = state.with_marks()
    out = []
    for one in PROOF_CHOICES:
        if one == "advised" or (one == "mesh" and state.mesh is None) or (one == "reversed" and not state.proofs):
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
