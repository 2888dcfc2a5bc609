"""The first layer's station: which proof is printed, how it is judged, and what is printed again."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from ivory_table.core.bead import OPEN, Grade
from ivory_table.core.proof import MOST_ZONES, PROOF_CHOICES, Zone, ladder_aways, plan
from ivory_table.desk.desk import Desk
from ivory_table.runs.doubts import Refused
from ivory_table.runs.judging import next_proof
from ivory_table.runs.run import OpenRun
from ivory_table.stations import first_layer
from ivory_table.stations.first_layer.doing import printing_of
from ivory_table.stations.first_layer.entries import (
    FeedMeasured,
    Judged,
    LadderRead,
    OtherFilamentTold,
    ProofEnded,
    ProofStarted,
    ToolTold,
    ZoneCleaned,
    ZoneSkipped,
)
from ivory_table.stations.first_layer.proposals import other_proof
from ivory_table.stations.first_layer.step import next_steps
from ivory_table.stations.offset.entries import ZeroDoubted
from tests.stations.proofs import by_truth, judged, printed

from .keeping import keep, start


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
    assert set(offered) == set(PROOF_CHOICES) - {"advised", "mesh", "reversed", "two_filaments"}
    for choice, one in offered.items():
        assert one.minutes > 0.5, choice
        assert one.leaves_mm < one.now_mm, choice
        run = keep(desk, "first_layer", ProofStarted(proof=next_proof(flat.state, choice)))
        view = first_layer.view.view(run)
        assert view.step == "judge"
        assert len(view.zones) == len(view.plan.zones)


def test_another_filament_is_laid_beside_it_whatever_the_next_step_is(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, *["barely"] * 5)
    assert run.state.open_proof is not None
    assert "two_filaments" not in {p.choice for p in other_proof(run, "pair").proposals}
    with pytest.raises(Refused, match="Say first which other filament"):
        other_proof(run, "two_filaments")
    usual = run.setup.filament
    with pytest.raises(Refused, match="is what this run prints with"):
        keep(desk, "first_layer", OtherFilamentTold(filament=usual))
    thick = usual.model_copy(update={"id": "thick", "diameter_mm": 2.85})
    with pytest.raises(Refused, match="one drive does not take both"):
        keep(desk, "first_layer", OtherFilamentTold(filament=thick))
    other = usual.model_copy(
        update={"id": "petg", "name": "clear PETG", "material": "PETG", "bed_c": 80, "nozzle_c": 240}
    )
    run = keep(desk, "first_layer", OtherFilamentTold(filament=other))
    offered = other_proof(run, "two_filaments")
    assert offered.plan.other == other
    assert [p.choice for p in offered.proposals if p.chosen] == ["two_filaments"]
    assert "Load PLA white again afterwards" in offered.printing.words
    assert "clear PETG wants 80 °C" in offered.printing.words
    assert "240 °C" in offered.printing.caution
    assert "releas" not in offered.printing.caution
    # On bare glass it would take the face with it.
    bare = run.setup.plate.model_copy(update={"face": "glass", "layers": ()})
    machine = run.setup.machine.model_copy(update={"plates": (bare,)})
    glass = replace(run, setup=run.setup.model_copy(update={"machine": machine}))
    assert "Lay a release layer" in printing_of(glass, offered.plan).caution
    before = run.state.causes.shared["roll"]
    run = keep(desk, "first_layer", ProofStarted(proof=offered.plan))
    assert first_layer.view.view(run).beside == ""
    for zone, grade in enumerate(["barely"] * 3 + ["sound"] * 3):
        run = keep(desk, "first_layer", Judged(zone=zone, grade=grade))
    view = first_layer.view.view(run)
    assert view.beside.startswith("clear PETG lies better than PLA white")
    print(
        before,
        run.state.wanted.field.shared,
        view.look,
        [(s.words, s.action.p_all_sound) for s in view.steps],
        view.zones[0].gap_mm,
        view.zones[0].sd_mm,
        view.eye,
    )
    assert max(view.causes, key=lambda c: c.p).id == "roll"
    assert run.state.wanted.field.shared["roll"] > before
    assert view.steps[0].action.causes == ("roll",) or view.look.cause == "roll"


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
    assert next_proof(run.state, "advised").kind == "three_heights"


def test_a_ladder_is_read_by_its_first_step_that_holds_and_by_the_few_before_it(desk: Desk, flat: OpenRun) -> None:
    """Told so in five entries it leaves the height as well known as by judging every step."""
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    ladder = printed(desk).state.proofs[-1].plan
    truth = 0.75
    looks = [ladder.bead.grade_at(max(truth + step.away_mm, 0.01)) for step in ladder.zones]
    first = next(k for k, look in enumerate(looks) if look not in OPEN)
    run = keep(desk, "first_layer", LadderRead(first=first, grade=looks[first]))
    asked = []
    while (zone := first_layer.view.view(run).next_zone) is not None:
        asked.append(zone)
        run = keep(desk, "first_layer", Judged(zone=zone, grade=looks[zone]))
    assert asked == list(range(first - 1, first - 1 - len(asked), -1))
    assert 1 < len(asked) < 6
    assert looks[asked[-1]] == "loose"
    view = first_layer.view.view(run)
    assert (view.step, view.printed) == ("decide", first + 1)
    # Those that nobody graded say nothing of an eye.
    assert view.eye.marks == len(asked) + 1
    assert all(z.open for z in view.zones[: asked[-1]])
    gap, sd = run.state.common_gap
    assert gap == pytest.approx(truth, abs=3 * sd)
    # Every step judged by itself, for comparison.
    for zone, look in enumerate(looks[: first + 1]):
        run = keep(desk, "first_layer", Judged(zone=zone, grade=look))
    assert (gap, sd) == pytest.approx(run.state.common_gap, abs=2e-3)


def test_a_step_of_a_ladder_that_nobody_looked_at_more_closely_is_passed_over_but_not_forgotten(
    desk: Desk, flat: OpenRun
) -> None:
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    printed(desk)
    # On the line it is stopped first, and looked at afterwards.
    run = keep(desk, "first_layer", LadderRead(first=9))
    assert first_layer.view.view(run).next_zone == 9
    run = keep(desk, "first_layer", Judged(zone=9, grade="sound"))
    assert first_layer.view.view(run).next_zone == 8
    known = run.state.common_gap
    run = keep(desk, "first_layer", ZoneSkipped(zone=8))
    assert first_layer.view.view(run).next_zone is None
    assert run.state.common_gap == pytest.approx(known)
    # What was said of a step by itself stays where the ladder is read anew.
    keep(desk, "first_layer", Judged(zone=4, grade="barely"))
    run = keep(desk, "first_layer", LadderRead(first=6, grade="ridged"))
    marks = run.state.proofs[-1].marks
    assert (marks[4].grade, marks[6].grade, max(marks)) == ("barely", "ridged", 6)
    assert marks[5].open


def test_a_ladder_of_which_no_step_holds_says_so(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    printed(desk)
    run = keep(desk, "first_layer", LadderRead(first=None))
    view = first_layer.view.view(run)
    assert view.next_zone is None
    assert view.step == "decide"
    shared = run.state.with_marks().causes.shared
    assert shared["height"] + shared["zero"] < 0.7


@given(st.floats(-30, 30), st.floats(0.0, 10.0), st.floats(0.05, 0.9))
def test_a_ladder_can_be_laid_however_little_is_known(gap: float, sd: float, layer: float) -> None:
    aways = ladder_aways(gap, sd, layer)
    zones = [Zone(name="step", x_mm=0, y_mm=0, away_mm=away) for away in aways]
    assert 1 <= len(zones) <= MOST_ZONES
    assert list(aways) == sorted(aways, reverse=True)


def test_a_ladder_that_was_cut_off_is_gone_on_with(desk: Desk, flat: OpenRun) -> None:
    """No step of those that were laid holds: the next ladder begins about where this one ended, and nothing is moved for it."""
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    ladder = printed(desk).state.proofs[-1].plan
    keep(desk, "first_layer", ProofEnded(outcome="cancelled", zones=6))
    run = keep(desk, "first_layer", LadderRead(first=None))
    best = next_steps(run)[0]
    assert best.action.kind == "ladder"
    assert best.words == "Go on with the ladder from where it was stopped."
    more = printed(desk).state.proofs[-1].plan
    assert more.kind == "ladder"
    last = ladder.zones[5].away_mm
    step = ladder.zones[0].away_mm - ladder.zones[1].away_mm
    assert last - 4 * step < more.zones[0].away_mm < last + step
    assert more.zones[-1].away_mm < last - 1.5


def test_where_the_first_step_of_a_ladder_holds_already_another_begins_further_up(desk: Desk, flat: OpenRun) -> None:
    """One look may be wrong, and the tip would stand in the plate: nothing is moved on that alone."""
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    ladder = printed(desk).state.proofs[-1].plan
    run = keep(desk, "first_layer", LadderRead(first=0, grade="squeezed"))
    best = next_steps(run)[0]
    assert best.action.kind == "ladder"
    assert best.words.startswith("Print a ladder")
    assert printed(desk).state.proofs[-1].plan.zones[0].away_mm > ladder.zones[0].away_mm


@pytest.mark.parametrize("how", ["nothing_laid", "all_skipped"])
def test_a_proof_of_which_nothing_was_judged_is_printed_again_and_is_no_second_look(
    desk: Desk, flat: OpenRun, how: str
) -> None:
    """The line was cancelled while it heated, or nobody wanted to judge it: neither is a dead end."""
    run = printed(desk)
    came_by = run.state.proofs[-1].came_by_shift_mm
    if how == "nothing_laid":
        run = keep(desk, "first_layer", ProofEnded(outcome="cancelled", zones=0))
    else:
        for zone in range(len(run.state.proofs[-1].plan.zones)):
            run = keep(desk, "first_layer", ZoneSkipped(zone=zone))
    view = first_layer.view.view(run)
    assert view.step == "decide"
    assert [s.action.kind for s in view.steps] == ["print_again"]
    proof = view.steps[0].keeps[-1]
    run = keep(desk, "first_layer", proof)
    newest = run.state.proofs[-1]
    assert (newest.repeats, newest.came_by_shift_mm) == (0, came_by)
    assert first_layer.view.view(run).next_zone == 0


@pytest.mark.parametrize(
    ("first", "grade", "words"),
    [(3, "loose", "sound or closer"), (None, "sound", "which step"), (47, None, "no zone 48")],
)
def test_what_no_ladder_can_show_is_refused(
    desk: Desk, flat: OpenRun, first: int | None, grade: Grade | None, words: str
) -> None:
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    printed(desk)
    with pytest.raises((ValidationError, Refused), match=words):
        keep(desk, "first_layer", LadderRead(first=first, grade=grade))


def test_patches_are_not_read_as_a_ladder(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    with pytest.raises(Refused, match="no ladder"):
        keep(desk, "first_layer", LadderRead(first=2, grade="sound"))


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


def test_a_skipped_zone_is_not_waited_for_and_can_be_judged_after_all(desk: Desk, flat: OpenRun) -> None:
    printed(desk)
    run = judged(desk, "sound", "sound", "sound", "sound")
    assert first_layer.view.view(run).next_zone == 4
    run = keep(desk, "first_layer", ZoneSkipped(zone=4))
    view = first_layer.view.view(run)
    assert (view.next_zone, view.zones[4].skipped) == (None, True)
    run = keep(desk, "first_layer", Judged(zone=4, grade="sound"))
    assert not first_layer.view.view(run).zones[4].skipped


def test_a_proof_that_lies_off_the_plate_is_refused(desk: Desk, flat: OpenRun) -> None:
    laid = plan(flat.setup.machine, flat.setup.plate, flat.setup.filament, 5)
    off = laid.zones[0].model_copy(update={"x_mm": 900.0})
    with pytest.raises(Refused, match="off"):
        keep(desk, "first_layer", ProofStarted(proof=laid.model_copy(update={"zones": (off, *laid.zones[1:])})))


def test_each_zone_at_three_heights_is_advised_once_the_caliper_is_known_of(desk: Desk, flat: OpenRun) -> None:
    assert next_proof(flat.state, "advised").kind == "patches"
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    run = keep(desk, "first_layer", ToolTold(tool="caliper", here=False))
    laid = next_proof(run.state, "advised")
    assert laid.kind == "three_heights"
    view = first_layer.view.view(run)
    assert [p.choice for p in view.proposals if p.advised] == ["three_heights"]
    told = {p.choice: p.leaves_mm for p in view.proposals}
    assert told["three_heights"] < told[5]
    printed(desk)
    run = by_truth(desk, [0.2, 0.2, 0.2, 0.2, 0.2])
    view = first_layer.view.view(run)
    # Each patch is spoken of as its zone runs, not as it was laid itself.
    assert [z.error_mm for z in view.zones[:3]] == pytest.approx([view.zones[1].error_mm] * 3, abs=0.002)
    assert view.zones[2].gap_mm - view.zones[0].gap_mm == pytest.approx(2 * laid.zones[2].away_mm, abs=0.004)
    # The five zones that are wanted were seen by their patches; nothing fell, and nothing else is to be done.
    assert len(run.state.wanted.judged) == 5
    best = next_steps(run)[0]
    assert best.action.kind == "done"
    assert run.state.proof_done
    # What was cleaned is seen on whole patches, and so is a plate whose height is not known.
    run = keep(desk, "first_layer", ZoneCleaned(zone=0))
    assert next_proof(run.state, "advised").kind == "patches"
    run = keep(desk, "offset", ZeroDoubted(why="nozzle"))
    assert next_proof(run.state, "advised").kind != "three_heights"


def test_what_is_printed_again_is_said_as_what_it_is(desk: Desk, flat: OpenRun) -> None:
    keep(desk, "first_layer", FeedMeasured(measured_mm=(100.0, 100.0), sure=True))
    printed(desk)
    run = judged(desk, *["sound"] * 5)
    again = next(s for s in next_steps(run) if s.action.kind == "print_again")
    assert again.words.startswith("Print each zone at three heights")
    run = keep(desk, "first_layer", again.keeps[0])
    assert run.state.proofs[-1].plan.kind == "three_heights"
    run = judged(desk, *["sound", "sound", "parted"] * 5)
    again = next(s for s in next_steps(run) if s.action.kind == "print_again")
    assert again.words == "Print the same proof again."
    run = keep(desk, "first_layer", again.keeps[0])
    assert run.state.proofs[-1].repeats == 2
