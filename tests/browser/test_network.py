"""A tablet on the workshop's network: let in by a code, held to what it may, and patient when the network goes."""

from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from ivory_table.access.network import Network
from ivory_table.api.app import create_app
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.practice.room import PracticeRoom
from ivory_table.store.workshop import Workshop
from tests.browser.conftest import keeping, press, ready, serious, start_run, visit
from tests.conftest import listening


@pytest.fixture
def address(tmp_path: Path) -> Iterator[str]:
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    desk = Desk(workshop, PracticeRoom(tmp_path / "practice", seed=11).hands_for)
    with listening(create_app(desk, network=Network(b"for the tests"))) as at:
        yield at


@pytest.fixture
def tablet(browser: Browser, address: str) -> Iterator[Page]:
    """A page of another device: whoever asks for somebody else does not sit at the first machine."""
    context = browser.new_context(
        viewport={"width": 820, "height": 1180}, extra_http_headers={"x-forwarded-for": "192.168.4.31"}
    )
    page = context.new_page()
    page.set_default_timeout(20_000)
    yield page
    context.close()


def code_for(first: Page, address: str, role: str) -> str:
    visit(first, f"{address}/network")
    first.get_by_label("What the device is called").fill("tablet at Heron")
    first.get_by_label("It may").select_option(role)
    first.get_by_role("button", name="Show a code").click()
    expect(first.get_by_alt_text("The code, to be scanned")).to_be_visible()
    return first.locator("p.tracking-\\[0\\.15em\\]").inner_text()


def join(tablet: Page, address: str, code: str) -> None:
    visit(tablet, address)
    expect(tablet).to_have_url(f"{address}/join")
    tablet.get_by_label("Code").fill(code)
    tablet.keyboard.press("Enter")
    expect(tablet.get_by_text("Machines on the bench")).to_be_visible()


def test_a_tablet_is_let_in_works_loses_the_network_and_is_shut_out(
    desk_page: Page, tablet: Page, address: str
) -> None:
    code = code_for(desk_page, address, "work")
    assert serious(desk_page) == []
    visit(tablet, address)
    expect(tablet).to_have_url(f"{address}/join")
    tablet.get_by_role("button", name="Come in").click()
    expect(tablet.get_by_text("Type the code.")).to_be_visible()
    tablet.get_by_label("Code").fill("ABCD 2345")
    tablet.get_by_role("button", name="Come in").click()
    expect(tablet.get_by_text("This code lets nobody in")).to_be_visible()
    assert serious(tablet) == []
    join(tablet, address, code)
    expect(desk_page.get_by_text("tablet at Heron is in.")).to_be_visible()
    run = start_run(tablet, "Heron")
    visit(tablet, f"{run}/tram")
    ready(tablet)
    with keeping(tablet):
        press(tablet, "1")
    # The network goes: what is answered waits on the page, and is kept once it is back.
    before = tablet.locator("[data-seq]").get_attribute("data-seq")
    tablet.context.set_offline(True)
    tablet.get_by_role("button", name="2", exact=True).click()
    tablet.get_by_role("button", name="Keep").click()
    expect(tablet.get_by_text("What you entered is kept here and sent once it is back")).to_be_visible()
    tablet.context.set_offline(False)
    expect(tablet.locator("[data-seq]")).not_to_have_attribute("data-seq", before or "")
    expect(tablet.get_by_text("No answer from the server")).to_have_count(0)
    # It may not move a machine.
    expect(tablet.get_by_text("not move machines")).to_be_visible()
    expect(tablet.get_by_role("button", name="Take Heron on the line")).to_have_count(0)
    desk_page.get_by_role("button", name="Shut out").click()
    expect(desk_page.get_by_text("shut tablet at Heron out")).to_be_visible()
    expect(tablet).to_have_url(f"{address}/join")


def test_whoever_may_only_look_sees_everything_and_keeps_nothing(desk_page: Page, tablet: Page, address: str) -> None:
    run = start_run(desk_page, "Heron").removeprefix(address)
    join(tablet, address, code_for(desk_page, address, "look"))
    visit(tablet, f"{address}{run}/tram")
    expect(tablet.get_by_text("Nothing can be kept from here")).to_be_visible()
    tablet.keyboard.press("1")
    expect(tablet.get_by_text("The first machine can change that")).to_be_visible()
    expect(tablet.locator("[data-seq]")).to_have_attribute("data-seq", "0")
    # What it may not do is not offered elsewhere either.
    visit(tablet, address)
    expect(tablet.get_by_text("Nothing can be kept from here")).to_be_visible()
    expect(tablet.get_by_role("button", name="Start a new run")).to_have_count(0)
    visit(tablet, f"{address}/machines/heron/logbook")
    expect(tablet.get_by_text("Nothing can be kept from here")).to_be_visible()
    expect(tablet.get_by_label("Something happened")).to_have_count(0)
    visit(tablet, f"{address}/setup")
    expect(tablet.get_by_text("Nothing can be set up from here")).to_be_visible()
    visit(tablet, f"{address}/network")
    tablet.get_by_role("button", name="Shut this device out").click()
    expect(tablet).to_have_url(f"{address}/join")
