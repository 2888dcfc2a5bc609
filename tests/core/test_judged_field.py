"""What the marks on a proof say of its gaps: against importance sampling and closed forms."""

from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.bead import OPEN
from ivory_table.core.causes import Causes
from ivory_table.core.defaults import BEAD
from ivory_table.core.eye import Eye
from ivory_table.core.field_seen import Doubt
from ivory_table.core.proof import plan
from ivory_table.core.proof_field import estimate_field, field_prior, judged_field, learn_proof
from ivory_table.core.signs import Mark, gap_of_foot
from ivory_table.core.zones_sound import parts
from ivory_table.runs.state import RunState
from tests.conftest import setup_for
from tests.core.judging import BEAD_042, LOW, ZONES, by_causes, zones_prior


def importance(mean: np.ndarray, cov: np.ndarray, marks: tuple[Mark, ...]) -> tuple[np.ndarray, np.ndarray]:
    """The same posterior by weighing half a million draws."""
    rng = np.random.default_rng(0)
    draws = rng.multivariate_normal(mean, cov, 500_000)
    log_w = np.zeros(len(draws))
    for m in marks:
        if m.grade:
            low, high = BEAD_042.bands_mm()[m.grade]
            x, s = draws[:, m.zone] - 0.2 * draws[:, -1], BEAD.grade_sd * 0.2
            p = norm.cdf((high - x) / s) - norm.cdf((low - x) / s)
            log_w += np.log((1 - BEAD.slip) * p + BEAD.slip / 7)
        if m.caliper_mm:
            log_w += norm.logpdf(m.caliper_mm, draws[:, m.zone], BEAD.caliper_sd_mm)
    w = np.exp(log_w - log_w.max())
    w /= w.sum()
    at = w @ draws
    return at, np.sqrt(w @ (draws - at) ** 2)


@pytest.mark.parametrize(
    "marks",
    [
        (Mark(0, "parted"), Mark(1, "parted"), Mark(2, "sound"), Mark(3, "sound"), Mark(4, "sound")),
        (Mark(0, "ridged"), Mark(1, "squeezed"), Mark(2, "ridged")),
        (Mark(0, "sound", 0.21), Mark(1, "parted"), Mark(4, "sound", 0.19)),
        (Mark(0, "barely"),),
    ],
)
def test_expectation_propagation_agrees_with_importance_sampling(marks: tuple[Mark, ...]) -> None:
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, marks, BEAD_042)
    other, other_sd = importance(mean, cov, marks)
    assert np.allclose(field.gaps[0], other[:5], atol=0.006)
    assert np.allclose(field.gaps[1], other_sd[:5], rtol=0.2, atol=0.002)


def test_nothing_seen_leaves_the_prior() -> None:
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, (), BEAD_042)
    assert np.array_equal(field.mean[:6], mean)
    assert field.sites == ()


def test_one_mark_that_contradicts_four_is_taken_for_a_slip() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.05**2 + 0.004**2 * np.eye(5)
    sound = tuple(Mark(k, "sound", 0.2) for k in range(4))
    field = estimate_field(mean, cov, (*sound, Mark(4, "starved")), BEAD_042)
    assert field.gaps[0][4] > LOW


def test_a_zone_that_is_not_there_is_refused() -> None:
    mean, cov = zones_prior()
    with pytest.raises(ValueError, match="no zone 6"):
        estimate_field(mean, cov, (Mark(5, "sound"),), BEAD_042)


def test_sites_put_back_into_the_belief_give_the_same_field() -> None:
    setup = setup_for("heron")
    belief = RunState.start(setup).belief
    laid = plan(setup.machine, setup.plate, setup.filament, 5)
    rows, mean, cov = field_prior(belief, laid.places, 0.2, np.zeros(5))
    field = estimate_field(mean, cov, (Mark(0, "parted"), Mark(2, "sound", 0.2), Mark(4, "ridged")), laid.bead)
    learnt = learn_proof(belief, rows, field, np.append(np.full(5, 0.2), 0.0))
    _, again, again_cov = field_prior(learnt, laid.places, 0.2, np.zeros(5))
    # The belief is a mixture, the field its collapsed Gaussian: equal means where one hypothesis would do.
    assert np.allclose(again[:5], field.mean[:5], atol=0.02)
    assert np.all(np.diag(again_cov)[:5] < np.diag(cov)[:5])


