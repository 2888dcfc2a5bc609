"""Each thing that can be tried after a proof: its chance, its minutes and its reason, against counting over the draws."""

import numpy as np
import pytest

from ivory_table.core.action import Action, Before
from ivory_table.core.bead import Bead
from ivory_table.core.defaults import JUDGE, LAYER
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.odds import Odds, feed_doubt, mostly_height
from ivory_table.core.remedies import Remedies
from ivory_table.core.signs import Mark

BEAD = Bead(0.42, 0.2)
LOW, HIGH = BEAD.bands_mm()["sound"]
MOVES = np.array([[0.03, 0.0], [0.0, 0.03], [0.015, 0.015], [0.03, 0.03], [0.0, 0.0]])


def field(gaps: list[float], sd: float = 0.008, **more: object) -> FieldPosterior:
    z = len(gaps)
    told = {"greasy": np.zeros(z)} | more
    return FieldPosterior(np.array([*gaps, 0.0, 0.0, 0.0]), np.diag([sd**2] * z + [0.02**2, 0.0, 0.0]), (), **told)


def tried(found: FieldPosterior, seed: int = 1, **more: object) -> Remedies:
    z = found.zones
    draws = found.gaps[0] + np.random.default_rng(seed).normal(0, 1, (2048, z)) * found.gaps[1]
    known: dict[str, object] = {"z_step_mm": 0.01, "knob_moves": None, "mesh_in_use": False, "before": Before(fed=True)}
    return Remedies(found, draws, BEAD, "PLA", **(known | more))


def sound(gaps: np.ndarray) -> float:
    return float(((gaps >= LOW) & (gaps <= HIGH)).all(axis=1).mean())


def total(action: Action, then: float, extra: float = 0.0) -> float:
    p = action.p_all_sound
    prints = 1 + (1 - p) * (1 + (1 - max(p, then)))
    return action.minutes + extra + (prints - 1) * (JUDGE.minutes.proof + JUDGE.minutes.offset) + JUDGE.minutes.at_last


def of_kind(can: Remedies, kind: str) -> Action:
    return next(a for a in can.by_height() if a.kind == kind)


def test_the_offset_is_the_best_of_all_steps_and_costs_what_it_says() -> None:
    can = tried(field([0.26, 0.27, 0.25, 0.265, 0.255]))
    found = of_kind(can, "offset")
    every = {round(0.01 * k, 2): sound(can.gaps + 0.01 * k) for k in range(-20, 13)}
    assert found.p_all_sound == pytest.approx(max(every.values()), abs=0.01)
    assert found.p_all_sound == pytest.approx(every[round(found.shift_mm, 2)])
    assert found.minutes == JUDGE.minutes.offset + JUDGE.minutes.proof
    assert found.total_minutes == pytest.approx(total(found, found.p_all_sound))
    assert found.proofs_left == pytest.approx(1 + (1 - found.p_all_sound) * (2 - found.p_all_sound))
    assert f"{np.mean(can.errors):+.3f}" in found.reason
    assert can.now == pytest.approx(sound(can.gaps))
    # Trusted less, every promise is smaller by as much.
    less = tried(field([0.26, 0.27, 0.25, 0.265, 0.255]), before=Before(fed=True, trust=0.8))
    assert of_kind(less, "offset").p_all_sound == pytest.approx(0.8 * found.p_all_sound)


def test_where_it_is_right_nothing_is_moved_and_a_long_way_is_gone_in_steps() -> None:
    target = BEAD.target_mm("PLA")
    assert not [a for a in tried(field([target] * 5, 0.003)).by_height() if a.kind == "offset"]
    # So badly known that all of the way might scrape.
    far = of_kind(tried(field([0.42] * 5, 0.12)), "offset")
    assert "goes there in steps" in far.reason
    assert far.shift_mm > -(0.42 - 0.2)


def test_knobs_level_what_an_offset_cannot() -> None:
    tilted = field([0.24, 0.16, 0.20, 0.20, 0.20], 0.004)
    can = tried(tilted, knob_moves=MOVES[:, :2], mark_mm=np.array([0.03, 0.03]))
    found = of_kind(can, "knobs")
    assert found.marks is not None
    left = can.gaps - np.array(found.marks) @ MOVES[:, :2].T
    # With the hand's own errors it is a little worse than that.
    assert sound(left) - 0.15 < found.p_all_sound <= sound(left) + 0.01
    assert found.p_all_sound > of_kind(can, "offset").p_all_sound if can.nudged[0] else True
    assert found.minutes in (
        JUDGE.minutes.knobs + JUDGE.minutes.proof,
        JUDGE.minutes.knobs + JUDGE.minutes.offset + JUDGE.minutes.proof,
    )
    assert not [a for a in tried(tilted).by_height() if a.kind == "knobs"]


