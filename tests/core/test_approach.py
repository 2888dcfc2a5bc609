"""Coming down to a gauge from anywhere: never pressed deep, nothing found that nobody felt, and an end to it."""

import itertools
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.approach import Approach, Under
from ivory_table.core.defaults import OFFSET
from ivory_table.core.gauge import FEELS, Feel, FeelScale
from ivory_table.runs.searching import approach_at
from ivory_table.runs.state import RunState
from ivory_table.stations.offset.entries import Felt, GapSeen, ThickTried
from tests.conftest import after, setup_for

SCALE = FeelScale()


def over(drag: float = 0.1, sd: float = 0.1, *, seen_above: bool = False, scale: FeelScale = SCALE) -> Approach:
    return Approach.over(drag, sd, scale=scale, gauge_mm=0.1, step_mm=0.01, seen_above=seen_above)


def felt_at(z: float, drag: float, rng: np.random.Generator) -> Feel:
    return FEELS[int(np.searchsorted(SCALE.cuts_mm, z - drag + rng.normal(0, SCALE.scatter_mm)))]


def come_down(
    drag: float, start: Approach, rng: np.random.Generator, *, eye: bool = False
) -> tuple[Approach, int, float]:
    """The approach at its end, how many heights were tried, and how deep the gauge was pressed at worst."""
    at, pressed, habit = start, -9.0, rng.normal(0, OFFSET.eye_habit)
    for moves in range(100):
        z = at.next_mm()
        if z is None:
            return at, moves, pressed
        pressed = max(pressed, drag - z)
        gap = z - drag + 0.1
        if eye and at.look_helps and gap > OFFSET.eye_from_mm:
            at = at.look(z, gap * np.exp(habit + rng.normal(0, OFFSET.eye_share)))
        else:
            at = at.feel(z, felt_at(z, drag, rng))
    raise AssertionError("the search does not end")


def test_a_feel_is_the_textbook_update() -> None:
    """One drag over a normal belief, against the same product on scipy's normals."""
    at = over(0.1, 0.05).feel(0.12, "drag")
    grid = np.linspace(-0.3, 0.5, 8001)
    _, low, high, _ = SCALE.cuts_mm
    like = norm.cdf((high - 0.12 + grid) / SCALE.scatter_mm) - norm.cdf((low - 0.12 + grid) / SCALE.scatter_mm)
    p = norm.pdf(grid, 0.1, 0.05) * like
    assert at.drag[0] == pytest.approx(grid @ p / p.sum(), abs=0.003)


@pytest.mark.parametrize("seed", range(12))
@pytest.mark.parametrize("eye", [False, True])
def test_from_anywhere_it_ends_at_the_drag_and_does_not_press_deep(seed: int, eye: bool) -> None:
    rng = np.random.default_rng([seed, 77])
    drag = 0.1 - rng.uniform(0.2, 4.0)
    at, moves, pressed = come_down(drag, over(0.1, 0.5, seen_above=True), rng, eye=eye)
    assert at.drag[0] == pytest.approx(drag, abs=4 * OFFSET.sd_wanted_mm)
    assert moves <= (30 if eye else 50)
    assert pressed <= 0.15


@settings(max_examples=25)
@given(st.floats(-0.3, 0.3), st.floats(0.03, 0.15), st.integers(0, 10**6))
def test_where_it_is_roughly_known_a_handful_of_moves_finds_it(off: float, sd: float, seed: int) -> None:
    rng = np.random.default_rng(seed)
    at, moves, _ = come_down(0.1 + off * sd, over(0.1, sd), rng)
    assert at.found
    assert moves <= 25


@settings(max_examples=60, deadline=None)
@given(st.sampled_from((0.03, 0.05, 0.08, 0.1)), st.floats(-0.12, 0.12), st.floats(0.006, 0.02), st.integers(0, 10**6))
def test_between_two_coarse_steps_the_search_ends_as_well(step: float, drag: float, scatter: float, seed: int) -> None:
    """Of steps of 0.05 mm one may be free and the next stuck: the same height over and over would find nothing."""
    rng = np.random.default_rng(seed)
    at = replace(over(0.0, 0.05), step_mm=step)
    tried: list[float] = []
    while (z := at.next_mm()) is not None:
        tried.append(z)
        assert len(tried) <= 15
        at = at.feel(z, FEELS[int(np.searchsorted(SCALE.cuts_mm, z - drag + rng.normal(0, scatter)))])
    assert abs(at.drag[0] - drag) < 0.06
    assert max(tried.count(z) for z in tried) <= OFFSET.felt_at_most
    assert not any(str(z) == "-0.0" for z in tried)


