"""The logbook in a real browser: what drifted, what happened, what is due; and what a card on the bench says of it."""

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.store.workshop import Workshop
from tests.conftest import listening
from tests.past import past_of

from .conftest import serious


@pytest.fixture
def address(tmp_path: Path) -> Iterator[str]:
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    past_of(workshop, "heron", [150, 120, 92, 61, 40, 12], datetime.now(UTC), loosens=(3, 0.006))
    with listening(create_app(Desk(workshop))) as at:
        yield at
    workshop.close()


def test_what_drifts_is_drawn_told_and_due(desk_page: Page, address: str) -> None:
    page = desk_page
    card = page.get_by_role("button", name="Heron")
    expect(card).to_contain_text("look again")
    card.click()
    page.get_by_role("link", name="logbook").click()
    expect(page.get_by_text("Rear right loosens")).to_be_visible()
    expect(page.get_by_role("img", name="Gap at rear right through time")).to_be_visible()
    assert serious(page) == []
    page.get_by_label("Initials").fill("mk")
    page.get_by_label("Something happened").select_option("prints")
    page.get_by_label("How many").fill("2.5")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_text("Give a whole number.")).to_be_visible()
    page.get_by_label("How many").fill("14")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_role("list", name="What happened")).to_contain_text("prints done: 14")
    page.get_by_label("Something happened").select_option("note")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_text("Say what is to be noted.")).to_be_visible()
    page.get_by_label("Something happened").select_option("knock")
    page.get_by_label("In your words").fill("the trolley ran into it")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_text("Something happened since that nobody has looked at")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="as a table (CSV)").click()
    assert download.value.suggested_filename == "logbook-heron.csv"
    page.set_viewport_size({"width": 390, "height": 844})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    # A machine nobody has measured says so.
    page.goto(f"{address}/machines/wren/logbook")
    expect(page.get_by_role("heading", name="Nothing is known of this plate yet")).to_be_visible()
