"""What turns teach of a machine: the senses of its knobs, their threads, how stiff its supports are."""

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core import advice, tram_told
from ivory_table.core.belief import LAM_FLOOR, Belief
from ivory_table.core.defaults import TRAM
from ivory_table.core.knob_signs import log_p_signs
from ivory_table.core.normals import normalised
from ivory_table.core.prior import first_belief
from ivory_table.core.steps import Read
from ivory_table.core.surface import Surface
from ivory_table.core.tram import coupling, hand_error_mm
from ivory_table.trial.tram_plates import screws_of, surface_of
from tests.conftest import setup_for
from tests.core.believing import HERON, SURFACE, prior


def turned_once(belief: Belief) -> Belief:
    """All read level, one knob of a plate that passes 20 % of a twist turned, all read again."""
    true = coupling(np.full(4, 1 / 0.2 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)
    for screw in HERON.machine.screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.003)
    belief = belief.turned(0, 0.4, 0.008)
    for j, screw in enumerate(HERON.machine.screws):
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.4 * true[j, 0], 0.003)
    return belief


def test_hypotheses_are_weighed_by_how_well_they_foretold() -> None:
    """Turning one screw of a rocking plate and reading the others tells the compliance, once the plate is known to answer."""
    answers = first_belief(SURFACE, bias_sd_mm=0.02, answer_known=(np.log(1e-3), 0.01))
    belief = turned_once(answers)
    mean, sd = belief.passes_of_twist()
    assert mean == pytest.approx(0.2, abs=0.03)
    assert sd < 0.08
    assert belief.weight.sum() == pytest.approx(1)


def test_where_a_plate_may_answer_otherwise_one_turn_tells_less() -> None:
    known = turned_once(first_belief(SURFACE, bias_sd_mm=0.02, answer_known=(np.log(1e-3), 0.01)))
    unsure = turned_once(first_belief(SURFACE, bias_sd_mm=0.02, answer_known=(np.log(0.1), 0.01)))
    assert unsure.passes_of_twist()[1] > known.passes_of_twist()[1]
    assert unsure.passes_of_twist()[0] == pytest.approx(0.2, abs=2 * unsure.passes_of_twist()[1])


def test_what_a_plate_takes_back_of_a_turn_is_most_in_doubt() -> None:
    """Beside what follows the knob: a share of what is taken back, in its direction, and where nothing is taken back, nothing."""

    def doubt(lam: float, share: float) -> np.ndarray:
        known = (np.full(4, np.log(lam + 0.1)), 1e-10 * np.eye(4))
        start = first_belief(
            SURFACE, bias_sd_mm=0.02, lam_known=known, answer_known=(np.log(share), 1e-6), reversed_share=1e-9
        )
        return start.turned(1, 0.5, 0.01).cov[0, :4, :4] - start.cov[0, :4, :4]

    for lam in (0.0, 1.5):
        a = coupling(np.full(4, lam), SURFACE.bending)[:, 1]
        back, strange = a - np.eye(4)[1], 0.5 * 0.02
        follows = np.outer(a, a) + TRAM.answer_bent * a[1] ** 2 * SURFACE.bends
        wanted = strange**2 * (follows + TRAM.answer_back**2 * np.outer(back, back))
        assert doubt(lam, 0.02) - doubt(lam, 1e-6) == pytest.approx(wanted, abs=2e-5)
    assert np.abs(back).max() > 0.1


def test_a_plate_that_does_not_answer_as_its_supports_say_is_believed_to() -> None:
    """Turns that sometimes do nothing, as on a slack bolt, make the plate's answers doubtful and its promises wider."""
    belief, heights = prior(), np.zeros(4)
    start = belief.answer_learnt()[0]
    for turn, follows in ((0.3, 0.0), (-0.3, 1.0), (0.3, 0.0), (-0.3, 1.0)):
        belief = belief.turned(0, turn, 0.008)
        heights = heights + np.array([0.8, 0.2, 0.2, -0.2]) * turn * follows
        for screw, height in zip(HERON.machine.screws, heights, strict=True):
            belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), float(height), 0.006)
    assert belief.answer_learnt()[0] > start + 1


def test_on_three_screws_nothing_but_the_hand_is_in_doubt() -> None:
    belief = first_belief(surface_of(screws_of(3)), bias_sd_mm=0.02)
    assert np.all(belief.answer_sd == 0)


