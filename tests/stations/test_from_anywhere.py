"""Coming down from anywhere: own buttons, a sign nobody has seen, a display that lies, and values mistyped."""

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from ivory_table.core.gauge import Feel, Gauge
from ivory_table.core.offset import convention, presses, slipped
from ivory_table.desk.desk import Desk, StartRun
from ivory_table.runs.common import TakenBack
from ivory_table.runs.doubts import Refused
from ivory_table.stations import offset, prepare
from ivory_table.stations.offset.entries import (
    DisplayShown,
    Felt,
    PadsLaid,
    ProbeTouched,
    SecondBegun,
    SecondGauged,
    SecondPassed,
    SecondTurned,
    SensorMeasured,
    SignShown,
    ThickTried,
    ZeroDoubted,
)
from ivory_table.stations.stored.entries import OffsetSet, Readback
from ivory_table.stations.stored.quick import Corrected, correct, quick_change

from .keeping import keep, practise, start
from .machines import renew

STEPS = (1.0, 0.1, 0.02)


@given(st.integers(-300, 300), st.integers(-300, 300), st.integers(1, 40))
def test_presses_end_where_they_should_from_above_and_one_too_many_is_safe(a: int, b: int, below: int) -> None:
    from_mm, to_mm = a * 0.02, b * 0.02
    lowest = to_mm - below * 0.02
    at, found = from_mm, presses(from_mm, to_mm, STEPS, lowest)
    assert found
    for press in found:
        for _ in range(press.times):
            at += press.mm if press.up else -press.mm
        if not press.up and press.mm > min(STEPS):
            assert at - press.mm >= lowest - 1e-9
    assert at == pytest.approx(to_mm, abs=1e-9)
    assert not found[-1].up


def test_heights_between_the_smallest_steps_are_not_pressed() -> None:
    assert presses(0.0, -0.13, STEPS, -0.2) == ()
    assert presses(0.0, -0.5, (), -1) == ()


@pytest.mark.parametrize(
    ("typed", "why"),
    [
        (-1.34, "the sign"),
        (13.4, "the decimal"),
        (0.134, "the decimal"),
        (1340, "thousandths"),
        (0.0528, "inches"),
        (1.44, "thickness"),
    ],
)
def test_a_slip_is_named_with_what_was_meant(typed: float, why: str) -> None:
    found = slipped(1.2, typed, 1.34, 0.1, 0.03)
    assert found is not None
    assert why in found[0]
    assert found[1] == pytest.approx(1.34, abs=0.03)


def test_what_is_near_or_nothing_like_it_is_no_slip() -> None:
    assert slipped(1.2, 1.35, 1.34, 0.1, 0.03) is None
    assert slipped(1.2, 5.0, 1.34, 0.1, 0.03) is None


def unproved(desk: Desk, **more: object) -> None:
    start(desk, "heron", "before")
    renew(desk, "heron", sign_proved=False, **more)
    start(desk, "heron")


def test_a_large_change_waits_until_the_sign_was_shown(desk: Desk) -> None:
    unproved(desk)
    with pytest.raises(Refused) as asked:
        keep(desk, "offset", OffsetSet(stored_mm=1.0))
    assert (asked.value.code, asked.value.insist) == ("sign_not_shown", True)
    tried = offset.view.view(desk.open("run")).sign
    assert not tried.proved
    # Heron's stop position: larger is closer, so the number is made smaller and the tip rises.
    assert tried.larger_by_mm < 0
    assert keep(desk, "offset", SignShown(larger_by_mm=tried.larger_by_mm, went="further")).state.sign_proved
    assert desk.workshop.machine("heron").sign_proved
    assert keep(desk, "offset", OffsetSet(stored_mm=1.0)).state.stored_mm == 1.0


