"""The fold of a run's rows, under random histories."""

import pickle

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from ivory_table.core.form import believed_forms
from ivory_table.core.gauge import FEELS
from ivory_table.core.mesh import MeshSurvey, grid_on
from ivory_table.core.proof import plan
from ivory_table.runs.common import CautionSeen, StationSkipped, TakenBack
from ivory_table.runs.entry import kept
from ivory_table.runs.row import Row
from ivory_table.runs.state import RunState
from ivory_table.stations.first_layer.entries import Judged, ProofStarted, ZoneCleaned
from ivory_table.stations.mesh.entries import MeshKept, MeshPlanned, MeshPoint
from ivory_table.stations.mesh_used import MeshUsed
from ivory_table.stations.offset.entries import Felt
from ivory_table.stations.prepare.entries import CheckDone, Heated
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.tram.entries import CentreFelt, Counted, ReadMm, SenseTried, WayChosen
from ivory_table.stations.turned import Turned, TurnedAll
from tests.conftest import NOON, after, entry, setup_for

HERON = setup_for("heron")
SCREWS = [s.name for s in HERON.machine.screws]
PROOF = plan(HERON.machine, HERON.plate, HERON.filament)
GRID = grid_on(HERON.plate, 3, 3)
MESH = MeshSurvey(grid=GRID, heights_mm=((0.0, 0.01, 0.02),) * 3, owns_zero=True, plate_id=HERON.plate_id)

marks = st.integers(-20, 20)
histories = st.lists(
    st.one_of(
        st.builds(Counted, screw=st.sampled_from(SCREWS), marks=marks),
        st.builds(Turned, screw=st.sampled_from(SCREWS), marks=marks),
        st.builds(TurnedAll, marks=st.tuples(marks, marks, marks, marks)),
        st.builds(
            Felt, x_mm=st.floats(0, 244), y_mm=st.floats(0, 236), z_mm=st.floats(-1, 1), feel=st.sampled_from(FEELS)
        ),
        st.builds(
            ReadMm,
            x_mm=st.floats(0, 244),
            y_mm=st.floats(0, 236),
            instrument=st.sampled_from(["dial", "feelers", "probe"]),
            value_mm=st.floats(-2, 2),
        ),
        st.builds(OffsetSet, stored_mm=st.floats(-2, 2), sure=st.just(True)),
        st.just(MeshKept(survey=MESH)),
        st.just(ProofStarted(proof=PROOF)),
    ),
    min_size=1,
    max_size=8,
)


@settings(max_examples=60, deadline=None)
@given(histories)
def test_any_history_leaves_a_sound_belief(history: list[Row]) -> None:
    state = after(RunState.start(HERON), *history)
    mean, cov = state.belief.collapsed
    assert np.all(np.isfinite(mean))
    assert np.all(np.isfinite(cov))
    assert np.all(np.linalg.eigvalsh((cov + cov.T) / 2) > -1e-8)
    assert state.belief.weight.sum() == pytest.approx(1)
    assert 0 <= state.belief.p_within(state.tol_mm) <= 1


@settings(max_examples=30, deadline=None)
@given(histories, st.data())
def test_taking_a_row_back_is_as_if_it_had_never_been(history: list[Row], data: st.DataObject) -> None:
    gone = data.draw(st.integers(0, len(history) - 1))
    rows = [entry(k, what) for k, what in enumerate(history, 1)]
    rows.append(entry(len(rows) + 1, TakenBack(entry_id=rows[gone].id)))
    state = RunState.start(HERON)
    for row in kept(tuple(rows)):
        state = state.apply(row)
    without = after(RunState.start(HERON), *[w for k, w in enumerate(history) if k != gone])
    assert np.array_equal(state.belief.mean, without.belief.mean)
    assert state.stored_mm == without.stored_mm


@settings(max_examples=15)
@given(histories, st.integers(1, 7))
def test_a_state_can_be_saved_and_goes_on_as_if_it_had_not_been(history: list[Row], upto: int) -> None:
    """What was told is data, so that a state can be sent to another process, which tells it to other hypotheses again."""
    saved = pickle.loads(pickle.dumps(after(RunState.start(HERON), *history[:upto])))
    through, rest = RunState.start(HERON), [entry(k, what) for k, what in enumerate(history, 1)]
    for row in rest:
        through = through.apply(row)
    for row in rest[upto:]:
        saved = saved.apply(row)
    assert np.allclose(saved.belief.rechosen().mean, through.belief.rechosen().mean, atol=1e-12)
    assert np.array_equal(saved.belief.mean, through.belief.mean)


