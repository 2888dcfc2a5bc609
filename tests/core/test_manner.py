"""Manners are data: what is wrong with one is said, and the shipped ones agree with their tables."""

from importlib.resources import files

import pytest

from ivory_table.core.manner import SHIPPED, plain_lines, read_manner, shipped
from ivory_table.core.offset import convention

TEXT = files("ivory_table.core").joinpath("manners", "harbour.toml").read_text("utf-8")


@pytest.mark.parametrize("manner_id", SHIPPED)
def test_the_shipped_manners_are_whole(manner_id: str) -> None:
    manner = shipped(manner_id)
    assert manner.id == manner_id
    assert manner.send("move", x=1.5, y=2, feed=600).endswith("X1.500 Y2.000 F600")


def test_the_two_manners_share_no_reply_and_differ_in_what_they_can() -> None:
    one, other = (shipped(m) for m in SHIPPED)
    assert all(getattr(one.says, name) != getattr(other.says, name) for name, _ in one.says)
    assert one.line.homing_ends_mesh != other.line.homing_ends_mesh
    assert one.line.numbered != other.line.numbered
    assert one.can("message")
    assert not other.can("message")


def test_what_a_machine_cannot_do_is_a_sentence() -> None:
    with pytest.raises(ValueError, match=r"Lantern.*no line for 'pause'"):
        shipped("lantern").send("pause")


@pytest.mark.parametrize(
    ("was", "now", "said"),
    [
        ("ack = '^ok$'", "ack = ''", r"\[says\] ack is empty"),
        ("ack = '^ok$'", "ack = '^(ok$'", r"\[says\] ack: the pattern .* is broken"),
        (r"touched = '^touch z(?P<z>-?[\d.]+)'", "touched = '^touch'", r"\[says\] touched needs the named group"),
        ('home = "G28"', 'home = ""', r"\[does\] home is empty"),
        ("CHART_AT C{column} R{row} Z{height:.3f}", "CHART_AT C{column} R{row}", r"mesh_point needs \{height\}"),
        ("X{x:.3f} Y{y:.3f} F{feed:.0f}", "X{x:.3f} Y{y:.3f} W{w}", r"\[does\] move: .* cannot be filled in"),
        ("silence_s = 6.0", "silence_s = 0", "silence_s"),
        ("ZERO_PROBE Z{stored:.3f}", "ZERO_PROBE Z", r"set needs \{stored\}"),
        ('id = "harbour"', 'id = "har', "no valid TOML"),
        ('name = "Harbour"', 'name = "Harbour"\ncolour = "red"', "colour"),
    ],
)
def test_a_mistake_is_named_where_it_stands(was: str, now: str, said: str) -> None:
    assert was in TEXT
    with pytest.raises(ValueError, match=said):
        read_manner(TEXT.replace(was, now))


def test_a_machine_whose_manner_cannot_be_read_gets_no_word_of_another() -> None:
    plain = plain_lines()
    own = {name for name, text in plain.does if text and not text.startswith(("G", "M"))}
    assert own == set()
    assert not any(pattern for _, pattern in plain.says)
    assert plain.line.dressed("G28", 7) == "G28"
    for lines in (plain.offset.probe_offset, plain.offset.live_only):
        assert convention("probe_offset", plain).lines(1.0) == ()
        assert (lines.read, lines.set, lines.store) == ("", "", "")
