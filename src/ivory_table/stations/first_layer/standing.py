"""Where the first layer stands, and what it adds to the record."""

from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import RecordLine, Standing, records, stands


@stands("first_layer")
def standing(run: OpenRun) -> Standing:
    proofs = run.state.proofs
    figure = "not printed"
    if proofs:
        figure = f"proof {len(proofs)}, {len(proofs[-1].marks)} of {len(proofs[-1].plan.zones)}"
    return Standing(begun=bool(proofs), done=run.state.proof_done, figure=figure)


@records("first_layer")
def record(run: OpenRun) -> tuple[RecordLine, ...]:
    out = []
    for number, proof in enumerate(run.state.proofs, 1):
        sound = sum(1 for m in proof.marks.values() if m.grade == "sound")
        out.append(
            RecordLine(name=f"Proof {number}", before="", after=f"{sound} of {len(proof.plan.zones)} zones sound")
        )
    return tuple(out)