ONE_OF_EACH: list[Row] = [
    CheckDone(check="homed", outcome="done"),
    CautionSeen(caution="hot"),
    Heated(bed_c=60, nozzle_c=150, held_since=NOON),
    StationSkipped(station="mesh"),
    WayChosen(way="ring"),
    SenseTried(screw="front left", felt="tighter"),
    Counted(screw="front left", marks=-4),
    Turned(screw="front left", marks=1),
    Turned(screw="front left", marks=0),
    TurnedAll(marks=(1, 0, -1, 2)),
    ReadMm(x_mm=10, y_mm=10, instrument="dial", value_mm=-0.05),
    Felt(x_mm=122, y_mm=118, z_mm=0.05, feel="brush"),
    MeshPlanned(columns=3, rows=3, owns_zero=True),
    MeshPoint(column=0, row=0, height_mm=0.02),
    MeshKept(survey=MESH),
    MeshUsed(on=False),
    OffsetSet(stored_mm=1.37),
    Readback(reported_mm=1.37),
    Readback(confirmed=True),
    ProofStarted(proof=PROOF),
    Judged(zone=1, grade="sound", caliper_mm=0.21),
    ZoneCleaned(zone=1),
    SignedOff(note="fine"),
]


def test_every_kind_of_row_can_be_kept_and_told_in_words() -> None:
    state = after(RunState.start(HERON), *ONE_OF_EACH)
    assert state.signed_off
    words = [what.words(HERON.machine) for what in (*ONE_OF_EACH, TakenBack(entry_id="x"))]
    assert all(words)
    assert "front left: 4/16 counter-clockwise to the drag" in words
    assert "Z offset set to +1.370" in words
    assert not any("-" in w and any(c.isdigit() for c in w.split("-")[-1][:1]) for w in words)  # true minus


@pytest.mark.parametrize("what", ONE_OF_EACH, ids=lambda w: w.kind)
def test_rows_travel_as_json_unchanged(what: Row) -> None:
    row = entry(3, what)
    assert type(row).model_validate_json(row.model_dump_json()) == row


def test_a_tight_centre_on_a_trammed_plate_means_a_bow() -> None:
    state = RunState.start(HERON)
    level = [Counted(screw=name, marks=0) for name in SCREWS]
    tight = after(state, *level, CentreFelt(z_mm=0, feel="stuck"))
    loose = after(state, *level, CentreFelt(z_mm=0, feel="free"))
    bow = [next(f for f in believed_forms(s.belief) if f.form == "bow").amount_mm for s in (tight, loose)]
    assert bow[0] > 0.01
    assert bow[1] < -0.01


def test_a_later_turn_closes_the_proof_and_its_marks_are_learnt_once() -> None:
    judged = [Judged(zone=k, grade="parted") for k in range(5)]
    before = after(RunState.start(HERON), ProofStarted(proof=PROOF), *judged)
    open_belief = before.belief.collapsed[0].copy()
    learnt = before.with_marks().belief.collapsed[0]
    closed = before.apply(entry(9, Turned(screw="rear left", marks=0)))
    assert not np.allclose(open_belief, learnt)
    assert np.allclose(closed.belief.collapsed[0], learnt)
    assert closed.open_proof is None
    assert np.allclose(closed.with_marks().belief.collapsed[0], learnt)


def test_printing_the_same_again_counts_as_a_repeat_and_a_change_does_not() -> None:
    start = RunState.start(HERON)
    begun, seen = ProofStarted(proof=PROOF), Judged(zone=0, grade="sound")
    twice = after(start, begun, seen, begun)
    unseen = after(start, begun, seen, begun, begun, seen, begun)
    changed = after(start, begun, seen, OffsetSet(stored_mm=1.37), begun)
    assert [p.repeats for p in twice.proofs] == [0, 1]
    # What nobody judged was no second look.
    assert [p.repeats for p in unseen.proofs] == [0, 1, 1, 2]
    assert [p.repeats for p in changed.proofs] == [0, 0]


def test_feelers_and_dials_read_the_same_tilt_with_opposite_signs() -> None:
    places = [(s.x_mm, s.y_mm, s.name) for s in HERON.machine.screws]
    truth = [0.1, -0.1, 0.1, -0.1]
    dial = [
        ReadMm(x_mm=x, y_mm=y, instrument="dial", value_mm=h + 0.7, screw=n)
        for (x, y, n), h in zip(places, truth, strict=True)
    ]
    gaps = [
        ReadMm(x_mm=x, y_mm=y, instrument="feelers", value_mm=0.3 - h, screw=n)
        for (x, y, n), h in zip(places, truth, strict=True)
    ]
    for readings in (dial, gaps):
        mean = after(RunState.start(HERON), *readings).belief.collapsed[0][:4]
        assert mean - mean.mean() == pytest.approx(truth, abs=0.02)


def test_a_mesh_gone_stale_by_a_turn_is_seen_in_what_is_left() -> None:
    state = after(RunState.start(HERON), MeshKept(survey=MESH))
    turned = state.apply(entry(2, Turned(screw="front left", marks=4)))
    rows = state.belief.surface.rows(GRID.places)

    def left(s: RunState) -> float:
        return float(np.ptp(rows @ s.belief.collapsed[0] - s.machine_believes(GRID.places)))

    assert left(turned) > left(state) + 0.1
