"""What the rows of the first layer do to a run. Its proofs are asked for by every station that moves something."""

from dataclasses import replace

from ivory_table.core.judge import Mark
from ivory_table.runs.entry import Entry
from ivory_table.runs.proof import ProofRun
from ivory_table.runs.state import RunState, fold

from .entries import Judged, Nudged, ProofEnded, ProofStarted, SpeedSet, ZoneCleaned


@fold.register
def _proof_started(what: ProofStarted, run: RunState, entry: Entry) -> RunState:
    same = run.open_proof
    fresh = ProofRun(
        what.proof,
        configuration=run.configuration,
        repeats=same.repeats + 1 if same else 0,
        came_by_shift_mm=run.step_shift_mm,
        came_by_turns=run.step_turns,
    )
    return replace(run, proofs=(*run.proofs, fresh), step_shift_mm=0.0, step_turns=None)


@fold.register
def _nudged(what: Nudged, run: RunState, entry: Entry) -> RunState:
    """The nozzle really runs elsewhere, though nothing was stored; zones already laid were not moved."""
    now, proof = run, run.open_proof
    if proof is not None:
        first = len(proof.plan.zones) if what.from_zone is None else what.from_zone
        now = run.with_proof(replace(proof, nudges=(*proof.nudges, (first, what.away_mm))))
    live = round(now.nudged_mm + what.away_mm, 6)
    return replace(now, belief=now.belief.nozzle_moved(what.away_mm), nudged_mm=live)


@fold.register
def _speed_set(what: SpeedSet, run: RunState, entry: Entry) -> RunState:
    return replace(run, speed_percent=what.percent)


@fold.register
def _proof_ended(what: ProofEnded, run: RunState, entry: Entry) -> RunState:
    return run.with_proof(replace(_newest(run), printed=what.zones))


@fold.register
def _judged(what: Judged, run: RunState, entry: Entry) -> RunState:
    proof = _newest(run)
    if run.open_proof is None:
        raise ValueError("This proof was printed before the last change. Print it again, then judge it.")
    if proof.printed is not None and proof.printed <= what.zone < len(proof.plan.zones):
        raise ValueError(f"Zone {what.zone + 1} was not printed: the proof was cancelled before it.")
    if what.zone >= len(proof.plan.zones):
        raise ValueError(f"There is no zone {what.zone + 1} on this proof; it has {len(proof.plan.zones)}.")
    mark = Mark(what.zone, what.grade, what.caliper_mm, what.greasy)
    return run.with_proof(replace(proof, marks={**proof.marks, what.zone: mark}))


@fold.register
def _zone_cleaned(what: ZoneCleaned, run: RunState, entry: Entry) -> RunState:
    proof = _newest(run)
    return run.with_proof(replace(proof, cleaned=proof.cleaned | {what.zone}))


def _newest(run: RunState) -> ProofRun:
    if not run.proofs:
        raise ValueError("There is no proof yet. Print one first, then judge it.")
    return run.proofs[-1]
