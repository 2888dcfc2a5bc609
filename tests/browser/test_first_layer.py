"""First layer by mouse and by keyboard: what is printed, what is told of it, what is behind it."""

import re

import httpx
import pytest
from playwright.sync_api import Page, expect

from tests.browser.conftest import at_station, keeping, press, ready, serious, start_run, visit


@pytest.fixture
def trammed(desk_page: Page, address: str) -> tuple[Page, str]:
    """A run of Heron with every screw counted and the centre felt: the height is known to some hundredths."""
    run = start_run(desk_page, "Heron")
    run_id = run.rsplit("/", 1)[1]
    with httpx.Client(base_url=address, timeout=60) as api:
        screws = [s["name"] for s in api.get(f"/api/runs/{run_id}/head").json()["machine"]["screws"]]
        rows = [{"kind": "counted", "screw": name, "marks": 0, "sure": True} for name in screws * 2]
        for row in [*rows, {"kind": "centre_felt", "z_mm": 0.0, "feel": "drag"}]:
            seq = api.get(f"/api/runs/{run_id}/head").json()["seq"]
            body = {"id": f"row-{seq}", "seen_seq": seq, "what": row}
            assert api.post(f"/api/runs/{run_id}/tram", json=body).status_code == 200
    visit(desk_page, f"{run}/first_layer")
    at_station(desk_page, "first_layer")
    return desk_page, run


def judge(page: Page, *keys: str) -> None:
    for key in keys:
        with keeping(page):
            press(page, key)


