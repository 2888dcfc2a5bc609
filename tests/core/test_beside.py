"""Two rows side by side that differ in one thing: what the rows say, and what the belief makes of it."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.special import ndtr

from ivory_table.core.bead import GRADES, Bead
from ivory_table.core.beside import LEAST_PAIRS, beside_words, better_row
from ivory_table.core.causes import Causes, effects
from ivory_table.core.defaults import LAYER, PROOF
from ivory_table.core.eye import Eye
from ivory_table.core.proof import ProofPlan, plan
from ivory_table.core.proof_field import judged_field
from ivory_table.core.signs import Mark
from tests.conftest import setup_for

WREN = setup_for("wren")
BEAD = Bead(0.42, 0.2)
ABS = WREN.filament.model_copy(update={"id": "abs", "name": "Grey ABS", "nozzle_c": 245.0, "bed_c": 100.0})


def of(kind: str, **more) -> ProofPlan:
    return plan(WREN.machine, WREN.plate, WREN.filament, kind, bead=BEAD, **more)


def marked(*grades: str | None) -> dict[int, Mark]:
    return {k: Mark(k, g) for k, g in enumerate(grades) if g is not None}


def test_two_filaments_lie_beside_one_another_at_their_own_temperatures() -> None:
    laid = of("two_filaments", other=ABS)
    usual, beside = laid.zones[:3], laid.zones[3:]
    assert laid.other == ABS
    assert [z.other for z in laid.zones] == [False] * 3 + [True] * 3
    assert {z.nozzle_c for z in usual} == {None}
    assert {z.nozzle_c for z in beside} == {ABS.nozzle_c}
    assert all(a.y_mm == b.y_mm and a.x_mm < b.x_mm for a, b in zip(usual, beside, strict=True))
    # Kept as they were made: old rows spare nothing.
    assert ProofPlan.model_validate_json(laid.model_dump_json()) == laid
    assert of(5).spares == ()


def test_a_second_filament_must_be_told_and_must_fit_the_drive() -> None:
    with pytest.raises(ValueError, match="Say first which other filament"):
        of("two_filaments")
    with pytest.raises(ValueError, match="one drive does not take both"):
        of("two_filaments", other=ABS.model_copy(update={"diameter_mm": 2.85}))
    with pytest.raises(ValueError, match="Say which other filament"):
        ProofPlan.model_validate({**of("two_filaments", other=ABS).model_dump(), "other": None})


def test_the_row_that_lies_better_is_named_by_pairs_of_patches() -> None:
    laid = of("pair")
    better = better_row(laid, marked("parted", "barely", "parted", "sound", "sound", "sound"))
    assert better == "other"
    assert better_row(laid, marked("sound", "sound", "sound", "ridged", "squeezed", "ridged")) == "usual"
    assert better_row(laid, marked(*["parted"] * 6)) == "neither"
    assert better_row(laid, marked(*["sound"] * 6)) == "both_sound"
    # One pair says nothing yet, nor does a greasy spot, nor pairs that speak for either row.
    assert better_row(laid, marked("parted", None, None, "sound", None, None)) == "unknown"
    greasy = marked("loose", "loose", "sound", "sound", "sound", "sound") | {0: Mark(0, "loose", greasy=True)}
    assert better_row(laid, greasy) == "neither"
    assert better_row(laid, marked("parted", "sound", "parted", "sound", "parted", "sound")) == "neither"


@given(st.lists(st.sampled_from([*GRADES, None]), min_size=6, max_size=6))
def test_rows_that_change_places_change_the_answer(grades: list[str | None]) -> None:
    laid = of("pair")
    one, swapped = better_row(laid, marked(*grades)), better_row(laid, marked(*grades[3:], *grades[:3]))
    assert swapped == {"usual": "other", "other": "usual"}.get(one, one)
    judged = sum(a is not None and b is not None for a, b in zip(grades[:3], grades[3:], strict=True))
    assert (one == "unknown") == (judged < LEAST_PAIRS)


def test_what_two_filaments_say_is_said_with_their_names() -> None:
    laid = of("two_filaments", other=ABS)
    worse = marked("parted", "parted", "barely", "sound", "sound", "sound")
    words = beside_words(laid, worse, WREN.filament.name)
    assert words.startswith(f"Grey ABS lies better than {WREN.filament.name}")
    assert words.endswith(f"Load {WREN.filament.name} again before anything else is printed.")
    assert "too cold" in beside_words(of("pair"), worse, WREN.filament.name)
    assert beside_words(of(5), worse, WREN.filament.name) == ""


def causes_by(
    laid: ProofPlan, grades: tuple[str, ...], gap_mm: float, causes: Causes | None = None
) -> dict[str, float]:
    cov = np.zeros((7, 7))
    cov[:6, :6] = 0.02**2 + 0.004**2 * np.eye(6)
    cov[6, 6] = 0.005**2
    marks = tuple(Mark(k, g) for k, g in enumerate(grades))
    found, _ = judged_field(
        np.append(np.full(6, gap_mm), 0.0),
        cov,
        marks,
        BEAD,
        Eye(),
        causes or Causes.before("PLA", 0.0),
        laid.places,
        spares=laid.spares,
    )
    return found.shared


def test_a_hotter_row_that_holds_tells_of_a_cold_tip_and_one_that_does_not_tells_against_it() -> None:
    laid = of("pair")
    usual = Causes.before("PLA", 0.0).shared["tip_cold"]
    better = causes_by(laid, ("parted",) * 3 + ("sound",) * 3, 0.2)
    alike = causes_by(laid, ("parted",) * 6, 0.2)
    assert better["tip_cold"] > 3 * usual
    assert better["tip_cold"] > 3 * alike["tip_cold"]
    # The same marks of a proof whose rows are alike say less.
    bare = laid.model_copy(update={"zones": tuple(z.model_copy(update={"spares": ()}) for z in laid.zones)})
    assert causes_by(bare, ("parted",) * 3 + ("sound",) * 3, 0.2)["tip_cold"] < better["tip_cold"] / 2


def test_what_a_row_is_spared_is_weighed_as_by_brute_force() -> None:
    """One patch as usual and one beside it that is spared a cold tip, against draws of gap, feed and eye."""
    cov = np.zeros((3, 3))
    cov[:2, :2], cov[2, 2] = 0.02**2 + 0.005**2 * np.eye(2), 0.01**2
    mean, places = np.array([0.2, 0.2, 0.0]), np.zeros((2, 2))
    spares, grades = ((), PROOF.hotter_spares), ("parted", "sound")
    causes, eye = Causes({"height": 0.5, "tip_cold": 0.5}, {}), Eye(ln_sd=0.05)
    marks = tuple(Mark(k, g) for k, g in enumerate(grades))
    found = judged_field(mean, cov, marks, BEAD, eye, causes, places, spares=spares)[0]
    what, rng = effects(causes, places, spares), np.random.default_rng(3)
    n = 200_000
    weights = []
    for h in range(2):
        gaps = 0.2 + 0.02 * rng.standard_normal((n, 1)) + 0.005 * rng.standard_normal((n, 2))
        own = what.flow[h] + what.flow_var[h] ** 0.5 * rng.standard_normal((n, 1))
        feed, habit = 0.01 * rng.standard_normal((n, 1)), eye.habit_sd * rng.standard_normal((n, 1))
        # What the cause does to the flow is missing in the second; its spread is not told apart.
        flow = feed + own - np.array([0.0, what.flow[h]])
        seen = gaps - 0.2 * (flow - habit)
        p = np.ones(n)
        for k, mark in enumerate(marks):
            bands, rest, fails = mark.seen
            low, high = zip(*(BEAD.bands_mm()[g] for g in GRADES), strict=True)
            edges = (np.array([high, low])[:, None] - seen[:, k, None]) / (eye.scatter * 0.2)
            phi = what.fails[h, k]
            p *= (1 - phi) * (rest + (ndtr(edges[0]) - ndtr(edges[1])) @ bands) + phi * fails
        weights.append(p.mean())
    assert found.shared["tip_cold"] == pytest.approx(weights[1] / sum(weights), abs=0.02)


def test_a_roll_is_suspected_only_once_somebody_lays_another_beside_it() -> None:
    before = Causes.before("PLA", 0.0)
    assert before.shared["roll"] == 0
    told = before.suspected("roll", after_proofs=False)
    assert told.shared["roll"] == pytest.approx(LAYER.causes["roll"].suspected)
    assert sum(told.shared.values()) == pytest.approx(1)
    assert told.shared["coat"] / told.shared["feed"] == pytest.approx(before.shared["coat"] / before.shared["feed"])
    assert told.suspected("roll", after_proofs=False) == told
    assert Causes.none().suspected("roll", after_proofs=False) == Causes.none()
    laid = of("two_filaments", other=ABS)
    parted = causes_by(laid, ("parted",) * 3 + ("sound",) * 3, 0.2, told)
    assert parted["roll"] > 1.5 * told.shared["roll"]
    better = causes_by(laid, ("barely",) * 3 + ("sound",) * 3, 0.2, told)
    assert max(better, key=lambda n: better[n]) == "roll"
    assert causes_by(laid, ("parted",) * 6, 0.2, told)["roll"] < told.shared["roll"]
    assert "roll" not in causes_by(laid, ("parted",) * 3 + ("sound",) * 3, 0.2, before)


def test_a_roll_may_have_misled_earlier_proofs_about_the_height() -> None:
    """The height was learnt to be 0.11 mm too far by a roll that holds nowhere; another filament lies sound at it."""
    laid, first = of("two_filaments", other=ABS), Causes.before("PLA", 0.0)
    late, early = (first.suspected("roll", after_proofs=misled) for misled in (True, False))
    other_holds, neither = ("barely",) * 3 + ("sound",) * 3, ("barely",) * 6
    assert causes_by(laid, other_holds, 0.31, late)["roll"] > 0.5 > causes_by(laid, other_holds, 0.31, early)["roll"]
    # Where the other lies as badly, it is the height.
    assert causes_by(laid, neither, 0.31, late)["roll"] < late.shared["roll"]


def test_what_a_roll_misled_is_doubted_once() -> None:
    told = Causes.before("PLA", 0.0).suspected("roll", after_proofs=True)
    place = np.zeros((1, 2))

    def astray(causes: Causes) -> float:
        what = effects(causes, place)
        return float(what.astray_var[what.names.index("roll")])

    assert astray(told) == pytest.approx(LAYER.causes["roll"].astray_mm ** 2)
    unsure = told.learnt({**told.shared, "roll": 0.3, "height": told.shared["height"] - 0.15}, {})
    assert astray(unsure) == astray(told)
    sure = told.learnt({n: 0.7 * (n == "roll") + 0.3 * (n == "height") for n in told.shared}, {})
    assert astray(sure) == 0


def test_what_is_spared_does_not_fail_for_it() -> None:
    causes = Causes.before("PLA", 0.0)
    laid = of("pair")
    usual, spared = effects(causes, laid.places), effects(causes, laid.places, laid.spares)
    cold = usual.names.index("tip_cold")
    assert (spared.shared_fails[cold, 3:] == 0).all()
    assert (spared.shared_fails[cold, :3] == usual.shared_fails[cold, :3]).all()
    assert (usual.spared_flow == 0).all()
    others = [h for h in range(len(usual.names)) if h != cold]
    for h, k in itertools.product(others, range(6)):
        assert spared.shared_fails[h, k] == usual.shared_fails[h, k]
        assert spared.spared_flow[h, k] == 0
