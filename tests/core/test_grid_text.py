"""Grids as people and machines write them."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.grid_text import read_grid

ROWS = ((0.1, 0.2, 0.3), (-0.1, 0.0, 0.15))


@pytest.mark.parametrize(
    "text",
    [
        "0.1,0.2,0.3\n-0.1,0,0.15",
        "0.1\t0.2\t0.3\n-0.1\t0.0\t0.15\n\n",
        "  0.1 0.2   .3\n-.1 0 1.5e-1",
        "0.1;0.2;0.3\r\n−0.1;0;0.15\r\n",
        "\ufeff+0.1,+0.2,+0.3\n-0.1,0,0.15",
        "20,120,220\n0.1,0.2,0.3\n-0.1,0,0.15",
        ",20,120,220\n20,0.1,0.2,0.3\n200,-0.1,0,0.15",
        "[[0.1, 0.2, 0.3], [-0.1, 0, 0.15]]",
        "mesh now\n[0.1, 0.2, 0.3]\n[-0.1, 0, 0.15]\n",
        "{0.1 0.2 0.3}\n{-0.1 0 0.15}",
        "| 0.1 | 0.2 | 0.3 |\n|-----|-----|-----|\n| -0.1 | 0 | 0.15 |",
        "  | 0 | 1 | 2 |\n0 | 0.1 | 0.2 | 0.3 |\n1 | -0.1 | 0 | 0.15 |",
        " 0 1 2\n0 0.1 0.2 0.3\n1 -0.1 0.0 0.15",
        "heights\n1: -0.1 0.0 0.15\n0: 0.1 0.2 0.3\n",
        "row 0: 0.1 0.2 0.3\nrow 1: -0.1 0 0.15",
        "0.1, 0.2, 0.3,\n-0.1, 0, 0.15,",
        "x,y,z\n20,20,0.1\n120,20,0.2\n220,20,0.3\n20,200,-0.1\n120,200,0\n220,200,0.15",
        "0 1 -0.1\n1 1 0\n2 1 0.15\n0 0 0.1\n1 0 0.2\n2 0 0.3",
        '{"xs_mm": [20, 120, 220], "ys_mm": [20, 200], "heights_mm": [[0.1, 0.2, 0.3], [-0.1, 0, 0.15]]}',
        '{"plate": {"points": [{"x": 20, "y": 20, "z": 0.1}, {"x": 120, "y": 20, "z": 0.2}, {"x": 220, "y": 20, "z": 0.3},'
        ' {"x": 20, "y": 200, "z": -0.1}, {"x": 120, "y": 200, "z": 0}, {"x": 220, "y": 200, "z": 0.15}]}}',
        '{"z": [[0.1, 0.2, 0.3], [-0.1, 0, 0.15]]}',
        '{"mesh": {"heights": [[0.1, 0.2, 0.3], [-0.1, 0, 0.15]]}, "name": "mine"}',
        "y\\x\t20\t120\t220\n20\t0.1\t0.2\t0.3\n200\t-0.1\t0\t0.15",
    ],
)
def test_a_grid_is_read_however_it_is_written(text: str) -> None:
    assert read_grid(text).heights_mm == ROWS


def test_positions_beside_the_rows_settle_their_order() -> None:
    found = read_grid(",20,120,220\n200,-0.1,0,0.15\n20,0.1,0.2,0.3")
    assert found.ys_mm == (20, 200)
    assert found.heights_mm == ROWS


@pytest.mark.parametrize(
    ("text", "sentence"),
    [
        ("", "no numbers"),
        ("0.1,0.2\n0.3", "Line 2 has 1 numbers where the first row has 2"),
        ("0.1,,0.3\n0.1,0.2,0.3", "Line 1, number 2 is missing"),
        ("0.1,0.2\nnan,0.3", "'nan', which is not a number"),
        ("0.1,0.2\ninf,0.3", "not a number"),
        ("0.1,1e9\n0.2,0.3", "no height"),
        ("0.1\n0.2", "at least two"),
        ("left,right\n0.1,0.2\n0.1,0.2", "words, not positions"),
        ("\n".join(["0.1 0.2"] * 26), "more than 25"),
        ("x" * 300_000, "Paste the grid alone"),
    ],
)
def test_what_is_no_grid_is_refused_with_the_place_and_the_reason(text: str, sentence: str) -> None:
    with pytest.raises(ValueError, match=sentence):
        read_grid(text)


@given(st.text(max_size=200))
def test_any_text_is_read_or_refused_with_a_sentence(text: str) -> None:
    try:
        found = read_grid(text)
    except ValueError as wrong:
        assert str(wrong).endswith((".", ".)"))
    else:
        assert len({len(r) for r in found.heights_mm}) == 1


def test_counted_points_are_no_heights_and_no_positions() -> None:
    """A heading of 0, 1, 2 is never taken for a plate that rises by mm, nor for places 1 mm apart."""
    found = read_grid("0 1 2\n0.1 0.2 0.3\n-0.1 0 0.15")
    assert found.heights_mm == ROWS
    assert found.xs_mm is None


@given(st.integers(2, 5), st.integers(2, 5), st.randoms())
def test_points_in_any_order_make_the_same_grid(columns: int, rows: int, random) -> None:  # type: ignore[no-untyped-def]
    points = [(20.0 + 30 * c, 10.0 + 40 * r, round(0.01 * (3 * r - c), 3)) for r in range(rows) for c in range(columns)]
    wanted = tuple(tuple(z for _, y, z in points if y == 10.0 + 40 * r) for r in range(rows))
    random.shuffle(points)
    assert read_grid("\n".join(f"{x} {y} {z}" for x, y, z in points)).heights_mm == wanted


def test_names_with_their_unit_are_names_too() -> None:
    text = '{"heights_mm": [[0.1, 0.2, 0.3], [0.0, 0.1, 0.2], [0.3, 0.2, 0.1]], "Xs_mm": [10, 60, 110], "ys_MM": [5, 55, 105]}'
    found = read_grid(text)
    assert (found.xs_mm, found.ys_mm) == ((10, 60, 110), (5, 55, 105))
    assert found.heights_mm[0] == (0.1, 0.2, 0.3)
