"""Set-up, prepare and what lies beside the tram, in a real browser: mouse, keyboard, a phone, bad input, two tabs."""

import re
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from .answering import answer_until
from .conftest import press, serious, start_run, visit


def screw(page: Page, name: str):
    return page.get_by_test_id("placing").get_by_role("button", name=re.compile(f"^{name}, x"))


def test_a_machine_is_made_with_its_screws_placed_by_hand(desk_page: Page) -> None:
    page = desk_page
    page.get_by_role("link", name="Set-up").click()
    page.get_by_role("button", name="Make a new one").click()
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_text("Give a short text of ordinary letters here.").first).to_be_visible()
    page.get_by_label("Name", exact=True).fill("Egret")
    page.get_by_role("button", name="Put them").click()
    expect(screw(page, "rear right")).to_be_visible()

    # Dragged with the mouse, then moved with the arrow keys.
    box = screw(page, "rear right").locator("circle").bounding_box()
    x, y = box["x"] + box["width"] / 2, box["y"] + box["height"] / 2
    page.mouse.move(x, y)
    page.mouse.down()
    page.mouse.move(x - 30, y + 20, steps=4)
    page.mouse.up()
    expect(screw(page, "rear right")).not_to_have_attribute("aria-label", "rear right, x 190, y 190")
    page.get_by_label("x", exact=True).fill("190")
    expect(screw(page, "rear right")).to_have_attribute("aria-label", re.compile("x 190"))
    screw(page, "rear right").focus()
    page.keyboard.press("Shift+ArrowLeft")
    page.keyboard.press("ArrowRight")
    expect(page.get_by_label("x", exact=True)).to_have_value("181")

    # What is wrong is said beside its field, and nothing typed is lost.
    page.get_by_label("mm per turn", exact=True).fill("0")
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_text("This number is too small: 0.1 is the least").first).to_be_visible()
    expect(page.get_by_label("Name", exact=True).first).to_have_value("Egret")
    page.get_by_label("mm per turn", exact=True).fill("0.7")
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_role("status")).to_have_text("Kept.")
    assert serious(page) == []

    # Its plate is on springs: how far one weight sinks it is kept, and what no spring does is refused.
    page.get_by_label("Its plate is on springs").check()
    page.get_by_label("A weight of").fill("500")
    page.get_by_label("sinks it by").fill("9")
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_text("This number is too large: 3.0 is the most").first).to_be_visible()
    page.get_by_label("sinks it by").fill("0.4")
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_role("status")).to_have_text("Kept.")

    # What its plate's face is made of is chosen, and is there again after a reload.
    expect(page.get_by_text("Its face says how it is cleaned")).to_be_visible()
    page.get_by_label("Its face").select_option(label="bare glass")
    page.get_by_label("What lies on it").select_option(label="washable glue")
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_role("status")).to_have_text("Kept.")
    page.reload()
    expect(page.get_by_label("Its face")).to_have_value("glass")
    expect(page.get_by_label("What lies on it")).to_have_value("glue")

    # It is on the bench, and a run of it begins with the rough start.
    visit(page, page.url.split("/setup")[0])
    page.get_by_role("button", name="Egret").click()
    page.get_by_label("Your initials").fill("mk")
    page.get_by_role("button", name="Start a new run").click()
    expect(page.get_by_role("heading", name="Rough start: turn every knob")).to_be_visible()
    expect(page.get_by_text("On this list because of a new or rebuilt machine.")).to_be_visible()
    expect(page.get_by_text("No knob turns further by hand")).to_be_visible()
    page.keyboard.press("Enter")
    page.get_by_label("Turns backed off, each knob").fill("99")
    page.get_by_role("button", name="Checked").click()
    expect(page.get_by_text("Give 0.5 to 12 turns.")).to_be_visible()


def test_two_tabs_do_not_overwrite_each_other(desk_page: Page, address: str) -> None:
    page = desk_page
    other = page.context.new_page()
    for tab in (page, other):
        visit(tab, f"{address}/setup?shelf=machines&id=wren")
        expect(tab.get_by_label("Name", exact=True)).to_have_value("Wren")
    other.get_by_label("Z step").fill("0.005")
    other.get_by_role("button", name="Keep this machine").click()
    expect(other.get_by_role("status")).to_have_text("Kept.")
    page.get_by_label("Z step").fill("0.02")
    page.get_by_role("button", name="Keep this machine").click()
    expect(page.get_by_text("This machine was changed meanwhile")).to_be_visible()
    expect(page.get_by_label("Z step")).to_have_value("0.02")
    page.get_by_role("button", name="Show that, and drop what is typed here").click()
    expect(page.get_by_label("Z step")).to_have_value("0.005")


