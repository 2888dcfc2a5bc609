"""What may be told to a machine: lift first, stay on the plate, come down from above, hold the heat."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.approach import Approach
from ivory_table.core.defaults import MOTION, OFFSET
from ivory_table.core.hold import hold
from ivory_table.core.manner import shipped
from ivory_table.core.mesh import Sounding, drift_taken_out
from ivory_table.core.proof import plan
from ivory_table.runs.motion import (
    come_down,
    go,
    lowest_mm,
    probe_at,
    probe_reaches,
    refuse_low,
    refuse_low_zones,
    refuse_place,
    travel_height_mm,
)
from ivory_table.runs.searching import approach_at
from ivory_table.runs.state import RunState
from ivory_table.stations.first_layer.entries import Nudged, ProofStarted
from ivory_table.stations.mesh.entries import MeshBase, MeshPlanned, MeshPoint
from ivory_table.stations.mesh.state import Mesh
from ivory_table.stations.offset.entries import Felt
from ivory_table.stations.stored.entries import NudgeMerged
from tests.conftest import after, setup_for

MANNER = shipped("harbour")
HERON = setup_for("heron")


def fresh(machine: str = "heron") -> RunState:
    return RunState.start(setup_for(machine))


def known(state: RunState, x: float, y: float, z: float) -> RunState:
    """A state in which the gauge is known to drag at z."""
    return after(state, *[Felt(x_mm=x, y_mm=y, z_mm=z, feel="drag") for _ in range(6)], station="offset")


def test_it_lifts_before_it_crosses_and_higher_than_anything_believed() -> None:
    state = fresh()
    first, second = go(state, MANNER, 60, 60, "here")
    assert first.line.startswith("G1 Z")
    assert second.line.startswith("G1 X60")
    heights, sds = state.belief.height(state.belief.surface.anchors)
    assert travel_height_mm(state) >= float((heights + 3 * sds).max()) + 4


@pytest.mark.parametrize(("x", "y", "said"), [(300, 50, "not on the plate"), (122, 8, "keep-out 'front clip'")])
def test_places_off_the_plate_and_in_a_keep_out_are_refused(x: float, y: float, said: str) -> None:
    with pytest.raises(ValueError, match=said):
        go(fresh(), MANNER, x, y, "there")


def test_below_the_proven_height_is_refused_and_above_it_is_not() -> None:
    state = fresh()
    floor = lowest_mm(state, 60, 60)
    assert floor > 0.5  # hardly anything is known: far above the plate
    with pytest.raises(ValueError, match="lowest height that is proven"):
        come_down(state, MANNER, 60, 60, floor - 0.01, 5.0)
    assert come_down(state, MANNER, 60, 60, floor + 0.01, 5.0)


def test_what_is_known_lets_it_go_lower_but_never_presses_deep() -> None:
    state = known(fresh(), 60, 60, 0.15)
    drag, sd = state.drag_height(60, 60)
    assert sd < 0.02
    assert drag - OFFSET.deepest_press_mm <= lowest_mm(state, 60, 60) <= drag


def test_a_height_that_was_free_proves_the_next_step() -> None:
    state = fresh()
    before = approach_at(state, 60, 60)
    felt = before.feel(before.lowest_mm, "free")
    assert lowest_mm(state, 60, 60, felt) <= before.lowest_mm - OFFSET.closest_step_mm


def test_a_move_that_ends_higher_goes_past_and_comes_back_down() -> None:
    state = known(fresh(), 60, 60, 0.15)
    up = come_down(state, MANNER, 60, 60, 0.3, now_mm=0.2)
    ends = [float(s.line.split("Z")[1].split()[0]) for s in up]
    assert ends[0] > ends[-1] == 0.3
    down = come_down(state, MANNER, 60, 60, 0.2, now_mm=0.3)
    assert len(down) == 1


def test_the_probe_not_the_tip_goes_over_the_place() -> None:
    steps = probe_at(fresh("kestrel"), MANNER, 100, 100, "here")
    assert "X141.000 Y109.000" in steps[-1].line
    with pytest.raises(ValueError, match="cannot reach"):
        probe_at(fresh("kestrel"), MANNER, 300, 100, "the far right")
    with pytest.raises(ValueError, match="has no probe"):
        probe_at(fresh("heron"), MANNER, 100, 100, "here")


# Holding the heat


def minutes(path: np.ndarray) -> tuple[list[float], list[float]]:
    return list(np.arange(len(path)) * 2.0), [float(v) for v in path]


def test_a_steady_plate_is_held_and_a_climbing_one_is_not() -> None:
    flat = hold(*minutes(np.full(300, 60.2)), 60)
    assert flat.steady
    assert flat.held_minutes == pytest.approx(598 / 60)
    falling = hold(*minutes(np.linspace(61, 59.2, 300)), 60)
    assert falling is not None
    assert ("-" in falling.words, "still moving −" in falling.words) == (False, not falling.steady)
    climbing = hold(*minutes(np.linspace(30, 55, 300)), 60)
    assert not climbing.steady
    assert climbing.rate_c_min == pytest.approx(25 / (598 / 60), rel=0.01)
    assert "rising" in climbing.words


@given(st.floats(0.0, 4.0))
def test_the_swing_is_half_of_peak_to_peak(amplitude: float) -> None:
    t = np.arange(600) * 2.0
    found = hold(list(t), list(60 + amplitude * np.sin(t / 9)), 60)
    assert found.swing_c == pytest.approx(amplitude, abs=0.1 * amplitude + 0.02)


def test_a_swinging_heater_is_told_to_be_tuned() -> None:
    t = np.arange(600) * 2.0
    found = hold(list(t), list(60 + 1.6 * np.sin(t / 9)), 60)
    assert not found.steady
    assert "tune" in found.words


def test_nothing_is_said_of_one_reading() -> None:
    assert hold([0.0], [60.0], 60) is None


# Drift and nudges


@given(st.floats(-0.2, 0.2), st.integers(3, 9))
def test_a_linear_drift_is_taken_out_whole(per_point: float, n: int) -> None:
    truth = {(c, 0): 0.01 * c * c for c in range(n)}
    soundings = [Sounding(0.0, None, 0.5)]
    for k, (point, z) in enumerate(truth.items(), 1):
        soundings.append(Sounding(float(k), point, z + per_point * k))
        if k == n // 2:
            soundings.append(Sounding(k + 0.5, None, 0.5 + per_point * (k + 0.5)))
    soundings.append(Sounding(n + 1.0, None, 0.5 + per_point * (n + 1)))
    found, closing = drift_taken_out(soundings)
    assert closing == pytest.approx(per_point * (n + 1))
    for point, z in truth.items():
        assert found[point] == pytest.approx(z, abs=1e-9)


def test_a_base_point_needs_a_mesh_in_the_making() -> None:
    with pytest.raises(ValueError, match="No mesh is being read"):
        after(fresh(), MeshBase(height_mm=0.1))
    state = after(
        fresh(),
        MeshPlanned(columns=2, rows=2, owns_zero=False),
        MeshBase(height_mm=0.1),
        MeshPoint(column=0, row=0, height_mm=0.2),
    )
    assert Mesh.of(state).points == {(0, 0): 0.2}


def test_a_nudge_moves_the_zones_after_it_and_not_those_before() -> None:
    state = fresh()
    proof = plan(state.setup.machine, state.setup.plate, state.setup.filament)
    plain = after(state, ProofStarted(proof=proof))
    nudged = after(plain, Nudged(away_mm=-0.05, from_zone=3))
    shift = nudged.zone_field(nudged.proofs[-1]).gaps[0] - plain.zone_field(plain.proofs[-1]).gaps[0]
    assert shift == pytest.approx([0, 0, 0, -0.05, -0.05], abs=1e-9)
    assert nudged.nudged_mm == -0.05
    back = after(nudged, Nudged(away_mm=0.05))
    assert back.nudged_mm == 0
    assert back.open_proof is not None  # putting it back after the print spoils no judging
    same = back.zone_field(back.proofs[-1]).gaps[0] - nudged.zone_field(nudged.proofs[-1]).gaps[0]
    assert same == pytest.approx(np.zeros(5), abs=1e-9)


def test_a_merged_nudge_changes_the_stored_value_and_not_the_gap() -> None:
    state = after(
        fresh(), ProofStarted(proof=plan(*[getattr(fresh().setup, n) for n in ("machine", "plate", "filament")]))
    )
    nudged = after(state, Nudged(away_mm=0.03, from_zone=0))
    merged = after(nudged, NudgeMerged(stored_mm=1.31))
    assert merged.belief.shift_mm == nudged.belief.shift_mm
    assert merged.stored_mm == 1.31
    assert merged.readback_due
    assert merged.open_proof is not None


# What keeps the tip off the plate, bound by bound: a mutant of any of these must not live.


def test_it_crosses_above_the_highest_of_every_support_and_both_far_corners() -> None:
    """Three sd over each, and the lift over that; against the belief asked place by place."""
    for machine in ("heron", "wren"):
        state = fresh(machine)
        x0, y0, x1, y1 = state.setup.plate.bounds
        places = [*map(tuple, state.belief.surface.anchors), (x0, y0), (x1, y1)]
        highest = 0.0
        for place in places:
            height, sd = state.belief.height([place])
            highest = max(highest, float(height[0] + 3 * sd[0]))
        assert travel_height_mm(state) == pytest.approx(highest + MOTION.lift_mm, abs=0.006)
        assert travel_height_mm(state) == round(travel_height_mm(state), 2)
    high = known(fresh(), 122, 118, 2.0)
    assert travel_height_mm(high) > travel_height_mm(fresh()) - 1.5


def test_speeds_are_sent_in_mm_a_minute() -> None:
    first, second = go(fresh(), MANNER, 60, 60, "here")
    assert first.line.endswith(f"F{MOTION.lift_mm_s * 60:.0f}")
    assert second.line.endswith(f"F{MOTION.travel_mm_s * 60:.0f}")
    (last,) = come_down(fresh(), MANNER, 60, 60, 4.0, 5.0)
    assert last.line.endswith(f"F{MOTION.down_mm_s * 60:.0f}")


@pytest.mark.parametrize(("off", "refused"), [(-0.01, True), (0.01, False)])
def test_a_keep_out_is_passed_by_its_clearance_and_the_nozzle(off: float, refused: bool) -> None:
    state = fresh()
    clip, machine = state.setup.plate.keep_outs[0], state.setup.machine
    x = clip.x_max_mm + MOTION.clear_mm + machine.nozzle_mm + off
    for place in ((x, 4.0), (122.0, clip.y_max_mm + MOTION.clear_mm + machine.nozzle_mm + off)):
        if refused:
            with pytest.raises(ValueError, match="keep-out 'front clip'"):
                refuse_place(machine, state.setup.plate, *place)
        else:
            refuse_place(machine, state.setup.plate, *place)


def test_coming_down_is_slow_for_the_last_of_it_and_ends_from_above() -> None:
    state = fresh()
    to = 3.0

    def heights(now: float) -> list[float]:
        return [float(s.line.split("Z")[1].split()[0]) for s in come_down(state, MANNER, 60, 60, to, now)]

    assert heights(to + 1.9) == [to]
    assert heights(to + 2.1) == [to + 1.0, to]
    # Already there, or lower: past it and back, so that the backlash is on the same side each time.
    assert heights(to) == heights(to - 1) == [pytest.approx(to + MOTION.from_above_mm), to]


def test_the_search_at_hand_bounds_the_descent_and_nothing_below_it_is_sent() -> None:
    state = known(fresh(), 60, 60, 0.15)
    higher = Approach.over(2.0, 0.05, scale=state.feel, gauge_mm=0.1, step_mm=0.01, seen_above=False)
    with pytest.raises(ValueError, match="lowest height that is proven"):
        come_down(state, MANNER, 60, 60, 0.2, 5.0, higher)
    assert come_down(state, MANNER, 60, 60, 0.2, 5.0)
    assert come_down(state, MANNER, 60, 60, higher.lowest_mm, 5.0, higher)


def test_the_probe_reaches_only_where_the_tip_stays_near_the_plate() -> None:
    state = fresh("kestrel")
    probe, (x0, y0, x1, y1) = state.setup.machine.probe, state.setup.plate.bounds
    assert probe is not None
    beyond = MOTION.over_edge_mm
    # The tip stands where the probe is not: at probe - offset.
    for edge, reach in ((x0, -beyond), (x1, beyond)):
        y = (y0 + y1) / 2 + probe.y_offset_mm
        assert probe_reaches(state, edge + reach * 0.99 + probe.x_offset_mm, y)
        assert not probe_reaches(state, edge + reach * 1.01 + probe.x_offset_mm, y)
    for edge, reach in ((y0, -beyond), (y1, beyond)):
        x = (x0 + x1) / 2 + probe.x_offset_mm
        assert probe_reaches(state, x, edge + reach * 0.99 + probe.y_offset_mm)
        assert not probe_reaches(state, x, edge + reach * 1.01 + probe.y_offset_mm)
    assert not probe_reaches(fresh("heron"), 122, 118)


def test_a_print_is_refused_where_the_tip_might_meet_the_plate() -> None:
    """gap - 2 sd below zero at any zone, against the belief asked zone by zone."""
    state = known(fresh(), 122, 118, 0.1)
    places = np.array([[122.0, 118.0], [60.0, 60.0]])
    height, sd = state.belief.height(places)
    needed = height + 2 * sd
    refuse_low(state, places, ["centre", "there"], needed + 1e-6, "Tram first.")
    for k, name in enumerate(("centre", "there")):
        tip = needed + 1e-6
        tip[k] -= 0.01
        with pytest.raises(ValueError, match=f"At {name} the tip would run .* it might scrape. Tram first."):
            refuse_low(state, places, ["centre", "there"], tip, "Tram first.")


def test_a_proof_on_a_plate_nobody_has_felt_is_refused_and_after_the_tram_it_is_not() -> None:
    laid = plan(HERON.machine, HERON.plate, HERON.filament, 5)
    with pytest.raises(ValueError, match="it might scrape"):
        refuse_low_zones(RunState.start(HERON), laid)
    state = RunState.start(HERON)
    for zone in laid.zones:
        state = known(state, zone.x_mm, zone.y_mm, 0.05)
    refuse_low_zones(state, laid)