def test_an_unknown_height_begins_with_a_ladder(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/first_layer")
    at_station(page, "first_layer")
    expect(page.get_by_role("heading", name="Print a ladder first.")).to_be_visible()
    expect(page.get_by_text("a hand at the stop")).to_be_visible()
    with keeping(page):
        press(page, "Enter")
    expect(page.get_by_role("heading", name="Which step is the first that holds")).to_be_visible()
    page.get_by_role("button", name="judge each step by itself").click()
    judge(page, "1", "1", "1")
    page.get_by_role("button", name="it was stopped before the end").click()
    page.get_by_label("The last one that was laid whole").select_option("4")
    with keeping(page):
        page.get_by_role("button", name="Keep", exact=True).click()
    judge(page, "4")
    expect(page.get_by_text("Best next step")).to_be_visible()
    assert serious(page) == []


def test_a_ladder_is_read_from_the_step_that_holds_back(desk_page: Page) -> None:
    page = desk_page
    visit(page, f"{start_run(page, 'Heron')}/first_layer")
    at_station(page, "first_layer")
    with keeping(page):
        press(page, "Enter")
    # No look is taken before a step was chosen.
    expect(page.get_by_role("button", name=re.compile("^4 sound"))).to_be_disabled()
    press(page, "4")
    press(page, "ArrowRight")
    slider = page.get_by_role("slider", name="the first step that holds")
    here = int(slider.get_attribute("aria-valuenow") or 0)
    page.get_by_role("button", name="one step on").click()
    slider.press("ArrowRight")
    expect(page.locator("[aria-live=polite]", has_text=f"step {here + 3},")).to_be_visible()
    assert serious(page) == []
    judge(page, "4")
    expect(page.get_by_text(f"Proof 1 · step {here + 2},")).to_be_visible()
    judge(page, "3", "1")
    expect(page.get_by_role("heading", name="The ladder is read.")).to_be_visible()
    expect(page.get_by_text("Best next step")).to_be_visible()


def test_the_program_of_the_next_print_is_beside_the_step(trammed: tuple[Page, str], address: str) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    judge(page, *"44444")
    expect(page.get_by_text("Print each zone at three heights")).to_be_visible()
    expect(page.get_by_text("the left one 0.038 mm closer")).to_be_visible()
    link = page.get_by_role("link", name="Download the program").get_attribute("href")
    assert page.request.get(f"{address}{link}").text().count("; patch ") == 15
    # Another step may be chosen, by its key or its line, and the best one again.
    press(page, "o")
    expect(page.get_by_text("Chosen instead of the best step")).to_be_visible()
    expect(page.get_by_text("Print each zone at three heights")).to_have_count(1)
    page.get_by_role("button", name=re.compile("Print each zone at three heights")).click()
    expect(page.get_by_text("Best next step")).to_be_visible()
    page.get_by_role("button", name=re.compile("Print the parts with a first layer of")).click()
    expect(page.get_by_role("button", name=re.compile("It is set so"))).to_be_visible()
    with keeping(page):
        press(page, "Enter")
    page.get_by_role("button", name="keys and kept rows").click()
    expect(page.get_by_text(re.compile("first layer of 0.28 mm"))).not_to_have_count(0)


def test_signs_are_told_by_letters_and_a_zone_can_be_left_out(trammed: tuple[Page, str]) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    page.keyboard.press("r")
    page.keyboard.press("k")
    expect(page.get_by_text("rubs off, the drive clicks")).to_be_visible()
    page.keyboard.press("k")
    expect(page.get_by_text("rubs off, the drive clicks")).to_have_count(0)
    with keeping(page):
        page.keyboard.press("3")
    judge(page, "x", "4", "4", "4")
    expect(page.get_by_role("row", name=re.compile("not judged"))).to_be_visible()
    page.get_by_role("button", name="keys and kept rows").click()
    expect(page.get_by_text("zone 1: parted, rubs off")).to_be_visible()


def test_a_mistyped_part_is_said_beside_its_field_and_a_good_one_is_kept(trammed: tuple[Page, str]) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    page.get_by_text("measured on a real part").click()
    page.get_by_label("Lower than drawn by").fill("5")
    expect(page.get_by_text("Give up to 0.5 mm")).to_be_visible()
    page.get_by_label("Lower than drawn by").fill("0.05")
    with keeping(page):
        page.get_by_role("button", name=re.compile("Keep this without a grade")).click()
    expect(page.get_by_text("2 of 5")).to_be_visible()


def test_what_is_behind_it_is_shown_mended_and_printed_again(trammed: tuple[Page, str]) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    judge(page, "4", "4", "4", "4", "1")
    expect(page.get_by_text("Clean rear right, do not change the height.")).to_be_visible()
    with keeping(page):
        press(page, "Enter")
    expect(page.get_by_text("Print rear right again, alone.")).to_be_visible()
    with keeping(page):
        press(page, "Enter")
    expect(page.get_by_text("1 of 1")).to_be_visible()
    judge(page, "4")
    expect(page.get_by_text("Best next step")).to_be_visible()


def test_what_a_print_cannot_tell_is_looked_for_first(trammed: tuple[Page, str], address: str) -> None:
    page, run = trammed
    at = f"{address}/api/runs/{run.rsplit('/', 1)[1]}/offset"
    offset = page.request.get(at).json()
    stored = {"kind": "offset_set", "stored_mm": offset["wanted"]["new_mm"], "sure": True}
    assert page.request.post(at, data={"id": "stored", "seen_seq": offset["seq"], "what": stored}).ok
    page.reload()
    at_station(page, "first_layer")
    with keeping(page):
        press(page, "Enter")
    judge(page, "1", "2", "1", "1", "1")
    expect(page.get_by_text("Look first, about 2 min")).to_be_visible()
    expect(page.get_by_role("button", name="It is too cold")).to_be_visible()
    assert serious(page) == []
    with keeping(page):
        press(page, "y")
    expect(page.get_by_text("Look first")).to_have_count(0)
    expect(
        page.get_by_text("Let the plate warm through, and make it 5 °C warmer. Do not change the height.")
    ).to_be_visible()
    page.get_by_role("button", name="keys and kept rows").click()
    expect(page.get_by_text("looked whether the plate is too cold: yes")).to_be_visible()


def test_a_feed_that_cannot_be_measured_now_is_left(trammed: tuple[Page, str]) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    judge(page, "3", "3", "3", "3", "3")
    expect(page.get_by_text("Measure how much filament is fed.")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="it cannot be measured now").click()
    expect(page.get_by_text(re.compile("^Bring the nozzle"))).to_be_visible()


def test_an_unknown_feed_is_measured_before_anything_is_printed(trammed: tuple[Page, str]) -> None:
    page, run = trammed
    expect(page.get_by_text("Nobody has measured the feed here")).to_be_visible()
    page.get_by_role("button", name="measure it first").click()
    page.get_by_label("So much went in").fill("96 96")
    with keeping(page):
        page.get_by_role("button", name="Keep it", exact=True).click()
    expect(page.get_by_text(re.compile("4.0 % less goes in"))).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="It is set and read back").click()
    expect(page.get_by_role("heading", name="Print the proof.")).to_be_visible()
    expect(page.get_by_text("Nobody has measured the feed here")).to_have_count(0)
    # The next run on this machine knows it.
    visit(page, run.split("/runs/")[0])
    again = start_run(page, "Heron")
    visit(page, f"{again}/first_layer")
    at_station(page, "first_layer")
    expect(page.get_by_text(re.compile("Feed measured"))).to_be_visible()
    assert serious(page) == []