def test_a_machine_that_counts_the_other_way_is_found_out_and_stays_known(desk: Desk) -> None:
    unproved(desk)
    other = SignShown(larger_by_mm=-0.5, went="closer")
    with pytest.raises(Refused, match="larger number brings this tip further"):
        keep(desk, "offset", other)
    with pytest.raises(Refused, match="That is probe offset"):
        keep(desk, "offset", other.model_copy(update={"convention": "home_offset"}))
    run = keep(desk, "offset", other.model_copy(update={"convention": "probe_offset"}))
    before = run.state.belief.shift_mm
    run = keep(desk, "offset", OffsetSet(stored_mm=1.40))
    assert run.state.belief.shift_mm - before == pytest.approx(0.06)
    assert convention(run.state.convention_id).sign == 1
    assert desk.workshop.machine("heron").convention == "probe_offset"


def test_a_tip_that_stayed_proves_nothing(desk: Desk) -> None:
    unproved(desk)
    assert not keep(desk, "offset", SignShown(larger_by_mm=-0.5, went="nowhere")).state.sign_proved
    with pytest.raises(ValueError, match="less cannot be seen"):
        SignShown(larger_by_mm=0.1, went="closer")


def test_a_display_that_shows_something_else_is_explained_first(desk: Desk) -> None:
    run = start(desk, "heron")
    with pytest.raises(Refused, match="Nothing comes down before that is explained"):
        keep(desk, "offset", DisplayShown(shows_mm=4.2))
    run = keep(desk, "offset", DisplayShown(shows_mm=4.2, means="zero"))
    view = offset.view.view(run)
    assert view.next_shown_mm == pytest.approx(view.next_z_mm + 4.2)
    run = keep(desk, "offset", DisplayShown(shows_mm=5.0, means="height"))
    view = offset.view.view(run)
    assert view.next_shown_mm == view.next_z_mm


def test_a_button_mixed_up_is_noticed_from_what_is_felt_next(desk: Desk) -> None:
    start(desk, "heron", "before")
    renew(desk, "heron", z_presses_mm=(1.0, 0.1, 0.01))
    start(desk, "heron")
    practise(desk, "tram")
    x, y = desk.open("run").setup.plate.centre
    for _ in range(3):
        view = offset.view.view(desk.open("run"))
        if view.next_z_mm is None:
            break
        assert view.presses
        keep(desk, "offset", Felt(x_mm=x, y_mm=y, z_mm=view.next_z_mm, feel="free"))
    view = offset.view.view(desk.open("run"))
    # Far above the drag by all that is known, and stuck all the same: 0.1 was pressed for 0.01, or 1 for 0.1.
    high = round(view.moves[-1].z_mm + 0.2, 2)
    with pytest.raises(Refused) as asked:
        keep(desk, "offset", Felt(x_mm=x, y_mm=y, z_mm=high, feel="stuck"))
    assert asked.value.code in ("button_mixed_up", "readings_contradict")


def test_a_mistyped_value_is_asked_about_with_the_likely_one(desk: Desk) -> None:
    start(desk, "heron")
    practise(desk, "tram")
    practise(desk, "offset")
    stored = desk.open("run").state.stored_mm
    with pytest.raises(Refused, match=f"Perhaps the decimal point slipped: {stored:g}"):
        keep(desk, "offset", OffsetSet(stored_mm=round(10 * stored, 4)))
    run = keep(desk, "offset", OffsetSet(stored_mm=round(stored + 0.01, 4)))
    assert run.state.readback_due
    keep(desk, "offset", Readback(reported_mm=run.state.stored_mm))


