"""The bead model against its check values and its limits."""

from math import pi

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from ivory_table.core.bead import GRADES, Bead, grade_cards, profile, swatch, underside
from ivory_table.core.defaults import BEAD

PLAIN = Bead(0.42, 0.20)


def test_check_values() -> None:
    assert PLAIN.area_mm2 == pytest.approx(0.07542, abs=5e-6)
    assert PLAIN.pitch_mm == pytest.approx(0.37708, abs=5e-6)
    assert PLAIN.free_diameter_mm == pytest.approx(0.30988, abs=6e-6)
    assert PLAIN.width_at(0.20) == pytest.approx(0.42)
    assert PLAIN.width_at(0.25) == pytest.approx(0.35531, abs=5e-6)
    assert PLAIN.fill_at(0.15) == pytest.approx(1.3333, abs=5e-5)
    assert PLAIN.parting_gap_mm / 0.20 == pytest.approx(1.15, abs=0.005)


beads = st.builds(lambda w, share: Bead(w, w * share), st.floats(0.2, 1.6), st.floats(0.2, 0.8))


@given(beads)
def test_lines_just_touch_at_the_parting_gap(bead: Bead) -> None:
    gap = bead.parting_gap_mm
    if gap < bead.free_diameter_mm - 1e-9:
        assert bead.width_at(gap) == pytest.approx(bead.pitch_mm)
        assert bead.width_at(gap * 1.01) < bead.pitch_mm


@given(beads, st.floats(0.1, 0.95), st.floats(0.01, 0.04))
def test_a_smaller_gap_lays_a_wider_line(bead: Bead, r: float, less: float) -> None:
    gap = r * bead.layer_mm
    assume(gap < bead.free_diameter_mm)
    assert bead.width_at(gap * (1 - less)) > bead.width_at(gap)
    assert bead.fill_at(gap * (1 - less)) > bead.fill_at(gap)


@given(beads)
def test_bands_meet_without_holes_from_starved_to_loose(bead: Bead) -> None:
    bands = bead.bands_mm()
    assert list(bands) == list(reversed(GRADES))
    edges = [e for band in bands.values() for e in band]
    assert edges == sorted(edges)
    assert all(a == b for a, b in zip(edges[1:-1:2], edges[2:-1:2], strict=True))


@given(beads, st.sampled_from(["PLA", "PETG", "ABS", "ASA", "TPU"]))
def test_every_target_is_sound_and_before_parting(bead: Bead, material: str) -> None:
    target = bead.target_mm(material)
    assert bead.grade_at(target) == "sound"
    assert target < bead.parting_gap_mm


def test_materials_that_like_it_lifted_aim_higher() -> None:
    assert PLAIN.target_mm("PLA") < PLAIN.target_mm("ABS") < PLAIN.target_mm("PETG")


def test_the_card_shows_every_grade_with_its_own_look() -> None:
    cards = grade_cards(PLAIN)
    assert [c.key for c in cards] == [1, 2, 3, 4, 5, 6, 7]
    assert all(c.swatch.grade == c.grade for c in cards)


@pytest.mark.parametrize(("line", "layer", "flow"), [(0.2, 0.4, 1), (0.4, 0, 1), (0.4, 0.2, 0), (0.4, 0.2, 9)])
def test_impossible_lines_are_refused(line: float, layer: float, flow: float) -> None:
    with pytest.raises(ValueError, match=r"line|flow"):
        Bead(line, layer, flow)


def test_no_bead_without_a_gap() -> None:
    with pytest.raises(ValueError, match="larger than zero"):
        PLAIN.width_at(0)


@given(st.floats(0.02, 0.6))
def test_the_profile_holds_the_plastic_that_was_laid(gap: float) -> None:
    """Its area over one pitch is the bead's, against the closed form, unless a ridge is cut off by the tip or a line lies apart."""
    bead = Bead(0.42, 0.2)
    heights = profile(bead, gap, steps=400)
    below = [v or 0.0 for v in underside(bead, gap, steps=400)]
    area = sum(heights) * bead.pitch_mm / len(heights)
    assert all(h >= 0 for h in heights)
    assert heights == pytest.approx(tuple(reversed(heights)), abs=1.1e-5)  # the same on both sides of a line
    if bead.width_at(gap) < bead.pitch_mm and gap < bead.free_diameter_mm:
        assert area == pytest.approx(
            bead.area_mm2 + (gap**2) * (1 - pi / 4) * 0.5, rel=0.12
        )  # its lower half is hidden
        if bead.pitch_mm - bead.width_at(gap) > bead.pitch_mm / 400:
            assert min(heights) == 0  # the plate shows between the lines
    elif gap < bead.free_diameter_mm and max(heights) < gap + 0.9 * BEAD.ridge_most_mm:
        assert area - sum(below) * bead.pitch_mm / len(below) == pytest.approx(bead.area_mm2, rel=0.03)


def test_neighbouring_grades_differ_in_what_the_light_shows() -> None:
    """Grooves, ridges and the plate between the lines: each card has a profile of its own kind."""
    cards = {c.grade: c.swatch for c in grade_cards(Bead(0.42, 0.2))}
    plate = {g: min(s.profile_mm) == 0 for g, s in cards.items()}
    assert plate == {g: g in ("loose", "barely", "parted") for g in cards}
    depth = {g: max(s.profile_mm) - min(s.profile_mm) for g, s in cards.items()}
    assert depth["sound"] < 0.5 * min(depth["ridged"], depth["parted"])
    through = [cards[g].shows_through for g in ("sound", "ridged", "squeezed", "starved")]
    assert through == sorted(through)
    assert through[2] > through[1] + 0.1


def test_the_underside_lies_on_the_plate_where_lines_are_pressed_and_light_tells_thin_from_thick() -> None:
    bead = Bead(0.4, 0.2)
    assert all(v == 0 for v in underside(bead, 0.15))
    assert None in underside(bead, 0.28)
    assert max(v or 0.0 for v in underside(bead, 0.21)) > 0
    by = [swatch(bead, 0.2, mm).shows_through for mm in (0.05, 0.09, 0.35)]
    assert by == sorted(by)
    assert swatch(bead, 0.1).shows_through > swatch(bead, 0.2).shows_through


def test_a_line_that_is_not_fused_is_flat_below_and_round_at_its_sides() -> None:
    """Pressed to the gap's height, its sides are half circles: flat over what it is wider than high."""
    bead, gap, steps = Bead(0.4, 0.2), 0.25, 800
    width, height = bead.width_at(gap), min(gap, bead.free_diameter_mm)
    assert width < bead.pitch_mm
    below = underside(bead, gap, steps=steps)
    across = [(k + 0.5) / steps * bead.pitch_mm - bead.pitch_mm / 2 for k in range(steps)]
    flat = [abs(y) for y, v in zip(across, below, strict=True) if v == 0]
    plastic = [abs(y) for y, v in zip(across, below, strict=True) if v is not None]
    assert max(flat) == pytest.approx((width - height) / 2, abs=0.006)
    assert max(plastic) == pytest.approx(width / 2, abs=0.002)
    assert max(v for v in below if v is not None) == pytest.approx(height / 2, rel=0.2)