@dataclass(frozen=True, eq=False)
class OneNormal:
    """A belief of one hypothesis: the textbook's update by one reading."""

    mean: np.ndarray
    cov: np.ndarray

    def read_together(self, rows: np.ndarray, values: np.ndarray) -> "OneNormal":
        now = self
        for row, value in zip(rows, values, strict=True):
            gain = now.cov @ row / (row @ now.cov @ row + 1.0)
            now = OneNormal(now.mean + gain * (value - row @ now.mean), now.cov - np.outer(gain, row @ now.cov))
        return now


@settings(max_examples=40, deadline=None)
@given(
    st.lists(st.sampled_from(["parted", "sound", "ridged", None]), min_size=5, max_size=5),
    st.lists(st.floats(0.16, 0.24) | st.none(), min_size=5, max_size=5),
    st.floats(0.01, 0.06),
)
def test_what_marks_share_stays_shared_in_the_belief(
    grades: list[str | None], thick: list[float | None], habit_sd: float
) -> None:
    """A habit of the eye, a caliper's common error: the belief after a proof has the very gaps that the proof's field has."""
    marks = tuple(Mark(k, g, t) for k, (g, t) in enumerate(zip(grades, thick, strict=True)) if g or t)
    mean, cov = zones_prior()
    field, _ = judged_field(mean, cov, marks, BEAD_042, Eye(habit_sd=habit_sd), Causes.before("PLA", 0.0), ZONES)
    if field.doubt == Doubt():
        learnt = learn_proof(OneNormal(mean, cov), np.eye(6), field, np.zeros(6))
        assert learnt.mean == pytest.approx(field.mean[:6], abs=1e-6)
        assert learnt.cov == pytest.approx(field.cov[:6, :6], abs=1e-8)


def test_signs_say_what_a_grade_says() -> None:
    """Rough and hard to take off is too close; rubbed off and lifted by a nail too far; a click alone asks about the tip."""
    mean, cov = zones_prior()
    close = by_causes(tuple(Mark(k, None, signs=("rough", "holds_hard")) for k in range(5)), mean, cov)
    far = by_causes(tuple(Mark(k, None, signs=("rubs_off", "nail_lifts_it")) for k in range(5)), mean, cov)
    assert close.mean[0] < 0.18
    assert far.mean[0] > 0.215 or far.shared["height"] < 0.7
    clicks = by_causes(tuple(Mark(k, "sound", signs=("clicks",)) for k in range(5)), mean, cov)
    plain = by_causes(tuple(Mark(k, "sound") for k in range(5)), mean, cov)
    assert clicks.shared["tip_cold"] > 8 * plain.shared["tip_cold"]


def test_a_patch_that_did_not_close_is_one_of_three_looks() -> None:
    """What is known is what the three looks say together, each as likely as it is: the sum of their likelihoods."""
    bands, rest, fails = Mark(0, open=True).seen
    each = [Mark(0, grade).seen for grade in OPEN]
    assert bands + rest == pytest.approx(sum(b + r for b, r, _ in each))
    assert fails == pytest.approx(sum(f for _, _, f in each))
    mean, cov = zones_prior()
    plain, found = by_causes((Mark(1, "sound"),), mean, cov), by_causes((Mark(1, open=True),), mean, cov)
    assert found.mean[1] > plain.mean[1] + 0.005


def test_a_part_that_is_too_low_and_a_wide_foot_tell_the_gap() -> None:
    mean, cov = zones_prior()
    low = by_causes((Mark(2, "ridged", short_mm=0.05),), mean, cov)
    assert low.mean[2] == pytest.approx(0.155, abs=0.02)
    wide = (BEAD_042.width_at(0.15) - 0.42) / 2
    assert gap_of_foot(BEAD_042, wide) == pytest.approx(0.15, abs=1e-3)
    foot = by_causes((Mark(2, None, foot_mm=wide),), mean, cov)
    assert foot.mean[2] < 0.19


def test_the_evidence_of_an_eye_is_that_of_importance_sampling() -> None:
    """ln of how likely the marks are under a steady and under a rough eye: the difference, by weighing draws."""
    mean, cov = zones_prior()
    marks = (Mark(0, "ridged"), Mark(1, "parted"), Mark(2, "sound"), Mark(3, "squeezed"), Mark(4, "parted"))
    draws = np.random.default_rng(5).multivariate_normal(mean, cov, 400_000)

    def weighed(scatter: float) -> float:
        p = np.ones(len(draws))
        for m in marks:
            low, high = BEAD_042.bands_mm()[m.grade]
            x, s = draws[:, m.zone] - 0.2 * draws[:, -1], scatter * 0.2
            p *= (1 - BEAD.slip) * (norm.cdf((high - x) / s) - norm.cdf((low - x) / s)) + BEAD.slip / 7
        return float(np.log(p.mean()))

    told = [estimate_field(mean, cov, marks, BEAD_042, s).log_evidence for s in (0.05, 0.15)]
    assert told[1] - told[0] == pytest.approx(weighed(0.15) - weighed(0.05), abs=0.25)


