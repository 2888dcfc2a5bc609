"""The first layer's station: kinds of proof, signs, causes, the feed, and what is advised after them."""

from datetime import timedelta

import numpy as np
import pytest
from pydantic import ValidationError

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import LAYER
from ivory_table.core.proof import PROOF_CHOICES, ProofChoice, plan
from ivory_table.core.thermal import ThermalReading
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.desk.knowledge import feed_of
from ivory_table.runs.common import TakenBack
from ivory_table.runs.doubts import Refused
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.runs.standing import record_lines
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.entries import (
    CauseLookedFor,
    CauseMended,
    FeedCorrected,
    FeedMeasured,
    Judged,
    LayerChosen,
    LeftFor,
    ProofEnded,
    ProofStarted,
    ToolTold,
    ZoneCleaned,
    ZoneSkipped,
)
from ivory_table.stations.first_layer.settings import placing_view, recipe_view
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.offset.entries import ZeroDoubted
from ivory_table.stations.prepare.entries import CheckDone, Heated, ThermalRead
from ivory_table.stations.sign_off.entries import SignedOff
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.tram.entries import CentreFelt, Counted

from .test_run import keep, start


@pytest.fixture
def flat(desk: Desk) -> OpenRun:
    """Heron, trammed and its centre felt: the height is known to some hundredths."""
    run = start(desk, "heron")
    for _ in range(2):
        for screw in run.setup.machine.screws:
            run = keep(desk, "tram", Counted(screw=screw.name, marks=0, sure=True))
    return keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))


def judged(desk: Desk, *grades: str, **more: object) -> OpenRun:
    run = desk.open("run")
    for zone, grade in enumerate(grades):
        run = keep(desk, "first_layer", Judged(zone=zone, grade=grade, **more))
    return run


def printed(desk: Desk, choice: ProofChoice = "advised") -> OpenRun:
    return keep(desk, "first_layer", ProofStarted(proof=next_proof(desk.open("run").state, choice)))


def test_what_is_known_decides_what_is_printed_first(desk: Desk, flat: OpenRun) -> None:
    view = first_layer.view.view(flat)
    assert view.plan.kind == "patches"
    assert [p.choice for p in view.proposals if p.advised] == [5]
    run = keep(desk, "offset", ZeroDoubted(why="nozzle"))
    view = first_layer.view.view(run)
    assert view.plan.kind == "ladder"
    ladder = next(p for p in view.proposals if p.choice == "ladder")
    patches = next(p for p in view.proposals if p.choice == 5)
    assert ladder.advised
    assert ladder.leaves_mm < patches.leaves_mm / 2
    assert ladder.now_mm > 0.3


def test_every_kind_is_offered_with_its_minutes_and_can_be_kept(desk: Desk, flat: OpenRun) -> None:
    offered = {p.choice: p for p in first_layer.view.view(flat).proposals}
    assert set(offered) == set(PROOF_CHOICES) - {"advised", "mesh"}
    for choice, one in offered.items():
        assert one.minutes > 0.5, choice
        assert one.leaves_mm < one.now_mm, choice
        run = keep(desk, "first_layer", ProofStarted(proof=next_proof(flat.state, choice)))
        view = first_layer.view.view(run)
        assert view.step == "judge"
        assert len(view.zones) == len(view.plan.zones)