@settings(max_examples=40)
@given(st.floats(-0.15, 0.15), st.integers(0, 10**6))
def test_the_gauge_is_slid_once_more_where_the_tip_stands_before_it_is_moved_for_as_little(
    drag: float, seed: int
) -> None:
    rng, at = np.random.default_rng(seed), over(0.0, 0.1)
    tried: list[float] = []
    while (z := at.next_mm()) is not None and len(tried) < 30:
        if tried and z == tried[-1]:
            # Never for much less than the best place would tell, and never for ever.
            assert tried.count(z) < OFFSET.felt_at_most
            places = np.round(z + np.arange(-3, 4) * at.step_mm, 6)
            best = min(at._expected_doubt(float(p)) for p in places if p >= at.lowest_mm)
            assert at._expected_doubt(z) <= best + OFFSET.again_tells + 1e-9
        tried.append(z)
        at = at.feel(z, felt_at(z, drag, rng))
    moved = sum(a != b for a, b in itertools.pairwise(tried)) + 1
    assert moved <= 12


def test_where_the_first_drag_was_felt_the_gauge_is_slid_again() -> None:
    at = over(0.0, 0.1).feel(0.2, "free").feel(0.09, "drag")
    assert at.next_mm() == 0.09
    # Felt twice, and not so sure yet: now it is moved.
    assert at.feel(0.09, "brush").next_mm() != 0.09


def test_free_said_again_and_again_finds_nothing() -> None:
    """Forty times free, down to well below where the drag was believed: the drag is below, and nobody has felt it."""
    at, tried = over(0.1, 0.5), []
    for _ in range(42):
        z = at.next_mm()
        assert z is not None
        tried.append(z)
        at = at.feel(z, "free")
    assert not at.found
    assert tried[-1] < -2  # it went on down instead
    assert at.drag[0] < tried[-1]
    # The same height again and again says no more than once of where the drag is.
    once, often = over().feel(0.2, "free"), over()
    for _ in range(30):
        often = often.feel(0.2, "free")
    assert often.drag == pytest.approx(once.drag, abs=0.003)


@given(st.sampled_from([0.01, 0.05, 0.1, 0.25]), st.floats(0.02, 0.3), st.floats(0.0, 0.3))
def test_after_free_it_goes_lower_by_a_step_at_least_and_never_under_what_is_safe(
    step: float, sd: float, above: float
) -> None:
    """Also by buttons so coarse that half of one is more than is left."""
    start = Approach.over(0.1, sd, scale=SCALE, gauge_mm=0.1, step_mm=step, seen_above=False)
    free = round(np.ceil((0.14 + above) / step) * step, 6)
    at = start.feel(free, "free")
    lowest = at.lowest_mm
    nxt = at.next_mm()
    assert nxt >= lowest - 1e-9
    # Where the next button would press too deep, it stays where it is.
    assert nxt <= free - step + 1e-9 or free - step < lowest


@pytest.mark.parametrize("feels", [("free", "stuck"), ("brush", "snag"), ("drag",)])
def test_nothing_is_found_before_the_drag_or_both_its_sides_were_felt(feels: tuple[Feel, ...]) -> None:
    at = over(0.1, 0.01)
    assert not at.found
    for k, feel in enumerate(feels):
        assert not at.touched
        at = at.feel(0.12 - 0.02 * k, feel)
    assert at.touched


def test_where_nobody_has_seen_the_tip_above_the_plate_it_begins_higher() -> None:
    seen, unseen = (over(0.1, 0.5, seen_above=s).next_mm() for s in (True, False))
    assert 0.1 < seen < 0.6 < unseen < 1.5


def test_an_eye_takes_most_of_the_way_at_once() -> None:
    far = over(0.1, 0.5).look(1.0, 3.5)
    near = over(0.1, 0.5).look(1.0, 0.8)
    assert far.next_mm() < -0.1 < 0.1 < near.next_mm()
    assert over().look_helps is False  # a tenth is for the gauge
    # A habit shows from look to look: what was told large each time is believed less.
    twice = far.look(far.next_mm(), 1.2)
    assert twice.drag[1] < far.drag[1]