@pytest.mark.parametrize("scatter", [0.04, 0.14])
def test_an_eye_is_learnt_from_what_it_judged(scatter: float) -> None:
    rng, eye = np.random.default_rng(8), Eye()
    mean, cov = zones_prior()
    cov[:5, :5] = 0.004**2 * np.eye(5)
    for _ in range(20):
        gaps = rng.multivariate_normal(np.full(5, 0.215), cov[:5, :5])
        marks = tuple(Mark(k, BEAD_042.grade_at(float(g + rng.normal(0, scatter * 0.2)))) for k, g in enumerate(gaps))
        mean[:5] = 0.215
        _, eye = judged_field(mean, cov, marks, BEAD_042, eye)
    assert eye.marks == 100
    assert eye.scatter == pytest.approx(scatter, rel=0.4)
    assert eye.ln_sd < Eye().ln_sd


@given(st.floats(-0.1, 0.1), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05))
def test_parts_give_back_a_made_up_offset_and_tilt(offset: float, tx: float, ty: float) -> None:
    zones = np.array([[0.0, 0], [200, 0], [100, 100], [0, 200], [200, 200]])
    u, v = (zones / 100 - 1).T
    found = {p.name: p.amount_mm for p in parts(offset + u * tx / 2 + v * ty / 2, 1e-6 * np.eye(5), zones)}
    assert found["offset"] == pytest.approx(offset, abs=1e-9)
    assert found["tilt_x"] == pytest.approx(tx, abs=1e-9)
    assert found["tilt_y"] == pytest.approx(ty, abs=1e-9)
    assert found["bow"] == pytest.approx(0, abs=1e-9)


def test_a_gap_is_the_layer_less_how_high_the_plate_stands() -> None:
    setup = setup_for("heron")
    belief = RunState.start(setup).belief
    laid = plan(setup.machine, setup.plate, setup.filament, 5)
    lifts = np.array([0.0, 0.01, 0.02, 0.0, -0.01])
    high = belief
    for s in setup.machine.screws:
        high = high.read(high.gap_row(s.x_mm, s.y_mm), 0.05, 0.002)
    _, mean, cov = field_prior(high.nozzle_moved(0.03), laid.places, 0.2, lifts)
    heights, sds = high.height(laid.places)
    assert mean[:5] == pytest.approx(0.2 + 0.03 + lifts - heights)
    assert np.sqrt(np.diag(cov)[:5]) == pytest.approx(sds)
    # The corners lie near the screws that were read at +0.05.
    assert mean[0] == pytest.approx(0.18, abs=0.02)


@pytest.mark.parametrize("tilt", [(0.06, 0.0), (0.0, -0.04)])
def test_a_tilt_is_told_over_each_sides_own_span(tilt: tuple[float, float]) -> None:
    """On a plate three times as wide as deep: mm from one side's zones to the other's, whichever way."""
    zones = np.array([[20.0, 20.0], [320.0, 20.0], [170.0, 70.0], [20.0, 120.0], [320.0, 120.0]])
    u, v = (zones - zones.mean(axis=0)).T
    errors = tilt[0] * u / 300 + tilt[1] * v / 100
    found = {p.name: p.amount_mm for p in parts(errors, 1e-6 * np.eye(5), zones)}
    assert (found["tilt_x"], found["tilt_y"]) == pytest.approx(tilt, abs=1e-9)
    assert found["local"] == pytest.approx(0.0, abs=1e-9)


def test_a_bow_is_told_alike_wherever_the_plate_begins() -> None:
    """Measured from the zones' own middle: a plate whose corner is far from (0, 0) has no other bow."""
    zones = np.array([[20.0, 20.0], [320.0, 20.0], [170.0, 70.0], [20.0, 120.0], [320.0, 120.0]])
    errors = np.array([0.02, 0.02, -0.03, 0.02, 0.02])
    here, there = (parts(errors, 1e-6 * np.eye(5), zones + off) for off in ((0.0, 0.0), (-170.0, 400.0)))
    assert [p.amount_mm for p in here] == pytest.approx([p.amount_mm for p in there], abs=1e-9)
    assert {p.name: p.amount_mm for p in here}["bow"] == pytest.approx(0.025, abs=1e-9)
