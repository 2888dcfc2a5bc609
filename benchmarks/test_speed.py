"""How long the core thinks: advice after a reading (four, six and nine screws), and the field of nine zones."""

import numpy as np
import pytest
from pytest_benchmark.fixture import BenchmarkFixture
from tests.conftest import setup_for

from ivory_table.core import advice, tram_told
from ivory_table.core.field import PlaceRead, SurfaceField
from ivory_table.core.further import further
from ivory_table.core.mesh import grid_on
from ivory_table.core.mesh_plan import used_places
from ivory_table.core.proof import plan
from ivory_table.core.proof_field import estimate_field, field_prior
from ivory_table.core.signs import Mark
from ivory_table.program.proof import program
from ivory_table.runs.judging import next_proof
from ivory_table.runs.state import RunState
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.entries import Judged, ProofStarted
from ivory_table.stations.mesh.survey import trend_of
from ivory_table.trial.first_layer import Session
from ivory_table.trial.tram import new_belief
from ivory_table.trial.tram_plates import screws_of

HERON = setup_for("heron")


@pytest.mark.parametrize("count", [4, 6, 9])
def test_advice_after_a_reading(benchmark: BenchmarkFixture, count: int) -> None:
    """Bar: median 5 ms on four screws, 20 ms on nine. A count kept, the extra turn, the next stop."""
    screws = screws_of(count)
    belief = new_belief(screws)
    for j in (0, 3, 1):
        belief = tram_told.counted(belief, screws, j, 4, 0.1)

    def one_stop() -> float:
        now = tram_told.counted(belief, screws, 2, -3, 0.1)
        more = further(now, screws, 2, 0.03, 0.1)
        return more.spread_mm + advice.next_stop(now, screws, 0.1, 0.03, 2).about_marks

    benchmark(one_stop)


def test_field_of_nine_zones(benchmark: BenchmarkFixture) -> None:
    """Bar: 30 ms. Every zone graded, three with a caliper."""
    belief = RunState.start(HERON).belief
    laid = plan(HERON.machine, HERON.plate, HERON.filament, 9)
    _, mean, cov = field_prior(belief, laid.places, laid.layer_mm, np.zeros(9))
    grades = ["parted", "sound", "ridged"] * 3
    marks = tuple(Mark(k, g, 0.2 if k % 3 == 1 else None) for k, g in enumerate(grades))
    benchmark(lambda: estimate_field(mean, cov, marks, laid.bead))


@pytest.mark.parametrize("size", [5, 15])
def test_field_of_a_mesh_and_the_next_point(benchmark: BenchmarkFixture, size: int) -> None:
    """Bar: 60 ms for 25 readings, 400 ms for 225: what they say of the plate, and which of the others tells most."""
    state = RunState.start(HERON)
    grid = grid_on(HERON.plate, size, size)
    values = np.random.default_rng(1).normal(0, 0.02, len(grid.places))
    told = tuple(PlaceRead(float(x), float(y), float(v), 0.012) for (x, y), v in zip(grid.places, values, strict=True))
    used, others = used_places(HERON.plate, grid), grid_on(HERON.plate, 5, 5).places

    def field_and_next() -> int:
        field = SurfaceField(trend_of(state, felt=True), told)
        return int(field.gains(others, used, 0.012).argmax())

    benchmark(field_and_next)


def test_judging_a_zone_to_new_advice(benchmark: BenchmarkFixture) -> None:
    """Bar: 40 ms. The fifth zone of a proof kept, every cause weighed, the page's view made."""
    one = Session(7, 0, "006", caliper=False)
    one.keep("first_layer", ProofStarted(proof=next_proof(one.now.state, "advised")))
    for zone in range(4):
        one.keep("first_layer", Judged(zone=zone, grade="parted" if zone % 2 else "sound"))
    grades = ["ridged", "sound"]

    def judged() -> str:
        grades.reverse()
        one.keep("first_layer", Judged(zone=4, grade=grades[0]))
        return first_layer.view.view(one.now).model_dump_json()

    benchmark(judged)


def test_a_program_over_the_whole_plate(benchmark: BenchmarkFixture) -> None:
    """Bar: 1 s. Strips over a plate with clips, written and read back."""
    laid = plan(HERON.machine, HERON.plate, HERON.filament, "whole")
    benchmark(lambda: program.__wrapped__(HERON.machine, HERON.plate, HERON.filament, laid, mesh_on=True))
