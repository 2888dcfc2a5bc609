"""What drift goes by: days of usual use, and whether prints are told from days."""

import itertools

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.drift import Rates, Stretch, rates
from ivory_table.core.outlook import outlook
from ivory_table.core.wear import LN_SHARES, SHARES, Pace, Use
from tests.past import seen

NAMES = ("centre", "front left", "front right", "rear left", "rear right")
LEFT = seen(NAMES, np.zeros(5), 0.012)


def history(r: np.random.Generator, runs: int, by_prints: float, *, written: bool = True) -> list[Stretch]:
    """Two weeks each, some with hardly a print and some with many, over a plate that goes by prints by so much."""
    found = []
    for k in range(runs):
        prints = (4.0, 80.0)[k % 2]
        worn = 14 * (1 - by_prints) + prints / 3 * by_prints
        each = 0.006 * worn**0.5 * r.standard_normal(4)
        change = np.append(each.mean(), each) + 0.012 * worn**0.5 * r.standard_normal()
        cov = 0.006**2 * (np.eye(5) + 0.5 * np.ones((5, 5)))
        use = Use(days=14, prints=prints if written else None)
        found.append(Stretch(use, change + r.multivariate_normal(np.zeros(5), cov), cov))
    return found


def test_the_choices_are_shares_and_chances() -> None:
    assert SHARES.sum(axis=1) == pytest.approx(np.ones(len(SHARES)))
    assert np.exp(LN_SHARES).sum() == pytest.approx(1.0)


def test_it_is_learnt_what_a_plate_goes_by() -> None:
    r = np.random.default_rng(2)
    prints = [rates(history(r, 24, 1.0), 5).goes_by for _ in range(6)]
    days = [rates(history(r, 24, 0.0), 5).goes_by for _ in range(6)]
    assert np.mean([p[1] for p in prints]) > 0.6
    assert np.mean([d[0] for d in days]) > 0.6


def test_what_nobody_has_written_down_changes_nothing() -> None:
    told = history(np.random.default_rng(3), 8, 0.5, written=False)
    known = rates(told, 5)
    assert known.goes_by == pytest.approx([1.0, 0.0, 0.0])
    assert known.worn(Use(days=9, prints=400)) == pytest.approx(np.full(len(known.common), 9.0))


def test_a_plate_that_goes_by_prints_is_due_sooner_when_it_prints_more() -> None:
    known = rates(history(np.random.default_rng(4), 24, 1.0), 5)
    p = [
        float(np.interp(7, found.days, found.p_sound))
        for prints in (0.0, 21.0, 90.0)
        for found in [outlook(LEFT, known, Use(days=7, prints=prints))]
    ]
    assert p[0] > p[1] + 0.02
    assert p[1] > p[2] + 0.02


def test_the_chances_agree_with_a_closed_form_of_the_walk() -> None:
    """One choice of rates, by prints alone: the sd of the common height after 50 prints at 2 a day is that of 25 days."""
    one = Rates(
        weight=np.array([[1.0, 0.0, 0.0, 0.0, 0.0]]),
        common=np.array([0.02]),
        own=np.array([1e-6]),
        form=np.array([1e-6]),
        slope=np.zeros((1, 4)),
        slope_sd=np.full((1, 4), 1e-9),
        shares=np.array([[0.0, 1.0, 0.0]]),
        pace=Pace(prints=2.0),
    )
    gone = one.gone(Use(days=3, prints=50))
    assert gone.common == pytest.approx(25 * 0.02**2)
    # From then on at the usual pace: 7 more days are 14 more prints.
    ahead = outlook(seen(NAMES, np.zeros(5), 1e-4), one, Use(days=3, prints=50))
    sd = np.interp(120, ahead.days, [0] * (len(ahead.days) - 1) + [ahead.sd_later_mm[0]])
    assert sd == pytest.approx(0.02 * (25 + 117) ** 0.5, rel=0.1)


@given(
    st.floats(0.1, 60),
    st.one_of(st.none(), st.floats(0, 500)),
    st.one_of(st.none(), st.floats(0, 500)),
    st.one_of(st.none(), st.floats(0.01, 40)),
)
def test_use_only_grows(days: float, prints: float | None, removals: float | None, pace: float | None) -> None:
    of, done = Pace(prints=pace, removals=1.0), Use(days=days, prints=prints, removals=removals)
    assert of.usual_days(of.later(done, days)) == pytest.approx(of.usual_days(done), rel=1e-6, abs=1e-9)
    along = [of.usual_days(of.later(done, d)) for d in (0.0, days / 2, days, days + 1, 2 * days + 10)]
    assert all((b >= a - 1e-9).all() for a, b in itertools.pairwise(along))


def test_the_pace_is_the_mean_of_what_was_written_down() -> None:
    assert Pace.of([Use(days=10, prints=1)]).prints == pytest.approx(0.1)
    assert Pace.of([Use(days=10, prints=5), Use(days=30), Use(days=10, prints=7)]).prints == pytest.approx(0.6)
    assert Pace.of([Use(days=10, prints=0)]).prints is None
    assert Pace.of([Use(days=3)]) == Pace()
