"""What lies behind a bad first layer beside the height: against brute force."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import ndtr

from ivory_table.core.action import Before
from ivory_table.core.bead import GRADES
from ivory_table.core.causes import UNSEEN, Causes, effects, fails_of, look_first
from ivory_table.core.defaults import BEAD, JUDGE, LAYER
from ivory_table.core.eye import Eye
from ivory_table.core.judge import next_actions
from ivory_table.core.proof_field import _stretches, judged_field
from ivory_table.core.signs import Mark
from tests.core.judging import BEAD_042, ZONES, by_causes, zones_prior


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


@pytest.mark.parametrize("name", ["cold_plate", "coat", "feed"])
def test_what_hid_the_others_gives_them_back_their_chances_once_it_is_mended(name: str) -> None:
    """By hand: it was that one, and then all others are as before anything was printed; or it was another."""
    usual = Causes.before("PLA", 0.0)
    sure = replace(usual, shared={n: float(n == name) for n in usual.shared})
    mended = sure.mended(name, helps=0.8)
    rest = 1 - usual.shared[name]
    assert mended.shared == pytest.approx({n: 0.2 if n == name else 0.8 * p / rest for n, p in usual.shared.items()})
    other = replace(usual, shared={n: float(n == "draught") for n in usual.shared})
    assert other.mended(name).shared == pytest.approx(other.shared)
    doubted = replace(usual, shared={n: 0.5 * (n == name) + 0.5 * (n == "draught") for n in usual.shared})
    half = doubted.mended(name, helps=0.8).shared
    assert sum(half.values()) == pytest.approx(1.0)
    assert half["draught"] == pytest.approx(0.5 + 0.4 * usual.shared["draught"] / rest)


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
            p += bands[k] * (ndtr((high - seen) / s) - ndtr((low - seen) / s))
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


def in_rows(*grades: str) -> tuple[np.ndarray, np.ndarray, np.ndarray, tuple[Mark, ...]]:
    """Five zones at three heights: gaps and flow, their covariance, places, and marks."""
    cov = np.zeros((16, 16))
    cov[:15, :15] = 0.02**2 + 0.011**2 * np.kron(np.eye(5), np.ones((3, 3)))
    cov[15, 15] = 0.005**2
    mean = np.append(0.2 + np.tile([-0.038, 0.0, 0.038], 5), 0.0)
    return mean, cov, np.repeat(ZONES, 3, axis=0), tuple(Mark(k, g) for k, g in enumerate(grades))


def test_one_spot_of_grease_lies_under_all_patches_of_a_zone() -> None:
    """Beside the same marks taken to lie on spots of their own."""
    causes = Causes.before("PLA", 0.0)
    held = ["ridged", "sound", "parted"]
    mean, cov, places, marks = in_rows(*held, "loose", "loose", "barely", *held * 3)
    field, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, places)
    assert field.greasy[3:6] == pytest.approx(field.greasy[3], abs=0.02)
    assert field.greasy[3] > 0.98
    alone, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, places + np.arange(15)[:, None])
    # Each by itself, as if they were different spots, any is less sure.
    assert alone.greasy[3:6].max() < field.greasy[3:6].min()
    mean, cov, places, marks = in_rows(*held, "sound", "sound", "barely", *held * 3)
    one, _ = judged_field(mean, cov, marks, BEAD_042, Eye(), causes, places)
    assert one.greasy[3] < 0.5
    assert one.greasy[[0, 1, 6, 7]].max() < 0.01


def test_what_the_height_may_be_off_by_is_kept_and_is_that_of_the_lane_alone() -> None:
    """Under "the height is wrong" all gaps share one unknown; its posterior against weighing draws of it."""
    mean, cov = zones_prior()
    cov[:5, :5] = 0.002**2 + 0.01**2 * np.eye(5)
    cov[5, 5] = 1e-12
    marks = tuple(Mark(k, g) for k, g in enumerate(("loose", "loose", "barely", "loose", "loose")))
    # Whatever it amounts to, it is not what is believed: a coat that is worn is likelier by far.
    only = Causes({"zero": 0.01, "coat": 0.99}, dict.fromkeys(map(tuple, ZONES.tolist()), 0.0))
    eye = Eye(scatter=0.06, ln_sd=0.01)
    field, _ = judged_field(mean, cov, marks, BEAD_042, eye, only, ZONES)
    rng = np.random.default_rng(3)
    off = rng.normal(0, UNSEEN[1] ** 0.5, 200_000)
    gaps = 0.2 + off[:, None] + rng.multivariate_normal(np.zeros(5), cov[:5, :5], len(off))
    seen = gaps - 0.2 * rng.normal(0, 0.03, (len(off), 1))
    log_w = np.zeros(len(off))
    for m in marks:
        low, high = BEAD_042.bands_mm()[m.grade]
        p = ndtr((high - seen[:, m.zone]) / 0.012) - ndtr((low - seen[:, m.zone]) / 0.012)
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
    assert chances[0] < JUDGE.doubt_from
    # Now it is in the belief, and starts anew.
    assert causes.astray == UNSEEN


def brute(
    marks: tuple[Mark, ...], mean: np.ndarray, cov: np.ndarray, causes: Causes, eye: Eye
) -> tuple[dict[str, float], float]:
    """Chances of the causes, and the mean of what all gaps have in common, by weighing the same 60 000 draws for each cause."""
    what = effects(causes, ZONES)
    rng = np.random.default_rng(5)
    n, seen_sd = 60_000, eye.scatter * 0.2
    grades = [BEAD_042.bands_mm()[grade] for grade in GRADES]
    drawn = rng.multivariate_normal(mean[:5], cov[:5, :5], n)
    together, fed, habit = rng.standard_normal((n, 1)), rng.standard_normal(n), rng.standard_normal(n)
    weights, commons = [], []
    for h in range(len(what.names)):
        gaps = drawn + what.astray_var[h] ** 0.5 * together
        flow = what.flow[h] + np.hypot(cov[5, 5] ** 0.5, what.flow_var[h] ** 0.5) * fed
        seen = gaps - 0.2 * (flow - eye.habit_sd * habit)[:, None]
        weight = np.full(n, what.prior[h])
        for m in marks:
            bands, rest, fails = m.seen
            x = seen[:, m.zone]
            p = rest + sum(
                b * (ndtr((hi - x) / seen_sd) - ndtr((lo - x) / seen_sd))
                for b, (lo, hi) in zip(bands, grades, strict=True)
            )
            phi = what.fails[h, m.zone]
            weight = weight * ((1 - phi) * p + phi * fails)
        weights.append(weight.mean())
        commons.append((weight * gaps.mean(axis=1)).mean())
    total = np.sum(weights)
    shared = {name: float(w / total) for name, w in zip(what.names, weights, strict=True)}
    return shared, float(np.sum(commons) / total)


@pytest.mark.parametrize(
    "grades",
    [
        ("loose", "loose", "ridged", "loose", "loose"),
        ("ridged", "squeezed", "ridged", "ridged", "loose"),
        ("loose", "loose", "loose", "barely", "loose"),
        ("sound", "ridged", "ridged", "sound", "loose"),
    ],
)
@pytest.mark.parametrize("common_mm", [0.02, pytest.param(0.07, marks=pytest.mark.slow)])
def test_what_all_zones_share_is_that_of_brute_force(grades: tuple[str, ...], common_mm: float) -> None:
    """Also where two heights would do: too far, or about right and something else in the way. Then the gaps keep to one of them."""
    mean, cov = zones_prior()
    mean[:5] = 0.24
    cov[:5, :5] = common_mm**2 + 0.012**2 * np.eye(5)
    marks = tuple(Mark(k, grade) for k, grade in enumerate(grades))
    causes, eye = Causes.before("PLA", 0.0), Eye(scatter=0.08, ln_sd=0.02)
    field = judged_field(mean, cov, marks, BEAD_042, eye, causes, ZONES)[0]
    shared, common = brute(marks, mean, cov, causes, eye)
    assert max(abs(field.shared[n] - p) for n, p in shared.items()) < 0.03
    if shared["coat"] + shared["cold_plate"] < 0.1:
        assert field.gaps[0].mean() == pytest.approx(common, abs=0.01)


@pytest.mark.parametrize(
    ("believed_mm", "sd_mm", "first"),
    [
        (0.3, 0.021, ("loose", "barely", "loose", "ridged", "loose")),
        (0.3, 0.021, ("loose", "loose", "loose", "loose", "ridged")),
        (0.24, 0.07, ("loose", "loose", "ridged", "loose", "loose")),
    ],
)
def test_five_ridged_zones_are_too_close_whatever_was_thought_before(
    believed_mm: float, sd_mm: float, first: tuple[str, ...]
) -> None:
    """What did not hold looked too far, or like a cold plate; the next proof, ridged everywhere, leaves no doubt."""
    mean, cov = zones_prior()
    mean[:5], cov[:5, :5] = believed_mm, sd_mm**2 + 0.012**2 * np.eye(5)
    causes, eye = Causes.before("PLA", 0.0), Eye()
    for grades in (first, ("ridged",) * 5):
        marks = tuple(Mark(k, grade) for k, grade in enumerate(grades))
        field, eye = judged_field(mean, cov, marks, BEAD_042, eye, causes, ZONES)
        causes = causes.learnt(field.shared, {}, field.astray)
        mean, cov = field.mean[:6].copy(), field.cov[:6, :6].copy()
    low, high = BEAD_042.bands_mm()["ridged"]
    assert low < field.gaps[0].mean() < high
    assert field.shared["coat"] + field.shared["cold_plate"] < 0.1


@given(sd=st.floats(0.001, 0.6), own=st.floats(0.001, 0.05))
def test_stretches_of_height_add_up_to_the_normal(sd: float, own: float) -> None:
    mean, cov = zones_prior()
    full, spread = np.append(mean, [0.0, 0.0]), np.zeros((8, 8))
    spread[:6, :6] = cov
    spread[:5, :5] = sd**2 + own**2 * np.eye(5)
    parts = _stretches(full, spread, 5)
    share = np.exp([p[2] for p in parts])
    assert share.sum() == pytest.approx(1)
    means = np.array([p[0] for p in parts])
    at = share @ means
    within = np.tensordot(share, np.array([p[1] for p in parts]), axes=1)
    assert at == pytest.approx(full, abs=1e-9)
    whole = within + (share[:, None] * (means - at)).T @ (means - at)
    # So many steps end at 2.5 sds.
    assert whole == pytest.approx(spread, rel=0.06, abs=1e-9)
    common = np.append(np.full(5, 0.2), np.zeros(3))
    assert (len(parts) == 1) == (common @ spread @ common <= JUDGE.stretch_mm**2)
    assert all(np.linalg.eigvalsh(p[1]).min() > -1e-12 for p in parts)


@pytest.mark.parametrize(("cause", "sign"), [("tip_cold", -1), ("tip_hot", 1)])
def test_a_cause_that_changes_what_is_fed_shows_in_the_feed_that_is_believed(cause: str, sign: int) -> None:
    """Likely at work, and one patch that says little: the feed is believed off by its share of it, either way."""
    mean, cov = zones_prior()
    known = replace(Causes.before("PLA", 0.0), shared={"height": 0.2, cause: 0.8})
    cov[5, 5] = 1e-6
    field = by_causes((Mark(2, "sound"),), mean, cov, known)
    row = LAYER.causes[cause]
    assert np.sign(row.flow) == sign
    assert field.flow[0] == pytest.approx(field.shared[cause] * row.flow, rel=0.4)


@pytest.mark.parametrize("off", [(0.0, 0.0), (-400.0, 250.0)])
def test_the_rim_is_further_out_than_most_wherever_the_plate_lies(off: tuple[float, float]) -> None:
    by_name = {name: fails_of(name, ZONES + np.array(off)) for name in LAYER.causes}
    middle = int(np.argmin(np.linalg.norm(ZONES - ZONES.mean(axis=0), axis=1)))
    assert sum(row.fails != row.fails_edge for row in LAYER.causes.values()) >= 3
    for name, found in by_name.items():
        row = LAYER.causes[name]
        expected = np.full(len(ZONES), row.fails_edge)
        expected[middle] = row.fails
        expected[0] += row.fails_first
        assert found == pytest.approx(expected), name
    assert fails_of("height", ZONES) == pytest.approx(np.zeros(len(ZONES)))