def test_hypotheses_are_found_again_where_the_likelihood_is() -> None:
    """Sharp readings of many turns on six uneven supports leave none of the first hypotheses alive: new ones are."""
    rng, surface = np.random.default_rng(6), surface_of(screws_of(6))
    lam = np.array([0.2, 3.0, 0.5, 1.0, 0.1, 2.0])
    true = coupling(lam, surface.bending)
    belief = first_belief(surface, bias_sd_mm=0.02)
    heights = np.zeros(6)
    for k in range(12):
        j, up = k % 6, float(rng.choice([-0.4, 0.4]))
        heights = heights + true[:, j] * up
        belief = belief.turned(j, up, 0.008)
        for i, (x, y) in enumerate(surface.screws):
            belief = belief.read(belief.gap_row(x, y), float(heights[i] + rng.normal(0, 0.004)), 0.004)
    assert belief.alive > len(belief.weight) / 10
    passes = np.einsum("n,nij->ij", belief.weight, belief.passes)
    assert np.abs(np.diag(passes) - np.diag(true)).max() < 0.06


def test_a_reversed_knob_is_told_by_its_neighbours_too() -> None:
    """On a plate that rocks, the others go the wrong way when a knob does."""
    screws = HERON.machine.screws
    truth = coupling(np.full(4, 1 / 0.1 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)
    belief = prior()
    for screw in screws:
        belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), 0.0, 0.004)
    belief = tram_told.turned(belief, screws, 0, 8)
    for k in (1, 2, 3):
        moved = -truth[k, 0] * 8 * screws[0].mm_per_mark
        belief = belief.read(belief.gap_row(screws[k].x_mm, screws[k].y_mm), moved, 0.004)
    assert belief.p_reversed()[0] > 0.99
    # Of the others it tells only what they have in common: by Bayes, with the shares the notes give.
    p, q = TRAM.reversed_share, TRAM.reversed_common
    common = q * (1 - p) / (q * (1 - p) + (1 - q) * p)
    assert belief.p_reversed()[1:] == pytest.approx(common * (1 - p) + (1 - common) * p, abs=0.02)


@pytest.mark.parametrize("wrong", [(), (0,), (0, 3), (0, 1, 2), (0, 1, 2, 3)])
def test_any_set_of_reversed_knobs_is_found_knob_by_knob(wrong: tuple[int, ...]) -> None:
    """Each knob turned between two readings shows its own sense, whatever the others do, on a plate that rocks."""
    screws = HERON.machine.screws
    truth = coupling(np.full(4, 1 / 0.15 - 1), SURFACE.bending) * [-1 if j in wrong else 1 for j in range(4)]
    belief, heights = prior(), np.array([0.2, -0.1, 0.3, 0.0])
    for j, screw in enumerate(screws):
        row = belief.gap_row(screw.x_mm, screw.y_mm)
        belief = belief.read(row, float(heights[j]), 0.004)
        belief = tram_told.turned(belief, screws, j, 4)
        heights = heights + truth[:, j] * 4 * screw.mm_per_mark
        belief = belief.read(row, float(heights[j]), 0.004)
    assert list(np.flatnonzero(belief.p_reversed() > 0.99)) == list(wrong)
    assert np.abs(belief.collapsed[0][:4] - heights).max() < 0.06


@pytest.mark.parametrize("knobs", [3, 4, 6, 9])
def test_the_sets_of_reversed_knobs_weigh_what_their_shares_say(knobs: int) -> None:
    """All sets sum to one; each knob by itself is as likely as the two causes say."""
    every = np.array([[1.0 - 2 * (k >> j & 1) for j in range(knobs)] for k in range(2**knobs)])
    p = np.exp(log_p_signs(every, np.full(knobs, TRAM.reversed_share)))
    alone, common = TRAM.reversed_share, TRAM.reversed_common
    assert p.sum() == pytest.approx(1)
    assert p @ (every[:, 0] < 0) == pytest.approx((1 - common) * alone + common * (1 - alone))
    proved = np.exp(log_p_signs(every, np.full(knobs, TRAM.reversed_proved)))
    assert proved.sum() == pytest.approx(1)
    assert proved @ (every[:, 0] < 0) == pytest.approx(TRAM.reversed_proved, rel=0.05)