def test_gauges_and_people_are_kept_and_refused(desk_page: Page, address: str) -> None:
    page = desk_page
    visit(page, f"{address}/setup?shelf=gauges&id=new")
    page.get_by_label("Name").fill("thin paper")
    page.get_by_label("Height of the stack").fill("1,28")
    page.get_by_label("Sheets in it").fill("16")
    expect(page.get_by_text("One sheet is 0.080 mm.")).to_be_visible()
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_role("navigation", name="Kept gauges").get_by_text("thin paper")).to_be_visible()
    page.get_by_role("button", name="people").click()
    page.get_by_role("button", name="Make a new one").click()
    expect(page.get_by_label("Name")).to_have_value("")
    page.get_by_label("Name").fill("Maro")
    page.get_by_label("Initials").fill("jo")
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_text("Jo signs with jo already. Choose others.").first).to_be_visible()
    assert serious(page) == []


def test_a_file_that_is_no_set_up_gets_a_sentence(desk_page: Page, address: str) -> None:
    page = desk_page
    visit(page, f"{address}/setup")
    page.get_by_label("Bring one from elsewhere").set_input_files(
        files=[{"name": "x.json", "mimeType": "application/json", "buffer": b"not json"}]
    )
    expect(page.get_by_text("This is not readable JSON.")).to_be_visible()