def test_the_feed_is_measured_asked_about_and_put_right(trammed: tuple[Page, str]) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    judge(page, "3", "3", "3", "3", "3")
    open_it = page.get_by_role("button", name="measure how much is fed")
    if open_it.count():
        open_it.click()
    field = page.get_by_label("So much went in")
    field.fill("9.4")
    page.get_by_role("button", name="Keep it", exact=True).click()
    expect(page.get_by_text("Did you mean 94 mm?")).to_be_visible()
    expect(field).to_have_value("9.4")
    field.fill("94 94.5")
    with keeping(page):
        page.get_by_role("button", name="Keep it", exact=True).click()
    expect(page.get_by_text(re.compile("5.8 % less goes in"))).to_be_visible()
    page.get_by_label("Steps per mm now").fill("400")
    expect(page.get_by_text("→ 424.40")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="It is set and read back").click()
    expect(page.get_by_role("heading", name="Print each zone at three heights.")).to_be_visible()


def test_some_zones_alone_settings_and_places(trammed: tuple[Page, str]) -> None:
    page, run = trammed
    page.get_by_text("some zones alone").click()
    page.get_by_label("centre", exact=True).uncheck()
    expect(page.get_by_text("some zones alone: 4 of 5")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="3MF").click()
    assert re.fullmatch(r"proof-heron-4-zones-[0-9a-f]{6}\.3mf", download.value.suggested_filename)
    page.get_by_role("link", name="settings that forgive more").click()
    expect(page.get_by_role("heading", name="First-layer settings")).to_be_visible()
    expect(page.get_by_role("region", name="a thicker first layer")).to_contain_text("±0.052 mm")
    assert serious(page) == []
    # A layer can be printed from here on, and goes back to the usual one the same way; heat is no layer.
    expect(page.get_by_role("button", name="Print so from here on")).to_have_count(2)
    for chosen, layer in (("a thicker first layer", "0.28 mm"), ("the usual one", "0.20 mm")):
        visit(page, f"{run}/recipe")
        so = page.get_by_role("region", name=chosen)
        so.get_by_role("button", name="Print so from here on").click()
        ready(page)
        expect(page.get_by_text("Layer", exact=True).locator("xpath=following-sibling::*[1]")).to_have_text(layer)
    visit(page, f"{run}/placing")
    expect(page.get_by_text("All of it sound with")).to_be_visible()
    page.get_by_label("How many").fill("0")
    expect(page.get_by_text("Give 1 to 36 parts.")).to_be_visible()
    page.get_by_label("How many").fill("3")
    page.get_by_role("button", name="Find the places").click()
    expect(page.get_by_text("All of them sound with")).to_be_visible()
    expect(page.get_by_role("listitem").filter(has_text="middle at x")).to_have_count(3)
    ready_again = page.get_by_role("link", name="Back to First layer")
    ready_again.click()
    ready(page)
    assert serious(page) == []


