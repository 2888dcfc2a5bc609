"""The card of a manner: every line with an example's numbers, printable whatever stands in it."""

import pytest

from ivory_table.core.manner import shipped
from ivory_table.link.manners import Manners
from ivory_table.paper.manner_card import manner_card
from ivory_table.stations.manner.pages import Pages
from ivory_table.store.workshop import Workshop


@pytest.mark.parametrize("manner_id", ["harbour", "lantern"])
def test_the_card_names_every_line_with_numbers_in_it(manner_id: str, workshop: Workshop) -> None:
    card = Pages(workshop, Manners()).view(manner_id).card
    lines = {what: line for _, rows in card for what, line, _ in rows}
    assert lines["Go to a place"].endswith("X30.250 Y40.500 F3000")
    assert lines["Home"] == shipped(manner_id).does.home
    without = {what: note for _, rows in card for what, line, note in rows if not line}
    assert all(without.values())
    made = manner_card(shipped(manner_id).name, card)
    assert made.startswith(b"%PDF")


def test_odd_characters_do_not_break_it() -> None:
    assert manner_card("“Ours” … −1", [("Moving", [("Go – far", "go‹x›\N{SNOWMAN}", "")])]).startswith(b"%PDF")
