"""Judging a proof: the field against importance sampling, the advice against brute force."""

from dataclasses import dataclass

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.action import Action, Before
from ivory_table.core.bead import GRADES, Bead
from ivory_table.core.causes import UNSEEN, Causes, effects, look_first
from ivory_table.core.defaults import BEAD, JUDGE
from ivory_table.core.eye import Eye
from ivory_table.core.field_seen import Doubt, FieldPosterior
from ivory_table.core.judge import _steps_back, next_actions
from ivory_table.core.look_ahead import again_left
from ivory_table.core.moves import Aims, best_shift, best_turns, p_all_sound
from ivory_table.core.proof import plan
from ivory_table.core.proof_field import estimate_field, field_prior, judged_field, learn_proof
from ivory_table.core.recipe import forgiving_layers
from ivory_table.core.remedies import Remedies
from ivory_table.core.signs import Mark, gap_of_foot
from ivory_table.core.zones_sound import parts
from ivory_table.runs.state import RunState
from tests.conftest import setup_for

BEAD_042 = Bead(0.42, 0.2)
ZONES = np.array([[20.0, 20.0], [200.0, 20.0], [110.0, 110.0], [20.0, 200.0], [200.0, 200.0]])
LOW, HIGH = BEAD_042.bands_mm()["sound"]


def zones_prior(z: int = 5) -> tuple[np.ndarray, np.ndarray]:
    cov = 0.05**2 * np.ones((z, z)) + 0.02**2 * np.eye(z)
    full = np.zeros((z + 1, z + 1))
    full[:z, :z] = cov
    full[z, z] = 0.03**2
    return np.append(np.full(z, 0.2), 0.0), full


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


errors = st.lists(st.floats(-0.08, 0.08), min_size=5, max_size=5)


@dataclass(frozen=True, eq=False)
class OneNormal:
    """A belief of one hypothesis: the textbook's update by one reading."""

    mean: np.ndarray
    cov: np.ndarray

    def read(self, row: np.ndarray, value: float, sd_mm: float) -> "OneNormal":
        gain = self.cov @ row / (row @ self.cov @ row + sd_mm**2)
        return OneNormal(self.mean + gain * (value - row @ self.mean), self.cov - np.outer(gain, row @ self.cov))


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


@settings(deadline=None, max_examples=40)
@given(errors)
def test_the_best_shift_is_no_worse_than_any_other(error: list[float]) -> None:
    rng = np.random.default_rng(2)
    gaps = 0.19 + np.array(error) + rng.normal(0, 0.01, (400, 5))
    shift = best_shift(gaps, LOW, HIGH, 0.19, 0.01)
    ideal = 0.19 - gaps.mean()
    score = p_all_sound(gaps + shift, LOW, HIGH) - 0.4 * abs(shift - ideal)
    for other in np.arange(-12, 13) * 0.01:
        assert p_all_sound(gaps + other, LOW, HIGH) - 0.4 * abs(other - ideal) <= score + 1e-6


@given(st.floats(0.03, 0.1))
def test_too_far_everywhere_is_brought_closer(far: float) -> None:
    gaps = 0.19 + far + np.random.default_rng(1).normal(0, 0.004, (400, 5))
    assert best_shift(gaps, LOW, HIGH, 0.19, 0.01) < 0
    assert best_shift(2 * 0.19 - gaps, LOW, HIGH, 0.19, 0.01) > 0


def test_turns_undo_a_tilt() -> None:
    moves = 0.044 * np.array([[1, 0, 0, 0], [0, 1, 0, 0], [0.25] * 4, [0, 0, 1, 0], [0, 0, 0, 1]], dtype=float)
    gaps = 0.19 + np.array([0.09, 0.09, 0.045, 0, 0]) + np.random.default_rng(1).normal(0, 0.005, (600, 5))
    turn = best_turns(gaps, moves, LOW, HIGH, 0.19)
    assert list(turn) == [2, 2, 0, 0]
    assert p_all_sound(gaps - turn @ moves.T, LOW, HIGH) > 0.9


def advise(marks: tuple[Mark, ...], **more: object) -> list[str]:
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, marks, BEAD_042)
    found = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, **more)
    return [a.kind for a in found]