def test_a_knob_declared_anew_is_the_same_plate_told_the_other_way() -> None:
    screws = HERON.machine.screws
    told = tram_told.turned(prior().sense_shown(1, False), screws, 1, 3)
    up = -3 * screws[1].mm_per_mark
    anew = prior().sense_shown(1, False).declared_anew(1).turned(1, up, float(hand_error_mm(up)))
    # One more thing was told, so the hypotheses may have been drawn anew on the way.
    assert anew.p_reversed()[1] == pytest.approx(1 - told.p_reversed()[1], abs=0.02)
    assert anew.collapsed[0] == pytest.approx(told.collapsed[0], abs=0.006)
    # Drawn anew it stays so.
    assert anew.rechosen().p_reversed()[1] == pytest.approx(anew.p_reversed()[1], abs=1e-6)


@pytest.mark.parametrize(("before", "likely"), [("loose", False), ("tight", True)])
def test_what_the_gauge_said_before_the_turn_shows_a_knobs_sense(before: str, likely: bool) -> None:
    """The first count of a new machine: raised by its declared sense, from a gauge that was loose or tight."""
    screws = HERON.machine.screws
    belief = tram_told.counted(prior(), screws, 2, 5, 0.0)
    assert advice.sense_in_doubt(belief, 2)
    belief = tram_told.felt_before(belief, screws, 2, 5, before)
    assert bool(belief.p_reversed()[2] > 0.9) is likely


def test_new_hypotheses_carry_everything_that_was_told() -> None:
    """Drawn anew, the belief is the same as on very many hypotheses that were never drawn anew."""
    screws, surface = HERON.machine.screws, SURFACE
    truth = coupling(np.full(4, 1 / 0.3 - 1), np.outer([1, -1, -1, 1], [1, -1, -1, 1]) / 4)

    def tell(belief: Belief) -> Belief:
        rng = np.random.default_rng(4)
        heights = truth @ rng.normal(0, 0.3, 4)
        for j, marks in ((0, 9), (3, -7), (1, 5), (2, -4)):
            for k, screw in enumerate(screws):
                value = heights[k] + rng.normal(0, 0.005)
                belief = belief.read(belief.gap_row(screw.x_mm, screw.y_mm), value, 0.005)
            belief = tram_told.turned(belief, screws, j, marks)
            heights = heights + truth[:, j] * marks * screws[j].mm_per_mark
        return belief

    few = tell(prior())
    many = first_belief(surface, bias_sd_mm=0.02, hypotheses=20_000)
    many = tell(replace(many, chosen_at=10_000))
    assert few.chosen_at > 0
    assert many.chosen_at == 10_000
    assert np.allclose(few.collapsed[0][:4], many.collapsed[0][:4], atol=0.012)
    assert few.passes_of_twist()[0] == pytest.approx(many.passes_of_twist()[0], abs=0.12)


def test_a_knob_that_gives_less_than_its_pitch_is_learnt() -> None:
    screws = HERON.machine.screws
    belief = prior()
    row = belief.gap_row(screws[1].x_mm, screws[1].y_mm)
    belief = belief.read(row, 0.0, 0.002)
    for k in range(12):
        up = 0.3 if k % 2 == 0 else -0.3
        belief = belief.turned(1, up, 0.004).read(row, 0.27 if k % 2 == 0 else 0.0, 0.004)
    mean, sd = belief.gains()
    passed = float(belief.weight @ belief.passes[:, 1, 1])
    assert (1 + mean[1]) * passed == pytest.approx(0.9, abs=0.03)
    assert np.all(np.abs(np.delete(mean, 1)) < 0.01)
    assert np.all(sd <= 0.025)


def test_a_run_does_not_make_the_next_one_less_certain_of_the_supports() -> None:
    belief = tram_told.counted(prior(), HERON.machine.screws, 0, 3, 0.0)
    _, cov = belief.compliance_learnt()
    assert np.linalg.eigvalsh(belief.prior_of.cov[:4, :4] - cov).min() > -1e-9