def test_every_plate_has_its_own_value_and_mounting_it_foretells_it(desk: Desk) -> None:
    for k, (plate, stored) in enumerate((("heron-steel", 1.30), ("heron-glass", 1.52), ("heron-steel", 1.31))):
        desk.start(
            StartRun(
                id=f"r{k}",
                machine_id="heron",
                plate_id=plate,
                filament_id="pla-white",
                gauge_id="copy-paper",
                initials="mk",
            )
        )
        keep(desk, "offset", OffsetSet(stored_mm=stored, sure=True), f"r{k}")
        keep(desk, "offset", Readback(reported_mm=stored), f"r{k}")
    glass = StartRun(
        id="again",
        machine_id="heron",
        plate_id="heron-glass",
        filament_id="pla-white",
        gauge_id="copy-paper",
        initials="mk",
    )
    setup = desk.start(glass)
    assert setup.foretold_mm == pytest.approx(1.31 + 0.215, abs=1e-6)
    assert 0.01 < setup.foretold_sd_mm < 0.05
    view = prepare.view.view(desk.open("again"))
    assert view.foretold is not None
    assert "when it was mounted before" in view.foretold_why


def test_a_quick_correction_is_proved_by_what_the_machine_reports(desk: Desk) -> None:
    looked = quick_change(desk, "heron", 0.02)
    assert looked.change.words == "0.02 mm closer"
    # Stop position: larger is closer.
    assert looked.change.new_mm == pytest.approx(1.36)
    with pytest.raises(Refused, match="Ask the machine"):
        correct(desk, "heron", Corrected(closer_mm=0.02, confirmed=True))
    with pytest.raises(Refused, match=r"meant was 1\.36"):
        correct(desk, "heron", Corrected(closer_mm=0.02, reported_mm=1.32))
    with pytest.raises(Refused) as asked:
        correct(desk, "heron", Corrected(closer_mm=0.5, reported_mm=1.84))
    assert asked.value.insist
    assert correct(desk, "heron", Corrected(closer_mm=0.02, reported_mm=1.36)) == pytest.approx(1.36)
    assert desk.workshop.machine("heron").stored_mm == pytest.approx(1.36)
    start(desk, "heron")
    with pytest.raises(Refused, match="A run is open"):
        correct(desk, "heron", Corrected(closer_mm=0.02, reported_mm=1.38))


def test_a_probe_is_touched_again_and_again_and_its_sensor_set(desk: Desk) -> None:
    run = start(desk, "kestrel")
    assert offset.probe.probe_check(run).sensor is None
    for k in range(8):
        run = keep(desk, "offset", ProbeTouched(z_mm=0.002 * (k % 2), bed_c=22))
    assert offset.probe.probe_check(run).repeats.verdict == "good"
    run = keep(desk, "offset", SensorMeasured(margin_mm=2.2, pitch_mm=0.5))
    found = offset.probe.probe_check(run)
    assert found.sensor is not None
    assert found.sensor.turns == pytest.approx(-2.0)
    assert found.repeats.touches == 0
    with pytest.raises(Refused, match="has no probe"):
        offset.probe.probe_check(start(desk, "heron", "other"))


def test_a_second_tip_is_brought_to_its_height(desk: Desk) -> None:
    run = start(desk, "heron")
    assert not offset.second.second_view(run).begun
    with pytest.raises(ValueError, match="Say first how the second tip is wanted"):
        keep(desk, "offset", SecondGauged(above_mm=0.2))
    keep(desk, "offset", SecondBegun(wanted_mm=0.0, pitch_mm=0.5))
    run = keep(desk, "offset", SecondGauged(above_mm=0.2))
    view = offset.second.second_view(run)
    assert view.next is not None
    assert view.next.step == "turn"
    with pytest.raises(Refused, match="No pads"):
        offset.second.pads_program(run)
    run = keep(desk, "offset", SecondTurned(turns=view.next.turns))
    view = offset.second.second_view(run)
    assert view.next is not None
    assert view.next.step == "print"
    assert "pad 9" in offset.second.pads_program(run).text
    pads = view.next.pads
    assert pads is not None
    keep(desk, "offset", PadsLaid(tops_mm=pads.tops_mm))
    z = view.next.pass_z_mm
    with pytest.raises(Refused, match="A lower pad was touched"):
        keep(desk, "offset", SecondPassed(z_mm=z, touched=(True,) + (False,) * 8))
    run = keep(desk, "offset", SecondPassed(z_mm=z, touched=tuple(top > z + 0.001 for top in pads.tops_mm)))
    view = offset.second.second_view(run)
    assert view.sd_mm is not None
    assert view.sd_mm < 0.015
    assert len(view.fresh) == sum(top <= z + 0.001 for top in pads.tops_mm)


