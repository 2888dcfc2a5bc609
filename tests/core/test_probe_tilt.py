"""A probe that leans: found by places compared, against weighted chance, and taken out of what it reads."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.mesh import grid_on
from ivory_table.core.plate import ProbeTilt
from ivory_table.core.probe_tilt import PlaceCompared, TiltFound, reads_high_mm, tilt_found
from ivory_table.desk.desk import Desk
from ivory_table.runs.state import RunState
from ivory_table.stations.mesh.entries import MeshKept
from ivory_table.stations.mesh.paste import MeshPaste, preview
from ivory_table.stations.offset.entries import ProbeCompared, ProbeTilted
from ivory_table.stations.offset.probe import probe_check
from ivory_table.stations.tram.entries import ReadMm
from tests.conftest import after, setup_for
from tests.stations.keeping import keep, start

PLATE = setup_for("kestrel").plate
PLACES = [(20.0, 20.0), (190.0, 20.0), (105.0, 105.0), (20.0, 180.0), (190.0, 180.0), (105.0, 20.0)]


def compared(
    tilt: ProbeTilt, noise: np.ndarray, places: list[tuple[float, float]] = PLACES
) -> tuple[PlaceCompared, ...]:
    high = reads_high_mm(tilt, PLATE, places)
    return tuple(
        PlaceCompared(x_mm=x, y_mm=y, probe_z_mm=1.2 + float(h + e), drag_z_mm=0.1)
        for (x, y), h, e in zip(places, high, noise, strict=True)
    )


@given(st.floats(-0.2, 0.2), st.floats(-0.2, 0.2))
def test_a_tilt_without_noise_is_given_back(right: float, back: float) -> None:
    found = tilt_found(compared(ProbeTilt(right=right, back=back), np.zeros(6)), PLATE, 0.005)
    assert found.tilt is not None
    assert (found.tilt.right, found.tilt.back) == pytest.approx((right, back), abs=2e-5)
    assert found.over_plate_mm == pytest.approx((abs(right) * PLATE.width_mm + abs(back) * PLATE.depth_mm) / 100)
    at = reads_high_mm(found.tilt, PLATE, [PLATE.centre])
    assert at == pytest.approx([0.0])


def test_a_straight_probe_is_seldom_called_crooked_and_a_crooked_one_is_found() -> None:
    r = np.random.default_rng(1)

    def many(tilt: ProbeTilt) -> list[TiltFound]:
        return [tilt_found(compared(tilt, 0.012 * r.standard_normal(6)), PLATE, 0.012) for _ in range(300)]

    straight = [f.leans for f in many(ProbeTilt())]
    assert np.mean(straight) < 0.07
    leaning = many(ProbeTilt(right=0.06))
    assert np.mean([f.leans for f in leaning]) > 0.95
    # The stated sd is that of what is found.
    off = np.array([(f.tilt.right - 0.06) / f.sd[0] for f in leaning])
    assert np.std(off) == pytest.approx(1.0, abs=0.2)


@pytest.mark.parametrize(
    ("places", "says"),
    [(PLACES[:3], "2 places more"), ([(100.0, 100.0 + k) for k in range(6)], "further apart")],
)
def test_too_little_is_said(places: list[tuple[float, float]], says: str) -> None:
    found = tilt_found(compared(ProbeTilt(right=0.1), np.zeros(len(places)), places), PLATE, 0.01)
    assert not found.leans
    assert says in found.words


def test_what_is_counted_in_is_taken_out_of_readings() -> None:
    """A flat plate read by a leaning probe: level once the tilt is counted in."""
    setup = setup_for("kestrel")
    tilt = ProbeTilt(right=0.08, back=-0.03)
    screws = [(s.x_mm, s.y_mm) for s in setup.machine.screws]

    def spread(*first: ProbeTilted) -> float:
        state = after(RunState.start(setup), *first, station="offset")
        for (x, y), high in zip(screws, reads_high_mm(tilt, setup.plate, screws), strict=True):
            state = after(state, ReadMm(x_mm=x, y_mm=y, instrument="probe", value_mm=float(high)))
        return float(np.ptp(state.belief.height(screws)[0]))

    assert spread() > 0.08
    assert spread(ProbeTilted(tilt=tilt)) < 0.005


def test_a_mesh_that_the_machine_read_with_the_lean_is_not_taken_for_the_plate(desk: Desk) -> None:
    """A flat plate, read by a probe that leans: pasted as the machine has it, and with the lean taken out."""
    run = start(desk, "kestrel")
    tilt = ProbeTilt(right=0.05)
    run = keep(desk, "offset", ProbeTilted(tilt=tilt))
    xs, ys = np.linspace(20, 290, 4), np.linspace(20, 280, 3)
    plate = run.setup.plate
    rows = [reads_high_mm(tilt, plate, [(x, y) for x in xs]) for y in ys]
    head = "," + ",".join(f"{x:g}" for x in xs)
    text = "\n".join([head, *(f"{y:g}," + ",".join(f"{v:.4f}" for v in row) for y, row in zip(ys, rows, strict=True))])
    shown = preview(run, MeshPaste(text=text, owns_zero=False))
    assert shown.lean_mm == pytest.approx(0.05 * 2.7, abs=1e-6)
    assert shown.shown.survey.leans
    corners = np.array([(x, y) for x in (20.0, 290.0) for y in (20.0, 280.0)])
    kept = keep(desk, "mesh", MeshKept(survey=shown.shown.survey))
    # The belief has the flat plate; what the machine follows has the lean.
    assert np.ptp(kept.state.belief.height(corners)[0]) < 0.02
    assert np.ptp(kept.state.machine_believes(corners)) > 0.12
    out = preview(run, MeshPaste(text=text, owns_zero=False, without_lean=True))
    assert (out.without_lean, out.shown.survey.leans) == (True, False)
    assert np.ptp(out.shown.survey.values) < 1e-4
    kept = keep(desk, "mesh", MeshKept(survey=out.shown.survey))
    assert np.ptp(kept.state.belief.height(corners)[0]) < 0.02
    assert np.ptp(kept.state.machine_believes(corners)) < 0.001
    # Felt by hand, no probe has read it.
    assert preview(run, MeshPaste(text=text, owns_zero=True)).lean_mm == 0


def test_the_lean_tells_which_way_round_a_bare_grid_lies(desk: Desk) -> None:
    """A plate known to be flat, and rows of numbers that have the lean alone: only one way round leaves it flat."""
    run = start(desk, "kestrel")
    tilt = ProbeTilt(right=0.08, back=-0.05)
    run = keep(desk, "offset", ProbeTilted(tilt=tilt))
    plate = run.setup.plate
    for x, y in [(s.x_mm, s.y_mm) for s in run.setup.machine.screws] + [plate.centre]:
        high = float(reads_high_mm(tilt, plate, [(x, y)])[0])
        run = keep(desk, "tram", ReadMm(x_mm=x, y_mm=y, instrument="probe", value_mm=high))
    grid = grid_on(plate, 4, 4)
    rows = reads_high_mm(tilt, plate, grid.places).reshape(4, 4)
    text = "\n".join(" ".join(f"{v:.4f}" for v in row) for row in rows)
    shown = preview(run, MeshPaste(text=text, owns_zero=False, without_lean=True))
    assert (shown.layout.first, shown.layout.along, shown.layout.high_positive) == ("front left", "x", True)
    assert np.ptp(shown.shown.survey.values) < 0.01


def test_it_is_taught_to_the_machine_and_taken_back_with_the_row(desk: Desk) -> None:
    run = start(desk, "kestrel")
    for x, y in PLACES:
        high = 0.1 * (x - PLATE.centre[0]) / 100
        row = ProbeCompared(x_mm=x, y_mm=y, probe_z_mm=1.0 + high, drag_z_mm=0.1)
        run = keep(desk, "offset", row)
    found = probe_check(run).tilt
    assert found.leans
    run = keep(desk, "offset", ProbeTilted(tilt=found.tilt))
    assert desk.workshop.machine("kestrel").probe.tilt == found.tilt
    keep(desk, "offset", ProbeTilted(tilt=None))
    assert desk.workshop.machine("kestrel").probe.tilt is None
