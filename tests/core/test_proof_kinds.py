"""What can be printed as a proof: where its zones lie, how a ladder comes down, and what grades are expected to tell."""

from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy.stats import norm

from ivory_table.core.bead import Bead
from ivory_table.core.defaults import BEAD, JUDGE, PROOF
from ivory_table.core.field_seen import FieldPosterior
from ivory_table.core.moves import best_turns, might_scrape
from ivory_table.core.plate import KeepOut, Plate
from ivory_table.core.proof import CLOSEST_MM, MOST_ZONES, ladder_aways, ladder_zones, loop_mm, plan, skirt_half_mm
from ivory_table.core.proof_field import estimate_field, expected_sd
from ivory_table.core.signs import Mark
from ivory_table.core.zones_sound import chance_sound, drawn_gaps, judged_done, looks_sound
from tests.conftest import setup_for

WREN, BITTERN = setup_for("wren"), setup_for("bittern")
BEAD_042 = Bead(0.42, 0.2)


def of(kind: str, setup=WREN, **more):
    return plan(setup.machine, setup.plate, setup.filament, kind, **more)


@given(st.floats(-3, 3), st.floats(0.02, 0.9), st.sampled_from([0.15, 0.2, 0.3, 0.5]))
def test_a_ladder_begins_clear_ends_holding_and_never_steps_into_the_plate(gap: float, sd: float, layer: float) -> None:
    aways = ladder_aways(gap, sd, layer)
    step = PROOF.ladder_step * layer
    assert np.diff(aways) == pytest.approx(np.full(len(aways) - 1, -step), abs=1e-3)
    assert 2 <= len(aways) <= PROOF.ladder_most
    # The first clears the plate by half a layer with two sd; nothing begins below where it stands.
    assert gap - 2 * sd + aways[0] >= PROOF.ladder_clear * layer - 1e-3 or aways[0] == 0
    assert aways[0] >= -1e-9
    assert gap - 2 * sd + aways[0] <= max(PROOF.ladder_clear * layer, gap - 2 * sd) + step + 1e-3
    if len(aways) < PROOF.ladder_most and aways[-1] > step - CLOSEST_MM:
        # Whichever it is, within two sd, the last one lies where lines fuse.
        assert gap + 2 * sd + aways[-1] <= 0.8 * layer + 1e-3 or len(aways) == 2


def test_a_ladder_lies_near_the_middle_on_the_plate_and_off_its_clips() -> None:
    aways = tuple(round(0.4 - 0.08 * k, 2) for k in range(9))
    zones = ladder_zones(WREN.plate, aways, 10)
    assert tuple(z.away_mm for z in zones) == aways
    at = np.array([(z.x_mm, z.y_mm) for z in zones])
    pitch = 10 + PROOF.ladder_gap_mm
    # Three rows of three around the middle, from the front on, so that none is walked over.
    assert np.abs(at - WREN.plate.centre).max() == pytest.approx(pitch)
    assert [z.y_mm for z in zones] == sorted(z.y_mm for z in zones)
    apart = np.abs(at[:, None] - at[None]).max(axis=2) + 99 * np.eye(9)
    assert apart.min() == pytest.approx(pitch)
    assert [z.name for z in zones][:2] == ["step 1, 0.40 mm further", "step 2, 0.32 mm further"]
    assert [z.name for z in zones][5:7] == ["step 6, as it stands", "step 7, 0.08 mm closer"]
    cx, cy = WREN.plate.centre
    clip = KeepOut(name="clip", x_min_mm=cx - 5, y_min_mm=cy - 5, x_max_mm=cx + 5, y_max_mm=cy + 5)
    kept = WREN.plate.model_copy(update={"keep_outs": (clip,)})
    for zone in ladder_zones(kept, aways, 10):
        assert not kept.kept_out(zone.x_mm, zone.y_mm, pitch / 2 + 2)
    small = Plate(id="s", name="small", width_mm=45, depth_mm=45)
    with pytest.raises(ValueError, match="no room for a ladder on small: 1 of"):
        ladder_zones(small, aways, 10)


def test_a_long_ladder_on_a_small_plate_leaves_its_nearest_heights_for_another() -> None:
    narrow = Plate(id="n", name="narrow", width_mm=90, depth_mm=70)
    aways = tuple(round(1.0 - 0.08 * k, 2) for k in range(34))
    zones = ladder_zones(narrow, aways, 10)
    assert PROOF.ladder_least <= len(zones) < 34
    assert tuple(z.away_mm for z in zones) == aways[: len(zones)]
    assert all(narrow.holds(z.x_mm, z.y_mm, 5) for z in zones)
    assert len(ladder_zones(WREN.plate, aways, 10)) == 34


