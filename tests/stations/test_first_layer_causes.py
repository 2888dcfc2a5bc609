"""What else than the height: causes looked for, mended, taken back; the feed; the caliper."""

import pytest

from ivory_table.core.defaults import LAYER
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.desk.knowledge import feed_of
from ivory_table.runs.common import TakenBack
from ivory_table.runs.doubts import Refused
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.entries import (
    CauseLookedFor,
    CauseMended,
    FeedCorrected,
    FeedMeasured,
    Judged,
    ToolTold,
    ZoneCleaned,
)
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.prepare.entries import CheckDone
from ivory_table.stations.sign_off.entries import SignedOff
from tests.stations.proofs import height_set, judged, printed

from .keeping import keep, start


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
    height_set(desk)
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
    height_set(desk)
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


def test_taking_back_a_remedy_gives_its_cause_back(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "loose", "loose", "loose", "loose", "loose")
    was = next_steps(run)[0].action
    run = keep(desk, "first_layer", CauseMended(cause="coat"))
    run = keep(desk, "first_layer", TakenBack(entry_id=run.kept[-1].id))
    assert next_steps(run)[0].action == was


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


def test_a_caliper_measures_the_closest_patch_of_each_zone(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", ToolTold(tool="caliper", here=True))
    printed(desk)
    run = judged(desk, *["sound", "sound", "parted"] * 4, "parted", "parted", "parted")
    best = next(s for s in next_steps(run) if s.action.kind == "caliper")
    assert set(best.action.measure) <= {0, 3, 6, 9}
    names = [run.state.proofs[-1].plan.zones[k].name for k in best.action.measure]
    assert best.words == f"Measure with a caliper: {', '.join(names)}."
    run = keep(desk, "first_layer", Judged(zone=0, grade="sound", caliper_mm=0.17, sure=True))
    rest = next((s for s in next_steps(run) if s.action.kind == "caliper"), None)
    assert rest is None or 0 not in rest.action.measure


def test_what_is_mended_after_a_remedy_in_vain_is_seen_on_a_ladder(desk: Desk, flat: OpenRun) -> None:
    """One print tells then whether it was that, or the height: the same patches once more would tell of one of them only."""
    printed(desk, 5)
    judged(desk, "loose", "barely", "parted", "loose", "loose")
    keep(desk, "first_layer", CauseMended(cause="cold_plate"))
    assert next_steps(desk.open("run"))[0].action.kind == "print_again"
    printed(desk, 5)
    judged(desk, "loose", "loose", "parted", "loose", "barely")
    run = keep(desk, "first_layer", CauseMended(cause="coat"))
    best = next_steps(run)[0]
    assert best.action.kind == "ladder"
    assert best.action.reason.startswith("Clean the whole plate, or renew its coat. What was mended before was in vain")
    assert run.state.wanted.plan.kind == "patches"
    run = keep(desk, "first_layer", *best.keeps)
    assert run.state.proofs[-1].plan.kind == "ladder"


def test_after_a_ladder_in_vain_no_other_is_printed(desk: Desk, flat: OpenRun) -> None:
    """What was mended is not mended again before a ladder was printed; once no step of it holds it is not the height."""
    printed(desk, 5)
    judged(desk, "sound", "sound", "sound", "sound", "sound")
    printed(desk, 5)
    run = judged(desk, "loose", "barely", "parted", "loose", "loose")
    keep(desk, "first_layer", CauseMended(cause="cold_plate"))
    keep(desk, "first_layer", CauseMended(cause="coat"))
    printed(desk, 5)
    run = judged(desk, "loose", "loose", "parted", "loose", "barely")
    ladder = next_steps(run)[0]
    assert ladder.action.kind == "ladder"
    keep(desk, "first_layer", *ladder.keeps)
    run = judged(desk, "barely", "barely", "barely")
    assert next_steps(run)[0].action.kind == "remedy"