def test_a_run_that_felt_nothing_stores_nothing() -> None:
    """A stored value of 0 and a plate nobody has touched: free all the way down is not a drag."""
    setup = setup_for("kestrel")
    state, (cx, cy) = RunState.start(setup), setup.plate.centre
    for _ in range(20):
        z = approach_at(state, cx, cy).next_mm()
        state = after(state, Felt(x_mm=cx, y_mm=cy, z_mm=z, feel="free"), station="offset")
    assert not state.search.approach.found
    assert state.drag_height(cx, cy)[1] > 0.05


@pytest.mark.parametrize("machine", ["heron", "kestrel", "wren", "bittern"])
def test_the_belief_takes_what_was_found_once(machine: str) -> None:
    """A noiseless feel at a made-up height: the belief has the drag where the search has it, and as surely."""
    setup = setup_for(machine)
    state, (cx, cy) = RunState.start(setup), setup.plate.centre
    drag = -0.31 + setup.gauge.thickness_mm
    state = after(state, GapSeen(z_mm=1.5, gap_mm=1.9), station="offset")
    for _ in range(60):
        z = approach_at(state, cx, cy).next_mm()
        if z is None:
            break
        feel = FEELS[int(np.searchsorted(SCALE.cuts_mm, z - drag))]
        state = after(state, Felt(x_mm=cx, y_mm=cy, z_mm=z, feel=feel), station="offset")
    found, sd = state.search.approach.drag
    mean, believed_sd = state.drag_height(cx, cy)
    assert found == pytest.approx(drag, abs=0.02)
    assert mean == pytest.approx(found, abs=0.003)
    assert believed_sd == pytest.approx(sd, rel=0.2)


def test_a_gauge_that_caught_on_something_is_not_believed_for_ever() -> None:
    """An eye twice wrong and a stuck that is true: said again, it is believed, and the search ends."""
    rng, at, drag = np.random.default_rng(0), over(0.1, 0.5, seen_above=True).look(0.3, 5.63), -2.305
    for _ in range(40):
        z = at.next_mm()
        if z is None:
            break
        at = at.feel(z, felt_at(z, drag, rng))
    assert at.found
    assert at.drag[0] == pytest.approx(drag, abs=0.03)


def test_what_was_seen_to_be_clear_is_not_tried_again_and_the_next_is_no_deeper_than_is_safe() -> None:
    start = over(0.0, 0.5, seen_above=True)
    at = start.look(0.0, 2.0)
    z = at.next_mm()
    assert z is not None
    # Lower than where it was seen clear, and by no more than the belief allows.
    assert at.lowest_mm - 1e-9 <= z <= -OFFSET.closest_step_mm + 0.011
    free = at.feel(z, "free")
    lower = free.next_mm()
    assert lower is not None
    assert lower < z
    # A gap that looks like the gauge's own thickness says nothing of being clear.
    assert start.look(0.0, 0.2).next_mm() == pytest.approx(max(start.look(0.0, 0.2).lowest_mm, 0.0), abs=0.3)


FOLDS_MM = (0.2, 0.4, 0.8, 1.6)


def folded(z: float, drag: float, rng: np.random.Generator) -> Under:
    """What of the folded gauge goes under a tip, the gauge itself 0.1 mm thick."""
    goes = [mm for mm in FOLDS_MM if mm * rng.normal(1.03, 0.03) < z - drag + 0.1]
    under = max(goes, default=0.0)
    return Under(z, under, min((mm for mm in FOLDS_MM if mm > under), default=None))


@pytest.mark.parametrize("seed", range(12))
def test_something_thick_under_the_tip_halves_the_moves_and_presses_no_deeper(seed: int) -> None:
    drag = 0.1 - np.random.default_rng([seed, 5]).uniform(0.2, 4.0)
    rng, at, pressed, moves = np.random.default_rng(seed), over(0.1, 0.5, seen_above=True), -9.0, 0
    while (z := at.next_mm()) is not None:
        pressed, moves = max(pressed, drag - z), moves + 1
        thick = at.thick_helps and z - drag > 0.02
        at = at.slid_under(folded(z, drag, rng)) if thick else at.feel(z, felt_at(z, drag, rng))
        assert moves < 20
    assert at.found
    assert at.drag[0] == pytest.approx(drag, abs=0.035)
    assert pressed < 0.15
    _, by_feel, _ = come_down(drag, over(0.1, 0.5, seen_above=True), np.random.default_rng(seed))
    assert moves < by_feel or by_feel < 8