def test_the_ladder_of_a_height_nobody_knows_reaches_to_three_sds() -> None:
    aways = ladder_aways(0.2, 0.5, 0.2)
    # From clear of the plate, were it two sds nearer, to the layer itself, were it three further.
    assert 0.2 - 2 * 0.5 + aways[0] > 0.09
    assert 0.2 + 3 * 0.5 + aways[-1] < 0.2
    assert len(aways) <= PROOF.ladder_most <= MOST_ZONES


def test_a_rectangle_is_looked_at_along_its_loop_and_a_disc_along_its_circle() -> None:
    rim = of("rim")
    half = loop_mm(WREN.plate, PROOF.margin_mm)
    assert half == (WREN.plate.width_mm / 2 - PROOF.margin_mm, WREN.plate.depth_mm / 2 - PROOF.margin_mm)
    at = (rim.places - WREN.plate.centre) / half
    assert np.abs(at).max(axis=1) == pytest.approx(np.ones(8), abs=1e-3)
    by_name = {z.name: tuple(np.round(p, 3)) for z, p in zip(rim.zones, at, strict=True)}
    assert by_name["front"] == (0, -1)
    assert by_name["left"] == (-1, 0)
    assert by_name["rear"] == (0, 1)
    assert by_name["right"] == (1, 0)
    assert by_name["front left"] == (-1, -1)
    assert by_name["rear right"] == (1, 1)
    disc = of("rim", BITTERN)
    radius = BITTERN.plate.width_mm / 2 - PROOF.margin_mm
    assert np.hypot(*disc.places.T) == pytest.approx(np.full(8, radius), abs=0.01)
    turn = np.unwrap(np.arctan2(disc.places[:, 1], disc.places[:, 0]))
    assert np.diff(turn) == pytest.approx(np.full(7, -2 * np.pi / 8), abs=1e-3)


def test_a_skirt_is_short_and_a_long_one_goes_round_twice() -> None:
    assert skirt_half_mm(WREN.plate) == min(PROOF.skirt_half_mm, 0.35 * 172)
    assert skirt_half_mm(Plate(id="t", name="t", width_mm=60, depth_mm=200)) == pytest.approx(21)
    skirt = of("skirt")
    assert [z.name for z in skirt.zones] == ["front", "left", "rear", "right"]
    assert np.abs(skirt.places - WREN.plate.centre).max() == pytest.approx(skirt_half_mm(WREN.plate), abs=0.01)
    long = of("long_skirt")
    assert [z.name for z in long.zones[:2]] == ["front, lap 1", "left, lap 1"]
    assert [z.name for z in long.zones[4:6]] == ["front, lap 2", "left, lap 2"]
    inwards = np.abs(long.places - WREN.plate.centre).max(axis=1)
    assert inwards[:4] - inwards[4:] == pytest.approx(np.full(4, PROOF.lap_mm), abs=0.01)
    assert not skirt.judges_all
    assert not long.judges_all


def test_the_whole_plate_is_looked_at_in_thirds_and_a_pair_differs_in_heat_alone() -> None:
    whole = of("whole")
    assert len(whole.zones) == 9
    assert whole.judges_all
    at = (whole.places - WREN.plate.centre) / loop_mm(WREN.plate, PROOF.margin_mm)
    for across in at.T:
        assert sorted({round(float(v), 2) for v in across}) == [-0.85, 0.0, 0.85]
    round_at = of("whole", BITTERN).places / loop_mm(BITTERN.plate, PROOF.margin_mm)
    for across in round_at.T:
        assert sorted({round(float(v), 2) for v in across}) == [-0.6, 0.0, 0.6]
    pair = of("pair")
    usual, hotter = pair.zones[:3], pair.zones[3:]
    assert [z.nozzle_c for z in usual] == [None] * 3
    assert [z.nozzle_c for z in hotter] == [WREN.filament.nozzle_c + PROOF.pair_c] * 3
    for a, b in zip(usual, hotter, strict=True):
        assert a.y_mm == b.y_mm
        assert b.x_mm - a.x_mm == pytest.approx(pair.patch_mm + 2 * PROOF.ladder_gap_mm)
    hot = WREN.filament.model_copy(update={"nozzle_c": 345.0})
    assert plan(WREN.machine, WREN.plate, hot, "pair").zones[3].nozzle_c == 350
    narrow = Plate(id="n", name="n", width_mm=50, depth_mm=172)
    with pytest.raises(ValueError, match="two rows"):
        plan(WREN.machine.model_copy(update={"plates": (narrow,), "screws": ()}), narrow, WREN.filament, "pair")