def test_all_sound_by_caliper_is_done() -> None:
    assert advise(tuple(Mark(k, "sound", 0.19) for k in range(5)))[0] == "done"


def test_all_parted_asks_for_the_offset() -> None:
    assert advise(tuple(Mark(k, "parted") for k in range(5)))[0] == "offset"


def test_a_loose_zone_of_the_right_height_asks_for_cleaning() -> None:
    marks = (*(Mark(k, "sound", 0.19) for k in range(4)), Mark(4, "loose", greasy=True))
    assert advise(marks)[0] == "clean"


def test_cleaning_goes_with_the_step_that_does_not_disturb_it() -> None:
    """Four zones too far and a greasy one: cleaned and brought closer in one go, not cleaned first with no zone sound."""
    mean, cov = zones_prior()
    marks = (*(Mark(k, "parted", 0.25) for k in range(4)), Mark(4, "loose", greasy=True))
    field = estimate_field(mean, cov, marks, BEAD_042)
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)[0]
    assert (best.kind, best.clean) == ("offset", (4,))
    assert best.shift_mm < -0.03


def by_causes(
    marks: tuple[Mark, ...], mean: np.ndarray, cov: np.ndarray, causes: Causes | None = None
) -> FieldPosterior:
    known = causes or Causes.before("PLA", 0.0)
    return judged_field(mean, cov, marks, BEAD_042, Eye(), known, ZONES)[0]


