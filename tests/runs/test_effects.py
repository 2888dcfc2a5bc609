"""What every kind of row declares of itself is what it does."""

from dataclasses import replace

import numpy as np
import pytest

from ivory_table.core.placing import SoundArea
from ivory_table.core.setup import RunSetup
from ivory_table.demo.tidewater import FILAMENTS
from ivory_table.runs.common import MachineRestarted
from ivory_table.runs.doubts import Refused
from ivory_table.runs.entry import Entry
from ivory_table.runs.lessons import lessons
from ivory_table.runs.row import Row
from ivory_table.runs.state import RunState
from ivory_table.stations.first_layer.entries import (
    CauseLookedFor,
    CauseMended,
    FeedCorrected,
    FeedMeasured,
    Judged,
    LadderRead,
    LayerChosen,
    LeftFor,
    OtherFilamentTold,
    ProofStarted,
    ToolTold,
    ZoneSkipped,
)
from ivory_table.stations.mesh.entries import (
    MeshCheckBegun,
    MeshChecked,
    MeshDiscarded,
    MeshFelt,
    MeshKept,
    MeshPlanned,
    MeshPoint,
    MeshPointTrusted,
    MeshReadBack,
    MeshSent,
    MeshStored,
    MeshTakenUp,
)
from ivory_table.stations.offset.entries import (
    DisplayShown,
    LimitClosed,
    LimitOpened,
    MarkSighted,
    PadsLaid,
    ProbeCompared,
    ProbePlaced,
    ProbeTilted,
    ProbeTouched,
    SecondBegun,
    SecondGauged,
    SecondPassed,
    SecondTurned,
    SensorMeasured,
    SignShown,
    ThickTried,
    TipFeltAt,
    TipHeatCounted,
    ZeroDoubted,
)
from ivory_table.stations.tram.entries import BegunAnew, CentreFelt, Counted, ReadMm, ScrewFelt
from tests.conftest import NOON, after
from tests.runs.test_frozen import NEWEST, RELEASED, entry_of, station_of
from tests.stations.keeping import keep, practise, start

HERON = RunSetup.model_validate(NEWEST["setup"])
EXAMPLES: dict[str, Row] = {body["kind"]: entry_of(body, station_of(body)).what for body in NEWEST["rows"]}
EXAMPLES |= {
    "screw_felt": ScrewFelt(screw="front left", z_mm=0.0, feel="brush"),
    "probe_touched": ProbeTouched(z_mm=0.01, bed_c=57),
    "left_for": LeftFor(area=SoundArea(left_mm=60, front_mm=60, width_mm=100, depth_mm=90, p=0.8)),
    "begun_anew": BegunAnew(),
    "layer_chosen": LayerChosen(layer_mm=0.28, line_mm=0.45),
    "probe_compared": ProbeCompared(x_mm=60, y_mm=60, probe_z_mm=0.31, drag_z_mm=0.1),
    "probe_tilted": ProbeTilted(tilt=None),
    "mark_sighted": MarkSighted(tip_x_mm=60, tip_y_mm=60, probe_x_mm=101, probe_y_mm=69),
    "probe_placed": ProbePlaced(place=None),
    "tip_felt_at": TipFeltAt(tip_c=150, drag_z_mm=0.1),
    "tip_heat_counted": TipHeatCounted(heat=None),
    "sensor_measured": SensorMeasured(margin_mm=0.4),
    "second_begun": SecondBegun(),
    "second_gauged": SecondGauged(above_mm=0.1),
    "pads_laid": PadsLaid(tops_mm=(0.32, 0.36, 0.4)),
    "second_passed": SecondPassed(z_mm=0.3, touched=(False, True, True)),
    "second_turned": SecondTurned(turns=0.1),
    "sign_shown": SignShown(larger_by_mm=-0.5, went="further"),
    "display_shown": DisplayShown(shows_mm=4.0, means="zero"),
    "centre_felt": CentreFelt(z_mm=0.0, feel="brush"),
    "machine_restarted": MachineRestarted(),
    "limit_opened": LimitOpened(by_mm=3),
    "limit_closed": LimitClosed(),
    "thick_tried": ThickTried(z_mm=1.5, under_mm=0.8, not_mm=1.6),
    "zero_doubted": ZeroDoubted(why="crash"),
    "mesh_felt": MeshFelt(column=1, row=1, z_mm=0.02, feel="drag"),
    "mesh_point_trusted": MeshPointTrusted(column=0, row=0, reason="looked at"),
    "mesh_sent": MeshSent(),
    "mesh_stored": MeshStored(),
    "mesh_discarded": MeshDiscarded(measured_at=NOON),
    "zone_skipped": ZoneSkipped(zone=1),
    "ladder_read": LadderRead(first=2, grade="sound"),
    "cause_mended": CauseMended(cause="coat"),
    "cause_looked_for": CauseLookedFor(cause="draught", found=False),
    "feed_measured": FeedMeasured(measured_mm=(97.5, 98.0)),
    "feed_corrected": FeedCorrected(times=1.02),
    "other_filament_told": OtherFilamentTold(filament=FILAMENTS[0]),
    "tool_told": ToolTold(tool="caliper", here=False),
    "mesh_checked": MeshChecked(x_mm=100, y_mm=100, height_mm=0.03),
}
PROOF = EXAMPLES["proof_started"]
assert isinstance(PROOF, ProofStarted)
SURVEY = EXAMPLES["mesh_kept"]
assert isinstance(SURVEY, MeshKept)
EXAMPLES |= {
    "mesh_read_back": MeshReadBack(heights_mm=SURVEY.survey.heights_mm),
    "mesh_check_begun": MeshCheckBegun(survey=SURVEY.survey, measured_at=NOON),
    "mesh_taken_up": MeshTakenUp(survey=SURVEY.survey, measured_at=NOON),
}
#: Taken while a mesh is being read.
READING = ("mesh_point", "mesh_base", "mesh_felt", "mesh_point_trusted")