def test_supports_found_stiff_again_and_again_are_learnt_as_stiff() -> None:
    """Runs that favour the hypotheses which pass all of a twist: the next prior moves there, and stays within reach."""
    belief, passed = prior(), [prior().passes_of_twist()[0]]
    for _ in range(6):
        told = 15 * (SURFACE.twist_passed(np.abs(belief.passes)) - 1)
        belief = replace(belief, log_weight=normalised(belief.log_weight + told))
        mean, cov = belief.compliance_learnt()
        assert (mean >= np.log(LAM_FLOOR) - 1 - 1e-9).all()
        assert np.linalg.eigvalsh(cov).min() > 0
        belief = first_belief(SURFACE, bias_sd_mm=0.02, lam_known=(mean, cov))
        passed.append(belief.passes_of_twist()[0])
    assert passed[0] < 0.7
    assert passed[-1] > 0.98
    assert (np.diff(passed) > 0).all()


@given(st.floats(0.05, 0.3), st.integers(0, 3))
def test_what_is_read_away_from_the_screws_tells_nothing_of_hand_and_supports(off: float, reading: int) -> None:
    """However surprising it is: it may be the plate's form. Over a screw it tells, and knobs' senses it tells from anywhere."""
    belief = first_belief(SURFACE, bias_sd_mm=0.02, reversed_share=0.005)
    for s in HERON.machine.screws:
        belief = belief.read(belief.gap_row(s.x_mm, s.y_mm), 0.0, 0.005)
    x, y = HERON.plate.centre
    row = belief.gap_row(x + 10 * reading, y)
    after = Read(row, off, 0.005).told_to(belief)
    assert after.scatter_learnt() == pytest.approx(belief.scatter_learnt(), rel=1e-6)
    assert after.compliance_learnt()[0] == pytest.approx(belief.compliance_learnt()[0], abs=1e-6)
    screw = HERON.machine.screws[0]
    over = belief.turned(0, 0.2, 0.005)
    there = Read(over.gap_row(screw.x_mm, screw.y_mm), 0.1, 0.005).told_to(over)
    assert there.compliance_learnt()[0] != pytest.approx(over.compliance_learnt()[0], abs=1e-3)


def test_a_reversed_knob_is_told_from_away_from_the_screws() -> None:
    belief = first_belief(SURFACE, bias_sd_mm=0.02, reversed_share=0.02)
    for s in HERON.machine.screws:
        belief = belief.read(belief.gap_row(s.x_mm, s.y_mm), 0.0, 0.005)
    screw = HERON.machine.screws[0]
    turned = belief.turned(0, 0.4, 0.01)
    near = (screw.x_mm + 25, screw.y_mm + 25)
    expected = turned.height([near])[0][0]
    went = Read(turned.gap_row(*near), -float(expected), 0.02).told_to(turned)
    assert went.p_reversed()[0] > 0.5


@pytest.mark.parametrize("times", [0.7, 1.0, 1.15])
def test_what_all_knobs_give_is_learnt_from_one_and_told_of_all(times: float) -> None:
    """Against the closed form: one turn between two readings, the doubt common to all knobs and each knob's own."""
    surface = Surface.of(setup_for("wren").machine, setup_for("wren").plate)
    belief = first_belief(surface, bias_sd_mm=0.02, thread_sd=TRAM.thread_sd)
    row, up, dial = belief.gap_row(*surface.screws[0]), 0.6, 0.006
    belief = belief.read(row, 0.0, dial).turned(0, up, 0.0).read(row, up * times, dial)
    gains, sds = belief.gains()
    common, own = TRAM.thread_sd**2, TRAM.gain_prior_sd**2
    seen = 2 * dial**2 / up**2
    share = (common + own) / (common + own + seen)
    assert gains[0] == pytest.approx(share * (times - 1), abs=0.004)
    assert gains[1] == pytest.approx(gains[0] * common / (common + own), abs=0.002)
    assert sds[1] ** 2 == pytest.approx(common + own - common**2 / (common + own + seen), rel=0.05)


def test_a_learnt_machine_keeps_its_threads_and_loses_them_with_its_hardware() -> None:
    known = (np.full(4, -0.29), np.full(4, 0.01))
    belief = first_belief(SURFACE, bias_sd_mm=0.02, thread_sd=TRAM.thread_sd, gains_known=known)
    assert belief.gains()[1] == pytest.approx([0.01] * 4)
    fresh = belief.with_nothing_learnt()
    assert fresh.gains()[0] == pytest.approx([0.0] * 4)
    assert fresh.gains()[1] == pytest.approx([np.hypot(TRAM.thread_sd, TRAM.gain_prior_sd)] * 4)