@pytest.mark.parametrize("width", [1280, 390])
def test_three_heights_by_keys_then_a_sure_move_and_nothing_more_to_print(
    trammed: tuple[Page, str], address: str, width: int
) -> None:
    page, run = trammed
    at = f"{address}/api/runs/{run.rsplit('/', 1)[1]}/first_layer"

    def keep(**what: object) -> None:
        seq = page.request.get(at).json()["seq"]
        assert page.request.post(at, data={"id": f"layer-{seq}", "seen_seq": seq, "what": what}).ok, what

    keep(kind="feed_measured", measured_mm=[100, 100], sure=True)
    keep(kind="tool_told", tool="caliper", here=True)
    page.set_viewport_size({"width": width, "height": 844})
    visit(page, f"{run}/first_layer")
    expect(page.get_by_role("heading", name="Print each zone at three heights.")).to_be_visible()
    expect(page.get_by_text("the left one 0.038 mm closer")).to_be_visible()
    assert serious(page) == []
    with keeping(page):
        press(page, "Enter")
    expect(page.get_by_text("Proof 1 · front left, closer")).to_be_visible()
    judge(page, *"443" * 5)
    # The closer ones are measured: 0.18, so that the zones lie at 0.218.
    for zone in range(0, 15, 3):
        keep(kind="judged", zone=zone, grade="sound", caliper_mm=0.18, sure=True)
    page.reload()
    expect(page.get_by_text(re.compile(r"Bring the nozzle 0\.\d+ mm closer"))).to_be_visible()
    with keeping(page):
        press(page, "Enter")
    expect(page.get_by_role("heading", name="Enough is known.")).to_be_visible()
    expect(page.get_by_text("Nothing more to print")).to_be_visible()
    # The value that was just set is read back first.
    press(page, "Enter")
    expect(page).to_have_url(re.compile("/offset$"))
    # It is seen all the same by whoever wants to, and is judged then as ever.
    page.go_back()
    page.get_by_text("print once more, to see it").click()
    expect(page.get_by_role("link", name="Download the program")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name=re.compile("It is printed")).click()
    expect(page.get_by_text("Proof 2 · front left")).to_be_visible()


def test_another_filament_is_laid_beside_it_when_the_roll_is_suspected(trammed: tuple[Page, str], address: str) -> None:
    page, _ = trammed
    with keeping(page):
        press(page, "Enter")
    judge(page, *"22222")
    page.set_viewport_size({"width": 390, "height": 844})
    page.get_by_text("print another proof instead").click()
    expect(page.get_by_text("10 °C hotter at the same height")).to_be_visible()
    page.get_by_text("is it the filament?").click()
    page.get_by_label("Other filament").select_option(label="PETG grey")
    with keeping(page):
        page.get_by_role("button", name="Beside it").click()
    expect(page.get_by_text("Three patches of PLA white, and beside each one of PETG grey")).to_be_visible()
    assert serious(page) == []
    link = page.get_by_role("link", name="Download the program").last.get_attribute("href")
    assert "change the filament here" in page.request.get(f"{address}{link}").text()
    with keeping(page):
        page.get_by_role("button", name="judge the two filaments").click()
    expect(page.get_by_text("Proof 2 · front, as usual")).to_be_visible()
    judge(page, *"222444")
    expect(page.get_by_text("PETG grey lies better than PLA white")).to_be_visible()
    expect(page.get_by_text("Load PLA white again")).to_be_visible()
    assert serious(page) == []