def test_some_zones_alone_keep_what_they_are() -> None:
    five = of(5)
    two = five.only((3, 1))
    assert two.zones == (five.zones[3], five.zones[1])
    assert (two.line_mm, two.kind) == (five.line_mm, "patches")
    assert not two.judges_all
    assert five.judges_all


# What grades are expected to tell


@settings(max_examples=15)
@given(st.floats(0.12, 0.3), st.floats(0.01, 0.08), st.floats(0.004, 0.02), st.floats(0.05, 0.15))
def test_what_is_left_of_the_common_gap_is_that_of_the_textbooks_information(
    gap: float, common: float, own: float, eye: float
) -> None:
    """One zone: the same by adaptive sums over the bands' probabilities, differentiated numerically."""
    mean = np.array([gap, 0.0])
    cov = np.diag([common**2 + own**2 * 0, 0.0])
    found = expected_sd(mean, cov, BEAD_042, eye)
    edges = [e for e, _ in sorted(BEAD_042.bands_mm().values())][1:]

    def information(at: float) -> float:
        def p(x: float) -> np.ndarray:
            return np.diff(np.concatenate([[0.0], norm.cdf(edges, x, eye * 0.2), [1.0]]))

        slope = (p(at + 1e-6) - p(at - 1e-6)) / 2e-6
        return float((slope**2 / np.maximum(p(at), 1e-9)).sum())

    offs = np.linspace(-2.5, 2.5, 41)
    weights = np.exp(-0.5 * offs**2)
    left = sum(
        w / weights.sum() / (1 / common**2 + information(gap + o * common)) for o, w in zip(offs, weights, strict=True)
    )
    assert found == pytest.approx(left**0.5, rel=1e-3)


def test_more_zones_and_a_known_feed_leave_less_and_a_rough_eye_more() -> None:
    def left(zones: int = 5, eye: float = 0.07, flow: float = 0.03) -> float:
        cov = np.zeros((zones + 1, zones + 1))
        cov[:zones, :zones] = 0.05**2 + 0.01**2 * np.eye(zones)
        cov[zones, zones] = flow**2
        return expected_sd(np.append(np.full(zones, 0.2), 0.0), cov, BEAD_042, eye)

    assert left() < 0.05
    assert left(zones=9) < left() < left(zones=2)
    # Bands are wide: an eye that scatters a little tells more of the middle than one that never does, a rough one less.
    assert left() < left(eye=0.3)
    assert left(eye=0.07) < left(eye=0.02)
    assert left(flow=0.0) < left() < left(flow=0.08)


# Whether a proof is sound


def field(gaps: list[float], sd: float, **more: object) -> FieldPosterior:
    z = len(gaps)
    return FieldPosterior(np.array([*gaps, 0.0, 0.0, 0.0]), np.diag([sd**2] * z + [0.0] * 3), (), (), **more)


def test_chances_of_independent_zones_are_products() -> None:
    low, high = BEAD_042.bands_mm()["sound"]
    gaps = [0.19, 0.20, 0.215]
    each = [norm.cdf(high, g, 0.012) - norm.cdf(low, g, 0.012) for g in gaps]
    greasy = {"greasy": np.zeros(3)}
    assert chance_sound(field(gaps, 0.012, **greasy), BEAD_042) == pytest.approx(np.prod(each), abs=0.02)
    seen = [norm.cdf(high, g, np.hypot(0.012, 0.014)) - norm.cdf(low, g, np.hypot(0.012, 0.014)) for g in gaps]
    assert looks_sound(field(gaps, 0.012, **greasy), BEAD_042, 0.07) == pytest.approx(np.mean(seen))
    # A cause that keeps zones from holding takes its part of both; one that is in the gaps already takes none.
    coat = {"shared": {"height": 0.7, "coat": 0.3}, **greasy}
    assert chance_sound(field(gaps, 0.012, **coat), BEAD_042) == pytest.approx(0.7 * np.prod(each), abs=0.02)
    assert looks_sound(field(gaps, 0.012, **coat), BEAD_042, 0.07) == pytest.approx(0.7 * np.mean(seen))
    zero = {"shared": {"height": 0.7, "zero": 0.3}, **greasy}
    assert chance_sound(field(gaps, 0.012, **zero), BEAD_042) == pytest.approx(np.prod(each), abs=0.02)