def test_what_goes_under_is_the_textbook_update() -> None:
    """Between 0.4 and 0.8 mm over a normal belief, against the same product on scipy's normals."""
    at = over(0.1, 0.2).slid_under(Under(0.5, 0.4, 0.8))
    grid = np.linspace(-1.0, 1.0, 20001)
    gap = 0.5 - grid + 0.1
    sds = [np.hypot(OFFSET.thick_sd_mm, OFFSET.thick_share * mm) for mm in (0.4, 0.8)]
    p = norm.pdf(grid, 0.1, 0.2) * norm.cdf((gap - 0.4) / sds[0]) * norm.sf((gap - 0.8) / sds[1])
    below = np.cumsum(p) / p.sum()
    for share in (0.1, 0.5, 0.9):
        assert at.quantile(share) == pytest.approx(grid[np.searchsorted(below, share)], abs=0.01)


def test_a_thickness_that_was_typed_is_believed_less_and_none_is_asked_for_at_the_same_height() -> None:
    far = over(0.0, 0.5, seen_above=True)
    known, typed = (far.slid_under(Under(0.0, 1.6, None, typed=t)) for t in (False, True))
    assert known.lowest_mm < typed.lowest_mm
    assert far.thick_helps
    # It came down since, and may be asked again; after the gauge has met something it is not.
    z = known.next_mm()
    assert z is not None
    assert z < -0.5
    assert known.thick_helps
    assert not known.feel(z, "snag").thick_helps
    assert not over(0.0, 0.05).thick_helps


def test_a_run_believes_what_went_under() -> None:
    setup = setup_for("kestrel")
    state, (cx, cy) = RunState.start(setup), setup.plate.centre
    told = after(state, ThickTried(z_mm=1.5, under_mm=0.8, not_mm=1.6), station="offset")
    assert told.drag_height(cx, cy)[1] < state.drag_height(cx, cy)[1]
    assert told.search is not None
    assert told.drag_height(cx, cy)[0] == pytest.approx(told.search.approach.drag[0], abs=0.05)


def test_an_eye_is_not_asked_twice_at_one_height_nor_after_the_gauge_has_met_something() -> None:
    far = over(0.0, 0.5, seen_above=True)
    assert far.look_helps
    z = far.next_mm()
    assert z is not None
    assert not far.feel(z, "drag").look_helps
    assert not far.feel(z, "stuck").look_helps
    near = over(0.0, 0.05)
    assert not near.look_helps


def test_one_low_guess_does_not_end_the_looking() -> None:
    """An eye that took 1.6 mm for 0.9: what is felt free further down than it said leaves room for another look."""
    at = over(0.0, 0.5, seen_above=True).look(0.0, 0.9)
    asked = []
    for _ in range(6):
        z = at.next_mm()
        assert z is not None
        asked.append(at.look_helps)
        at = at.look(z, max(1.6 + z, 0.2)) if at.look_helps else at.feel(z, "free")
    assert any(asked)


def test_the_height_that_is_tried_is_a_step_of_the_machine_at_or_above_the_lowest() -> None:
    for step in (0.01, 0.02, 0.05):
        at = Approach.over(0.03, 0.12, scale=SCALE, gauge_mm=0.1, step_mm=step, seen_above=False)
        for feel in ("free", "free", "brush", "snag"):
            z = at.next_mm()
            assert z is not None
            assert z / step == pytest.approx(round(z / step), abs=1e-6)
            assert z >= at.lowest_mm - 1e-9
            assert z < at.lowest_mm + 5 * step or feel != "free"
            at = at.feel(z, feel)


def test_how_likely_a_feel_is_adds_up_over_the_words() -> None:
    at = over(0.1, 0.05)
    assert sum(at.likely(0.12, feel) for feel in FEELS) == pytest.approx(1.0)
    assert at.likely(1.0, "free") == pytest.approx(1.0)
    assert at.likely(-1.0, "stuck") == pytest.approx(1.0, abs=OFFSET.astray)


@pytest.mark.parametrize("above_mm", [0.05, 0.1, 0.2, 0.4])
def test_a_drag_higher_than_all_that_was_believed_is_found_and_not_asked_for_at_one_height_again(
    above_mm: float,
) -> None:
    """Whatever the belief says: a gauge that is stuck sends the tip up."""
    at, rng = over(-0.33, 0.008, seen_above=True), np.random.default_rng(4)
    truth, asked = -0.33 + above_mm, []
    while (z := at.next_mm()) is not None and len(asked) < 40:
        asked.append(z)
        at = at.feel(z, felt_at(z, truth, rng))
    assert at.found
    assert len(asked) <= 20
    assert at.drag[0] == pytest.approx(truth, abs=0.035)


