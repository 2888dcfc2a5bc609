"""Where the first layer stands, and what it adds to the record."""

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import JUDGE
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, Standing, records, stands
from ivory_table.stations.first_layer.state import LeftAs
from ivory_table.stations.first_layer.step import left_as_it_is


@stands("first_layer")
def standing(run: OpenRun) -> Standing:
    proofs = run.state.proofs
    figure = "not printed"
    if proofs:
        figure = f"proof {len(proofs)}, {len(proofs[-1].marks)} of {len(proofs[-1].plan.zones)}"
    left, as_it_is = LeftAs.now(run.state), left_as_it_is(run)
    if left is not None:
        figure = f"left for {left.width_mm:.0f} by {left.depth_mm:.0f} mm"
    elif as_it_is is not None:
        figure = f"left, sound with {as_it_is:.0%}"
    ended = run.state.proof_done or left is not None or (as_it_is or 0.0) >= JUDGE.leave_at
    return Standing(begun=bool(proofs), done=ended, figure=figure)


def _found_by(proof: ProofRun) -> str:
    """What a proof showed, in a few words."""
    if (zones := proof.zones_sound) is not None:
        heights = ", each laid at several heights" if proof.plan.kind == "three_heights" else ""
        return f"{zones[0]} of {zones[1]} zones sound{heights}"
    held = [proof.plan.zones[k].name for k, m in proof.marks.items() if m.grade == "sound"]
    return f"ladder, sound at {' and '.join(held)}" if held else "ladder, no step sound"


@records("first_layer")
def record(run: OpenRun) -> tuple[RecordLine, ...]:
    out = []
    for number, proof in enumerate(run.state.proofs, 1):
        out.append(RecordLine(name=f"Proof {number}", before="", after=_found_by(proof)))
    layer, before = run.state.layer_chosen, run.setup.layer
    if layer is not None:
        was = before.bead if before else Bead.usual(run.setup.machine.nozzle_mm)
        words = f"{layer.layer_mm:.2f} mm, lines {layer.line_mm:.2f} mm wide"
        line = RecordLine(name="First layer", before=f"{was.layer_mm:.2f} mm", after=words)
        if layer == was:
            line = RecordLine(name="First layer", before="", after=f"{words}, as before")
        out.append(line)
    if (p := run.state.sound_unseen) is not None:
        out.append(RecordLine(name="Last move", before="", after=f"not printed since; every zone sound with {p:.0%}"))
    if (as_it_is := left_as_it_is(run)) is not None:
        words = f"every zone sound with {as_it_is:.0%}; no move would plainly better that"
        out.append(RecordLine(name="Left as it is", before="", after=words))
    if (left := LeftAs.now(run.state)) is not None:
        out.append(RecordLine(name="Left for", before="", after=f"parts within {left.words}: sound with {left.p:.0%}"))
    return tuple(out)