def told(from_mm: float, to_mm: float, lowest_mm: float) -> list[tuple[float, int, bool]]:
    return [(p.mm, p.times, p.up) for p in presses(from_mm, to_mm, STEPS, lowest_mm)]


def test_presses_are_few_and_large_ones_stop_in_time() -> None:
    assert told(3.0, 0.0, -5.0) == [(1.0, 3, False)]
    # One of 0.1 too many would stand at -0.6, which is just allowed; of 1 it would not.
    assert told(0.0, -0.5, -0.6) == [(0.1, 5, False)]
    assert told(0.0, -0.5, -0.55) == [(0.1, 4, False), (0.02, 5, False)]
    assert told(0.0, -0.5, -0.5) == [(0.1, 4, False), (0.02, 5, False)]
    # Upwards: past it by the smallest step that reaches over it, then down.
    assert told(0.0, 0.9, 0.0) == [(1.0, 1, True), (0.1, 1, False)]
    assert told(0.0, 0.06, -5.0) == [(0.1, 1, True), (0.02, 2, False)]
    assert told(0.0, 1.0, -9.0) == [(1.0, 2, True), (1.0, 1, False)]
    assert told(0.0, 2.5, -9.0) == [(1.0, 3, True), (0.1, 5, False)]
    assert told(0.0, 0.0, -9.0) == [(0.02, 1, True), (0.02, 1, False)]


@pytest.mark.parametrize("wanted", [0.0, 1.2])
def test_a_practice_machine_has_a_second_tip_that_is_brought_to_its_height(desk: Desk, wanted: float) -> None:
    run = start(desk, "heron")
    run = keep(desk, "offset", SecondBegun(wanted_mm=wanted, pitch_mm=0.5, clockwise_raises=False))
    for k in range(30):
        view = offset.second.second_view(run)
        if view.next.step == "done":
            break
        run = desk.ask_hands("run", "offset", f"s{k}", run.seq, lambda run: offset.second.second_by_practice(desk, run))
    assert view.next.step == "done"
    truth = desk.hands(run).body.truth.second_mm
    assert truth == pytest.approx(wanted, abs=0.03)
    assert view.between_mm[0] - 0.02 <= truth <= view.between_mm[1] + 0.02
    with pytest.raises(Refused, match="Nothing is to be done"):
        offset.second.second_by_practice(desk, run)


def test_the_gauge_is_slid_once_more_without_a_press_and_without_a_move(desk: Desk) -> None:
    run = start(desk, "heron")
    steps = run.setup.machine.model_copy(update={"z_presses_mm": (1.0, 0.1, 0.01)})
    while not (view := offset.view.view(run)).stays:
        assert view.step == "feel"
        run = practise(desk, "offset", times=1)
    with_buttons = offset.view.view(replace(run, setup=run.setup.model_copy(update={"machine": steps})))
    assert view.next_z_mm == view.moves[-1].z_mm
    assert with_buttons.presses == ()
    later = offset.view.view(practise(desk, "offset", times=1))
    assert len(later.moves) == len(view.moves) + 1
    assert later.moves_made == view.moves_made


