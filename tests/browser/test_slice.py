"""The demo's machines by keyboard and by mouse, from the bench to a signed record."""

import re

from playwright.sync_api import Page, expect

from tests.browser.answering import answer_until, counted

from .conftest import at_station, keeping, press, start_run, visit


def test_heron_by_keyboard_alone(desk_page: Page) -> None:
    page = desk_page
    # The bench: reach the machine, the initials and the start with Tab and Enter only.
    for _ in range(40):
        page.keyboard.press("Tab")
        if page.evaluate(
            "document.activeElement.matches('button') && /Heron/.test(document.activeElement.textContent)"
        ):
            break
    page.keyboard.press("Enter")
    for _ in range(40):
        page.keyboard.press("Tab")
        if page.evaluate("document.activeElement.labels?.[0]?.textContent") == "Your initials":
            break
    page.keyboard.type("mk")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Tip clean")).to_be_visible()

    press(page, "Enter")
    expect(page.get_by_role("heading", name="Plate clean")).to_be_visible()
    expect(page.get_by_role("button", name="skip it")).to_be_enabled()  # the answer before is kept
    press(page, "s")
    expect(page.get_by_text("skipped")).to_be_visible()
    for k in range(4):
        expect(page.get_by_role("region").get_by_text(f"{2 + k} of 6", exact=True)).to_be_visible()
        press(page, "Enter")
    expect(page.get_by_role("heading", name="Checks are through")).to_be_visible()
    press(page, "Enter")

    # Tram: which way, then counts typed by hand, then the practice plate for the rest.
    expect(page.get_by_role("heading", name="Which way does this knob work")).to_be_visible()
    press(page, "1")
    expect(page.get_by_role("heading", name="Turn until it drags")).to_be_visible()
    page.keyboard.type("12")
    page.keyboard.press("ArrowLeft")
    expect(page.get_by_test_id("count")).to_contain_text("12")
    expect(page.get_by_role("button", name="counter-clockwise")).to_be_visible()
    page.keyboard.press("v")
    expect(page.get_by_role("button", name="clockwise", exact=True)).to_be_visible()
    page.keyboard.press("v")
    page.keyboard.press("Backspace")  # takes back the sense, not the typed count
    expect(page.get_by_role("heading", name="Which way does this knob work")).to_be_visible()
    answer_until(page, "The plate is parallel")
    press(page, "Enter")

    expect(page.get_by_role("heading", name="Measure a grid")).to_be_visible()
    page.keyboard.press("]")
    expect(page.get_by_role("heading", name="Lift, then come down to")).to_be_visible()
    press(page, "1")
    expect(page.get_by_role("list", name="Moves so far")).to_contain_text("free")
    page.keyboard.press("Backspace")
    answer_until(page, r"Bring it|right as stored")
    press(page, "Enter")
    expect(page.get_by_role("heading", name="Send the lines")).to_be_visible()
    value = page.locator("pre").inner_text().split(" Z")[1].split()[0]
    page.keyboard.type(value)
    press(page, "Enter")
    page.get_by_role("heading", name=re.compile(r"mm$")).wait_for()
    press(page, "Enter")

    expect(page.get_by_role("heading", name="Print the proof")).to_be_visible()
    # Nobody has measured the feed here, and nobody can now.
    page.get_by_role("button", name="it cannot be measured now").focus()
    with keeping(page):
        page.keyboard.press("Enter")
    press(page, "Enter")
    for zone in ("front left", "front right", "centre", "rear left", "rear right"):
        expect(page.get_by_text(f"Proof 1 · {zone}")).to_be_visible()
        press(page, "3")
    expect(page.get_by_role("heading", name="All zones judged")).to_be_visible()
    expect(page.get_by_text(re.compile(r"Bring the nozzle 0\.\d\d mm closer"))).to_be_visible()
    press(page, "Enter")
    expect(page.get_by_role("heading", name="Print each zone at three heights")).to_be_visible()

    page.keyboard.press("]")
    expect(page.get_by_text("Z offset readback")).to_be_visible()
    press(page, "Enter")
    expect(page.get_by_role("alert")).to_contain_text("not read back")
    page.keyboard.press("[")
    page.get_by_role("heading", name="Print each zone at three heights").wait_for()
    page.keyboard.press("[")
    value = page.locator("pre").inner_text().split(" Z")[1].split()[0]
    page.get_by_label("Reported").fill(value)
    press(page, "Enter")
    page.get_by_role("heading", name=re.compile(r"mm$")).wait_for()
    page.keyboard.press("]")
    page.get_by_role("heading", name="Print each zone at three heights").wait_for()
    press(page, "Enter")
    for zone in ("front left", "front right", "centre", "rear left", "rear right"):
        for height in ("closer", "as it runs", "further"):
            expect(page.get_by_text(f"Proof 2 · {zone}, {height}")).to_be_visible()
            press(page, "4")
    expect(page.get_by_role("heading", name=re.compile("All zones judged|Every zone is sound"))).to_be_visible()
    page.keyboard.press("]")
    page.get_by_role("heading", name="What was found").wait_for()
    press(page, "Enter")
    expect(page.get_by_role("heading", name="Signed off")).to_be_visible()


