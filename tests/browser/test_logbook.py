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

from .conftest import at_station, serious, visit


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
    page.get_by_label("How many", exact=True).fill("2.5")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_text("Give a whole number, or hours.")).to_be_visible()
    page.get_by_label("How many", exact=True).fill("14")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_role("list", name="What happened")).to_contain_text("prints done: 14")
    page.get_by_label("Something happened").select_option("removals")
    page.get_by_label("How many", exact=True).fill("3")
    page.get_by_role("button", name="Put it in the logbook").click()
    expect(page.get_by_role("list", name="What happened")).to_contain_text("taken off and put back: 3")
    # A short check at a screw whose knob was turned at once.
    page.get_by_text("a two-minute check instead").click()
    page.get_by_label("Where").select_option("rear right")
    page.get_by_label("or by the gauge").fill("0.06")
    page.get_by_label("I turned this knob at once").check()
    page.get_by_role("button", name="Keep it").click()
    expect(page.get_by_role("list", name="What happened")).to_contain_text("rear right: +0.060 mm, put right")
    page.get_by_label("Where").select_option("centre")
    expect(page.get_by_label("I turned this knob at once")).to_have_count(0)
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
    visit(page, f"{address}/machines/wren/logbook")
    expect(page.get_by_role("heading", name="Nothing is known of this plate yet")).to_be_visible()


def test_a_layer_gone_bad_leads_to_what_is_likeliest_and_the_value_that_worked(desk_page: Page, address: str) -> None:
    page = desk_page
    page.get_by_role("button", name="Heron").click()
    page.get_by_role("link", name="a layer went bad").click()
    expect(page.get_by_role("heading", name="How does it look?")).to_be_visible()
    page.keyboard.press("3")
    expect(page.get_by_role("button", name="one side or corner is off")).to_have_attribute("aria-pressed", "true")
    expect(page.locator("main ol li").first).to_contain_text("rear right")
    expect(page.get_by_text("The value that worked on this plate")).to_be_visible()
    assert serious(page) == []
    page.set_viewport_size({"width": 390, "height": 844})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390


def test_after_a_change_settings_are_compared_and_a_run_begins_with_it(desk_page: Page, address: str) -> None:
    page = desk_page
    visit(page, f"{address}/machines/heron/after-change")
    page.get_by_label("Initials").fill("mk")
    for text, note in (("zero z -1.500\nlimit 240", "before"), ("zero z -1.200\nlimit 240", "after")):
        page.get_by_label("Or paste what it reports").fill(text)
        page.get_by_label("What for").fill(note)
        page.get_by_role("button", name="Keep what is pasted").click()
        expect(page.get_by_label("Or paste what it reports")).to_have_value("")
    expect(page.get_by_text("1 changed, 0 gone, 0 new.")).to_be_visible()
    expect(page.get_by_role("cell", name="zero z -1.200")).to_be_visible()
    assert serious(page) == []
    page.get_by_label("another nozzle").check()
    expect(page.get_by_text("Z offset, First layer")).to_be_visible()
    page.get_by_role("button", name="Begin a run with this").click()
    expect(page.get_by_text("It begins with the change you named")).to_be_visible()
    page.get_by_label("Your initials").fill("mk")
    page.get_by_role("button", name="Start a new run").click()
    at_station(page, "prepare")
    expect(page.get_by_text("another nozzle").first).to_be_visible()


def test_runs_are_found_and_the_wall_says_what_is_due(desk_page: Page, address: str) -> None:
    page = desk_page
    page.get_by_role("link", name="all runs").click()
    page.get_by_label("Machine, plate, filament").fill("heron mk")
    expect(page.locator("main ul li")).to_have_count(6)
    page.get_by_label("Machine, plate, filament").fill("heron nobody")
    expect(page.get_by_text("No run is like that")).to_be_visible()
    assert serious(page) == []
    visit(page, f"{address}/wall")
    expect(page.get_by_role("heading", name="1 of 4 to look at")).to_be_visible()
    expect(page.locator("main li").first).to_contain_text("Heron")
    assert serious(page) == []