def test_knobs_and_offset_in_one_go_where_both_are_off() -> None:
    both = field([0.30, 0.22, 0.26, 0.26, 0.26], 0.004)
    can = tried(both, knob_moves=MOVES[:, :2], mark_mm=np.array([0.03, 0.03]))
    found = of_kind(can, "knobs")
    assert found.shift_mm is not None
    assert found.shift_mm < -0.03
    assert found.minutes == JUDGE.minutes.knobs + JUDGE.minutes.offset + JUDGE.minutes.proof
    assert "in one go" in found.reason


def test_the_one_zone_that_stands_away_is_measured_again_where_a_mesh_is_in_use() -> None:
    one_off = field([0.20, 0.20, 0.20, 0.20, 0.26], 0.004)
    can = tried(one_off, mesh_in_use=True, reading_sd_mm=0.01)
    found = of_kind(can, "measure")
    assert found.zone == 4
    followed = can.gaps.copy()
    followed[:, 4] = np.median(can.gaps[:, :4], axis=1) + np.random.default_rng(2).normal(0, 0.01, len(followed))
    assert found.p_all_sound == pytest.approx(sound(followed), abs=0.03)
    assert found.minutes == JUDGE.minutes.measure + JUDGE.minutes.proof
    assert "+0.060 mm" in found.reason
    # Not twice, not for little, and not without a mesh: that is measured first.
    assert not [
        a
        for a in tried(one_off, mesh_in_use=True, before=Before(fed=True, measured=frozenset({4}))).by_height()
        if a.kind == "measure"
    ]
    little = tried(field([0.20, 0.20, 0.20, 0.20, 0.21], 0.004), mesh_in_use=True)
    assert not [a for a in little.by_height() if a.kind == "measure"]
    none = tried(one_off, can_mesh=True, reading_sd_mm=0.01)
    mesh = of_kind(none, "mesh")
    assert mesh.minutes == JUDGE.minutes.mesh + JUDGE.minutes.offset + JUDGE.minutes.proof
    even = none.gaps.mean(axis=1, keepdims=True) + np.random.default_rng(3).normal(0, 0.01, none.gaps.shape)
    assert mesh.p_all_sound == pytest.approx(sound(even), abs=0.03)
    assert not [a for a in tried(one_off).by_height() if a.kind == "mesh"]


def test_a_mesh_of_an_earlier_run_is_measured_anew_and_todays_is_not() -> None:
    bent = field([0.24, 0.16, 0.20, 0.25, 0.15], 0.004)
    old = tried(bent, mesh_in_use=True, can_mesh=True, before=Before(fed=True, mesh_of_old=True))
    mesh = of_kind(old, "mesh")
    assert "of an earlier run" in mesh.reason
    assert mesh.p_all_sound > 0.8
    # It ends what no offset can.
    assert of_kind(old, "offset").p_all_sound < 0.05
    assert mesh.total_minutes < min(a.total_minutes for a in old.by_height() if a.kind != "mesh")
    today = tried(bent, mesh_in_use=True, can_mesh=True)
    assert not [a for a in today.by_height() if a.kind == "mesh"]


def test_a_greasy_zone_is_cleaned_and_the_height_left_alone() -> None:
    seen = (Mark(2, "loose"),)
    greasy = field([0.2] * 5, 0.004, greasy=np.array([0, 0, 0.9, 0, 0.0]), sights=())
    greasy = FieldPosterior(greasy.mean, greasy.cov, (), tuple_sights(seen), greasy=greasy.greasy)
    can = tried(greasy)
    found = can.cleaning()
    assert found is not None
    assert (found.zone, found.clean) == (2, (2,))
    assert found.p_all_sound == pytest.approx(sound(can.gaps) * (1 - 0.9 * (1 - LAYER.fails.marked_helps)), abs=0.01)
    assert found.total_minutes == pytest.approx(total(found, found.p_all_sound, JUDGE.minutes.clean), abs=0.3)
    assert "90%" in found.reason
    assert tried(field([0.2] * 5)).cleaning() is None


