"""From an empty workshop to the first instruction, as somebody new does it."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from tests.conftest import serving

from .conftest import at_station, keeping, press, serious, visit


@pytest.mark.parametrize("width", [1280, 390])
def test_a_newcomer_is_at_the_tram_in_twelve_inputs(page: Page, tmp_path: Path, width: int) -> None:
    inputs = 0

    def fill(label: str, text: str) -> None:
        nonlocal inputs
        inputs += 1
        page.get_by_label(label, exact=True).fill(text)

    def press(name: str) -> None:
        nonlocal inputs
        inputs += 1
        page.get_by_role("button", name=name).click()

    with serving(tmp_path, furnished=False) as address:
        page.set_viewport_size({"width": width, "height": 844})
        visit(page, address)
        expect(page.get_by_role("heading", name="Which machine stands here?")).to_be_visible()
        assert page.get_by_role("alert").count() == 0  # nothing was typed yet
        assert serious(page) == []
        fill("What you call it", "Sandpiper")
        fill("Width", "200")
        fill("Depth", "180")
        press("Put it on the bench")
        fill("Your initials", "ab")
        press("Start a new run")
        at_station(page, "prepare")
        visit(page, page.url.replace("/prepare", "/tram"))
        inputs += 1
        at_station(page, "tram")
        expect(page.get_by_role("heading", name="Which way does this knob work?")).to_be_visible()
        assert inputs <= 12
        expect(page.get_by_text("front left").first).to_be_visible()


def test_a_new_machine_is_prepared_by_enter_alone(page: Page, tmp_path: Path) -> None:
    """Its first run has the longest list; one of its checks is a number that is counted from."""
    with serving(tmp_path, furnished=False) as address:
        visit(page, address)
        page.get_by_label("What you call it", exact=True).fill("Sandpiper")
        page.get_by_label("Width", exact=True).fill("200")
        page.get_by_label("Depth", exact=True).fill("180")
        page.get_by_label("The stored height").select_option("probe_offset")
        page.get_by_role("button", name="Put it on the bench").click()
        page.get_by_label("Your initials").fill("ab")
        page.get_by_role("button", name="Start a new run").click()
        at_station(page, "prepare")
        run_id = page.url.split("/")[-2]
        checks = page.request.get(f"{address}/api/runs/{run_id}/prepare").json()["checks"]
        assert len(checks) > 10
        for _ in checks:
            with keeping(page):
                press(page, "Enter")
        press(page, "Enter")
        at_station(page, "tram")
        # Nobody has taught it to talk: no line of another machine is shown.
        visit(page, page.url.replace("/tram", "/offset"))
        at_station(page, "offset")
        page.get_by_role("button", name=re.compile("not shown yet")).click()
        expect(page.get_by_text("On the machine's own screen").first).to_be_visible()


def test_what_cannot_be_a_plate_is_said_beside_its_field(page: Page, tmp_path: Path) -> None:
    with serving(tmp_path, furnished=False) as address:
        visit(page, address)
        page.get_by_label("Width", exact=True).fill("12")
        page.get_by_role("button", name="Put it on the bench").click()
        expect(page.get_by_text("Give it a name")).to_be_visible()
        expect(page.get_by_text("Type the size in mm")).to_be_visible()
        page.get_by_label("What you call it").fill("Dunlin")
        page.get_by_label("Its plate is").select_option("round")
        page.get_by_label("Across").fill("240")
        page.get_by_label("Knobs under it").select_option("0")
        page.get_by_role("button", name="Put it on the bench").click()
        expect(page.get_by_text("round, 240 mm across")).to_be_visible()


def test_an_address_that_leads_nowhere_says_so(desk_page: Page) -> None:
    visit(desk_page, desk_page.url + "kitchen")
    expect(desk_page.get_by_role("heading", name="There is no page at this address.")).to_be_visible()
    desk_page.get_by_role("link", name="To the bench").click()
    expect(desk_page.get_by_role("button", name="Heron")).to_be_visible()


def test_a_newcomer_can_look_around_on_practice_machines_or_bring_a_set_up(page: Page, tmp_path: Path) -> None:
    with serving(tmp_path / "one") as address:
        carried = page.request.get(f"{address}/api/setup/file").body()
    with serving(tmp_path / "two", furnished=False) as address:
        visit(page, address)
        page.get_by_label("A probe beside the tip").select_option("touch")
        page.get_by_label("What you call it").fill("Avocet")
        page.get_by_label("To the right of the tip").fill("far")
        page.get_by_role("button", name="Put it on the bench").click()
        expect(page.get_by_text("Type the distance in mm")).to_be_visible()
        page.get_by_label("Bring one from elsewhere").set_input_files(
            {"name": "setup.json", "mimeType": "application/json", "buffer": carried}
        )
        expect(page.get_by_role("button", name="Bittern")).to_be_visible()
    with serving(tmp_path / "three", furnished=False) as address:
        visit(page, address)
        page.get_by_role("button", name="Try it on practice machines first").click()
        expect(page.get_by_role("button", name="Heron practice")).to_be_visible()