#: What must be kept before a row of a kind says anything.
NEEDS: dict[str, tuple[Row, ...]] = {
    "second_gauged": (EXAMPLES["second_begun"],),
    "pads_laid": (EXAMPLES["second_begun"],),
    "second_passed": (EXAMPLES["second_begun"], EXAMPLES["pads_laid"]),
    "second_turned": (EXAMPLES["second_begun"],),
    "mesh_checked": (EXAMPLES["mesh_check_begun"],),
    "zone_skipped": (PROOF,),
    "ladder_read": (ProofStarted(proof=PROOF.proof.model_copy(update={"kind": "ladder"})),),
}


def ready_for(kind: str) -> RunState:
    """A run in which any row can be kept: trammed, with a mesh, and a proof of which one zone is judged."""
    counts = [Counted(screw=s.name, marks=m) for s, m in zip(HERON.machine.screws, (2, -1, 1, 0), strict=True)]
    begun: list[Row] = []
    if kind in READING:
        begun = [MeshPlanned(columns=3, rows=3, owns_zero=True), MeshPoint(column=0, row=0, height_mm=0.01)]
    if kind in NEEDS:
        begun = list(NEEDS[kind])
    rows = [*counts, SURVEY, PROOF, Judged(zone=0, grade="parted"), *begun]
    return after(RunState.start(HERON), *rows)


def row(what: Row) -> Entry:
    return Entry(id="it", seq=99, at=NOON, by="mk", source="hand", station=what.stations[0], what=what)


def test_every_kind_has_an_example() -> None:
    assert set(EXAMPLES) == set(Row.kinds), "Give the new kind an example, and freeze it with the next version."
    assert RELEASED