def test_kestrel_by_mouse(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Kestrel")
    page.get_by_role("button", name="Checked").click()
    page.get_by_role("button", name="At temperature now").click()
    expect(page.get_by_text("bed 57°")).to_be_visible()
    page.get_by_role("link", name="Tram").click()
    page.get_by_role("button", name=re.compile("^tighter")).click()
    page.get_by_role("button", name="4", exact=True).click()
    page.get_by_role("button", name="one mark more").click()
    page.get_by_role("button", name="flip", exact=True).click()
    expect(page.get_by_test_id("count")).to_contain_text("5")
    page.get_by_role("button", name=re.compile("^Keep")).click()
    counted(page).wait_for()
    turned = page.get_by_role("button", name="Turned, go on")
    if turned.is_visible():
        turned.click()
    expect(page.get_by_text("stop 2")).to_be_visible()

    page.get_by_role("link", name="Mesh").click()
    page.get_by_role("radio", name=re.compile("^3 × 3")).check()
    page.get_by_role("button", name="Measure point by point").click()
    page.get_by_label("Height, plate high positive").fill("0.04")
    page.get_by_role("button", name=re.compile("Keep, next point")).click()
    expect(page.get_by_text(re.compile("^1 read"))).to_be_visible()
    for _ in range(8):
        with keeping(page):
            page.get_by_role("button", name=re.compile("read for me")).click()
    page.get_by_role("button", name=re.compile("^Keep this mesh")).click()
    expect(page.get_by_role("list", name="What the machine has of it")).to_be_visible()
    page.get_by_role("button", name="I sent it").click()
    expect(page.get_by_text("sent; not read back")).to_be_visible()
    page.get_by_role("button", name="I switched it on").click()
    expect(page.get_by_text("switched on")).to_be_visible()

    page.get_by_role("link", name="First layer").click()
    page.get_by_label("What is printed").select_option("9")
    expect(page.get_by_text("9 patches")).to_be_visible()
    with page.expect_download() as download:
        page.get_by_role("link", name="Download the program").click()
    text = download.value.path().read_text()
    assert re.fullmatch(r"proof-kestrel-9-zones-[0-9a-f]{6}\.gcode", download.value.suggested_filename)
    assert "CHART_USE S1" in text
    page.get_by_role("button", name=re.compile("It is printed")).click()
    page.get_by_role("button", name=re.compile("sound fused")).click()
    expect(page.get_by_text("2 of 9")).to_be_visible()


def test_wren_has_three_screws_and_is_done_soon(desk_page: Page) -> None:
    start_run(desk_page, "Wren")
    desk_page.keyboard.press("]")
    at_station(desk_page, "tram")
    answer_until(desk_page, "The plate is parallel", 18)
    expect(desk_page.get_by_text("Passes of a twist")).to_have_count(0)


def test_bittern_has_no_knobs_and_writes_its_line_into_the_start_code(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Bittern")
    page.keyboard.press("]")
    expect(page.get_by_role("heading", name="Level the beam first.")).to_be_visible()
    answer_until(page, "This machine has no knobs")
    expect(page.get_by_role("button", name=re.compile("flip"))).to_have_count(0)
    page.get_by_role("link", name="Z offset").click()
    at_station(page, "offset")
    answer_until(page, r"Bring it|right as stored", 30)
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Write this line into the job's start code")).to_be_visible()
    press(page, "Enter")
    expect(page.get_by_text("in the start code").first).to_be_visible()


def test_bad_numbers_are_refused_beside_their_fields(desk_page: Page) -> None:
    page = desk_page
    page.get_by_role("button", name="Heron").click()
    page.get_by_label("Your initials").fill("")
    page.get_by_role("button", name="Start a new run").click()
    expect(page.get_by_role("alert")).to_contain_text("Give your initials")
    run = start_run(page, "Heron")
    page.get_by_label("Bed").fill("999")
    expect(page.get_by_role("alert")).to_contain_text("0 to 150")
    visit(page, f"{run}/offset")
    page.get_by_label("Or a number of your own").fill("closer")
    expect(page.get_by_role("alert")).to_contain_text("Give a number")
    page.get_by_label("Or a number of your own").fill("1.37")
    expect(page.get_by_text("0.03 mm closer than now")).to_be_visible()


def test_a_dangerous_number_asks_and_is_set_only_when_sure(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/offset")
    answer_until(page, r"Bring it|right as stored", 30)
    press(page, "Enter")
    page.get_by_role("heading", name="Send the lines").wait_for()
    value = page.locator("pre").inner_text().split(" Z")[1].split()[0]
    page.get_by_label("Reported").fill("-" + value)
    press(page, "Enter")
    expect(page.get_by_role("alert")).to_contain_text("not stored as meant")
    expect(page.get_by_label("Reported")).to_have_value("-" + value)
    page.get_by_label("Reported").fill(value)
    press(page, "Enter")
    page.get_by_label("Or a number of your own").fill("2")
    page.get_by_role("button", name="Set", exact=True).click()
    expect(page.get_by_role("alert")).to_contain_text("into the plate")
    expect(page.get_by_role("alert")).to_be_in_viewport()
    page.get_by_role("button", name="I am sure").click()
    expect(page.get_by_text("+2.000").locator("visible=true").first).to_be_visible()


def test_zones_are_reached_by_arrows_and_a_caliper_is_kept_with_the_grade(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/first_layer")
    # Nothing is known of the height yet, and patches are wanted all the same.
    page.get_by_label("What is printed").select_option("5")
    expect(page.get_by_role("heading", name="Print the proof.")).to_be_visible()
    page.get_by_role("button", name=re.compile("It is printed")).click()
    page.get_by_text("Proof 1 · front left").wait_for()
    page.keyboard.press("ArrowRight")
    expect(page.get_by_text("Proof 1 · front right")).to_be_visible()
    page.keyboard.press("ArrowUp")
    expect(page.get_by_text(re.compile("Proof 1 · (rear right|centre)"))).to_be_visible()
    page.get_by_label("Caliper").fill("fat")
    expect(page.get_by_role("alert")).to_contain_text("such as 0.21")
    page.get_by_label("Caliper").fill("0.20")
    page.get_by_role("button", name=re.compile("sound fused")).click()
    expect(page.get_by_text("Proof 1 · front left")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_contain_text("sound, 0.2 mm")