def test_a_cause_that_all_zones_share_comes_before_five_of_their_own() -> None:
    """Nothing holds after a good tram and offset: what all share is mended first, not five spots and not the height."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.008**2 + 0.008**2 * np.eye(5)
    marks = tuple(Mark(k, "loose") for k in range(5))
    field = by_causes(marks, mean, cov)
    assert field.shared["height"] < 0.1
    found = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)
    assert found[0].kind == "remedy"
    assert found[0].causes[:2] == ("coat", "cold_plate")
    assert sum(a.kind == "clean" for a in found) == 0
    # Both are mended, and still nothing holds: it is the height after all.
    causes = Causes.before("PLA", 0.0)
    causes = Causes.before("PLA", 0.0).learnt(field.shared, {}).mended("coat").mended("cold_plate")
    field = by_causes(marks, mean, cov, causes)
    assert max(field.shared, key=lambda n: field.shared[n]) == "zero"
    again = next_actions(
        field,
        BEAD_042,
        "PLA",
        marks,
        z_step_mm=0.01,
        knob_moves=None,
        mesh_in_use=False,
        before=Before(repeats=1, fed=True),
    )
    assert again[0].kind == "offset"
    assert again[0].shift_mm < 0


def test_one_loose_zone_among_sound_ones_is_greasy() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.012**2 + 0.012**2 * np.eye(5)
    marks = (*(Mark(k, "sound") for k in range(4)), Mark(4, "loose"))
    field = by_causes(marks, mean, cov)
    assert field.greasy[4] > 0.5
    assert field.greasy[:4].max() < 0.05
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)[0]
    assert (best.kind, best.zone) == ("clean", 4)


def test_a_caliper_that_contradicts_the_grades_tells_of_the_feed() -> None:
    """All parted by eye, and as thick as they should be: too little comes out."""
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "parted", 0.20) for k in range(5))
    field = by_causes(marks, mean, cov)
    assert field.flow[0] < -0.03
    found = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)
    assert "feed" in [a.kind for a in found[:2]]
    assert abs(field.mean[0] - 0.2) < 0.015


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


def test_a_part_that_is_too_low_and_a_wide_foot_tell_the_gap() -> None:
    mean, cov = zones_prior()
    low = by_causes((Mark(2, "ridged", short_mm=0.05),), mean, cov)
    assert low.mean[2] == pytest.approx(0.155, abs=0.02)
    wide = (BEAD_042.width_at(0.15) - 0.42) / 2
    assert gap_of_foot(BEAD_042, wide) == pytest.approx(0.15, abs=1e-3)
    foot = by_causes((Mark(2, None, foot_mm=wide),), mean, cov)
    assert foot.mean[2] < 0.19


def test_causes_by_lanes_are_those_of_brute_force() -> None:
    """Chances of the causes against a sum over a fine grid, one zone, one cause at a time."""
    mean, cov = np.array([0.2, 0.0]), np.diag([0.02**2, 0.03**2])
    mark = Mark(0, "loose")
    causes = Causes.before("PLA", 0.0)
    found = judged_field(mean, cov, (mark,), BEAD_042, Eye(ln_sd=0.05), causes, np.zeros((1, 2)))[0]
    bands, rest, fails = mark.seen
    what = effects(causes, np.zeros((1, 2)))
    rng = np.random.default_rng(1)
    n = 400_000
    z = rng.standard_normal((n, 3))
    weights = []
    for h, name in enumerate(what.names):
        astray = what.astray_var[h] ** 0.5
        gap = 0.2 + np.hypot(0.02, astray) * z[:, 0]
        flow = what.flow[h] + np.hypot(0.03, what.flow_var[h] ** 0.5) * z[:, 1]
        seen = gap - 0.2 * (flow - Eye().habit_sd * z[:, 2])
        p = np.full(n, rest)
        for k, grade in enumerate(GRADES):
            low, high = BEAD_042.bands_mm()[grade]
            s = Eye().scatter * 0.2
            p += bands[k] * (norm.cdf((high - seen) / s) - norm.cdf((low - seen) / s))
        phi = what.fails[h, 0]
        weights.append(what.prior[h] * ((1 - phi) * p + phi * fails).mean())
        assert name in found.shared
    weights = np.array(weights) / np.sum(weights)
    assert list(found.shared.values()) == pytest.approx(weights, abs=0.02)


def test_mending_a_cause_makes_it_rarer_and_the_others_likelier() -> None:
    causes = Causes.before("ABS", 0.0)
    assert causes.shared["fan"] == 0.0
    assert sum(causes.shared.values()) == pytest.approx(1)
    after = causes.mended("cold_plate")
    assert after.shared["cold_plate"] < causes.shared["cold_plate"] / 2
    assert all(after.shared[n] >= p for n, p in causes.shared.items() if n != "cold_plate")
    assert sum(after.shared.values()) == pytest.approx(1)
    place = (10.0, 20.0)
    assert causes.cleaned(place).greasy_at(place) < causes.greasy_at(place)


@given(p=st.floats(0.01, 0.97), found=st.booleans())
def test_a_look_moves_a_chance_its_own_way_and_two_looks_further(p: float, found: bool) -> None:
    rest = (1 - p) / 2
    causes = Causes({"height": rest, "coat": rest, "cold_plate": p}, {})
    once = causes.looked("cold_plate", found)
    assert sum(once.shared.values()) == pytest.approx(1)
    assert (once.shared["cold_plate"] > p) == found
    # What it does not look for keeps its share among the others.
    assert once.shared["coat"] == pytest.approx(once.shared["height"])
    twice = once.looked("cold_plate", found)
    assert (twice.shared["cold_plate"] > once.shared["cold_plate"]) == found
    # Found and then not found, by looks that are wrong as seldom either way, would be as before; these are not.
    assert causes.looked("coat", found) is causes


def test_what_is_sure_or_was_looked_for_is_not_looked_for() -> None:
    assert look_first({"height": 0.9, "cold_plate": 0.1}, ()) is None
    assert look_first({"height": 0.05, "cold_plate": 0.95}, ()) is None
    assert look_first({"height": 0.5, "coat": 0.5}, ()) is None
    both = {"height": 0.3, "cold_plate": 0.2, "draught": 0.5}
    assert look_first(both, ()).cause == "draught"
    assert look_first(both, ("draught",)).cause == "cold_plate"
    assert look_first(both, ("draught", "cold_plate")) is None


@pytest.mark.parametrize("caliper", [True, False])
def test_a_caliper_is_asked_for_only_where_there_is_one(caliper: bool) -> None:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "ridged" if k % 2 else "sound") for k in range(5))
    field = by_causes(marks, mean, cov)
    found = next_actions(
        field,
        BEAD_042,
        "PLA",
        marks,
        z_step_mm=0.01,
        knob_moves=None,
        mesh_in_use=False,
        before=Before(caliper=caliper, fed=True),
    )
    assert ("caliper" in [a.kind for a in found]) == caliper


def test_a_step_closer_from_far_away_is_bounded() -> None:
    """All loose, a quarter of a millimetre too high and nobody knows: closer in steps, never so that it scrapes."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.5**2 + 0.01**2 * np.eye(5)
    marks = tuple(Mark(k, "loose") for k in range(5))
    field = estimate_field(mean, cov, marks, BEAD_042)
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False)[0]
    assert best.kind == "offset"
    # By the prior weighed by what a loose line can be, not by a normal around it.
    draws = np.random.default_rng(3).multivariate_normal(mean, cov, 400_000)
    seen = (draws[:, :5] - 0.2 * draws[:, 5:] - BEAD_042.bands_mm()["loose"][0]) / (BEAD.grade_sd * 0.2)
    weight = norm.cdf(seen).prod(axis=1)
    scraped = weight @ ((draws[:, :5] + best.shift_mm).min(axis=1) < JUDGE.scrape_mm) / weight.sum()
    assert scraped <= 1.5 * JUDGE.scrape_p
    # It goes as far as it may: a loose line is not nearer than where lines come loose.
    assert -0.45 < best.shift_mm < -0.2
    assert best.proofs_left > 1.5


