"""The bead model against its check values and its limits."""

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from ivory_table.core.bead import GRADES, Bead, grade_cards

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
