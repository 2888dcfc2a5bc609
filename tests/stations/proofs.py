"""Proofs printed and judged in a run, for tests of the first layer."""

from ivory_table.core.proof import ProofChoice
from ivory_table.desk.desk import Desk
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.stations.first_layer.entries import (
    Judged,
    ProofStarted,
)
from ivory_table.stations.offset.step import now_at
from ivory_table.stations.stored.entries import OffsetSet

from .keeping import keep


def height_set(desk: Desk) -> OpenRun:
    """The nozzle's height stored as it is worked out from what was felt."""
    return keep(desk, "offset", OffsetSet(stored_mm=now_at(desk.open("run")).wanted.new_mm, sure=True))


def judged(desk: Desk, *grades: str, **more: object) -> OpenRun:
    run = desk.open("run")
    for zone, grade in enumerate(grades):
        run = keep(desk, "first_layer", Judged(zone=zone, grade=grade, **more))
    return run


def printed(desk: Desk, choice: ProofChoice = "advised") -> OpenRun:
    return keep(desk, "first_layer", ProofStarted(proof=next_proof(desk.open("run").state, choice)))


def by_truth(desk: Desk, gaps: list[float], *, measured: bool = False) -> OpenRun:
    """Every zone of the newest proof judged by the gaps that the five zones have as the nozzle runs; closer patches measured."""
    run = desk.open("run")
    proof = run.state.proofs[-1].plan
    places = run.state.wanted.plan.zone_places
    for k, zone in enumerate(proof.zones):
        gap = gaps[places.index(zone.place)] + zone.away_mm
        thick = round(gap, 2) if measured and zone.away_mm < 0 else None
        run = keep(desk, "first_layer", Judged(zone=k, grade=proof.bead.grade_at(gap), caliper_mm=thick, sure=True))
    return run