def test_a_step_back_asks_for_evidence_first() -> None:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "ridged") for k in range(5))
    field = estimate_field(mean, cov, marks, BEAD_042)

    def first(before: Before) -> str:
        return next_actions(
            field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, before=before
        )[0].kind

    assert first(Before()) == first(Before(shift_mm=0.02)) == "offset"
    certain = p_all_sound(
        np.random.default_rng(0).multivariate_normal(field.mean[:5], field.cov[:5, :5], 5000), LOW, HIGH
    )
    # What is plainly wrong is taken back at once; what may be right is looked at again.
    assert first(Before(shift_mm=-0.03)) == ("print_again" if certain > JUDGE.gain else "offset")


def test_advice_ends_where_an_eye_can_tell_no_more() -> None:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, "sound" if k % 2 else "parted") for k in range(5))
    field = estimate_field(mean, cov, marks, BEAD_042)
    many = Before(proofs=JUDGE.proofs_at_most, repeats=1)
    best = next_actions(field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, before=many)[
        0
    ]
    assert best.kind == "done"
    assert "does not tell it any better" in best.reason


def test_a_mesh_is_not_advised_for_an_error_that_all_zones_share() -> None:
    marks = tuple(Mark(k, "parted", 0.25) for k in range(5))
    assert advise(marks, can_mesh=True)[0] == "offset"
    mean, cov = zones_prior()
    field = estimate_field(mean, cov, marks, BEAD_042)
    found = next_actions(
        field, BEAD_042, "PLA", marks, z_step_mm=0.01, knob_moves=None, mesh_in_use=False, can_mesh=True
    )
    assert all(a.p_all_sound < 0.5 for a in found if a.kind == "mesh")


# The eye


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


def test_done_is_never_said_while_a_zone_is_not_judged() -> None:
    assert "done" not in advise(tuple(Mark(k, "sound", 0.19) for k in range(4)))


@given(st.floats(-0.1, 0.1), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05))
def test_parts_give_back_a_made_up_offset_and_tilt(offset: float, tx: float, ty: float) -> None:
    zones = np.array([[0.0, 0], [200, 0], [100, 100], [0, 200], [200, 200]])
    u, v = (zones / 100 - 1).T
    found = {p.name: p.amount_mm for p in parts(offset + u * tx / 2 + v * ty / 2, 1e-6 * np.eye(5), zones)}
    assert found["offset"] == pytest.approx(offset, abs=1e-9)
    assert found["tilt_x"] == pytest.approx(tx, abs=1e-9)
    assert found["tilt_y"] == pytest.approx(ty, abs=1e-9)
    assert found["bow"] == pytest.approx(0, abs=1e-9)


