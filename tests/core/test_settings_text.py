"""Reports of settings: the same is the same whatever its order and its zeros; what differs is found."""

from hypothesis import given
from hypothesis import strategies as st

from ivory_table.core.settings_text import differences, lines_of

LINE = st.builds(
    lambda word, numbers: " ".join([word, *(f"{n:.3f}" for n in numbers)]),
    st.text(st.characters(categories=["Ll"], max_codepoint=122), min_size=1, max_size=6),
    st.lists(st.floats(-999, 999), max_size=4),
)


@given(st.lists(LINE, max_size=20), st.randoms())
def test_the_same_in_another_order_is_the_same(lines: list[str], random) -> None:
    assert differences("\n".join(lines), "\r\n".join(f"  {x} " for x in lines)) == ()
    unlike = list(dict.fromkeys(lines))
    unlike = [x for k, x in enumerate(unlike) if x.split()[0] not in {y.split()[0] for y in unlike[:k]}]
    mixed = list(unlike)
    random.shuffle(mixed)
    assert differences("\n".join(unlike), "\n".join(mixed)) == ()


@given(st.lists(LINE, min_size=1, max_size=20), st.data())
def test_one_line_gone_is_one_difference(lines: list[str], data) -> None:
    k = data.draw(st.integers(0, len(lines) - 1))
    found = differences("\n".join(lines), "\n".join(lines[:k] + lines[k + 1 :]))
    assert len(found) >= 1
    assert sum(d.kind == "gone" for d in found) == 1


def test_numbers_are_compared_as_numbers() -> None:
    assert differences("zero z -1.500", "zero z -1.5") == ()
    (found,) = differences("steps x80 e93.00", "steps x80 e96.5")
    assert (found.kind, found.numbers) == ("changed", ((93.0, 96.5),))


def test_what_moved_and_changed_is_found_by_its_words() -> None:
    before = "zero z -1.5\nlimit 240\nheat p 22.2"
    after = "limit 240\nname heron\nheat p 22.2\nzero z -1.2"
    assert {(d.kind, d.was, d.now) for d in differences(before, after)} == {
        ("new", "", "name heron"),
        ("changed", "zero z -1.5", "zero z -1.2"),
    }


def test_a_giant_is_cut() -> None:
    assert len(lines_of("x 1\n" * 100_000)) == 4000


def test_what_changed_in_several_places_is_all_told() -> None:
    before = "one 1.0\ntwo 2.0\nthree 3.0\nfour 4.0"
    after = "one 1.5\nnew 9.0\ntwo 2.5\nthree 3.0\nfour 4.5"
    found = differences(before, after)
    assert [(d.kind, d.was, d.now) for d in found if d.kind != "new"] == [
        ("changed", "one 1.0", "one 1.5"),
        ("changed", "two 2.0", "two 2.5"),
        ("changed", "four 4.0", "four 4.5"),
    ]
    assert [d.now for d in found if d.kind == "new"] == ["new 9.0"]