def test_prepare_takes_a_line_a_change_and_a_thermal_study(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Heron")
    page.get_by_role("button", name="note where to find it").click()
    page.get_by_label("Where to find it on this machine").fill("brush in the left drawer")
    page.get_by_role("button", name="Note it").first.click()
    expect(page.get_by_text("On this machine: brush in the left drawer")).to_be_visible()
    page.get_by_label("Something else was changed").select_option("springs")
    page.get_by_role("button", name="Note it").click()
    expect(page.get_by_role("heading", name="Rough start")).to_be_visible()
    page.get_by_label("Tram the plate").select_option("cold")
    expect(page.get_by_text("No thermal study of this plate is on record")).to_be_visible()
    for c, mm in (("22", "0"), ("60", "0,08")):
        page.get_by_label("Plate", exact=True).fill(c)
        page.get_by_label("Dial, high is positive").fill(mm)
        page.get_by_role("button", name="Keep reading").click()
        expect(page.get_by_label("Dial, high is positive")).to_have_value("")
    expect(page.get_by_role("img", name="Height by temperature")).to_be_visible()
    page.get_by_label("Dial, high is positive").fill("nan")
    page.get_by_role("button", name="Keep reading").click()
    expect(page.get_by_text("Type the reading in mm")).to_be_visible()
    assert serious(page) == []


def test_bittern_levels_its_beam_first(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Bittern")
    visit(page, f"{run}/tram")
    expect(page.get_by_role("heading", name="Level the beam first.")).to_be_visible()
    page.get_by_label("Left").fill("0.30")
    page.get_by_role("button", name="Keep both").click()
    expect(page.get_by_role("alert").first).to_be_visible()
    page.get_by_label("Right").fill("0.45")
    page.get_by_role("button", name="Keep both").click()
    expect(page.get_by_role("heading", name="Lower the right drive.")).to_be_visible()
    page.get_by_role("button", name="Turned, read again").click()
    expect(page.get_by_role("heading", name="Level the beam first.")).to_be_visible()


def test_tram_offers_a_shim_plan_and_a_walk_and_keeps_another_turn(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/tram")
    page.get_by_role("button", name=re.compile("^tighter")).click()
    expect(page.get_by_role("heading", name="Turn until it drags")).to_be_visible()
    press(page, "4")
    press(page, "Enter")
    page.get_by_role("button", name="I turned it otherwise").click()
    page.get_by_label("Marks turned").fill("1.3")
    page.get_by_role("button", name="Keep what I turned").click()
    expect(page.get_by_text("in whole or half marks")).to_be_visible()
    page.get_by_label("Marks turned").fill("1.5")
    page.get_by_role("button", name="Keep what I turned").click()
    expect(page.get_by_text("3/32 cw more")).to_be_visible()
    page.get_by_role("button", name="Take back front left").click()

    page.get_by_role("button", name="shim plan").click()
    page.get_by_label("One sheet is").fill("9")
    expect(page.get_by_text("between 0.01 and 1 mm")).to_be_visible()
    page.get_by_label("One sheet is").fill("0.05")
    expect(page.get_by_role("link", name="1:1 as PDF")).to_be_visible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="1:1 as SVG").click()
    assert saved.value.suggested_filename == "shim-heron-heron-steel.svg"
    page.get_by_role("button", name="Close").click()
    page.get_by_role("button", name="walk file").click()
    expect(page.get_by_text("it calls by message, tone, pause")).to_be_visible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save the file").click()
    assert saved.value.suggested_filename == "walk-heron.gcode"


def test_what_was_noted_on_a_walk_is_typed_in_at_once(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/tram")
    page.get_by_role("button", name=re.compile("^tighter")).click()
    page.get_by_role("button", name="walk file").click()
    noted = page.get_by_role("region", name="What you noted")
    keep = noted.get_by_role("button", name="Keep what was noted")
    keep.click()
    expect(noted.get_by_text("Type at least one count")).to_be_visible()
    noted.get_by_label("Every knob was first turned down by").fill("-1")
    noted.get_by_label("front left, round 1").fill("3,25")
    keep.click()
    expect(noted.get_by_text("Type the marks, such as 3 or −2.")).to_be_visible()
    expect(noted.get_by_text("Type the turns, 0 where none were made.")).to_be_visible()
    noted.get_by_label("Every knob was first turned down by").fill("0")
    for name, marks in (("front left", "3"), ("front right", "−2"), ("rear right", "1"), ("rear left", "4")):
        noted.get_by_label(f"{name}, round 1").fill(marks)
    noted.get_by_label("front left, round 2").fill("90")
    keep.click()
    expect(noted.get_by_text("90 marks clockwise is far from the")).to_be_visible()
    expect(noted.get_by_label("front left, round 1")).to_have_value("3")
    noted.get_by_label("front left, round 2").fill("0")
    noted.get_by_label("Centre, felt at").select_option("drag")
    keep.click()
    # Kept as one row: the dialog is gone, the story has all five, and one taking back takes them all.
    expect(noted).to_be_hidden()
    expect(page.get_by_text("5", exact=True).first).to_be_visible()
    expect(page.get_by_role("heading", name="Turn until it drags")).to_be_visible()
    page.get_by_role("button", name="Take back front left").first.click()
    expect(page.get_by_text("Round 1")).to_be_hidden()


def test_a_walk_goes_on_into_the_first_proof(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/tram")
    page.get_by_role("button", name="walk file").click()
    page.get_by_label("After the last visit").select_option(label="it goes on and prints patches in five zones")
    expect(page.get_by_text("closer: by the gauge that the screws were brought to")).to_be_visible()
    with page.expect_download() as saved:
        page.get_by_role("link", name="Save the file").click()
    assert saved.value.suggested_filename == "walk-and-print-heron.gcode"
    noted = page.get_by_role("region", name="What you noted")
    for name in ("front left", "front right", "rear right", "rear left"):
        noted.get_by_label(f"{name}, round 1").fill("2")
    noted.get_by_role("button", name="Keep what was noted, and that it was printed").click()
    expect(page.get_by_role("dialog")).to_be_hidden()
    visit(page, f"{run}/first_layer")
    expect(page.get_by_text("Proof 1 · front left")).to_be_visible()


def test_sound_is_off_until_asked_for(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Heron")
    expect(page.get_by_role("button", name="sound off")).to_be_visible()
    page.keyboard.press("a")
    expect(page.get_by_role("button", name="sound tones")).to_be_visible()
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Plate clean")).to_be_visible()


def test_the_feel_check_by_keys(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Wren")
    visit(page, f"{run}/offset")
    page.get_by_role("heading", name="Lift, then come down to").wait_for()
    answer_until(page, r"Bring it|right as stored", 30)
    page.get_by_role("button", name="feel check").click()
    expect(page.get_by_text("0 of 27")).to_be_visible()
    for k in range(10):
        page.keyboard.press(str(k % 4 + 1))
        expect(page.get_by_text(f"{k + 1} of 27")).to_be_visible()
    expect(page.get_by_text("mm apart 9 times in 10")).to_be_visible()
    page.get_by_role("button", name="Use this as my feel on this gauge").click()


@pytest.mark.parametrize("where", ["/setup?shelf=machines&id=heron", "/setup?shelf=gauges", "/setup?shelf=people"])
def test_set_up_on_a_phone(browser: Browser, address: str, where: str) -> None:
    context = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True)
    page = context.new_page()
    visit(page, address + where)
    page.get_by_role("navigation", name="Shelves").wait_for()
    page.wait_for_timeout(300)
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    context.close()


def test_everything_is_carried_away_and_brought_in_once(desk_page: Page, tmp_path: Path) -> None:
    page = desk_page
    start_run(page, "Heron")
    visit(page, page.url.split("/runs/")[0] + "/setup")
    with page.expect_download() as download:
        page.get_by_role("link", name="carry everything away (JSON)").click()
    kept = tmp_path / "workshop.zip"
    download.value.save_as(kept)
    bring = page.get_by_label("Bring another workshop in")
    other = tmp_path / "other.zip"
    other.write_bytes(b"no workshop at all")
    bring.set_input_files(other)
    expect(page.get_by_role("alert")).to_contain_text(re.compile("[a-z]{3}.*\\."))
    bring.set_input_files(kept)
    expect(page.get_by_text("0 new runs, 1 here already")).to_be_visible()
    assert serious(page) == []
    page.set_viewport_size({"width": 390, "height": 844})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