def halves(*grades: str) -> tuple[np.ndarray, np.ndarray, np.ndarray, tuple[Mark, ...]]:
    """Five zones at two heights: gaps and flow, their covariance, places, and marks."""
    cov = np.zeros((11, 11))
    cov[:10, :10] = 0.02**2 + 0.011**2 * np.kron(np.eye(5), np.ones((2, 2)))
    cov[10, 10] = 0.005**2
    mean = np.append(0.2 + np.tile([-0.026, 0.026], 5), 0.0)
    return mean, cov, np.repeat(ZONES, 2, axis=0), tuple(Mark(k, g) for k, g in enumerate(grades))


def test_one_spot_of_grease_lies_under_both_halves_of_a_zone() -> None:
    """Brute force over a zone alone: greasy or not, both halves told by the same spot."""
    causes = Causes.before("PLA", 0.0)
    mean, cov, places, marks = halves("sound", "sound", "loose", "barely", *["sound"] * 6)
    field, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, places)
    assert field.greasy[2] == pytest.approx(field.greasy[3], abs=0.02)
    assert field.greasy[2] > 0.98
    alone, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, places + np.arange(10)[:, None])
    # Each by itself, as if they were different spots, either is less sure.
    assert alone.greasy[2:4].max() < field.greasy[2]
    mean, cov, places, marks = halves("sound", "sound", "barely", "sound", *["sound"] * 6)
    held, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, places)
    assert held.greasy[2] < 0.5
    assert held.greasy[[0, 1, 4, 5]].max() < 0.01


def test_what_the_height_may_be_off_by_is_kept_and_is_that_of_the_lane_alone() -> None:
    """Under "the height is wrong" all gaps share one unknown; its posterior against weighing draws of it."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.01**2 + 0.01**2 * np.eye(5)
    cov[5, 5] = 1e-12
    marks = tuple(Mark(k, g) for k, g in enumerate(("loose", "loose", "barely", "loose", "loose")))
    only = Causes({"zero": 1.0}, dict.fromkeys(map(tuple, ZONES.tolist()), 0.0))
    eye = Eye(scatter=0.06, ln_sd=0.01)
    field, _ = judged_field(mean, cov, marks, BEAD_042, eye, only, ZONES)
    rng = np.random.default_rng(3)
    off = rng.normal(0, UNSEEN[1] ** 0.5, 200_000)
    gaps = 0.2 + off[:, None] + rng.multivariate_normal(np.zeros(5), cov[:5, :5], len(off))
    seen = gaps - 0.2 * rng.normal(0, 0.03, (len(off), 1))
    log_w = np.zeros(len(off))
    for m in marks:
        low, high = BEAD_042.bands_mm()[m.grade]
        p = norm.cdf((high - seen[:, m.zone]) / 0.012) - norm.cdf((low - seen[:, m.zone]) / 0.012)
        log_w += np.log((1 - BEAD.slip) * p + BEAD.slip / 7)
    w = np.exp(log_w - log_w.max())
    w /= w.sum()
    at = w @ off
    assert field.astray[0] == pytest.approx(at, abs=0.01)
    # A slip may make one grade wrong altogether: of that long tail a normal keeps less than there is.
    assert 0.5 < field.astray[1] ** 0.5 / (w @ (off - at) ** 2) ** 0.5 < 1.2


def test_what_did_not_hold_for_a_wrong_height_does_not_hold_again() -> None:
    """Nothing holds, the plate is cleaned and warmed again and again: each time the height is likelier to be the cause."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.015**2 + 0.01**2 * np.eye(5)
    marks = tuple(Mark(k, "loose") for k in range(5))
    causes, chances = Causes.before("PLA", 0.0), []
    while not chances or chances[-1] < JUDGE.doubt_from:
        field, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, ZONES)
        chances.append(field.shared["zero"])
        causes = causes.learnt(field.shared, {}, field.astray).mended("cold_plate")
        assert len(chances) < 6
    assert (np.diff(chances) > 0).all()
    assert chances[0] < 0.3
    # Now it is in the belief, and starts anew.
    assert causes.astray == UNSEEN


