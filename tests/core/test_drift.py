"""How a plate drifts: the evidence against brute force, the chances against simulated plates, and what must always hold."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import quad
from scipy.stats import multivariate_normal, norm

from ivory_table.core.defaults import DRIFT
from ivory_table.core.drift import PlateSeen, Rates, Stretch, jump_cov, modes, rates, shape_of_a_day, stretch
from ivory_table.core.outlook import outlook
from ivory_table.core.short_check import Check
from ivory_table.core.wear import Use
from tests.past import seen

NAMES = ("centre", "front left", "front right", "rear left", "rear right")
LEFT = seen(NAMES, np.zeros(5), 0.012)


def drifted(
    r: np.random.Generator, days: float, common: float, own: float, slope: np.ndarray | None = None
) -> np.ndarray:
    """(5,) how far the places of a plate have gone, whose rates are known."""
    each = own * days**0.5 * r.standard_normal(4) + (0 if slope is None else slope * days)
    change = np.append(each.mean() + 0.5 * own * days**0.5 * r.standard_normal(), each)
    return change + common * days**0.5 * r.standard_normal()


def read(r: np.random.Generator, days: float, change: np.ndarray) -> Stretch:
    """The same as two runs have read it."""
    cov = 0.012**2 * (np.eye(5) + 0.5 * np.ones((5, 5)))
    return Stretch(Use(days=days), change + r.multivariate_normal(np.zeros(5), cov), cov)


def gone(r: np.random.Generator, days: float, common: float, own: float, slope: np.ndarray | None = None) -> Stretch:
    return read(r, days, drifted(r, days, common, own, slope))


def test_the_evidence_of_a_support_that_goes_its_own_way_is_that_of_brute_force() -> None:
    r = np.random.default_rng(3)
    gaps = [gone(r, d, 0.005, 0.003, np.array([0, 0, 0.004, 0])) for d in (9.0, 20.0, 14.0)]
    known = rates(gaps, 5)
    _, each, _ = modes(5)
    slope = DRIFT.slope_mm_day
    for k in (10, 24, 38):
        shape = shape_of_a_day(known.common[k : k + 1], known.own[k : k + 1], known.form[k : k + 1], 5)[0]
        covs = [s.use.days * shape + s.cov + DRIFT.floor_mm**2 * np.eye(5) for s in gaps]

        def likelihood(mu: float, covs: list[np.ndarray] = covs, j: int = 2) -> float:
            return float(
                np.prod(
                    [
                        multivariate_normal.pdf(s.change, s.use.days * mu * each[:, j], c)
                        for s, c in zip(gaps, covs, strict=True)
                    ]
                )
            )

        with_slope, _ = quad(
            lambda mu, of=likelihood: of(mu) * norm.pdf(mu, 0, slope), -8 * slope, 8 * slope, epsabs=0, epsrel=1e-8
        )
        wanted = with_slope * DRIFT.wanders / 4 / (likelihood(0.0) * (1 - DRIFT.wanders))
        assert known.weight[k, 3] / known.weight[k, 0] == pytest.approx(wanted, rel=1e-5)


def test_the_form_moves_the_middle_and_each_support_its_share_of_it() -> None:
    common, own, form = modes(5)
    assert list(common) == [1, 1, 1, 1, 1]
    assert list(form) == [1, 0, 0, 0, 0]  # the centre comes first
    assert own[0] == pytest.approx([0.25] * 4)
    assert own[1:] == pytest.approx(np.eye(4))
    # One jump: all together, each for itself with its share of the middle, and half as far as one of them the middle alone.
    wanted = DRIFT.jump_common_mm**2 * np.ones((5, 5))
    wanted[1:, 1:] += DRIFT.jump_each_mm**2 * np.eye(4)
    wanted[0, 1:] += DRIFT.jump_each_mm**2 / 4
    wanted[1:, 0] += DRIFT.jump_each_mm**2 / 4
    wanted[0, 0] += DRIFT.jump_each_mm**2 / 4 + DRIFT.jump_each_mm**2 / 4
    assert jump_cov(5) == pytest.approx(wanted)


def test_rates_are_learnt() -> None:
    r = np.random.default_rng(1)
    calm, lively = (
        rates([gone(r, 14, c, o) for _ in range(30)], 5).usual for c, o in ((0.002, 0.0012), (0.012, 0.007))
    )
    assert lively[0] > calm[0] + 0.8
    assert lively[1] > calm[1] + 0.8


def test_a_loosening_support_is_named_and_a_quiet_plate_names_none() -> None:
    r = np.random.default_rng(5)
    named = wrongly = 0
    for k in range(40):
        slope = np.zeros(4)
        slope[k % 4] = r.choice((-1, 1)) * 0.04 / 7
        found = outlook(LEFT, rates([gone(r, 14, 0.005, 0.003, slope) for _ in range(4)], 5))
        named += found.wanders == NAMES[1 + k % 4]
        wrongly += outlook(LEFT, rates([gone(r, 14, 0.005, 0.003) for _ in range(4)], 5)).wanders != ""
    assert named >= 34
    assert wrongly <= 2


def test_a_jump_teaches_no_rate() -> None:
    r = np.random.default_rng(8)
    calm = [gone(r, 14, 0.003, 0.002) for _ in range(8)]
    knocked = Stretch(Use(days=14.0), calm[3].change + 0.2, calm[3].cov, True)
    told, untold = (
        [*calm[:3], s, *calm[4:]] for s in (knocked, Stretch(Use(days=14.0), knocked.change, knocked.cov, False))
    )
    usual = rates(calm, 5).usual[0]
    assert abs(rates(told, 5).usual[0] - usual) < 0.5 * abs(rates(untold, 5).usual[0] - usual)


@settings(max_examples=25)
@given(st.floats(0.004, 0.05), st.floats(0, 60), st.booleans())
def test_it_never_grows_surer_with_the_days_and_an_incident_makes_it_due(sd: float, since: float, jumped: bool) -> None:
    left = seen(NAMES, np.zeros(5), sd)
    known = rates([], 5)
    found = outlook(left, known, done=Use(days=since), jumped=jumped)
    assert all(0 <= p <= 1 for p in found.p_sound)
    assert all(a >= b - 0.05 for a, b in zip(found.p_sound, found.p_sound[1:], strict=False))
    assert found.check in NAMES
    calm = outlook(left, known, done=Use(days=since))
    if jumped:
        assert found.p_sound[0] <= calm.p_sound[0] + 1e-9
    surer = outlook(seen(NAMES, np.zeros(5), sd / 2), known, done=Use(days=since), jumped=jumped)
    assert surer.p_sound[0] >= found.p_sound[0] - 0.05


def test_what_was_seen_to_hold_is_likelier_to_hold_still() -> None:
    left, known = seen(NAMES, np.full(5, 0.03), 0.02), rates([], 5)
    held, unseen = (outlook(left, known, held=h) for h in (True, False))
    assert held.p_sound[0] > 0.98
    assert unseen.p_sound[0] < 0.8
    assert held.p_sound[-1] >= unseen.p_sound[-1]


def test_the_place_known_least_is_looked_at_first() -> None:
    cov = np.diag([0.008, 0.008, 0.05, 0.008, 0.008]) ** 2
    left = LEFT.model_copy(update={"cov": tuple(tuple(map(float, row)) for row in cov)})
    assert outlook(left, rates([], 5)).check == "front right"


def test_places_that_are_not_the_same_make_no_stretch() -> None:
    other = seen(("centre", "a", "b", "c"), np.zeros(4))
    assert stretch(LEFT, other, Use(days=3)) is None
    with pytest.raises(ValueError, match="its row of the covariance"):
        PlateSeen(places=NAMES, gap_mm=(0.2,) * 5, cov=((1.0,),), target_mm=0.2, low_mm=0.1, high_mm=0.3)


def test_stated_chances_come_true_in_simulated_workshops() -> None:
    """Machines with rates of their own, one in four with a loosening nut; looked at whenever it is due."""
    r = np.random.default_rng(11)
    stated, held = [], []
    low, high = LEFT.low_mm - LEFT.target_mm, LEFT.high_mm - LEFT.target_mm
    for _ in range(30):
        common, own = (
            DRIFT.common_rate * np.exp(0.6 * r.standard_normal()),
            DRIFT.own_rate * np.exp(0.6 * r.standard_normal()),
        )
        slope = np.zeros(4)
        if r.random() < 0.25:
            slope[r.integers(4)] = 0.005 * r.standard_normal()
        gaps: list[Stretch] = []
        for _ in range(8):
            ahead = outlook(LEFT, rates(gaps, 5))
            day = float(r.choice([2, 5, 10, 20, 40]))
            by = drifted(r, day, common, own, slope)
            truth = r.multivariate_normal(np.zeros(5), LEFT.covariance) + by
            stated.append(float(np.interp(day, ahead.days, ahead.p_sound)))
            held.append(bool(truth.min() >= low and truth.max() <= high))
            gaps.append(read(r, day, by))
    stated_p, held_p = np.array(stated), np.array(held)
    assert held_p.mean() == pytest.approx(stated_p.mean(), abs=0.07)
    for low_p, high_p in ((0.0, 0.6), (0.6, 0.9), (0.9, 1.01)):
        some = (stated_p >= low_p) & (stated_p < high_p)
        two_se = 2 * float(np.sqrt(0.25 / max(some.sum(), 1)))
        assert held_p[some].mean() == pytest.approx(stated_p[some].mean(), abs=0.07 + two_se)


@pytest.mark.parametrize("days", [5.0, 30.0])
def test_a_short_check_moves_the_chance_as_a_joint_normal_would(days: float) -> None:
    """Rates that are known leave a normal: what one reading tells of the other places is linear in it."""
    one = Rates(
        weight=np.array([[1.0, 0, 0, 0, 0]]),
        common=np.array([0.006]),
        own=np.array([0.004]),
        form=np.array([0.002]),
        slope=np.zeros((1, 4)),
        slope_sd=np.zeros((1, 4)),
    )
    cov = LEFT.covariance + days * shape_of_a_day(one.common, one.own, one.form, 5)[0]
    for off in (0.0, 0.03):
        check = Check(day=days, place=0, off_mm=off)
        gain = cov[:, 0] / (cov[0, 0] + check.sd_mm**2)
        mean, left = gain * off, cov - np.outer(gain, cov[0])
        band = (LEFT.low_mm - LEFT.target_mm, LEFT.high_mm - LEFT.target_mm)
        draws = np.random.default_rng(1).multivariate_normal(mean, left, 100_000)
        p = np.mean((draws.min(axis=1) >= band[0]) & (draws.max(axis=1) <= band[1]))
        ahead = outlook(LEFT, one, done=Use(days=days), checks=(check,))
        assert float(np.interp(days, ahead.days, ahead.p_sound)) == pytest.approx(p, abs=0.05)


def test_a_good_check_puts_the_day_off_and_a_bad_one_does_not() -> None:
    known = rates((), 5)
    plain = outlook(LEFT, known)
    day = round(plain.due_in_days, 2)
    j = LEFT.places.index(plain.check)
    good = outlook(LEFT, known, done=Use(days=day), checks=(Check(day=day, place=j, off_mm=0.0),))
    sound = outlook(LEFT, known, done=Use(days=day), checks=(Check(day=day, place=j, verdict="sound"),))
    bad = outlook(LEFT, known, done=Use(days=day), checks=(Check(day=day, place=j, off_mm=0.09),))
    loose = outlook(LEFT, known, done=Use(days=day), checks=(Check(day=day, place=j, verdict="loose"),))

    def now(ahead) -> float:
        return float(np.interp(day, ahead.days, ahead.p_sound))

    assert now(good) > now(outlook(LEFT, known, done=Use(days=day)))
    assert now(sound) > now(outlook(LEFT, known, done=Use(days=day)))
    assert now(bad) < 0.05
    assert now(loose) < 0.3
    assert good.due_in_days >= plain.due_in_days
    assert bad.due_in_days == pytest.approx(day)


def test_what_a_check_shows_all_places_share_is_put_right_by_one_move_of_the_height() -> None:
    known = rates((), 5)
    day = 21.0
    read = Check(day=day, place=0, off_mm=0.07)
    before = outlook(LEFT, known, done=Use(days=day), checks=(read,))
    now = float(np.interp(day, before.days, before.p_sound))
    assert before.move_mm < -0.02
    assert before.p_after_move > now + 0.05
    moved = Check.correction(day, before.move_mm, after_check=True)
    after = outlook(LEFT, known, done=Use(days=day), checks=(read, moved))
    assert float(np.interp(day, after.days, after.p_sound)) == pytest.approx(before.p_after_move, abs=0.05)
    assert after.move_mm == 0.0
    # As if the same plate had been found so much nearer.
    nearer = outlook(LEFT, known, done=Use(days=day), checks=(Check(day=day, place=0, off_mm=0.07 + before.move_mm),))
    assert nearer.move_mm == 0.0
    # Where nothing is known to be off, nothing is moved.
    assert outlook(LEFT, known, done=Use(days=day)).move_mm == 0.0


def test_who_corrects_has_seen_it_off() -> None:
    """A correction with no check before it is evidence of what it mends: the plate is not taken to be off by it now."""
    known = rates((), 5)
    day = 30.0
    told = outlook(LEFT, known, done=Use(days=day), checks=(Check.correction(day, -0.04, after_check=False),))
    untold = outlook(LEFT, known, done=Use(days=day), checks=(Check.correction(day, -0.04, after_check=True),))

    def now(ahead) -> float:
        return float(np.interp(day, ahead.days, ahead.p_sound))

    assert now(told) > now(untold) + 0.1


def test_a_correction_in_between_is_not_drift() -> None:
    left, found = seen(NAMES, np.zeros(5)), seen(NAMES, np.full(5, -0.05))
    assert stretch(
        left, found, Use(days=10.0), moved=(Check(day=1.0, place=0, moved_mm=-0.05).moves(5),)
    ).change == pytest.approx(np.zeros(5))
    assert stretch(left, found, Use(days=10.0)).change == pytest.approx(np.full(5, -0.05))


def test_many_checks_on_the_way_tell_what_importance_sampling_says() -> None:
    """Walks drawn by brute force and weighed by all that was read: the filter keeps up with every check, and with what was turned."""
    one = Rates(
        weight=np.array([[0.5, 0, 0, 0.5, 0]]),
        common=np.array([0.006]),
        own=np.array([0.004]),
        form=np.array([0.002]),
        slope=np.full((1, 4), 0.002),
        slope_sd=np.full((1, 4), 0.001),
    )
    checks = (
        Check(day=6.0, place=0, off_mm=0.02),
        Check(day=10.0, place=3, off_mm=0.04, put_right=True),
        Check(day=14.0, place=1, verdict="sound"),
        Check(day=15.0, place=0, moved_mm=-0.02),
    )
    r = np.random.default_rng(5)
    n = 400_000
    gaps = r.multivariate_normal(np.zeros(5), LEFT.covariance, n)
    goes = np.where(r.random(n) < 0.5, r.normal(0.002, 0.001, n), 0.0)
    _, each, _ = modes(5)
    shape = shape_of_a_day(one.common, one.own, one.form, 5)[0]
    low, high = LEFT.low_mm - LEFT.target_mm, LEFT.high_mm - LEFT.target_mm
    weight, now = np.ones(n), 0.0
    for check in checks:
        days, now = check.day - now, check.day
        gaps = gaps + r.multivariate_normal(np.zeros(5), days * shape, n) + days * goes[:, None] * each[:, 2]
        at = gaps[:, check.place]
        if check.off_mm is not None:
            weight = weight * norm.pdf(check.off_mm, at, check.sd_mm)
        elif check.verdict == "sound":
            weight = weight * (norm.cdf((high - at) / check.sd_mm) - norm.cdf((low - at) / check.sd_mm))
        gaps = gaps + check.moved_mm
        if check.put_right:
            by = check.sd_mm * r.standard_normal(n) - at
            beside = DRIFT.turn_beside * np.abs(by)[:, None] * r.standard_normal((n, 5))
            beside[:, check.place] = 0
            gaps = gaps + by[:, None] * check.follows(5) + beside
    weight /= weight.sum()
    sound = (gaps.min(axis=1) >= low) & (gaps.max(axis=1) <= high)
    ahead = outlook(LEFT, one, Use(days=15.0), checks=checks)
    assert float(np.interp(15, ahead.days, ahead.p_sound)) == pytest.approx(float(weight @ sound), abs=0.04)


def test_a_knob_put_right_at_once_is_as_if_it_had_never_been_off() -> None:
    known, day, j = rates((), 5), 14.0, 2
    read = {"day": day, "place": j, "off_mm": 0.06}

    def p(*checks: Check) -> float:
        ahead = outlook(LEFT, known, Use(days=day), checks=checks)
        return float(np.interp(day, ahead.days, ahead.p_sound))

    assert p(Check(**read, put_right=True)) > p(Check(**read)) + 0.08
    # The next run's reading of it is not taken for drift.
    by, sd = Check(**read, put_right=True).moves(5)
    assert by[j] == pytest.approx(-0.06)
    assert by[0] == pytest.approx(-0.06 / 4)
    assert (sd > 0).all()


def test_an_incident_may_have_moved_a_plate_by_one_jump() -> None:
    known = rates([], 5)
    calm, jumped = (known.gone(Use(days=10), jumped=j) for j in (False, True))
    assert jumped.common - calm.common == pytest.approx(DRIFT.jump_common_mm**2)
    assert jumped.supports - calm.supports == pytest.approx(np.full(4, DRIFT.jump_each_mm**2))
    assert jumped.form - calm.form == pytest.approx(DRIFT.jump_each_mm**2 / 4)
    assert jumped.trend == pytest.approx(calm.trend)


def test_only_a_knob_that_was_put_right_moves_the_places_beside_it() -> None:
    by, sd = Check(day=1, place=2, off_mm=0.05, moved_mm=0.01).moves(5)
    assert (by.tolist(), sd.tolist()) == ([0.01] * 5, [0.0] * 5)
    turned, spread = Check(day=1, place=2, off_mm=0.05, put_right=True).moves(5)
    assert turned[2] == pytest.approx(-0.05)
    assert spread[2] == pytest.approx(2**0.5 * DRIFT.check_sd_mm)
    assert spread[1] == pytest.approx(DRIFT.turn_beside * 0.05)
    # The height's own place has no knob, and of what nobody read nothing is put right.
    assert Check(day=1, place=0, off_mm=0.05, put_right=True).moves(5)[0].tolist() == [0.0] * 5
    assert Check(day=1, place=2, verdict="loose", put_right=True).moves(5)[0].tolist() == [0.0] * 5
