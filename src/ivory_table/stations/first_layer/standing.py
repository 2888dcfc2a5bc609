"""Where the first layer stands, and what it adds to the record."""

from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, Standing, records, stands
from ivory_table.stations.first_layer.state import LeftAs


@stands("first_layer")
def standing(run: OpenRun) -> Standing:
    proofs = run.state.proofs
    figure = "not printed"
    if proofs:
        figure = f"proof {len(proofs)}, {len(proofs[-1].marks)} of {len(proofs[-1].plan.zones)}"
    left = LeftAs.now(run.state)
    if left is not None:
        figure = f"left for {left.width_mm:.0f} by {left.depth_mm:.0f} mm"
    return Standing(begun=bool(proofs), done=run.state.proof_done or left is not None, figure=figure)


@records("first_layer")
def record(run: OpenRun) -> tuple[RecordLine, ...]:
    out = []
    for number, proof in enumerate(run.state.proofs, 1):
        sound = sum(1 for m in proof.marks.values() if m.grade == "sound")
        out.append(
            RecordLine(name=f"Proof {number}", before="", after=f"{sound} of {len(proof.plan.zones)} zones sound")
        )
    if (left := LeftAs.now(run.state)) is not None:
        out.append(RecordLine(name="Left for", before="", after=f"parts within {left.words}: sound with {left.p:.0%}"))
    return tuple(out)