def test_folds_that_nobody_measured_share_one_unknown() -> None:
    """Two heights with folds of a paper 30 % thicker or thinner than taken: against the integral over how thick it is."""
    tried = (Under(0.9, 0.8, 1.6), Under(0.4, 0.4, 0.8))
    at = replace(over(0.1, 0.3), folds_doubt=0.3)
    for one in tried:
        at = at.slid_under(one)
    grid = np.linspace(-2.0, 1.5, 8001)
    p = np.zeros(len(grid))
    for off in np.linspace(-4, 4, 161):
        here = norm.pdf(off) * norm.pdf(grid, 0.1, 0.3)
        for one in tried:
            gap = one.z_mm - grid + 0.1
            for mm, under in ((one.under_mm, True), (one.not_mm, False)):
                thick = mm * np.exp(0.3 * off)
                goes = norm.cdf((gap - thick) / np.hypot(OFFSET.thick_sd_mm, OFFSET.thick_share * thick))
                here = here * (goes if under else 1 - goes)
        p += here
    below = np.cumsum(p) / p.sum()
    for share in (0.1, 0.5, 0.9):
        assert at.quantile(share) == pytest.approx(grid[np.searchsorted(below, share)], abs=0.02)
    # What was typed for a coin is not of the gauge.
    coin = Under(0.9, 0.8, 1.6, typed=True)
    assert replace(over(), folds_doubt=0.3).slid_under(coin).drag == over().slid_under(coin).drag


@pytest.mark.parametrize("seed", range(10))
def test_folds_that_nobody_measured_bring_the_tip_down_without_pressing_it_in(seed: int) -> None:
    rng = np.random.default_rng([seed, 3])
    drag, thicker = 0.1 - rng.uniform(0.5, 4.0), np.exp(rng.normal(0, 0.3))
    at, pressed, moves = replace(over(0.1, 0.5, seen_above=True), folds_doubt=0.3), -9.0, 0
    while (z := at.next_mm()) is not None:
        pressed, moves = max(pressed, drag - z), moves + 1
        gap = z - drag + 0.1
        if at.thick_helps and gap > 0.12:
            under = max((mm for mm in FOLDS_MM if thicker * mm < gap), default=0.0)
            at = at.slid_under(Under.of_sizes(z, under, FOLDS_MM))
        else:
            at = at.feel(z, felt_at(z, drag, rng))
        assert moves < 25
    assert at.drag[0] == pytest.approx(drag, abs=0.035)
    assert pressed < 0.15


@given(st.integers(1, 5), st.floats(-0.2, 0.2))
def test_stuck_again_and_again_it_goes_up_by_twice_as_much_each_time(times: int, z: float) -> None:
    at, heights = over(z, 0.05), [round(z, 2)]
    for _ in range(times):
        at = at.feel(heights[-1], "stuck")
        heights.append(at.next_mm())
    for k, (low, high) in enumerate(itertools.pairwise(heights)):
        assert high - low >= 0.01 * 2**k - 1e-9


@pytest.mark.parametrize("sd", [0.05, 0.1, 0.2])
def test_what_was_believed_is_rarely_wrong_and_then_hardly_by_much(sd: float) -> None:
    """Beyond four sd above, a fixed share lies, and falls off with the reach."""
    at = over(0.1, sd)
    beyond = at.heights > 0.1 + 4 * sd
    assert at.p[beyond].sum() == pytest.approx(OFFSET.wrong / (1 + OFFSET.wrong), rel=0.05, abs=4e-5)
    far = at.heights > 0.1 + 4 * sd + OFFSET.wrong_reach_mm
    if far.any():
        assert at.p[far].sum() < 0.6 * at.p[beyond].sum()


@pytest.mark.parametrize("feel", ["snag", "stuck"])
def test_a_gauge_that_is_only_ever_pressed_is_tried_higher_and_each_time_by_more(feel: Feel) -> None:
    at, tried = over(0.1, 0.1), [0.1]
    for _ in range(4):
        at = at.feel(tried[-1], feel)
        z = at.next_mm()
        assert z is not None
        tried.append(z)
    steps = np.diff(tried)
    assert (steps > 0).all()
    assert steps[-1] >= 0.08 - 1e-9
