"""The whole slice as a technician walks it, in a real browser against the real server."""

import re

import pytest
from playwright.sync_api import Browser, Locator, Page, Route, expect

from ivory_table.core.plate import Screw
from ivory_table.runs.entry import RunFile
from ivory_table.runs.row import Row
from ivory_table.stations.tram.entries import Counted
from ivory_table.stations.turned import Turned
from tests.conftest import entry, setup_for

from .conftest import at_station, keeping, press, serious, start_run, visit


def answer_until(page: Page, done: str, most: int = 40) -> None:
    """Press P until a heading says that this station is through. Every press waits for its row to be kept."""
    heading = page.get_by_role("heading", name=re.compile(done))
    for _ in range(most):
        if heading.count():
            return
        with keeping(page):
            page.keyboard.press("p")
    raise AssertionError(f"'{done}' did not come after {most} answers")


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
    expect(page.get_by_role("heading", name="Print each zone at two heights")).to_be_visible()

    page.keyboard.press("]")
    expect(page.get_by_text("Z offset readback")).to_be_visible()
    press(page, "Enter")
    expect(page.get_by_role("alert")).to_contain_text("not read back")
    page.keyboard.press("[")
    page.get_by_role("heading", name="Print each zone at two heights").wait_for()
    page.keyboard.press("[")
    value = page.locator("pre").inner_text().split(" Z")[1].split()[0]
    page.get_by_label("Reported").fill(value)
    press(page, "Enter")
    page.get_by_role("heading", name=re.compile(r"mm$")).wait_for()
    page.keyboard.press("]")
    page.get_by_role("heading", name="Print each zone at two heights").wait_for()
    press(page, "Enter")
    for zone in ("front left", "front right", "centre", "rear left", "rear right"):
        for half in ("closer", "further"):
            expect(page.get_by_text(f"Proof 2 · {zone}, {half}")).to_be_visible()
            press(page, "4")
    expect(page.get_by_role("heading", name=re.compile("All zones judged|Every zone is sound"))).to_be_visible()
    page.keyboard.press("]")
    page.get_by_role("heading", name="What was found").wait_for()
    press(page, "Enter")
    expect(page.get_by_role("heading", name="Signed off")).to_be_visible()


def counted(page: Page) -> Locator:
    """What follows a count: so much further, or that this knob is left and the next screw asked for."""
    return page.get_by_role("heading", name="further").or_(page.get_by_text(re.compile(r"^Leave .* there\.$")))


