"""Why a layer went bad: chances that add up, move the right way with what is known, and agree with a simulation of their own model."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.defaults import GONE_BAD
from ivory_table.core.drift import rates
from ivory_table.core.gone_bad import KNOWN, LOOKS, came_about, suspects
from ivory_table.core.outlook import blame, outlook
from ivory_table.core.wear import Use
from ivory_table.runs.common import STATION_TITLES
from tests.core.test_drift import LEFT, NAMES
from tests.past import seen

CALM = {"height": 0.02, "support": 0.01, "form": 0.005}
CAUSES = list(GONE_BAD["causes"])


def p_of(cause: str, look=None, **facts) -> float:
    known = {"drift": CALM, "happened": frozenset(), "days": 10.0, "prints": 10} | facts
    return next((s.p for s in suspects(look, **known) if s.cause == cause), 0.0)


def test_the_table_says_how_every_cause_looks_and_where_it_is_mended() -> None:
    for name, cause in GONE_BAD["causes"].items():
        assert set(cause["looks"]) <= set(LOOKS), name
        assert sum(cause["looks"].values()) <= 1.0 + 1e-9, name
        assert cause["station"] in STATION_TITLES
        assert cause["minutes"] > 0
        assert name in CALM or {"known", "once", "per_print", "per_day"} & set(cause), name


@given(
    look=st.sampled_from([None, *LOOKS]),
    happened=st.frozensets(st.sampled_from(sorted(KNOWN))),
    days=st.floats(0, 2000),
    prints=st.integers(0, 5000),
    height=st.floats(0, 1),
)
def test_chances_add_up_to_one_and_are_in_order(look, happened, days, prints, height) -> None:
    found = suspects(look, drift=CALM | {"height": height}, happened=happened, days=days, prints=prints)
    assert sum(s.p for s in found) == pytest.approx(1.0)
    assert [s.p for s in found] == sorted((s.p for s in found), reverse=True)
    assert {s.cause for s in found} & KNOWN <= happened
    assert all("{" not in s.way for s in found)


@pytest.mark.parametrize("cause", sorted(KNOWN))
def test_what_is_on_record_is_likelier_than_what_is_not(cause: str) -> None:
    assert p_of(cause) == 0.0
    assert p_of(cause, happened=frozenset({cause})) > 0.2


@pytest.mark.parametrize(
    ("look", "cause"),
    [("spots", "grease"), ("one_side", "support"), ("thin", "feed"), ("corners", "cold"), ("middle", "form")],
)
def test_a_look_speaks_for_its_cause(look: str, cause: str) -> None:
    assert p_of(cause, look) > 1.5 * p_of(cause)


def test_the_longer_it_is_ago_the_likelier_is_what_comes_by_itself() -> None:
    for cause in ("grease", "damp"):
        few, many = (
            came_about(cause, drift=CALM, happened=frozenset(), days=days, prints=int(days)) for days in (2.0, 200.0)
        )
        assert few < many < 1.0
    # By prints and by days, each on its own, as a steady rate: twice as many leave the square of what is left.
    for more in ({"prints": 50, "days": 0.0}, {"prints": 0, "days": 50.0}):
        twice = {k: 2 * v for k, v in more.items()}
        for cause in ("grease", "damp"):
            none, once, both = (
                1 - came_about(cause, drift=CALM, happened=frozenset(), **of)
                for of in ({"prints": 0, "days": 0.0}, more, twice)
            )
            assert both / none == pytest.approx((once / none) ** 2)
    assert came_about("grease", drift=CALM, happened=frozenset(), days=0.0, prints=50) > came_about(
        "grease", drift=CALM, happened=frozenset(), days=0.0, prints=0
    )
    assert came_about("height", drift=CALM, happened=frozenset(), days=1e6, prints=0) == CALM["height"]


def test_the_chances_are_those_of_plates_that_went_bad_so() -> None:
    """Causes drawn by their own chances, looks by theirs: of those that look so, how many came from what."""
    r = np.random.default_rng(2)
    facts = {"drift": CALM, "happened": frozenset({"knocked"}), "days": 30.0, "prints": 60}
    weight = np.array([came_about(c, **facts) for c in CAUSES])
    drawn = r.choice(len(CAUSES), p=weight / weight.sum(), size=200_000)
    shows = np.array([GONE_BAD["causes"][c]["looks"].get("spots", GONE_BAD["rare"]) for c in CAUSES])
    of = drawn[r.random(len(drawn)) < shows[drawn]]
    share = np.bincount(of, minlength=len(CAUSES)) / len(of)
    said = {s.cause: s.p for s in suspects("spots", **facts)}
    for cause, p in zip(CAUSES, share, strict=True):
        assert said.get(cause, 0.0) == pytest.approx(p, abs=0.01)


def test_drift_is_blamed_on_what_would_mend_it() -> None:
    known = rates((), 5)
    for days in (0.0, 5.0, 40.0, 120.0):
        found = blame(LEFT, known, done=Use(days=days))
        ahead = outlook(LEFT, known, done=Use(days=days))
        p = float(np.interp(days, ahead.days, ahead.p_sound))
        assert found.p_unsound == pytest.approx(1 - p, abs=0.002)
        if found.p_unsound:
            assert found.height + found.support + found.form == pytest.approx(1.0)
            # Each draw is judged by itself: level, however far apart the draws lie.
            assert 0 < found.height < 1
    # All of it too high by the same: one value mends it. One corner far off: that support.
    high = seen(NAMES, np.full(5, 0.2), 0.005)
    assert blame(high, known, done=Use(days=0.0)).height > 0.95
    corner = seen(NAMES, np.array([0.05, 0.0, 0.0, 0.2, 0.0]), 0.003)
    found = blame(corner, known, done=Use(days=0.0))
    assert found.support > 0.9
    assert found.place == NAMES[3]
    bowed = seen(NAMES, np.array([0.25, 0.0, 0.0, 0.0, 0.0]), 0.003)
    assert blame(bowed, known, done=Use(days=0.0)).form > 0.9
