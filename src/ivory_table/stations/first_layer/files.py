"""The proof as a program."""

from ivory_table.core.manner import Manner
from ivory_table.core.proof import ProofPlan, ZoneCount
from ivory_table.program.laying import Program
from ivory_table.program.proof import program
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun


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
    laid = state.proofs[-1].plan if state.proofs else state.first_proof(zone_count)
    name = f"proof-{setup.machine.id}-{len(laid.zones)}-zones.gcode"
    return name, program_for(run, laid, run.manner).text