def tuple_sights(marks: tuple[Mark, ...]):
    from ivory_table.core.field_seen import Sight

    return tuple(Sight(m.zone, np.ones(7) / 7, 0.1) for m in marks)


def test_what_all_share_is_mended_with_what_else_is_likely() -> None:
    shared = field([0.2] * 5, 0.004, shared={"height": 0.3, "coat": 0.4, "cold_plate": 0.25, "fan": 0.05})
    can = tried(shared)
    found = can.remedy()
    assert found is not None
    assert found.causes == ("coat", "cold_plate")
    left = 0.4 * (1 - LAYER.causes["coat"].helps) + 0.25 * (1 - LAYER.causes["cold_plate"].helps) + 0.05
    assert found.p_all_sound == pytest.approx(sound(can.gaps) * (1 - left), abs=0.005)
    # Likelier than not, it goes along with every other step and its minutes are counted there.
    assert can.likely == ("coat", "cold_plate")
    assert found.minutes == JUDGE.minutes.proof
    extra = sum(LAYER.causes[n].minutes for n in found.causes)
    assert found.total_minutes == pytest.approx(total(found, found.p_all_sound, extra), abs=0.6)
    assert "40%" in found.reason
    # Less likely, it is a step of its own, and nothing goes along with another.
    some = tried(field([0.2] * 5, 0.004, shared={"height": 0.7, "coat": 0.3}))
    assert some.likely == ()
    alone = some.remedy()
    assert alone is not None
    assert alone.minutes == JUDGE.minutes.proof + LAYER.causes["coat"].minutes
    assert tried(field([0.2] * 5, shared={"height": 0.9, "coat": 0.1})).remedy() is None


@pytest.mark.parametrize(
    ("flow", "before", "asked"),
    [
        (0.0, Before(), False),
        (0.05, Before(), True),
        (0.05, Before(fed=True), False),
        # Nobody has ever measured it here: on the first proof already, and not for ever.
        (0.02, Before(), False),
        (0.02, Before(feed_unknown=True), True),
        (0.02, Before(feed_unknown=True, proofs=2), False),
    ],
)
def test_the_feed_is_asked_for_where_it_may_be_wrong(flow: float, before: Before, asked: bool) -> None:
    plain = field([0.2] * 5, shared={"height": 0.95, "feed": 0.05})
    off = FieldPosterior(plain.mean + np.eye(8)[5] * flow, plain.cov, (), shared=plain.shared, greasy=plain.greasy)
    found = tried(off, before=before).feed()
    assert (found is not None) == asked
    if found is not None:
        assert ("every later run" in found.reason) == before.feed_unknown
        assert found.minutes == LAYER.causes["feed"].minutes + JUDGE.minutes.proof * (feed_doubt(off) < JUDGE.bundle_at)


def test_odds_by_hand() -> None:
    odds = Odds({"coat": 0.3, "fan": 0.1}, np.array([0.0, 0.2, 0.6]))
    assert odds.stays == pytest.approx(0.6 * 0.8 * 0.4)
    assert odds.dirty == (2,)
    assert odds.likeliest == "coat"
    assert odds.worth_mending == ("coat",)
    after = odds.after((2,), ("coat",))
    assert after.greasy[2] == pytest.approx(0.6 * (1 - LAYER.fails.marked_helps))
    assert after.shared == {"coat": pytest.approx(0.3 * (1 - LAYER.causes["coat"].helps)), "fan": 0.1}
    assert Odds({"fan": 0.2}, np.zeros(1)).likeliest is None
    assert Odds({}, np.zeros(1)).likeliest is None
    # What is in the gaps already is no cause that lets zones fail; an unseen zone is not called greasy.
    told = Odds.of(field([0.2], shared={"height": 0.5, "zero": 0.2, "coat": 0.3}, greasy=np.array([0.4])))
    assert told.shared == {"coat": 0.3}
    assert told.greasy[0] == 0.0
    assert mostly_height(field([0.2], shared={"height": 0.3, "zero": 0.2, "coat": 0.4}))
    assert not mostly_height(field([0.2], shared={"height": 0.3, "coat": 0.4}))
    assert feed_doubt(field([0.2])) == 0.0
    # Known flow, and the cause all the same: as likely as it is.
    assert feed_doubt(field([0.2] * 5, shared={"height": 0.3, "feed": 0.7})) >= 0.7