def test_something_thick_brings_the_tip_down_at_once_and_is_gone_when_taken_back(desk: Desk) -> None:
    start(desk, "heron")
    run = keep(desk, "offset", ZeroDoubted(why="nozzle"))
    view = offset.view.view(run)
    assert view.thick_helps
    assert [s.under_mm for s in view.thick_sizes] == [0, 0.1, 0.2, 0.3, 0.4, 0.6, 0.8, 1.2, 1.6]
    assert [s.not_mm for s in view.thick_sizes] == [0.1, 0.2, 0.3, 0.4, 0.6, 0.8, 1.2, 1.6, None]
    z = view.next_z_mm
    run = keep(desk, "offset", ThickTried(z_mm=z, under_mm=0.8, not_mm=1.2))
    later = offset.view.view(run)
    assert later.moves[-1].thick == "0.8 mm goes under, 1.2 mm does not"
    # It may come down by nearly what went under, and by no more.
    assert z - 0.8 < later.next_z_mm < z - 0.3
    run = keep(desk, "offset", TakenBack(entry_id=run.entries[-1].id))
    assert offset.view.view(run).next_z_mm == z
    assert not offset.view.view(run).moves


def test_a_thickness_that_can_hardly_be_meant_is_asked_about_or_refused(desk: Desk) -> None:
    start(desk, "heron")
    keep(desk, "offset", ZeroDoubted(why="nozzle"))
    with pytest.raises(Refused, match="decimal point") as asked:
        keep(desk, "offset", ThickTried(z_mm=0.5, under_mm=16, typed=True))
    assert asked.value.insist
    assert keep(desk, "offset", ThickTried(z_mm=0.5, under_mm=3.2, typed=True, sure=True)).entries
    # Sixteen layers of a card are no slip of a hand.
    assert keep(desk, "offset", ThickTried(z_mm=0.4, under_mm=3.2)).entries
    for wrong in ({"under_mm": 0}, {"under_mm": 0.8, "not_mm": 0.4}, {"under_mm": 31}, {"under_mm": float("nan")}):
        with pytest.raises(ValidationError):
            ThickTried.model_validate({"z_mm": 0.5} | wrong)


def test_folds_of_a_gauge_that_nobody_measured_are_what_its_kind_usually_is(desk: Desk) -> None:
    gauge = start(desk, "heron").setup.gauge
    assert gauge.folds_mm() == {1: 0.1, 2: 0.2, 3: 0.3, 4: 0.4, 6: 0.6, 8: 0.8, 12: 1.2, 16: 1.6}
    assert gauge.folds_doubt() == 0
    unmeasured = Gauge(id="a", name="a", kind="paper")
    assert unmeasured.folds_mm() == {n: pytest.approx(0.095 * n, abs=0.006) for n in (1, 2, 3, 4, 6, 8, 12, 16)}
    assert unmeasured.folds_doubt() == pytest.approx(0.3, abs=0.05)
    # In runs begun before that was so, and of a lamp, there are none.
    assert unmeasured.folds_mm(usual=False) == {}
    assert Gauge(id="a", name="a", kind="lamp").folds_mm() == {}
    # One layer of a very thin one is for the five feels.
    thin = Gauge(id="a", name="a", thickness_mm=0.05, measured=True)
    assert list(thin.folds_mm()) == [2, 3, 4, 6, 8, 12, 16]


@pytest.mark.parametrize(
    ("first", "then", "says"),
    [
        (("free", 0.1), ("stuck", 0.3), "plastic that has oozed onto it, or the gauge has caught"),
        (("stuck", 0.3), ("free", 0.1), "What the gauge met before is gone"),
    ],
)
def test_contact_that_moves_between_two_tries_is_said_with_what_it_may_be(
    desk: Desk, first: tuple[Feel, float], then: tuple[Feel, float], says: str
) -> None:
    x, y = start(desk, "heron").setup.plate.centre
    keep(desk, "offset", Felt(x_mm=x, y_mm=y, z_mm=first[1], feel=first[0]))
    with pytest.raises(Refused, match=says) as wrong:
        keep(desk, "offset", Felt(x_mm=x, y_mm=y, z_mm=then[1], feel=then[0]))
    assert (wrong.value.code, wrong.value.insist) == ("readings_contradict", True)
