"""Propagation over what was seen of zones: one site against quadrature, and all at once against one after the other."""

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.integrate import trapezoid
from scipy.special import ndtr
from scipy.stats import norm

from ivory_table.core.bead import GRADES, Bead
from ivory_table.core.propagation import Looks, Ordinal, Told, _Sights, propagate, settle, with_sites
from ivory_table.core.signs import SIGNS, Mark

BEAD = Bead(0.42, 0.2)


def told_of(grades: list[str]) -> Told:
    """One look at each of so many gaps."""
    rows = np.eye(len(grades))
    return Told(rows, [], [Ordinal(k, k, *Mark(k, grade).seen) for k, grade in enumerate(grades)])


def looks_of(zones: int, fails: float = 0.1, scatter: float = 0.1, off: float = 0.0) -> Looks:
    """An eye on zones of which each fails with one chance."""
    return Looks(np.full((1, zones), fails), np.array([scatter]), np.full((1, zones), off))


@settings(max_examples=40, deadline=None)
@given(
    st.sampled_from(GRADES), st.floats(-0.1, 0.5), st.floats(0.003, 0.3), st.floats(0.0, 0.9), st.floats(-0.03, 0.03)
)
def test_one_look_by_quadrature(grade: str, mean: float, sd: float, fails: float, off: float) -> None:
    """Weight, mean and variance after it, against integrals of the likelihood over the gap."""
    told, scatter = told_of([grade]), 0.08 * BEAD.layer_mm
    sights = _Sights(told, looks_of(1, fails, 0.08, off), BEAD)
    total, at, var = (float(x[0]) for x in sights.tilted(0, np.array([mean]), np.array([sd**2])))
    site, bands = told.seen[0], BEAD.bands_mm()

    gaps = np.linspace(mean - 9 * sd, mean + 9 * sd, 20001)
    held = site.rest + sum(
        site.bands[k] * (ndtr((bands[g][1] - gaps - off) / scatter) - ndtr((bands[g][0] - gaps - off) / scatter))
        for k, g in enumerate(GRADES)
    )
    weight = ((1 - fails) * held + fails * site.fails) * norm.pdf(gaps, mean, sd)
    moments = [trapezoid(weight * (gaps - mean) ** k, gaps) for k in range(3)]
    assert total == pytest.approx(moments[0], rel=1e-6)
    assert at - mean == pytest.approx(moments[1] / moments[0], abs=1e-6)
    assert var == pytest.approx(moments[2] / moments[0] - (moments[1] / moments[0]) ** 2, rel=1e-3, abs=1e-9)


@settings(max_examples=30, deadline=None)
@given(st.lists(st.sampled_from(["parted", "sound"]), min_size=3, max_size=7), st.floats(0.005, 0.1))
def test_all_at_once_settles_where_one_after_the_other_does(grades: list[str], common_sd: float) -> None:
    """Marks that agree: where they contradict one another, there is more than one place to settle."""
    z = len(grades)
    told, looks = told_of(grades), looks_of(z)
    before = np.full((1, z), 0.21), (common_sd**2 + 0.01**2 * np.eye(z))[None]
    slow = propagate(*before, told, looks, BEAD, 200)
    fast = settle(*before, told, looks, BEAD, (0.9 * slow.tau, 0.9 * slow.nu))
    (m, v), (m_fast, v_fast) = (with_sites(*before, told.rows, x.tau, x.nu) for x in (slow, fast))
    assert m_fast == pytest.approx(m, abs=2e-5)
    assert v_fast == pytest.approx(v, abs=1e-6)
    assert fast.log_evidence == pytest.approx(slow.log_evidence, abs=1e-3)
    assert fast.failed == pytest.approx(slow.failed, abs=1e-3)


def test_signs_that_contradict_one_another_leave_a_belief() -> None:
    """All of them told of every zone: hardly likely anywhere, and still a finite field."""
    every = tuple(sign.id for sign in SIGNS)
    told = Told(np.eye(3), [], [Ordinal(k, k, *Mark(k, "loose", signs=every).seen) for k in range(3)])
    for middle in (-0.2, 0.02, 0.2, 0.9):
        before = np.full((1, 3), middle), (0.05**2 + 0.01**2 * np.eye(3))[None]
        done = propagate(*before, told, looks_of(3), BEAD, 12)
        assert np.isfinite(done.log_evidence).all()
        mean, cov = with_sites(*before, told.rows, done.tau, done.nu)
        assert np.isfinite(mean).all()
        assert (np.diagonal(cov, axis1=1, axis2=2) > 0).all()


def test_lanes_do_not_disturb_one_another() -> None:
    """Side by side as each alone: what one site takes from the covariance stays in its lane."""
    grades = ["parted", "sound", "sound", "ridged"]
    told = told_of(grades)
    mean = np.array([[0.2] * 4, [0.3] * 4, [0.15] * 4])
    cov = np.array([sd**2 + 0.01**2 * np.eye(4) for sd in (0.02, 0.2, 0.05)])
    looks = Looks(np.array([[0.0] * 4, [0.3] * 4, [0.8, 0.1, 0.1, 0.1]]), np.array([0.05, 0.1, 0.15]), np.zeros((3, 4)))
    together = propagate(mean, cov, told, looks, BEAD, 6)
    for k in range(3):
        own = Looks(looks.fails[[k]], looks.scatter[[k]], looks.off[[k]])
        alone = propagate(mean[[k]], cov[[k]], told, own, BEAD, 6)
        assert together.tau[k] == pytest.approx(alone.tau[0], rel=1e-3)
        assert together.log_evidence[k] == pytest.approx(alone.log_evidence[0], abs=1e-3)
