"""How the screens look: light and dark, small and large, findings of accessibility, printed."""

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from .conftest import at_station, serious, start_run, visit


def test_pointing_at_a_place_marks_it_in_all_three_views(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/tram")
    sheet = page.get_by_test_id("sheet")
    sheet.wait_for()
    box = sheet.bounding_box()
    lines = sheet.locator("path[stroke='var(--brass)']")
    assert lines.count() == 0
    page.mouse.move(box["x"] + 0.4 * box["width"], box["y"] + 0.4 * box["height"])
    expect(lines).to_have_count(4)  # two on the plan, one in each elevation
    page.mouse.move(box["x"] + 2, box["y"] + 2)
    expect(lines).to_have_count(0)


def test_the_finder_and_the_list_of_keys(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Heron")
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("skip this check")
    expect(page.get_by_role("dialog")).to_contain_text("Nothing yet")
    page.keyboard.press("Escape")
    page.keyboard.press("Control+k")
    page.keyboard.type("first")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("first_layer"))


@pytest.mark.parametrize(
    ("machine", "scheme"), [("Heron", "light"), pytest.param("Bittern", "dark", marks=pytest.mark.slow)]
)
def test_no_screen_has_a_serious_finding(browser: Browser, address: str, scheme: str, machine: str) -> None:
    page = browser.new_context(color_scheme=scheme, viewport={"width": 1280, "height": 800}).new_page()
    visit(page, address)
    page.get_by_role("button", name=machine).wait_for()
    found = {"bench": serious(page)}
    run = start_run(page, machine)
    run_id = run.rsplit("/", 1)[1]
    for station in ("tram", "tram", "offset", "offset", "first_layer", "first_layer", "first_layer"):
        seq = page.request.get(f"{address}/api/runs/{run_id}/head").json()["seq"]
        page.request.post(
            f"{address}/api/runs/{run_id}/{station}/practice", data={"id": f"{run_id}-{seq}", "seen_seq": seq}
        )
    for station in ("prepare", "tram", "mesh", "offset", "first_layer", "sign_off", "record"):
        visit(page, f"{run}/{station}")
        page.get_by_test_id("sheet").wait_for()
        found[station] = serious(page)
    page.context.close()
    assert {k: v for k, v in found.items() if v} == {}


STATIONS = ("prepare", "tram", "mesh", "offset", "first_layer", "sign_off")


def test_a_phone_shows_the_sheet_above_and_the_slip_below(browser: Browser, address: str) -> None:
    page = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True).new_page()
    visit(page, address)
    run = start_run(page, "Heron")
    for station in STATIONS:
        visit(page, f"{run}/{station}")
        sheet, slip = page.get_by_test_id("sheet"), page.get_by_role("region", name="What to do now")
        slip.wait_for()
        assert sheet.bounding_box()["y"] < slip.bounding_box()["y"], station
        assert page.evaluate("document.documentElement.scrollWidth") <= 390, station
        small = page.evaluate(
            "[...document.querySelectorAll('button, select, input:not([type=file])')].filter(e => e.offsetParent)"
            ".filter(e => e.getBoundingClientRect().height < 43.5).map(e => e.textContent || e.id)"
        )
        assert small == [], station
    page.context.close()


def test_at_1280_by_800_the_page_does_not_scroll(desk_page: Page) -> None:
    run = start_run(desk_page, "Heron")
    for station in STATIONS:
        visit(desk_page, f"{run}/{station}")
        desk_page.get_by_test_id("sheet").wait_for()
        size = desk_page.evaluate("[document.documentElement.scrollWidth, document.documentElement.scrollHeight]")
        assert size == [1280, 800]


def test_light_and_dark_are_chosen_and_stay(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    page.get_by_role("button", name="dark", exact=True).click()
    assert page.evaluate("document.documentElement.dataset.theme") == "dark"
    visit(page, f"{run}/tram")
    expect(page.get_by_role("button", name="light", exact=True)).to_be_visible()


def test_the_record_prints_without_its_buttons(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/record")
    expect(page.get_by_role("button", name="Print this page")).to_be_visible()
    page.emulate_media(media="print")
    expect(page.get_by_role("button", name="Print this page")).to_be_hidden()
    expect(page.get_by_role("heading", name=re.compile("Heron: textured steel sheet"))).to_be_visible()


def test_on_a_phone_every_answer_is_in_reach_without_scrolling(browser: Browser, address: str) -> None:
    """The sheet is the plan alone, a tap shows the whole drawing; what answers the step stands under the thumb."""
    page = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True).new_page()
    visit(page, address)
    run = start_run(page, "Heron")
    run_id = run.rsplit("/", 1)[1]

    def practise(station: str, times: int) -> None:
        for _ in range(times):
            seq = page.request.get(f"{address}/api/runs/{run_id}/head").json()["seq"]
            body = {"id": f"{run_id}-{seq}", "seen_seq": seq}
            page.request.post(f"{address}/api/runs/{run_id}/{station}/practice", data=body)

    def in_reach(station: str, *names: str) -> None:
        visit(page, f"{run}/{station}")
        at_station(page, station)
        for name in names:
            box = page.get_by_role("button", name=re.compile(name)).first.bounding_box()
            assert box is not None, (station, name)
            assert 0 <= box["y"] <= box["y"] + box["height"] <= 844, (station, name, box)

    in_reach("prepare", "Checked")
    in_reach("tram", "^tighter", "^looser")
    practise("tram", 1)
    in_reach("tram", "^0$", "^8$", "^Keep")
    in_reach("mesh", "Measure point by point")
    in_reach("offset", "free", "stuck")
    in_reach("first_layer", "It is printed")
    practise("first_layer", 2)
    # A ladder is read by its first step that holds; the next look is of the step before it.
    in_reach("first_layer", "sound", "starved")
    practise("first_layer", 1)
    in_reach("first_layer", "loose", "starved")
    in_reach("sign_off", "Sign off")
    page.get_by_role("button", name="whole drawing").click()
    expect(page.get_by_text("seen from the front")).to_be_visible()
    page.get_by_role("button", name="plan only").click()
    expect(page.get_by_text("seen from the front")).to_have_count(0)
    page.get_by_text("6 of 6").click()
    page.get_by_role("link", name=re.compile("^. *Tram|Tram")).first.click()
    at_station(page, "tram")
    page.context.close()


def test_a_dialog_stands_over_the_answers_under_the_thumb(desk_page: Page) -> None:
    page = desk_page
    page.set_viewport_size({"width": 390, "height": 844})
    visit(page, start_run(page, "Heron") + "/tram")
    page.get_by_role("button", name=re.compile("^tighter")).click()
    page.get_by_role("button", name="walk file").click()
    expect(page.get_by_role("heading", name="A walk for nobody on the line")).to_be_visible()
    # Wherever one looks on it, nothing else lies there.
    beside = page.evaluate(
        """() => {
          const dialog = document.querySelector('[role=dialog]'), box = dialog.getBoundingClientRect();
          const at = [0.1, 0.3, 0.5, 0.7, 0.9].flatMap((u) => [0.02, 0.2, 0.4, 0.6, 0.8, 0.97].map((v) =>
            document.elementFromPoint(box.left + u * box.width, box.top + v * box.height)));
          return at.filter((e) => !dialog.contains(e)).length;
        }"""
    )
    assert beside == 0
    assert (
        page.evaluate("getComputedStyle(document.querySelector('[role=dialog] button[type=button]')).position")
        != "sticky"
    )