def test_a_ladder_is_judged_until_a_step_holds_and_gives_the_height(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    run = printed(desk)
    ladder = run.state.proofs[-1].plan
    truth = 0.75  # the gap as it stands
    for zone, step in enumerate(ladder.zones):
        grade = ladder.bead.grade_at(truth + step.away_mm)
        run = keep(desk, "first_layer", Judged(zone=zone, grade=grade))
        if grade == "sound":
            run = keep(desk, "first_layer", ProofEnded(outcome="cancelled", zones=zone + 1))
            break
    view = first_layer.view.view(run)
    assert view.step == "decide"
    gap, sd = run.state.common_gap
    assert gap == pytest.approx(truth, abs=3 * sd)
    assert sd < 0.03
    best = next_steps(run)[0]
    assert best.action.kind in ("offset", "feed")
    best = next(s for s in next_steps(run) if s.action.kind == "offset")
    assert truth + best.stored.shift_mm == pytest.approx(0.19, abs=0.05)
    # The whole plate is shown next, not the ladder again.
    assert next_proof(run.state, "advised").kind == "two_heights"


def test_after_a_ladder_on_a_plate_that_nobody_trammed_nothing_is_printed_over_all_of_it(desk: Desk) -> None:
    """The height is found over the middle, and taken up; corners may stand anywhere, so the tram comes before patches."""
    start(desk, "heron")
    run = printed(desk)
    ladder = run.state.proofs[-1].plan
    assert ladder.kind == "ladder"
    keep(desk, "first_layer", ToolTold(tool="rule", here=False))
    truth = -0.04
    for zone, step in enumerate(ladder.zones):
        grade = ladder.bead.grade_at(max(truth + step.away_mm, 0.01))
        run = keep(desk, "first_layer", Judged(zone=zone, grade=grade))
        if grade in ("sound", "ridged"):
            break
    best = next_steps(run)[0]
    assert best.action.kind == "offset"
    assert best.stored.shift_mm > 0.05
    run = keep(desk, "first_layer", best.keeps[-1])
    # Again, now that it stands right over the middle.
    run = keep(desk, "first_layer", ProofStarted(proof=ladder.only((len(ladder.zones) // 2,))))
    middle = run.state.proofs[-1].plan.zones[0].away_mm
    grade = ladder.bead.grade_at(max(truth + best.stored.shift_mm + middle, 0.01))
    run = keep(desk, "first_layer", Judged(zone=0, grade=grade))
    assert next_steps(run)[0].action.kind in ("tram", "offset", "mesh")


def test_a_cleaned_zone_is_printed_again_alone(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "sound", "sound", "sound", "sound", "loose")
    assert next_steps(run)[0].action.kind == "clean"
    assert first_layer.view.view(run).zones[4].verdict == "clean this zone"
    run = keep(desk, "first_layer", ZoneCleaned(zone=4))
    again = next_steps(run)[0]
    assert (again.action.kind, again.does) == ("print_again", "Printed again")
    (row,) = again.keeps
    assert [z.name for z in row.proof.zones] == ["rear right"]
    run = keep(desk, "first_layer", row)
    run = judged(desk, "sound")
    # One zone was printed, and all five are spoken of.
    assert len(run.state.wanted.judged) == 5
    best = next_steps(run)[0]
    assert best.action.kind in ("done", "print_again", "feed")
    assert best.action.p_all_sound > 0.3


def test_a_shared_cause_is_mended_before_the_height_is_touched(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    judged(desk, "sound", "sound", "sound", "sound", "sound")
    printed(desk, 5)
    run = judged(desk, "loose", "barely", "loose", "loose", "loose")
    view = first_layer.view.view(run)
    assert view.causes[0].id in ("coat", "cold_plate")
    assert sum(c.p for c in view.causes) <= 1.001
    best = next_steps(run)[0]
    assert best.action.kind == "remedy"
    assert "Do not change the height" in best.words
    before = run.state.causes.shared["coat"]
    for row in best.keeps:
        assert isinstance(row, CauseMended)
        run = keep(desk, "first_layer", row)
    assert next_steps(run)[0].action.kind == "print_again"
    run = keep(desk, "first_layer", next_steps(run)[0].keeps[0])
    likely = next(c.p for c in view.causes if c.id == "coat")
    assert before < run.state.causes.shared["coat"] < likely
    # Mended, and nothing holds still: then the height is not what it was taken for.
    run = judged(desk, "loose", "loose", "loose", "loose", "loose")
    assert run.state.zone_field(run.state.proofs[-1]).shared["zero"] > 0.3


def test_a_look_tells_a_cold_plate_from_a_worn_coat(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    judged(desk, "sound", "sound", "sound", "sound", "sound")
    printed(desk, 5)
    run = judged(desk, "loose", "barely", "loose", "loose", "loose")
    view = first_layer.view.view(run)
    before = {c.id: c.p for c in view.causes}
    assert view.look is not None
    assert view.look.cause == "cold_plate"
    assert next_steps(run)[0].action.causes[0] == "coat"
    cold = keep(desk, "first_layer", CauseLookedFor(cause="cold_plate", found=True))
    view = first_layer.view.view(cold)
    # Bayes' rule by hand, over what the two make of the look.
    look = LAYER.causes["cold_plate"].look
    weight = {n: p * (look.finds if n == "cold_plate" else look.wrong) for n, p in before.items()}
    now = {c.id: c.p for c in view.causes}
    assert now["cold_plate"] == pytest.approx(weight["cold_plate"] / sum(weight.values()), abs=0.02)
    assert next_steps(cold)[0].action.causes[0] == "cold_plate"
    # Nobody is sent to look twice, and what is taken back is gone.
    assert view.look is None or view.look.cause != "cold_plate"
    back = keep(desk, "first_layer", TakenBack(entry_id=cold.kept[-1].id))
    assert {c.id: c.p for c in first_layer.view.view(back).causes} == pytest.approx(before)
    right = keep(desk, "first_layer", CauseLookedFor(cause="cold_plate", found=False))
    assert right.state.zone_field(right.state.proofs[-1]).shared["coat"] > before["coat"]
    with pytest.raises(Refused, match="No look tells"):
        keep(desk, "first_layer", CauseLookedFor(cause="coat", found=True))


def test_the_practice_machine_answers_what_is_looked_for(desk: Desk, flat: OpenRun) -> None:
    hands = desk.hands(desk.open("run"))
    hands.fault("fan", 1)
    found = [hands.look_for("fan") for _ in range(40)]
    hands.fault("none", 1)
    missing = [hands.look_for("fan") for _ in range(40)]
    assert sum(found) > 30
    assert sum(missing) < 10
    with pytest.raises(ValueError, match="No look tells"):
        hands.look_for("coat")


def test_a_measured_feed_is_known_in_the_next_run_with_this_filament(desk: Desk, flat: OpenRun) -> None:
    def feed_asked(run: OpenRun) -> bool:
        return any(s.action.kind == "feed" for s in next_steps(run))

    printed(desk)
    run = judged(desk, "parted", "parted", "parted", "parted", "parted")
    assert next_steps(run)[0].action.kind == "feed"
    assert "every later run" in next_steps(run)[0].action.reason
    # Who cannot measure it now goes on without.
    without = keep(desk, "first_layer", ToolTold(tool="rule", here=False))
    assert not feed_asked(without)
    run = keep(desk, "first_layer", FeedMeasured(measured_mm=(97.0, 97.0), sure=True))
    again = start(desk, "heron", "again")
    assert again.setup.feed is not None
    assert again.setup.feed.off == pytest.approx(-0.03)
    assert again.setup.feed.at == run.kept[-1].at
    view = first_layer.view.view(again)
    assert (view.feed.known_at, view.feed.times) == (again.setup.feed.at, None)
    assert view.feed.flow == pytest.approx(-0.03, abs=0.002)
    # One spool differs from the next: less is known than a rule says, more than of a new machine.
    assert 0.01 < view.feed.flow_sd < 0.015 < first_layer.view.view(flat).feed.flow_sd
    # Corrected, it is right; taken back, nobody has measured it; and another filament is not known by it.
    keep(desk, "first_layer", FeedCorrected(times=1 / 0.97))
    assert start(desk, "heron", "right").setup.feed.off == 0.0
    for _ in range(2):
        keep(desk, "first_layer", TakenBack(entry_id=desk.open("run").kept[-1].id))
    assert start(desk, "heron", "gone").setup.feed is None
    assert feed_of(desk.workshop, "heron", "petg-grey") is None


def test_a_feed_holds_no_longer_once_the_firmware_is_renewed(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", FeedMeasured(measured_mm=(99.0,)))
    assert start(desk, "heron", "known").setup.feed is not None
    wanted = StartRun(
        id="renewed",
        machine_id="heron",
        plate_id="heron-steel",
        filament_id="pla-white",
        gauge_id="copy-paper",
        initials="mk",
        changes=("firmware",),
    )
    assert desk.start(wanted).feed is None
    assert start(desk, "heron", "after").setup.feed is None


def test_promises_are_kept_count_and_poor_ones_make_the_next_smaller(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "sound", "sound", "sound", "sound", "sound")
    assert run.state.proofs[-1].promised is None  # nothing was printed before
    for k in range(3):
        run = printed(desk, 5)
        promised = run.state.proofs[-1].promised
        assert 0 < promised < 1
        run = judged(desk, *["parted" if (k + z) % 2 else "ridged" for z in range(5)])
    eye = run.state.with_marks().eye
    assert eye.foretold == 3
    assert eye.came < eye.promised
    assert eye.trust < 1
    assert "were promised to look sound" in first_layer.view.view(run).eye.kept
    from ivory_table.core.eye import Eye

    assert Eye().trust == 1
    assert Eye().kept(0.5, 0.9).trust == 1
    assert Eye().kept(0.9, 0.1).kept(0.9, 0.1).trust < 0.9


def test_what_prepare_looked_at_is_hardly_the_cause(desk: Desk, flat: OpenRun) -> None:
    """Nothing holds on the second print: where the plate was cleaned it is rather cold, where it is hot rather dirty."""
    keep(desk, "prepare", CheckDone(check="plate_clean", outcome="done"))
    printed(desk)
    judged(desk, "sound", "sound", "sound", "sound", "sound")
    printed(desk, 5)
    run = judged(desk, "loose", "loose", "loose", "loose", "loose")
    shared = run.state.zone_field(run.state.proofs[-1]).shared
    assert shared["cold_plate"] > 1.3 * shared["coat"]


def test_a_feed_is_measured_corrected_and_believed(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "parted", "parted", "sound", "parted", "parted")
    assert "feed" in [s.action.kind for s in next_steps(run)]
    unmeasured = run.state.wanted.field.mean[0]
    with pytest.raises(Refused, match="Did you mean 96 mm"):
        keep(desk, "first_layer", FeedMeasured(measured_mm=(9.6,)))
    with pytest.raises(Refused, match="what was left up to a mark at 120 mm"):
        keep(desk, "first_layer", FeedMeasured(measured_mm=(25.0,)))
    run = keep(desk, "first_layer", FeedMeasured(measured_mm=(92.0, 92.5)))
    feed = first_layer.view.view(run).feed
    assert feed.off == pytest.approx(-0.0775)
    assert feed.times == pytest.approx(1 / 0.9225)
    assert feed.flow == pytest.approx(-0.0775, abs=0.01)
    # The same grades tell a smaller gap now: too little came out.
    assert run.state.wanted.field.mean[0] < unmeasured - 0.005
    assert "feed" not in [s.action.kind for s in next_steps(run)]
    run = keep(desk, "first_layer", FeedCorrected(times=feed.times))
    assert run.state.open_proof is None
    feed = first_layer.view.view(run).feed
    assert (feed.off, feed.times) == (0.0, None)
    assert abs(feed.flow) < 0.01


def test_a_caliper_is_asked_for_until_somebody_says_there_is_none(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "ridged", "ridged", "sound", "ridged", "sound")
    kinds = [s.action.kind for s in next_steps(run)]
    assert "caliper" in kinds
    run = keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    assert "caliper" not in [s.action.kind for s in next_steps(run)]
    run = keep(desk, "first_layer", Judged(zone=0, grade="ridged", caliper_mm=0.16, sure=True))
    assert run.state.caliper is True


def test_a_skipped_zone_is_not_waited_for_and_can_be_judged_after_all(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "sound", "sound", "sound", "sound")
    assert first_layer.view.view(run).next_zone == 4
    run = keep(desk, "first_layer", ZoneSkipped(zone=4))
    view = first_layer.view.view(run)
    assert (view.next_zone, view.zones[4].skipped) == (None, True)
    run = keep(desk, "first_layer", Judged(zone=4, grade="sound"))
    assert not first_layer.view.view(run).zones[4].skipped


def test_signs_without_a_grade_and_a_part_that_is_too_low_are_taken(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = keep(desk, "first_layer", Judged(zone=0, signs=("rough", "holds_hard")))
    assert run.state.zone_field(run.state.proofs[-1]).mean[0] < 0.185
    run = keep(desk, "first_layer", Judged(zone=1, short_mm=0.06))
    assert run.kept[-1].what.words(run.setup.machine) == "zone 2: the part 0.06 mm too low"
    with pytest.raises(ValueError, match="a grade, a sign, or what was measured"):
        Judged(zone=1)
    with pytest.raises(ValueError, match="given once"):
        Judged(zone=1, signs=("rough", "rough"))


def test_a_proof_that_lies_off_the_plate_is_refused(desk: Desk, flat: OpenRun) -> None:
    laid = plan(flat.setup.machine, flat.setup.plate, flat.setup.filament, 5)
    off = laid.zones[0].model_copy(update={"x_mm": 900.0})
    with pytest.raises(Refused, match="off"):
        keep(desk, "first_layer", ProofStarted(proof=laid.model_copy(update={"zones": (off, *laid.zones[1:])})))


def test_taking_back_a_remedy_gives_its_cause_back(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "loose", "loose", "loose", "loose", "loose")
    was = next_steps(run)[0].action
    run = keep(desk, "first_layer", CauseMended(cause="coat"))
    run = keep(desk, "first_layer", TakenBack(entry_id=run.kept[-1].id))
    assert next_steps(run)[0].action == was


def test_another_first_layer_ends_what_no_height_and_no_print_would(desk: Desk) -> None:
    machine = desk.workshop.machine("heron").model_copy(update={"can_mesh": False, "screws": ()})
    desk.workshop.keep_machine(machine)
    run = start(desk, "heron")
    run = keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
    gaps = (0.165, 0.24, 0.19, 0.2, 0.235)
    for _ in range(2):
        run = keep(desk, "first_layer", ProofStarted(proof=plan(machine, run.setup.plate, run.setup.filament, 5)))
        for zone, gap in enumerate(gaps):
            mark = Judged(zone=zone, grade=run.state.bead.grade_at(gap), caliper_mm=gap, sure=True)
            run = keep(desk, "first_layer", mark)
    best = next_steps(run)[0]
    assert best.action.kind == "settings"
    layer = best.action.layer
    assert layer is not None
    assert best.words.startswith(f"Print the parts with a first layer of {layer.layer_mm:.2f} mm")
    assert ("lines" in best.words) == layer.wider
    was = run.state
    for row in best.keeps:
        run = keep(desk, "first_layer", row)
    assert run.state.bead == Bead(layer.line_mm, layer.layer_mm)
    # What is printed next, and what the sheet calls sound, follow; the plate lies as it lay.
    for choice in (5, "advised", "two_heights"):
        assert next_proof(run.state, choice).bead == run.state.bead
    moved = layer.layer_mm - was.bead.layer_mm + (best.action.shift_mm or 0.0)
    found = run.state.wanted.field.gaps[0] - was.wanted.field.gaps[0]
    assert found == pytest.approx([moved] * 5, abs=0.003)
    view = first_layer.view.view(run)
    assert view.plan.layer_mm == layer.layer_mm
    assert view.sound_to_mm - view.sound_from_mm > 1.3 * np.ptp(was.bead.bands_mm()["sound"])
    assert recipe_view(run).recipes[0].layer_mm == layer.layer_mm
    assert "the usual one" in {r.name for r in recipe_view(run).recipes}
    lines = {line.name: (line.before, line.after) for line in record_lines(run)}
    assert lines["First layer"] == ("0.20 mm", f"{layer.layer_mm:.2f} mm, lines {layer.line_mm:.2f} mm wide")
    run = keep(desk, "first_layer", TakenBack(entry_id=run.kept[-1].id))
    assert run.state.bead == was.bead


def test_a_layer_higher_than_its_line_is_wide_is_refused() -> None:
    with pytest.raises(ValidationError, match="as wide as the layer is high"):
        LayerChosen(layer_mm=0.5, line_mm=0.4)


def test_settings_and_places_follow_what_is_known(desk: Desk, flat: OpenRun) -> None:
    view = recipe_view(flat)
    forgives = [r.forgives_mm for r in view.recipes]
    assert forgives == sorted(forgives)
    assert view.recipes[-1].p_all_sound > view.recipes[0].p_all_sound
    from ivory_table.core.placing import Footprint

    placed = placing_view(flat, Footprint(width_mm=60, depth_mm=40, count=3)).placing
    assert len(placed.places) == 3
    assert placed.p_all <= min(p.p_sound for p in placed.places) + 1e-9
    nothing = placing_view(flat, Footprint(width_mm=900, depth_mm=900)).placing
    assert (nothing.places, nothing.left_over) == ((), 1)


def test_a_part_is_held_down_by_its_foot_and_a_raft_is_spoken_of_only_where_the_layer_forgives_too_little(
    desk: Desk, flat: OpenRun
) -> None:
    from ivory_table.core.placing import Footprint

    pin = placing_view(flat, Footprint(width_mm=4, depth_mm=4, height_mm=60))
    assert pin.held.brim_mm
    assert pin.held.p_off > 0.5 > pin.held.p_off_with_brim
    block = placing_view(flat, Footprint(width_mm=60, depth_mm=40, height_mm=10))
    assert block.held.brim_mm == 0.0
    for view in (pin, block, placing_view(flat, Footprint(width_mm=190, depth_mm=190))):
        assert bool(view.raft) == (bool(view.placing.places) and view.placing.p_all < 0.5)
    # The largest and the thinnest are answered, and soon.
    assert placing_view(flat, Footprint(width_mm=1000, depth_mm=0.5, height_mm=2000)).held.p_off > 0.5


def test_a_plate_judged_before_it_is_still_is_waited_for(desk: Desk) -> None:
    run = start(desk, "heron")
    x, y = run.setup.plate.centre
    holds = [(20.0, 0.0, 30.0), (57.0, 0.05, 2.0), (57.0, 0.10, 6.0), (57.0, 0.13, 12.0), (57.0, 0.145, 30.0)]
    for c, h, held in holds:
        reading = ThermalReading(place="centre", x_mm=x, y_mm=y, bed_c=c, height_mm=h, held_min=held)
        keep(desk, "prepare", ThermalRead(reading=reading))
    for _ in range(2):
        for screw in run.setup.machine.screws:
            keep(desk, "tram", Counted(screw=screw.name, marks=0, sure=True))
    keep(desk, "tram", CentreFelt(z_mm=0.0, feel="drag"))
    now = desk.open("run").entries[-1].at
    keep(desk, "prepare", Heated(bed_c=57, nozzle_c=150, held_since=now - timedelta(minutes=1)))
    printed(desk)
    run = judged(desk, "sound", "sound", "parted", "sound", "sound")
    first = next_steps(run)[0]
    assert first.action.kind == "wait_heat"
    assert "stand for" in first.words
    assert [k.kind for k in first.keeps] == ["proof_started"]
    # On a plate that has stood long enough nothing of it is said.
    keep(desk, "prepare", Heated(bed_c=57, nozzle_c=150, held_since=now - timedelta(hours=1)))
    assert "wait_heat" not in {s.action.kind for s in next_steps(desk.open("run"))}


def test_a_plate_that_is_sound_in_part_may_be_left_for_what_lies_there(desk: Desk, flat: OpenRun) -> None:
    """One corner stays too far: the rest is offered, kept as what the plate was left for, and void once something moves."""
    for _ in range(3):
        run = printed(desk)
        laid = run.state.proofs[-1].plan
        for k in range(len(laid.zones)):
            far = k == 1
            grade, mm = ("parted", laid.layer_mm + 0.1) if far else ("sound", laid.layer_mm)
            run = keep(desk, "first_layer", Judged(zone=k, grade=grade, caliper_mm=mm))
    steps = next_steps(run)
    stop = next((s for s in steps if s.action.kind == "stop_here"), None)
    assert stop is not None
    assert "every place is sound with" in stop.action.reason
    assert steps[0] is not stop
    (row,) = stop.keeps
    run = keep(desk, "first_layer", row)
    # It is what comes first now, and it is done for this plate as it stands.
    first = next_steps(run)[0]
    assert first.leads_to == "sign_off"
    assert first_layer.standing.standing(run).done
    assert any(line.name == "Left for" for line in first_layer.standing.record(run))
    area = row.area
    loose_at = run.state.proofs[-1].plan.zones[1]
    inside_x = area.left_mm < loose_at.x_mm < area.left_mm + area.width_mm
    assert not (inside_x and area.front_mm < loose_at.y_mm < area.front_mm + area.depth_mm)
    run = keep(desk, "first_layer", OffsetSet(stored_mm=run.state.stored_mm - 0.01, sure=True))
    assert not first_layer.standing.standing(run).done


def test_what_a_caliper_is_off_by_is_handed_on_for_the_plate_and_the_filament(desk: Desk, flat: OpenRun) -> None:
    run = printed(desk)
    laid = run.state.proofs[-1].plan
    for k in range(len(laid.zones)):
        run = keep(desk, "first_layer", Judged(zone=k, grade="sound", caliper_mm=laid.layer_mm + 0.01))
    keep(desk, "sign_off", SignedOff(note=""))
    handed = start(desk, "heron", "next").setup.caliper
    assert handed.values == len(laid.zones)
    assert handed.sd_mm < start(desk, "kestrel", "elsewhere").setup.caliper.sd_mm
    assert desk.workshop.lessons(machine_id="heron", plate_id="heron-steel")[0].caliper.filament_id == "pla-white"


@pytest.mark.parametrize("wrong", [{"width_mm": -5}, {"depth_mm": 1e12}, {"p": 7}, {"left_mm": float("nan")}])
def test_an_area_that_no_plate_has_is_refused(wrong: dict[str, float]) -> None:
    area = {"left_mm": 10, "front_mm": 10, "width_mm": 100, "depth_mm": 100, "p": 0.8} | wrong
    with pytest.raises(ValidationError):
        LeftFor.model_validate({"area": area})


def by_truth(desk: Desk, gaps: list[float], *, measured: bool = False) -> OpenRun:
    """Every zone of the newest proof judged by the gaps that the five zones have as the nozzle runs; closer halves measured."""
    run = desk.open("run")
    proof = run.state.proofs[-1].plan
    places = run.state.wanted.plan.zone_places
    for k, zone in enumerate(proof.zones):
        gap = gaps[places.index(zone.place)] + zone.away_mm
        thick = round(gap, 2) if measured and zone.away_mm < 0 else None
        run = keep(desk, "first_layer", Judged(zone=k, grade=proof.bead.grade_at(gap), caliper_mm=thick, sure=True))
    return run


def test_each_zone_at_two_heights_is_advised_once_the_caliper_is_known_of(desk: Desk, flat: OpenRun) -> None:
    assert next_proof(flat.state, "advised").kind == "patches"
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    run = keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    laid = next_proof(run.state, "advised")
    assert laid.kind == "two_heights"
    view = first_layer.view.view(run)
    assert [p.choice for p in view.proposals if p.advised] == ["two_heights"]
    told = {p.choice: p.leaves_mm for p in view.proposals}
    assert told["two_heights"] < told[5]
    printed(desk)
    run = by_truth(desk, [0.2, 0.2, 0.2, 0.2, 0.2])
    view = first_layer.view.view(run)
    # A half is spoken of as its zone runs, not as it was laid itself.
    assert [z.error_mm for z in view.zones[:2]] == pytest.approx([view.zones[0].error_mm] * 2, abs=0.002)
    assert view.zones[1].gap_mm - view.zones[0].gap_mm == pytest.approx(2 * laid.zones[1].away_mm, abs=0.004)
    # The five zones that are wanted were seen by their halves; nothing fell, and nothing else is to be done.
    assert len(run.state.wanted.judged) == 5
    best = next_steps(run)[0]
    assert best.action.kind == "done"
    assert run.state.proof_done
    # What was cleaned is seen on whole patches, and so is a plate whose height is not known.
    run = keep(desk, "first_layer", ZoneCleaned(zone=0))
    assert next_proof(run.state, "advised").kind == "patches"
    run = keep(desk, "offset", ZeroDoubted(why="nozzle"))
    assert next_proof(run.state, "advised").kind != "two_heights"


def test_after_a_sure_move_nothing_more_is_printed(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    printed(desk)
    run = by_truth(desk, [0.222, 0.218, 0.22, 0.224, 0.22], measured=True)
    best = next_steps(run)[0]
    assert best.action.kind == "offset"
    assert best.stored.shift_mm < 0
    assert best.action.p_all_sound > 0.87
    for row in best.keeps:
        run = keep(desk, "first_layer", row)
    moved = run.state
    assert moved.sound_unseen == pytest.approx(best.action.p_all_sound, abs=0.06)
    view = first_layer.view.view(run)
    assert (view.step, view.unseen) == ("done", True)
    assert [s.action.kind for s in view.steps] == ["done", "print_again"]
    assert "of 100 cases" in view.steps[0].action.reason
    assert moved.proof_done
    # The value that was set is read back before anything ends; the record says what was seen and what was not.
    assert view.steps[0].leads_to == "offset"
    assert view.whole_plate.startswith("The 5 zones are what was looked at. Of the whole plate about")
    lines = {line.name: line.after for line in record_lines(run)}
    assert lines["Proof 1"] == "5 of 5 zones sound, of each zone two halves"
    assert lines["Last move"] == f"not printed since; every zone sound with {moved.sound_unseen:.0%}"
    read = keep(desk, "offset", Readback(reported_mm=moved.stored_mm))
    assert next_steps(read)[0].leads_to == "sign_off"
    run = keep(desk, "offset", TakenBack(entry_id=read.entries[-1].id))
    # Whoever wants to see it prints whole patches, and they are judged as ever.
    assert view.plan.kind == "patches"
    run = keep(desk, "first_layer", view.steps[1].keeps[0])
    assert run.state.sound_unseen is None
    assert not run.state.proof_done
    keep(desk, "first_layer", TakenBack(entry_id=run.entries[-1].id))
    # After another feed it is seen printed first, whatever is computed.
    fed = keep(desk, "first_layer", FeedCorrected(times=1.001))
    assert fed.state.sound_unseen is None
    keep(desk, "first_layer", TakenBack(entry_id=fed.kept[-1].id))
    # A step further off, and it must be printed.
    run = keep(desk, "first_layer", OffsetSet(stored_mm=moved.stored_mm - 0.06, sure=True))
    assert run.state.sound_unseen is None
    assert first_layer.view.view(run).step == "print_again"


def test_nothing_is_done_without_a_print_where_something_fell(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    judged(desk, "sound", "sound", "loose", "sound", "sound")
    run = desk.open("run")
    run = keep(desk, "first_layer", OffsetSet(stored_mm=run.state.stored_mm - 0.01, sure=True))
    assert run.state.sound_unseen is None
    assert not run.state.proof_done


def test_a_caliper_measures_the_closer_half_of_each_zone(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", ToolTold(tool="caliper", here=True))
    printed(desk)
    run = judged(desk, *["sound", "parted"] * 3, "sound", "sound", "parted", "parted")
    best = next(s for s in next_steps(run) if s.action.kind == "caliper")
    assert set(best.action.measure) <= {0, 2, 4, 6}
    names = [run.state.proofs[-1].plan.zones[k].name for k in best.action.measure]
    assert best.words == f"Measure with a caliper: {', '.join(names)}."
    run = keep(desk, "first_layer", Judged(zone=0, grade="sound", caliper_mm=0.17, sure=True))
    rest = next((s for s in next_steps(run) if s.action.kind == "caliper"), None)
    assert rest is None or 0 not in rest.action.measure


def test_the_record_counts_zones_and_not_halves_or_steps(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    printed(desk, "ladder")
    run = judged(desk, "loose", "sound")
    step = run.state.proofs[-1].plan.zones[1].name
    assert [line.after for line in record_lines(run) if line.name == "Proof 1"] == [f"ladder, sound at {step}"]
    assert run.state.proofs[-1].zones_sound is None
    printed(desk, "two_heights")
    run = judged(desk, *["sound", "parted"] * 3, *["parted"] * 4)
    assert run.state.proofs[-1].zones_sound == (3, 5)


def test_what_is_printed_again_is_said_as_what_it_is(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    printed(desk)
    run = judged(desk, *["sound"] * 5)
    again = next(s for s in next_steps(run) if s.action.kind == "print_again")
    assert again.words.startswith("Print each zone at two heights")
    run = keep(desk, "first_layer", again.keeps[0])
    assert run.state.proofs[-1].plan.kind == "two_heights"
    run = judged(desk, *["sound", "parted"] * 5)
    again = next(s for s in next_steps(run) if s.action.kind == "print_again")
    assert again.words == "Print the same proof again."
    run = keep(desk, "first_layer", again.keeps[0])
    assert run.state.proofs[-1].repeats == 2


def test_a_first_layer_that_was_chosen_is_that_of_the_next_run_until_it_is_taken_back(
    desk: Desk, flat: OpenRun
) -> None:
    usual = flat.state.bead
    run = keep(desk, "first_layer", LayerChosen(layer_mm=0.28, line_mm=0.48))
    at = run.kept[-1].at
    run = keep(desk, "first_layer", ProofStarted(proof=next_proof(run.state, 5)))
    assert run.state.open_proof.plan.layer_mm == 0.28
    again = start(desk, "heron", "again")
    assert again.state.bead == Bead(0.48, 0.28)
    view = first_layer.view.view(again)
    assert (view.plan.layer_mm, view.plan.line_mm) == (0.28, 0.48)
    assert (
        view.layer_words
        == f"Not the usual first layer: 0.28 mm, as chosen on {at:%Y-%m-%d}. Parts are printed so as well."
    )
    # The usual one is among the settings, and choosing it holds as well.
    assert any(r.layer_mm == usual.layer_mm for r in recipe_view(again).recipes)
    back = keep(desk, "first_layer", LayerChosen(layer_mm=usual.layer_mm, line_mm=usual.line_mm), "again")
    assert (back.state.bead, first_layer.view.view(back).layer_words) == (usual, "")
    assert start(desk, "heron", "usual").setup.layer is None
    # Taken back it is as it was before; another machine, or another nozzle, never knew of it.
    keep(desk, "first_layer", TakenBack(entry_id=back.kept[-1].id), "again")
    assert start(desk, "heron", "third").setup.layer.bead == Bead(0.48, 0.28)
    assert start(desk, "wren", "other").setup.layer is None
    heron = desk.workshop.machine("heron")
    desk.workshop.keep_machine(heron.model_copy(update={"nozzle_mm": 0.6}))
    assert start(desk, "heron", "wider").setup.layer is None
