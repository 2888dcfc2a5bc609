"""The proof as files: a program for the machine, or its shapes for whoever prepares jobs elsewhere."""

from hashlib import sha256

from ivory_table.core.action import ActionKind
from ivory_table.core.manner import Manner
from ivory_table.core.proof import ProofChoice, ProofPlan
from ivory_table.program.laying import Program
from ivory_table.program.proof import program
from ivory_table.program.solids import stl, threemf
from ivory_table.runs.doubts import Refused
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.stations.first_layer.step import next_proof_advised


def program_for(run: OpenRun, laid: ProofPlan, manner: Manner) -> Program:
    """The program of a proof in a machine's words. Raises Refused when it does not fit the plate."""
    setup, state = run.setup, run.state
    try:
        return program(state.machine_now, setup.plate, setup.filament, laid, mesh_on=state.mesh_on, manner=manner)
    except ValueError as wrong:
        raise Refused("proof_does_not_fit", str(wrong), "plan") from None


def plan_of(
    run: OpenRun, choice: ProofChoice, zones: tuple[int, ...] = (), step: ActionKind | None = None
) -> ProofPlan:
    """The proof that is asked for, or some of its zones alone. Raises Refused where it has no room, or has no such zone.

    As advised: what the best next step prints, or the step of that kind, where it prints anything.
    """
    try:
        laid = (next_proof_advised(run, step) if choice == "advised" else None) or next_proof(run.state, choice)
    except ValueError as wrong:
        raise Refused("proof_does_not_fit", str(wrong), "zones") from None
    if zones and max(zones) >= len(laid.zones):
        raise Refused(
            "no_such_zone", f"There is no zone {max(zones) + 1} on this proof; it has {len(laid.zones)}.", "only"
        )
    return laid.only(tuple(sorted(set(zones)))) if zones else laid


def _name(run: OpenRun, laid: ProofPlan, body: bytes, ending: str) -> str:
    """The same file again has the same name, another one another."""
    what = f"{len(laid.zones)}-zones" if laid.kind == "patches" else laid.kind.replace("_", "-")
    return f"proof-{run.setup.machine.id}-{what}-{sha256(body).hexdigest()[:6]}.{ending}"


def proof_file(
    run: OpenRun, choice: ProofChoice, zones: tuple[int, ...] = (), step: ActionKind | None = None
) -> tuple[str, str]:
    """(file name, program) of the proof at hand."""
    laid = plan_of(run, choice, zones, step)
    text = program_for(run, laid, run.manner).text
    return _name(run, laid, text.encode(), "gcode"), text


def proof_shapes(
    run: OpenRun, choice: ProofChoice, ending: str, zones: tuple[int, ...] = (), step: ActionKind | None = None
) -> tuple[str, bytes]:
    """(file name, bytes) of the proof's shapes as STL or 3MF. Raises Refused for a proof that is no shape."""
    laid = plan_of(run, choice, zones, step)
    try:
        body = stl(run.setup.plate, laid) if ending == "stl" else threemf(run.setup.plate, laid)
    except ValueError as wrong:
        raise Refused("no_shape", str(wrong), "zones") from None
    return _name(run, laid, body, ending), body