@pytest.mark.parametrize("graded", [False, True])
@pytest.mark.parametrize("every", [1, 2, 4, 16])
def test_no_zone_is_drawn_otherwise_than_the_others_nor_are_a_few_of_its_draws(graded: bool, every: int) -> None:
    z, marks = 8, tuple(Mark(k, "sound") for k in range(8)) if graded else ()
    laid = estimate_field(np.append(np.full(z, 0.2), 0.0), np.diag([0.02**2] * z + [1e-8]), marks, BEAD_042)
    some = (drawn_gaps(laid, BEAD_042)[::every] - laid.gaps[0]) / laid.gaps[1]
    assert some.mean(axis=0) == pytest.approx(np.zeros(z), abs=3.5 / len(some) ** 0.5)
    assert some.std(axis=0) == pytest.approx(np.ones(z), abs=3 / len(some) ** 0.5)


def test_the_flow_and_the_habit_are_seen_and_not_in_the_gap() -> None:
    plain = field([0.2], 0.001, greasy=np.zeros(1))
    off = FieldPosterior(np.add(plain.mean, [0, 0.2, 0, 0]), plain.cov, (), (), greasy=np.zeros(1))
    assert looks_sound(off, BEAD_042, 0.05) < looks_sound(plain, BEAD_042, 0.05)
    assert chance_sound(off, BEAD_042) == pytest.approx(chance_sound(plain, BEAD_042))


def test_done_is_trust_times_chance() -> None:
    sure = field([0.2] * 5, 0.001, greasy=np.zeros(5))
    assert judged_done(sure, BEAD_042)
    assert not judged_done(sure, BEAD_042, JUDGE.done_at - 0.01)
    assert judged_done(sure, BEAD_042, JUDGE.done_at + 0.01)
    assert not judged_done(field([0.2, 0.2, 0.3], 0.001, greasy=np.zeros(3)), BEAD_042)


def test_scraping_is_the_share_of_draws_with_a_gap_under_the_least() -> None:
    draws = np.full((1000, 2), 0.1)
    assert not might_scrape(draws)
    few = draws.copy()
    few[: int(1000 * JUDGE.scrape_p), 1] = JUDGE.scrape_mm - 1e-6
    assert not might_scrape(few)
    few[: int(1000 * JUDGE.scrape_p) + 1, 1] = JUDGE.scrape_mm - 1e-6
    assert might_scrape(few)
    edge = draws.copy()
    edge[:, 0] = JUDGE.scrape_mm
    assert not might_scrape(edge)


def test_turns_by_search_are_those_of_trying_every_whole_mark() -> None:
    r = np.random.default_rng(8)
    low, high = BEAD_042.bands_mm()["sound"]
    moves = np.array([[0.03, 0.0], [0.0, 0.03], [0.015, 0.015]])
    for _ in range(12):
        gaps = 0.2 + r.normal(0, 0.05, 3) + r.normal(0, 0.008, (512, 3))
        found = best_turns(gaps, moves, low, high, 0.2)

        def score(turn: np.ndarray, gaps: np.ndarray = gaps) -> float:
            moved = gaps - turn @ moves.T
            sound = ((moved >= low) & (moved <= high)).all(axis=1).mean()
            return float(sound - 40 * np.mean((moved.mean(axis=0) - 0.2) ** 2) - 0.0005 * np.count_nonzero(turn))

        best = max(score(np.array([a, b], dtype=float)) for a in range(-8, 9) for b in range(-8, 9))
        assert score(found) == pytest.approx(best, abs=0.01)
    assert not np.any(best_turns(np.full((512, 3), 0.2), moves, low, high, 0.2))


def test_grades_that_say_the_same_leave_the_belief_where_it_is() -> None:
    mean, cov = np.array([0.2, 0.2, 0.0]), np.diag([0.02**2, 0.02**2, 0.0])
    found = estimate_field(mean, cov, (Mark(0, "sound"),), BEAD_042)
    assert found.gaps[0][1] == pytest.approx(0.2)
    assert found.gaps[1][1] == pytest.approx(0.02)
    assert found.gaps[1][0] < 0.02
    assert found.zones == 2
    assert BEAD.grade_sd == found.eye_scatter