def test_what_was_mended_in_vain_is_not_mended_again_before_a_ladder() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.01**2 * np.eye(5)
    marks = tuple(Mark(k, "loose") for k in range(5))
    field = by_causes(marks, mean, cov)
    known = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False}
    first = next_actions(field, BEAD_042, "PLA", marks, **known, before=Before(fallen=True))[0]
    assert first.kind == "remedy"
    again = Before(fallen=True, mended_in_vain=frozenset(first.causes))
    second = next_actions(field, BEAD_042, "PLA", marks, **known, before=again)[0]
    assert second.kind == "ladder"
    assert "mended already" in second.reason
    # Of something else than that, the remedy is still the first.
    other = Before(fallen=True, mended_in_vain=frozenset({"fan"}))
    assert next_actions(field, BEAD_042, "PLA", marks, **known, before=other)[0].kind == "remedy"


def test_a_step_back_is_one_to_where_the_last_came_from() -> None:
    step = Action(kind="offset", p_all_sound=0.9, minutes=1, total_minutes=5, reason="", shift_mm=-0.02)
    assert _steps_back(step, Before(shift_mm=0.02), 0.01)
    assert _steps_back(step, Before(shift_mm=0.03), 0.01)
    # A small correction after a large step is none.
    assert not _steps_back(step, Before(shift_mm=0.16), 0.01)
    assert not _steps_back(step, Before(shift_mm=-0.02), 0.01)
    # On in the same way is none either, however little.
    on = step.model_copy(update={"shift_mm": 0.005})
    assert not _steps_back(on, Before(shift_mm=0.005), 0.01)
    assert not _steps_back(step, Before(), 0.01)


def test_after_a_sure_move_no_print_is_counted() -> None:
    """The zones are known well and all a little too far: moved, they are sound, and nothing more is printed for it."""
    rng = np.random.default_rng(5)
    gaps = np.clip(0.232 + rng.normal(0, 0.003, (2048, 5)), 0.2, 0.26)
    mean, cov = np.append(gaps.mean(axis=0), np.zeros(3)), np.zeros((8, 8))
    cov[:5, :5] = np.cov(gaps.T)
    field = FieldPosterior(mean, cov, (), greasy=np.zeros(5))
    whole = frozenset(range(5))
    for before, unseen in (
        (Before(judged=whole), True),
        (Before(judged=whole, fallen=True), False),
        (Before(judged=frozenset({0, 1})), False),
        (Before(), False),
    ):
        can = Remedies(field, gaps, BEAD_042, "PLA", 0.01, None, False, before)
        move = can.by_height()[0]
        assert move.p_all_sound > JUDGE.unseen_at
        if unseen:
            assert move.total_minutes == pytest.approx(
                JUDGE.minutes.offset + (1 - move.p_all_sound) * JUDGE.minutes.failed
            )
            assert move.proofs_left == 0
        else:
            assert move.total_minutes >= JUDGE.minutes.offset + JUDGE.minutes.proof


def test_two_heights_are_expected_to_leave_no_more_minutes_than_one() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] = 0.012**2 + 0.01**2 * np.eye(5)
    field = estimate_field(mean, cov, (), BEAD_042)
    gaps = np.random.default_rng(1).multivariate_normal(mean[:5], cov[:5, :5], 2048)
    aims = Aims(LOW, HIGH, 0.2, 0.01)
    left = [again_left(field, BEAD_042, gaps, aims, 1.0, apart) for apart in (0.0, 0.026)]
    assert left[1] < left[0]


def test_a_plate_that_is_rather_sound_is_seen_twice_before_it_is_moved() -> None:
    mean, cov = zones_prior()
    mean[:5] = 0.219
    cov[:5, :5] = 0.006**2 + 0.002**2 * np.eye(5)
    cov[5, 5] = 1e-8
    field = estimate_field(mean, cov, (), BEAD_042)
    known = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False}
    first = next_actions(field, BEAD_042, "PLA", (), **known, before=Before(judged=frozenset(range(5)), proofs=2))
    assert first[0].kind == "print_again"
    assert JUDGE.rather_sound < first[0].p_all_sound < JUDGE.done_at
    assert first[1].kind == "offset"
    assert first[1].p_all_sound > 0.95
    seen_twice = Before(judged=frozenset(range(5)), proofs=3, repeats=1)
    assert next_actions(field, BEAD_042, "PLA", (), **known, before=seen_twice)[0].kind == "offset"


