"""How an offer is made: what will move, asked of the core about every place before anything is sent."""

from ivory_table.core.manner import Manner
from ivory_table.link.session import Session
from ivory_table.runs.motion import go, probe_at
from ivory_table.runs.run import OpenRun
from ivory_table.runs.state import RunState

from .station import Job, Offer

Place = tuple[float, float, str]


def homing_first(session: Session) -> tuple[str, ...]:
    return () if session.status.homed else ("every axis runs to its stop (home)",)


def offer(session: Session, jobs: dict[str, Job], job: str, *moves: str, why_not: str = "") -> Offer:
    """An offer of a job that moves something: home first where the position is not known."""
    return Offer(job=job, name=jobs[job].name, moves=(*homing_first(session), *moves), why_not=why_not)


def walked(state: RunState, does: Manner, places: list[Place], *, probing: bool) -> tuple[tuple[str, ...], str]:
    """What a walk over places will move, and why it cannot be made, if it cannot."""
    try:
        for x, y, name in places:
            steps = probe_at(state, does, x, y, name) if probing else go(state, does, x, y, name)
    except ValueError as wrong:
        return (), str(wrong)
    how = "the probe comes down until it triggers" if probing else "the tip steps down to the gauge, answer by answer"
    many = f"{len(places)} places" if len(places) > 1 else places[0][2]
    return (steps[0].words, f"{'the probe' if probing else 'the tip'} goes over {many}", how), ""


def untried(run: OpenRun) -> str:
    """Why nothing is probed yet; empty once the trigger was proved, or where there is no probe."""
    if run.setup.machine.probe and run.state.checks.get("trigger_proved") != "done":
        return "Prove the probe's trigger first (Prepare): one that does not trigger drives the tip into the plate."
    return ""