@pytest.mark.parametrize("setup", [WREN, BITTERN], ids=["sheet", "disc"])
def test_three_heights_lay_each_zone_in_a_row_that_begins_where_its_patch_would(setup) -> None:
    rows, whole, plate = of("three_heights", setup), of(5, setup), setup.plate
    assert len(rows.zones) == 3 * len(whole.zones)
    low, high = rows.bead.bands_mm()["sound"]
    for k, patch in enumerate(whole.zones):
        closer, middle, further = rows.zones[3 * k : 3 * k + 3]
        assert closer.place == middle.place == further.place == (patch.x_mm, patch.y_mm) == patch.place
        assert closer.name == f"{patch.name}, closer"
        # As far either way, a little beyond the ends of what is sound for a zone in its middle.
        assert -closer.away_mm == further.away_mm == pytest.approx(0.65 * (high - low), abs=6e-4)
        assert middle.away_mm == 0
        for a, b in pairwise((closer, middle, further)):
            assert b.x_mm - a.x_mm == pytest.approx(rows.patch_mm + PROOF.third_gap_mm)
        for one in (closer, middle, further):
            # No nearer to the plate's edge than the whole patch, in x from either side.
            from_middle = abs(one.x_mm - plate.centre[0]) + rows.patch_mm / 2
            assert from_middle <= max(abs(patch.x_mm - plate.centre[0]) + whole.patch_mm / 2, 16)
            assert one.y_mm == patch.y_mm
    assert rows.shows_all
    assert not rows.judges_all
    assert rows.zone_places[::3] == whole.zone_places


def test_three_heights_are_refused_where_a_row_has_no_room() -> None:
    first = of(5).zones[0]
    clip = KeepOut(
        name="clip",
        x_min_mm=first.x_mm + 15,
        x_max_mm=first.x_mm + 20,
        y_min_mm=first.y_mm - 5,
        y_max_mm=first.y_mm + 5,
    )
    plate = WREN.plate.model_copy(update={"keep_outs": (clip,)})
    assert plan(WREN.machine, plate, WREN.filament, 5).zones[0] == first
    with pytest.raises(ValueError, match=f"no room for three patches at {first.name}"):
        plan(WREN.machine, plate, WREN.filament, "three_heights")


def test_three_heights_leave_less_of_the_common_gap_than_as_many_patches_at_one() -> None:
    """By Fisher's information: at its ends a band tells a sharp eye more than in its middle, and a rough one as much."""
    for common in (0.012, 0.03, 0.06):
        for eye in (0.05, 0.1):
            found = []
            for aways in (np.zeros(15), np.tile([-0.038, 0.0, 0.038], 5)):
                cov = np.zeros((16, 16))
                cov[:15, :15] = common**2 + 0.01**2 * np.kron(np.eye(5), np.ones((3, 3)))
                found.append(expected_sd(np.append(0.2 + aways, 0.0), cov, BEAD_042, eye))
            assert found[1] < (0.95 if eye < 0.1 else 1.01) * found[0]


def test_the_patches_of_the_same_zones_show_what_their_whole_patches_do() -> None:
    whole, rows = of(5), of("three_heights")
    assert whole.shows_the_same(rows)
    assert rows.shows_the_same(whole)
    assert whole.shows_the_same(whole)
    assert not whole.shows_the_same(of(9))
    assert not whole.shows_the_same(whole.only((0, 1, 2, 3)))
    assert not whole.shows_the_same(rows.with_bead(Bead(0.48, 0.28)))
    some = whole.only((1,))
    assert some.shows_the_same(whole.only((1,)))
    assert not some.shows_the_same(whole.only((2,)))


def test_a_ladders_steps_lie_in_rows_from_left_to_right() -> None:
    plate = setup_for("heron").plate
    zones = ladder_zones(plate, tuple(np.round(np.linspace(0.3, -0.3, 9), 3)), PROOF.ladder_patch_mm)
    at = [(round(z.y_mm, 3), z.x_mm) for z in zones]
    assert at == sorted(at)
    assert len({y for y, _ in at}) > 1


@pytest.mark.parametrize("beside_mm", [1.0, 6.0])
def test_a_pair_keeps_clear_of_a_clip_beside_it(beside_mm: float) -> None:
    """A clip within 2 mm of the outermost patch leaves no room; a little further off it does."""
    machine, plate = WREN.machine.model_copy(update={"screws": ()}), WREN.plate.model_copy(update={"keep_outs": ()})
    pair = plan(machine.model_copy(update={"plates": (plate,)}), plate, WREN.filament, "pair")
    edge = max(z.x_mm for z in pair.zones) + pair.patch_mm / 2 + beside_mm
    clip = KeepOut(name="a clip", x_min_mm=edge, x_max_mm=edge + 10, y_min_mm=60, y_max_mm=110)
    kept = plate.model_copy(update={"keep_outs": (clip,)})
    there = machine.model_copy(update={"plates": (kept,)})
    if beside_mm < 2:
        with pytest.raises(ValueError, match="no room"):
            plan(there, kept, WREN.filament, "pair")
    else:
        assert len(plan(there, kept, WREN.filament, "pair").zones) == len(pair.zones)