# Another first layer

#: Further apart than the usual layer forgives, and nothing evens it out.
APART = (0.165, 0.24, 0.19, 0.2, 0.235)
THICKER = forgiving_layers(BEAD_042, 0.4)


def apart(before: Before, gaps: tuple[float, ...] = APART, layers: tuple[Bead, ...] = THICKER) -> tuple[Action, ...]:
    mean, cov = zones_prior()
    marks = tuple(Mark(k, BEAD_042.grade_at(gap), gap) for k, gap in enumerate(gaps))
    field = estimate_field(mean, cov, marks, BEAD_042)
    known = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False, "can_mesh": False}
    return next_actions(field, BEAD_042, "PLA", marks, layers=layers, before=before, **known)


def test_another_first_layer_comes_first_once_nothing_else_ends_it() -> None:
    twice = Before(proofs=2, repeats=1)
    first = apart(twice)[0]
    assert first.kind == "settings"
    assert first.p_all_sound >= JUDGE.done_at
    assert first.layer is not None
    assert (first.layer.layer_mm, first.layer.wider) == (pytest.approx(0.28), False)
    assert max(a.p_all_sound for a in apart(twice, layers=())) < JUDGE.rather_sound
    # By one proof nobody changes every job, and a plate that is rather sound is left with its layer.
    assert apart(Before(proofs=1))[0].kind != "settings"
    assert apart(twice, (0.18, 0.215, 0.19, 0.2, 0.205))[0].kind != "settings"
    assert all(a.kind != "settings" for a in apart(twice, layers=()))


def test_what_another_first_layer_promises_is_what_its_bead_forgives() -> None:
    """By independent draws of the same gaps, the nozzle higher by what the layer is thicker, and the move it names."""
    mean, cov = zones_prior()
    marks = tuple(Mark(k, BEAD_042.grade_at(gap), gap) for k, gap in enumerate(APART))
    field = estimate_field(mean, cov, marks, BEAD_042)
    settings_ = apart(Before(proofs=2, repeats=1))[0]
    assert settings_.layer is not None
    other = Bead(settings_.layer.line_mm, settings_.layer.layer_mm)
    draws = np.random.default_rng(8).multivariate_normal(field.mean[:5], field.cov[:5, :5], 200_000)
    gaps = draws + (other.layer_mm - BEAD_042.layer_mm) + (settings_.shift_mm or 0.0)
    low, high = other.bands_mm()["sound"]
    held = float(((gaps > low) & (gaps < high)).all(axis=1).mean())
    assert settings_.p_all_sound == pytest.approx(held, abs=0.04)


# The field itself


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


def test_a_height_nobody_knows_is_looked_for_by_a_ladder() -> None:
    mean, cov = zones_prior()
    cov[:5, :5] += 0.3**2
    field = estimate_field(mean, cov, (), BEAD_042)
    known = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False}
    first = next_actions(field, BEAD_042, "PLA", (), **known, before=Before(height_unknown=True))[0]
    assert (first.kind, first.minutes) == ("ladder", JUDGE.minutes.proof)
    assert first.total_minutes == 2 * JUDGE.minutes.proof + JUDGE.minutes.offset
    assert f"known to ±{np.sqrt(field.cov[:5, :5].mean()):.2f} mm only" in first.reason


def test_what_a_part_of_the_plate_showed_is_taken_up_before_the_rest_is_printed() -> None:
    mean, cov = zones_prior()
    mean[:5] = 0.30
    cov[:5, :5] = 0.01**2 + 0.02**2 * np.eye(5)
    field = estimate_field(mean, cov, (), BEAD_042)
    known = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False}
    first = next_actions(field, BEAD_042, "PLA", (), **known, before=Before(judged=frozenset({0, 1}), proofs=1))[0]
    assert first.kind == "offset"
    assert first.shift_mm is not None
    assert first.shift_mm < -0.05