def test_kestrel_by_mouse(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Kestrel")
    page.get_by_role("button", name="Checked").click()
    page.get_by_role("button", name="At temperature now").click()
    expect(page.get_by_text("bed 78°")).to_be_visible()
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


def test_reload_and_a_second_tab_are_where_the_run_is(desk_page: Page, browser: Browser) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/tram")
    page.get_by_role("button", name=re.compile("^tighter")).click()
    page.get_by_role("heading", name="Turn until it drags").wait_for()
    # A key pressed while the last answer is being kept is not heard.
    page.get_by_role("button", name="read for me").click()
    counted(page).wait_for()
    page.reload()
    expect(counted(page)).to_be_visible()

    other = browser.new_page()
    visit(other, f"{run}/tram")
    counted(other).wait_for()
    if other.get_by_role("heading", name="further").is_visible():
        press(other, "Enter")
    expect(other.get_by_text("stop 2")).to_be_visible()
    # The first tab learns of it by itself, and nothing of it is lost.
    expect(page.get_by_text("stop 2")).to_be_visible(timeout=60_000)
    other.close()


def test_a_run_signed_off_elsewhere_is_told_and_keeps_what_was_typed(desk_page: Page, address: str) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/mesh")
    page.get_by_role("textbox").fill("0 1\n2 3")
    run_id = run.rsplit("/", 1)[1]
    seq = page.request.get(f"{address}/api/runs/{run_id}/head").json()["seq"]
    signed = {"id": f"{run_id}-s", "seen_seq": seq, "what": {"kind": "signed_off", "note": ""}}
    assert page.request.post(f"{address}/api/runs/{run_id}/sign_off", data=signed).ok
    page.get_by_role("button", name="Measure point by point").click()
    expect(page.get_by_role("alert")).to_contain_text(re.compile("signed off|meanwhile"))
    expect(page.get_by_role("textbox")).to_have_value("0 1\n2 3")


@pytest.mark.parametrize(
    ("text", "sentence"),
    [("0.1 0.2\n0.3", "Every row needs the same"), ("0.1 x\n0.1 0.2", "not a number"), ("1,,2\n1,2,3", "hole")],
)
def test_a_bad_grid_is_refused_beside_its_field_and_stays_there(desk_page: Page, text: str, sentence: str) -> None:
    page = desk_page
    run = start_run(page, "Wren")
    visit(page, f"{run}/mesh")
    page.get_by_role("textbox").fill(text)
    page.get_by_role("button", name="Show it on the sheet").click()
    expect(page.get_by_role("alert")).to_contain_text(sentence)
    expect(page.get_by_role("textbox")).to_have_value(text)


def test_a_pasted_grid_is_seen_on_the_sheet_before_it_is_kept(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Wren")
    visit(page, f"{run}/mesh")
    page.get_by_role("textbox").fill("0.00 0.02 0.05\n0.01 0.06 0.04\n0.02 0.03 0.09")
    page.get_by_role("button", name="Show it on the sheet").click()
    expect(page.get_by_test_id("sheet")).to_contain_text("+0.09")
    expect(page.get_by_test_id("kept")).to_contain_text("nothing kept yet")
    # Nothing is known of this plate: which way round it lies is asked, and chosen.
    expect(page.get_by_text("does not say which way round")).to_be_visible()
    page.get_by_label("Which way round").select_option(index=1)
    expect(page.get_by_text("does not say which way round")).to_have_count(0)
    page.get_by_role("button", name=re.compile("eep this mesh")).click()
    expect(page.get_by_role("heading", name="Range 0.09 mm")).to_be_visible()


def test_a_mesh_is_felt_by_keys_alone_and_a_tapped_point_comes_next(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/mesh")
    page.get_by_role("button", name="Measure point by point").click()
    page.get_by_test_id("next-z").wait_for()
    before = page.get_by_test_id("next-z").inner_text()
    press(page, "1")
    expect(page.get_by_text(re.compile("^Felt here: free at"))).to_be_visible()
    assert page.get_by_test_id("next-z").inner_text() != before
    press(page, "3")
    expect(page.get_by_text(re.compile("^1 read"))).to_be_visible()
    # Any other point, by tapping it or from the list.
    page.get_by_label("Another point").select_option("2,3")
    expect(page.get_by_text("Column 3 from the left, row 4 from the front")).to_be_visible()
    page.get_by_label("Height at the drag").fill("9,9x")
    page.get_by_role("button", name=re.compile("Keep, next point")).click()
    expect(page.get_by_role("alert")).to_contain_text("Type the reading in mm")
    page.get_by_label("Height at the drag").fill("0.02")
    page.get_by_role("button", name=re.compile("Keep, next point")).click()
    expect(page.get_by_text(re.compile("^2 read"))).to_be_visible()


def test_a_doubtful_point_says_why_and_is_kept_with_a_reason(desk_page: Page, address: str) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    at = f"{address}/api/runs/{run.rsplit('/', 1)[1]}/mesh"

    def keep(**what: object) -> None:
        seq = page.request.get(at).json()["seq"]
        body = {"id": f"{run[-12:]}-{seq}", "seen_seq": seq, "what": what}
        assert page.request.post(at, data=body).ok, what

    keep(kind="mesh_planned", columns=4, rows=4, owns_zero=True, readings=16)
    for k in range(15):
        height = 0.02 + (0.15 if k == 5 else 0.0) + 0.005 * (k % 2)
        keep(kind="mesh_point", column=k % 4, row=k // 4, height_mm=height, sure=True)
    visit(page, f"{run}/mesh")
    doubts = page.get_by_role("region", name="Doubtful points")
    doubts.get_by_text("Column 2, row 2 ?").click()
    expect(doubts).to_contain_text("above what its neighbours say")
    doubts.get_by_role("button", name="It is so").click()
    doubts.get_by_label("Why").fill("a weld seam")
    doubts.get_by_role("button", name="Keep it as read").click()
    expect(page.get_by_role("region", name="Doubtful points")).to_have_count(0)


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


def test_readings_in_mm_are_typed_for_every_screw_and_then_all_are_turned(desk_page: Page) -> None:
    page = desk_page
    run = start_run(page, "Heron")
    visit(page, f"{run}/tram")
    page.get_by_role("button", name=re.compile("^tighter")).click()
    page.get_by_label("Way of working").select_option("read_all")
    for screw, value in (
        ("front left", "0.12"),
        ("front right", "-0.05"),
        ("rear left", "0,02"),
        ("rear right", "−0.29"),
    ):
        expect(page.get_by_text(screw, exact=True).last).to_be_visible()
        if screw == "front left":
            page.get_by_label("Reading").fill("high")
            page.keyboard.press("Enter")
            expect(page.get_by_role("alert")).to_contain_text("such as 0.12")
            expect(page.get_by_label("Reading")).to_have_value("high")
        page.get_by_label("Reading").fill(value)
        with keeping(page):
            page.keyboard.press("Enter")
        if screw == "front left":
            continue  # this one has shown its sense
        # A knob that has not shown its sense is turned where the instrument stands, and read again.
        proving = page.get_by_role("heading", name=re.compile(r"Now \d+.16, then read it again"))
        proving.wait_for()
        if screw == "rear right":
            page.get_by_role("button", name="leave this knob, go on").click()
            continue
        marks = int(re.findall(r"(\d+)/16", proving.inner_text())[0])
        down = page.get_by_text(re.compile("^counter-clockwise")).count() > 0
        press(page, "Enter")
        proving.wait_for(state="hidden")
        moved = 0.04 * marks * (-1 if down else 1)
        page.get_by_label("Reading").fill(f"{float(value.replace(',', '.').replace('−', '-')) + moved:.3f}")
        with keeping(page):
            page.keyboard.press("Enter")
    expect(page.get_by_role("heading", name="Turn each knob once")).to_be_visible()
    # The one that was left low is raised against the others.
    turns = {}
    for line in page.get_by_role("list").filter(has_text="front left").first.get_by_role("listitem").all_inner_texts():
        name, count, of, way = re.fullmatch(r"(\D+?)\s*(?:(\d+)/(\d+) (\S+)|no turn)", line).groups()
        turns[name] = int(count or 0) / int(of or 1) * (-1 if way == "counter-clockwise" else 1)
    assert max(turns, key=turns.get) == "rear right"
    page.get_by_role("button", name=re.compile("All turned")).click()
    expect(page.get_by_role("heading", name=re.compile("Read the height here|Within tolerance"))).to_be_visible()


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


def test_a_run_is_carried_to_the_bench_as_a_file(desk_page: Page, address: str) -> None:
    page = desk_page
    run = start_run(page, "Wren")
    run_id = run.rsplit("/", 1)[1]
    file = page.request.get(f"{address}/api/runs/{run_id}/file").text()
    visit(page, address)
    bring = page.get_by_label("Bring a run from another installation")
    bring.set_input_files({"name": "run.json", "mimeType": "application/json", "buffer": b"{not json"})
    expect(page.get_by_role("alert")).to_contain_text("not readable JSON")
    bring.set_input_files(
        {
            "name": "old.json",
            "mimeType": "application/json",
            "buffer": file.replace('"version":1', '"version":7').encode(),
        }
    )
    expect(page.get_by_role("alert")).to_contain_text("version 7")
    moved = file.replace(run_id, f"{run_id[:20]}-moved")
    bring.set_input_files({"name": "run.json", "mimeType": "application/json", "buffer": moved.encode()})
    page.get_by_role("link", name="Open it").click()
    expect(page.get_by_role("heading", name="What was found and set")).to_be_visible()


def test_an_address_that_leads_nowhere_says_so(desk_page: Page, address: str) -> None:
    visit(desk_page, f"{address}/runs/nobody/tram")
    expect(desk_page.get_by_role("heading", name="No run is kept under 'nobody'")).to_be_visible()
    desk_page.get_by_role("link", name="To the bench").click()
    expect(desk_page.get_by_role("heading", name="Machines on the bench")).to_be_visible()


def test_a_lost_answer_is_told_and_trying_again_keeps_it_once(browser: Browser, address: str) -> None:
    page = browser.new_page()
    visit(page, address)
    run = start_run(page, "Heron")
    page.goto("about:blank")
    lose = f"{address}/api/runs/*/tram?*"
    asked: list[str] = []

    # The page comes up and the sense is told; from then on the server keeps what it is given, but nothing of it arrives.
    # Set before the page is: a look for news already under way would bring the kept row, and nothing be left to tell.
    def cut(route: Route) -> None:
        method = route.request.method
        asked.append(method)
        if asked.count(method) == 1:
            route.continue_()
            return
        if method == "POST":
            route.fetch()
        route.abort()

    page.route(lose, cut)
    visit(page, f"{run}/tram")
    page.get_by_role("button", name=re.compile("^tighter")).click()
    page.get_by_role("heading", name="Turn until it drags").wait_for()
    page.keyboard.press("7")
    press(page, "Enter")
    expect(page.get_by_role("alert")).to_contain_text("still here")
    expect(page.get_by_test_id("count")).to_contain_text("7")
    page.unroute(lose)
    page.keyboard.press("Enter")
    counted(page).wait_for()
    assert page.locator("[data-seq]").get_attribute("data-seq") == "2"
    page.close()


def test_while_an_answer_is_kept_a_second_press_answers_nothing_and_a_note_waits_its_turn(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Kestrel")
    held: list[Route] = []
    page.route("**/api/runs/*/prepare?*", lambda r: held.append(r) if r.request.method == "POST" else r.continue_())
    page.keyboard.press("Enter")
    expect(page.get_by_role("button", name="Checked")).to_be_disabled()
    page.keyboard.press("Enter")
    page.get_by_role("button", name="At temperature now").click()
    page.get_by_label("Tram the plate").select_option("warm")
    for kept in ("check_done", "heated", "school_chosen"):
        expect(page.get_by_role("button", name="Checked")).to_be_disabled()
        for _ in range(250):
            if held:
                break
            page.wait_for_timeout(20)
        # One at a time, in the order they were pressed.
        assert [r.request.post_data_json["what"]["kind"] for r in held] == [kept]
        held.pop().continue_()
    expect(page.get_by_text("bed 78°")).to_be_visible()
    expect(page.get_by_label("Tram the plate")).to_have_value("warm")
    expect(page.get_by_role("region", name="What to do now").get_by_text("1 of 7")).to_be_visible()
    assert page.locator("[data-seq]").get_attribute("data-seq") == "3"


def test_a_note_is_kept_after_what_another_tab_has_kept(desk_page: Page, address: str) -> None:
    page = desk_page
    run_id = start_run(page, "Kestrel").rsplit("/", 1)[1]
    # A check is kept elsewhere, and this tab has not asked for news yet.
    what = {"kind": "check_done", "check": "tip_clean", "outcome": "done"}
    kept = page.request.post(
        f"{address}/api/runs/{run_id}/prepare", data={"id": "elsewhere", "seen_seq": 0, "what": what}
    )
    assert kept.ok, kept.text()
    page.get_by_role("button", name="At temperature now").click()
    expect(page.get_by_text("bed 78°")).to_be_visible()
    expect(page.get_by_role("alert")).to_have_count(0)
    expect(page.get_by_role("heading", name="Plate clean")).to_be_visible()
    assert page.locator("[data-seq]").get_attribute("data-seq") == "2"


def test_a_device_without_a_network_still_keeps_what_it_is_told(desk_page: Page) -> None:
    # The server runs on the same device: the browser's word that there is no network must not hold an answer back.
    page = desk_page
    start_run(page, "Kestrel")
    page.evaluate("window.dispatchEvent(new Event('offline'))")
    page.keyboard.press("Enter")
    page.get_by_role("heading", name="Plate clean").wait_for()
    page.keyboard.press("]")
    page.get_by_role("heading", name="Which way does this knob work").wait_for()


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


def carry_in(page: Page, address: str, screws: tuple[Screw, ...], *whats: Row) -> None:
    """A run on screws of its own with what was done in it, opened at the tram."""
    setup = setup_for("heron", "carried")
    setup = setup.model_copy(update={"machine": setup.machine.model_copy(update={"screws": screws})})
    rows = tuple(entry(seq, what) for seq, what in enumerate(whats, 1))
    file = RunFile(setup=setup, entries=rows).model_dump(mode="json")
    assert page.request.post(f"{address}/api/runs/import", data=file).ok
    visit(page, f"{address}/runs/carried/tram")


def six_screws(page: Page, address: str) -> None:
    """A run on six screws, each brought to the drag twice."""
    places = [(x, y) for y in (36, 200) for x in (36, 120, 204)]
    six = tuple(Screw(name=f"screw {k}", x_mm=x, y_mm=y, sense_proved=True) for k, (x, y) in enumerate(places, 1))
    whats: list[Row] = []
    for screw, marks in zip(six * 2, (3, -2, 2, -3, 1, -1, 1, 1, -1, 0, 0, 1), strict=True):
        whats += [Counted(screw=screw.name, marks=marks), Turned(screw=screw.name, marks=0)]
    carry_in(page, address, six, *whats)


def test_a_knob_with_twenty_marks_is_counted_in_twentieths(desk_page: Page, address: str) -> None:
    page = desk_page
    screws = tuple(
        s.model_copy(update={"marks_per_turn": 20, "sense_proved": True}) for s in setup_for("heron").machine.screws
    )
    carry_in(page, address, screws, Counted(screw=screws[0].name, marks=-23), Turned(screw=screws[0].name, marks=2))
    story = page.get_by_role("region", name="Rounds so far")
    expect(story).to_contain_text("1 turn 3/20 ccw, 2/20 cw more")
    expect(page.get_by_test_id("count")).to_have_text("– /20")
    page.keyboard.type("3")
    page.keyboard.press("Enter")
    further = page.get_by_role("heading", name=re.compile(r"Now \d+.[24]0 further"))
    expect(further.or_(page.get_by_text(re.compile(r"^Leave .* there\.$")))).to_be_visible()
    page.get_by_role("button", name="keys and kept rows").click()
    expect(page.get_by_text("1 turn 3/20 counter-clockwise to the drag")).to_be_visible()


def test_a_screw_near_the_drag_is_only_felt(desk_page: Page, address: str) -> None:
    page = desk_page
    six_screws(page, address)
    expect(page.get_by_role("heading", name="Turn nothing")).to_be_visible()
    asked = page.get_by_text("stop 13").locator("..").locator("span").first.inner_text()
    assert serious(page) == []
    page.keyboard.press("3")
    expect(page.get_by_role("region", name="Rounds so far")).to_contain_text("felt: drag")
    page.get_by_role("button", name=f"Take back {asked.lower()}").first.click()
    # What slides free cannot be sized by a feel: it is counted, at the same screw.
    expect(page.get_by_role("heading", name="Turn nothing")).to_be_visible()
    page.get_by_role("button", name="free").click()
    expect(page.get_by_role("heading", name="Turn until it drags")).to_be_visible()
    expect(page.get_by_text(asked).first).to_be_visible()


def test_a_knob_that_brings_no_drag_is_put_back_and_the_next_is_asked_for(desk_page: Page) -> None:
    page = desk_page
    at = start_run(page, "Heron")
    visit(page, f"{at}/tram")
    expect(page.get_by_role("heading", name="Which way does this knob work")).to_be_visible()
    page.keyboard.press("1")
    expect(page.get_by_role("heading", name="Turn until it drags")).to_be_visible()
    page.get_by_role("button", name="no drag after 2 turns").click()
    expect(page.get_by_text("Turn it back where it was")).to_be_visible()
    assert serious(page) == []
    turned = page.get_by_label("Marks turned before you stopped")
    for wrong in ("", "0", "nan", "1.5", "9999"):
        turned.fill(wrong)
        page.get_by_role("button", name="it was still loose").click()
        expect(page.get_by_text("Give the whole marks you turned, 1 to 160.")).to_be_visible()
    turned.fill("34")
    page.get_by_role("button", name="it was still loose").click()
    story = page.get_by_role("region", name="Rounds so far")
    expect(story).to_contain_text("2 turns 2/16 cw and still loose, turned back")
    expect(page.get_by_role("heading", name="Turn until it drags")).to_be_visible()


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
