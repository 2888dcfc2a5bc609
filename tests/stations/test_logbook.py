"""The logbook: what was found and left, what happened, what is due."""

from datetime import UTC, datetime, timedelta

import numpy as np
import pytest

from ivory_table.core.drift import rates
from ivory_table.desk.desk import Desk, Keep, StartRun
from ivory_table.runs.doubts import Refused
from ivory_table.runs.seen import places_of, seen_of
from ivory_table.stations import bench, drifting, logbook, offset, tram
from ivory_table.stations.counted import keep_count
from ivory_table.stations.stored.quick import Corrected, correct, quick_change
from ivory_table.stations.tram.entries import BackedOff
from ivory_table.store.tables import SummaryRow
from ivory_table.store.workshop import Workshop
from tests.past import past_of, seen

NOW = datetime.now(UTC)


def test_what_a_run_finds_and_leaves_is_what_the_practice_plate_was_and_is(desk: Desk) -> None:
    setup = desk.start(
        StartRun(
            id="run",
            machine_id="heron",
            plate_id="heron-steel",
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )

    def truth() -> np.ndarray:
        hands = desk.hands(desk.open("run"))
        return np.array([hands.gap_at_zero(*p) for p in places]) + layer

    _, places = places_of(setup)
    layer = desk.open("run").state.bead.layer_mm
    was = truth()
    assert seen_of(desk.open("run")) is None

    def practise(station: str, act) -> None:
        seq = desk.open("run").seq
        desk.ask_hands("run", station, f"{station}-{seq}", seq, lambda run: act(desk, run))
        desk.settled()

    while tram.step.now_at(desk.open("run")).step != "done":
        practise("tram", tram.practice.practice)
    while offset.step.now_at(desk.open("run")).step != "done":
        practise("offset", offset.practice.practice)
    found, left = seen_of(desk.open("run"))
    now = truth()
    assert np.abs(np.array(left.gap_mm) - now).max() < 4 * left.sds.max() + 0.02
    # Knobs couple and slip: what was found is known less well than what is left.
    assert np.all(found.sds >= left.sds - 1e-9)
    off = np.abs(np.array(found.gap_mm) - was)
    assert off.max() < 4 * found.sds.max() + 0.06
    assert found.places == left.places == ("centre", *(s.name for s in setup.machine.screws))
    # It stands in the summary, and the bench says what is to be expected.
    summary = desk.workshop.figures.summary("run")
    assert summary.left == left
    line = next(m for m in bench.view(desk).machines if m.machine.id == "heron")
    assert line.expected is not None
    assert 0 <= line.expected.p_today <= 1


def test_how_a_plate_was_found_is_not_known_once_all_springs_were_backed_off(desk: Desk) -> None:
    desk.start(
        StartRun(
            id="run",
            machine_id="heron",
            plate_id="heron-steel",
            filament_id="pla-white",
            gauge_id="copy-paper",
            initials="mk",
        )
    )
    desk.keep("run", "prepare", Keep(id="b", seen_seq=0, what=BackedOff(turns=2)))
    found, left = seen_of(desk.open("run"))
    assert found is None
    assert left is not None


def test_a_machine_with_a_past_is_due_and_names_the_loosening_knob(workshop: Workshop) -> None:
    past_of(workshop, "heron", [150, 120, 92, 61, 40, 12], NOW, loosens=(3, 0.006))
    view = logbook.view(workshop, "heron", now=NOW)
    assert [p.run_id for p in view.points] == [f"heron-{k}" for k in (5, 4, 3, 2, 1, 0)]
    assert view.expected.outlook.wanders == "rear right"
    assert view.expected.outlook.wanders_mm_week == pytest.approx(0.042, abs=0.02)
    assert "loosens" in view.expected.why[0]
    assert view.expected.due_at is not None
    table = logbook.as_csv(view)
    assert table.count("\n") == 1 + 6 * 2 * 5
    calendar = logbook.as_calendar(workshop, NOW)
    assert calendar.count("BEGIN:VEVENT") == 1
    assert f"DTSTART;VALUE=DATE:{view.expected.due_at:%Y%m%d}" in calendar


def test_a_workshop_teaches_a_new_machine_what_is_usual(workshop: Workshop) -> None:
    past_of(workshop, "heron", list(range(200, 0, -14)), NOW, rate=0.0015, seed=4)
    past_of(workshop, "kestrel", [3], NOW)
    calm = rates((), 5, drifting.usual_of_others(workshop, "kestrel", workshop.marks()))
    assert calm.usual[0] < np.log(0.004)


def test_a_quick_correction_is_kept_in_the_logbook_and_is_no_drift(desk: Desk) -> None:
    workshop = desk.workshop
    past_of(workshop, "heron", [90, 60, 30], NOW, rate=0.001)
    heron = workshop.machine("heron")
    before = drifting.drifting(workshop, "heron", heron.plates[0].id, NOW)
    new = quick_change(desk, "heron", 0.03).change.new_mm
    correct(desk, "heron", Corrected(closer_mm=0.03, reported_mm=new, by="mk"))
    (entry,) = workshop.log("heron")
    assert (entry.kind, entry.by, entry.correction.away_mm) == ("correction", "mk", pytest.approx(-0.03))
    assert "closer" in entry.note
    after = drifting.drifting(workshop, "heron", heron.plates[0].id, datetime.now(UTC))
    (told,) = after.checks
    assert (told.moved_mm, told.off_mm) == (pytest.approx(-0.03), pytest.approx(0.03))
    # What the next run finds by it is not taken for drift.
    runs = workshop.figures.summaries("heron", 10)
    found = runs[0].model_copy(update={"started_at": datetime.now(UTC) + timedelta(days=1), "run_id": "next"})
    gone = drifting.stretches((found, *runs), workshop.log("heron"), heron.plates[0].id)
    assert gone[-1].change == pytest.approx(found.found.off + 0.03 - runs[0].left.off)
    assert len(gone) == len(drifting.stretches(runs, (), heron.plates[0].id)) + 1
    assert before.checks == ()
    # Another plate has a value of its own.
    assert drifting.stretches((found, *runs), workshop.log("heron"), "another") == ()
    with pytest.raises(Refused):
        logbook.tell(workshop, "heron", logbook.TellLog(id="x", by="mk", kind="correction"))


def test_a_check_that_shows_it_off_names_the_move(workshop: Workshop) -> None:
    past_of(workshop, "heron", [90, 60, 30, 21], NOW, rate=0.004)
    plate = workshop.machine("heron").plates[0].id
    told = {"kind": "check", "check": {"plate_id": plate, "place": "centre", "off_mm": 0.06}}
    logbook.tell(workshop, "heron", logbook.TellLog.model_validate({"id": "c", "by": "mk", "at": NOW, **told}))
    view = logbook.view(workshop, "heron", now=NOW)
    assert view.expected.outlook.move_mm < 0
    assert "mm closer would make it" in view.expected.words


def test_an_incident_since_asks_for_a_look_now(workshop: Workshop) -> None:
    past_of(workshop, "heron", [90, 60, 30, 4], NOW, rate=0.001)
    before = logbook.view(workshop, "heron").expected
    logbook.tell(workshop, "heron", logbook.TellLog(id="k1", by="mk", kind="knock", note="the bench fell over"))
    logbook.tell(workshop, "heron", logbook.TellLog(id="k1", by="mk", kind="knock"))
    view = logbook.view(workshop, "heron")
    assert len(view.entries) == 1
    assert view.expected.since == ("a knock or a crash",)
    assert view.expected.p_today < before.p_today
    assert "look again now" in view.expected.words


@pytest.mark.parametrize(
    ("told", "field"),
    [
        ({"kind": "prints"}, "count"),
        ({"kind": "note", "note": "  "}, "note"),
        ({"kind": "knock", "at": NOW + timedelta(days=3)}, "at"),
    ],
)
def test_what_cannot_be_is_refused_beside_its_field(told: dict, field: str, workshop: Workshop) -> None:
    with pytest.raises(Refused) as why:
        logbook.tell(workshop, "heron", logbook.TellLog(id="x", by="mk", **told))
    assert why.value.field == field
    assert workshop.log("heron") == ()


def test_nothing_is_expected_where_nothing_was_measured(workshop: Workshop) -> None:
    view = logbook.view(workshop, "wren")
    assert view.expected is None
    assert view.points == ()
    with pytest.raises(Refused, match="no plate"):
        logbook.view(workshop, "wren", "heron-steel")


def test_prints_written_down_are_what_it_is_due_by(workshop: Workshop) -> None:
    """Prints belong to the plate that was on the machine; what is due is told in prints once the drift goes by them."""
    r = np.random.default_rng(6)
    ago = [14.0 * k for k in range(16, 0, -1)]
    past_of(workshop, "heron", ago, NOW, rate=0.0)
    runs = list(reversed(workshop.figures.summaries("heron", 20)))
    for k, (run, days) in enumerate(zip(runs[1:], ago[1:], strict=True)):
        prints = (3, 90)[k % 2]
        told = logbook.TellLog(id=f"p{k}", by="mk", kind="prints", count=prints, at=NOW - timedelta(days=days + 3))
        logbook.tell(workshop, "heron", told)
        # It walks by prints, and stands still where none was made.
        off = 0.011 * (prints / 3) ** 0.5 * r.standard_normal() + 0.004 * r.standard_normal(5)
        shown = run.model_copy(update={"found": seen(run.left.places, off)})
        SummaryRow.update(body=shown.model_dump_json()).where(SummaryRow.run == run.run_id).execute()
    of = drifting.drifting(workshop, "heron", "heron-steel", NOW)
    assert of.known.pace.prints == pytest.approx(np.mean([3, 90]) / 14, rel=0.15)
    assert of.known.goes_by[1] > 0.4
    found = drifting.expected(workshop, "heron", "heron-steel", NOW - timedelta(days=12))
    assert "prints a day" in " ".join(found.why)
    assert "prints from now at the usual pace" in found.words
    # Many prints at once bring it nearer.
    found = drifting.expected(workshop, "heron", "heron-steel", NOW)
    logbook.tell(workshop, "heron", logbook.TellLog(id="many", by="mk", kind="prints", count=150))
    later = drifting.expected(workshop, "heron", "heron-steel", NOW)
    assert later.p_today < found.p_today


def test_how_often_the_sheet_came_off_is_asked_for(workshop: Workshop) -> None:
    with pytest.raises(Refused, match="how often the sheet"):
        logbook.tell(workshop, "heron", logbook.TellLog(id="off", by="mk", kind="removals"))
    logbook.tell(workshop, "heron", logbook.TellLog(id="off", by="mk", kind="removals", count=4))
    assert workshop.log("heron")[0].removals == 4


def test_a_machines_own_count_is_kept_as_what_was_printed_since(workshop: Workshop) -> None:
    def counted(made: int) -> list[tuple[str, int | None]]:
        keep_count(workshop, "wren", made, datetime.now(UTC))
        return [(e.kind, e.count) for e in workshop.log("wren")]

    assert counted(120) == [("note", None)]  # where it stands, and no print
    assert counted(120) == [("note", None)]
    assert counted(127)[0] == ("prints", 7)
    # A count that began anew takes nothing back.
    assert counted(2)[0] == ("note", None)
    assert "begun anew" in workshop.log("wren")[0].note
    assert counted(5)[0] == ("prints", 3)
    assert sum(e.prints for e in workshop.log("wren")) == 10


def test_a_knob_is_put_right_at_a_screw_by_the_gauge_alone(workshop: Workshop) -> None:
    past_of(workshop, "heron", [40.0, 30.0, 20.0], NOW)

    def tell(**check: object) -> None:
        told = {
            "id": f"c{len(workshop.log())}",
            "by": "mk",
            "kind": "check",
            "check": {"plate_id": "heron-steel", **check},
        }
        logbook.tell(workshop, "heron", logbook.TellLog.model_validate(told))

    for wrong in (
        {"place": "centre", "off_mm": 0.05, "put_right": True},
        {"place": "rear left", "verdict": "loose", "put_right": True},
    ):
        with pytest.raises(Refused, match="at a screw, with the gauge"):
            tell(**wrong)
    tell(place="rear left", off_mm=0.07)
    off = drifting.expected(workshop, "heron", "heron-steel", NOW).p_today
    tell(place="rear left", off_mm=0.07, put_right=True)
    assert drifting.drifting(workshop, "heron", "heron-steel", NOW).checks[-1].put_right
    assert drifting.expected(workshop, "heron", "heron-steel", NOW).p_today > off
