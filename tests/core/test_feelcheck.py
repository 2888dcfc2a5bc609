"""A feel check: the scale of a simulated person is found again, and says what it means."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.feelcheck import ROUNDS, STEPS_MM, FeelTry, fit, heights, sentence, told_apart_mm
from ivory_table.core.gauge import FEELS, FeelScale, Gauge
from ivory_table.core.plate import OwnFeel, Person


def person(scatter: float, cuts: tuple[float, ...], seed: int, zero: float = 0.0) -> tuple[FeelTry, ...]:
    rng = np.random.default_rng(seed)
    return tuple(
        FeelTry(above_mm=z, feel=FEELS[int(np.searchsorted(cuts, z + zero + rng.normal(0, scatter)))])
        for z in heights(seed, 0.005)
    )


START = (-0.040, -0.012, 0.008, 0.030)


@pytest.mark.parametrize("scatter", [0.006, 0.012, 0.02])
def test_a_persons_scatter_is_found(scatter: float) -> None:
    found = [fit(person(scatter, START, seed)).scatter_mm for seed in range(12)]
    assert np.exp(np.mean(np.log(found))) == pytest.approx(scatter, rel=0.3)


def test_a_sharper_person_gets_a_smaller_scatter_than_a_blunter_one() -> None:
    sharp = np.mean([fit(person(0.005, START, s)).scatter_mm for s in range(8)])
    blunt = np.mean([fit(person(0.025, START, s)).scatter_mm for s in range(8)])
    assert sharp < 0.7 * blunt


def test_where_the_checks_own_zero_lay_does_not_matter() -> None:
    here, there = (fit(person(0.01, START, 3, zero)) for zero in (0.0, 0.012))
    assert here.cuts_mm[1] + here.cuts_mm[2] == pytest.approx(there.cuts_mm[1] + there.cuts_mm[2], abs=1e-9)


def test_a_wide_drag_is_found_wide() -> None:
    wide = (-0.055, -0.027, 0.023, 0.045)
    found = [fit(person(0.008, wide, s)) for s in range(6)]
    assert np.mean([f.cuts_mm[2] - f.cuts_mm[1] for f in found]) > 0.028


def test_heights_come_in_an_order_nobody_foretells_and_each_as_often() -> None:
    order = heights(5, 0.01)
    assert len(order) == len(STEPS_MM) * ROUNDS
    assert list(order) != sorted(order)
    assert order == heights(5, 0.01)
    assert order != heights(6, 0.01)


def test_too_few_tries_tell_nothing() -> None:
    with pytest.raises(ValueError, match="nine are the least"):
        fit(person(0.01, START, 1)[:8])


@given(st.floats(0.003, 0.05))
def test_what_is_told_apart_is_the_textbooks(scatter: float) -> None:
    """Two noisy feels are put in the right order in 90 % at z sqrt(2) sigma."""
    step = told_apart_mm(FeelScale(scatter_mm=scatter))
    assert norm.cdf(step / (scatter * 2**0.5)) == pytest.approx(0.9)


def test_the_sentence_is_plain() -> None:
    assert sentence(FeelScale(tries=27)).startswith("You tell 0.02 mm apart 9 times in 10.")


def test_each_way_of_feeling_begins_with_a_scale_of_its_own_and_learns_its_own() -> None:
    scales = {m: FeelScale.of_method(m) for m in ("slide", "push", "clip")}
    assert scales["slide"] == FeelScale()
    assert len({s.cuts_mm for s in scales.values()}) == 3
    for scale in scales.values():
        assert list(scale.cuts_mm) == sorted(scale.cuts_mm)
        assert scale.cuts_mm[1] < 0 < scale.cuts_mm[2]  # drag is around the sheet's own thickness
    paper = Gauge(id="paper", name="copy paper")
    pushed = Gauge(id="pushed", name="copy paper", method="push")
    own = OwnFeel(gauge_id="paper", scale=FeelScale(scatter_mm=0.02, tries=27))
    person = Person(id="mk", name="Mika", initials="mk", feels=(own,))
    # What one hand has learnt by sliding says nothing of how it pushes.
    assert person.feel_on(paper).scatter_mm == 0.02
    assert person.feel_on(pushed) == scales["push"]
    assert pushed.try_words.startswith("push the copy paper")
    assert "clip" in Gauge(id="c", name="copy paper", method="clip").try_words