@pytest.mark.parametrize("kind", sorted(EXAMPLES))
def test_a_row_does_what_it_declares(kind: str) -> None:
    what, before = EXAMPLES[kind], ready_for(kind)
    assert before.open_proof is not None
    now = before.apply(row(what))
    same = all(np.array_equal(a, b) for a, b in zip(before.belief.collapsed, now.belief.collapsed, strict=True))
    if not same:
        assert what.effect != "none", f"{kind} tells of the plate and does not say so"
    if what.effect in ("moves_plate", "moves_nozzle"):
        assert now.open_proof is None, f"{kind} moves, and the proof before it can still be judged"
        # Its marks were learnt before it: whatever is known after it, they are in it.
        learnt = replace(before.with_marks(), configuration=before.configuration + 1)
        assert not np.array_equal(learnt.belief.collapsed[0], before.belief.collapsed[0])
        told_first = learnt.apply(row(what)).belief.collapsed
        for a, b in zip(told_first, now.belief.collapsed, strict=True):
            assert a == pytest.approx(b, abs=1e-12)
    elif what.effect == "prints":
        assert now.open_proof is not before.open_proof
    else:
        assert now.open_proof is not None, f"{kind} moves nothing, and ends the judging"
    assert what.moves == (what.effect in ("moves_plate", "moves_nozzle", "nudges"))


@pytest.mark.parametrize("kind", sorted(set(EXAMPLES) - {"taken_back", "beam_read", "beam_turned"}))
def test_what_is_taken_back_is_gone_everywhere(kind: str, desk) -> None:
    start(desk, "heron")
    practise(desk, "tram", times=3)
    if kind in READING:
        keep(desk, "mesh", MeshPlanned(columns=3, rows=3, owns_zero=True))
        keep(desk, "mesh", MeshPoint(column=0, row=0, height_mm=0.01, sure=True))
    for needed in NEEDS.get(kind, ()):
        keep(desk, needed.stations[0], needed)
    if kind in ("mesh_point_again", "mesh_used", "mesh_sent", "mesh_stored", "mesh_read_back"):
        keep(desk, "mesh", SURVEY)
    if kind in ("judged", "zone_cleaned", "proof_ended", "nudge_merged"):
        keep(desk, "first_layer", PROOF)
    before = desk.open("run")
    machine, person = desk.workshop.machine("heron"), desk.workshop.person_by("mk")
    taught = lessons(before)
    what = EXAMPLES[kind]
    if kind in ("counted", "walked", "read_mm"):
        what = what.model_copy(update={"sure": True})
    if kind == "readback":
        what = what.model_copy(update={"reported_mm": before.state.stored_mm})
    run = keep(desk, what.stations[0], what)
    run = keep(desk, what.stations[0], EXAMPLES["taken_back"].model_copy(update={"entry_id": run.entries[-1].id}))
    for a, b in zip(before.state.belief.collapsed, run.state.belief.collapsed, strict=True):
        assert a == pytest.approx(b, abs=1e-12)
    assert lessons(run) == taught
    assert desk.workshop.machine("heron") == machine
    known = desk.workshop.person_by("mk")
    assert (known.feels, known.eye) == ((), None) if person is None and known else known == person
    summary = desk.workshop.figures.summary("run")
    assert summary is not None
    assert [s.figure for s in summary.stations]


def test_reading_between_two_judged_zones_does_not_stop_the_judging() -> None:
    """And the marks weigh the same whether the reading came before them, between them or after them."""
    state = after(RunState.start(HERON), *[Counted(screw=s.name, marks=0) for s in HERON.machine.screws])
    dial = ReadMm(x_mm=122, y_mm=118, instrument="feelers", value_mm=0.03)
    first, second = Judged(zone=0, grade="parted"), Judged(zone=4, grade="sound")
    orders = ([dial, PROOF, first, second], [PROOF, first, dial, second], [PROOF, first, second, dial])
    ends = [after(state, *rows).with_marks().belief.collapsed for rows in orders]
    for mean, cov in ends[1:]:
        assert mean == pytest.approx(ends[0][0], abs=2e-3)
        assert np.sqrt(np.diag(cov)) == pytest.approx(np.sqrt(np.diag(ends[0][1])), rel=0.05, abs=1e-3)


def test_a_row_is_refused_where_its_station_is_not(desk) -> None:
    start(desk, "heron")
    with pytest.raises(Refused, match="Prepare does not take that kind of row"):
        keep(desk, "prepare", Counted(screw="front left", marks=1))
