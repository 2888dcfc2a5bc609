"""The Z offset from anywhere, a quick correction and the card of grades, by mouse and keys."""

import re

import pytest
from playwright.sync_api import Page, expect

from .conftest import at_station, keeping, press, serious, start_run, visit


def test_the_sign_is_shown_and_a_display_explained(desk_page: Page, address: str) -> None:
    page = desk_page
    kept = next(k for k in page.request.get(f"{address}/api/setup").json()["machines"] if k["machine"]["id"] == "heron")
    machine = kept["machine"] | {"sign_proved": False, "z_presses_mm": [1, 0.1, 0.02]}
    done = page.request.put(
        f"{address}/api/setup/machines/heron", data={"machine": machine, "seen_revision": kept["revision"]}
    )
    assert done.ok
    page.reload()
    visit(page, start_run(page, "Heron") + "/offset")
    at_station(page, "offset")
    expect(page.get_by_test_id("presses")).to_have_text(re.compile(r"\d × 1 up, then .* down"))
    page.get_by_role("button", name="its display does not show 0").click()
    page.get_by_label("After homing it shows").fill("4.2")
    page.get_by_role("button", name="Take it into account").click()
    expect(page.get_by_text("Nothing comes down before that is explained")).to_be_visible()
    page.get_by_label("That is").select_option("zero")
    with keeping(page):
        page.get_by_role("button", name="Take it into account").click()
    expect(page.get_by_text("The machine's display then shows")).to_be_visible()
    page.get_by_role("button", name="not shown yet").click()
    expect(page.get_by_text("ZERO_STOP Z0.840")).to_be_visible()
    assert serious(page) == []
    page.get_by_role("button", name="it sank").click()
    expect(page.get_by_text("It counts the other way")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="Probe offset: more negative").click()
    expect(page.get_by_text("not shown yet")).to_have_count(0)
    expect(page.get_by_text("Probe offset", exact=True)).to_be_visible()


def test_a_quick_correction_from_the_bench(desk_page: Page) -> None:
    page = desk_page
    page.get_by_role("button", name="Kestrel").click()
    page.get_by_text("a quick correction, no run").click()
    page.get_by_label("Bring the tip").fill("0.03")
    expect(page.get_by_text("−1.920 → −1.950")).to_be_visible()
    page.get_by_label("it reports").fill("-1.92")
    page.get_by_role("button", name="Compare and keep").click()
    expect(page.get_by_text("meant was -1.95")).to_be_visible()
    page.get_by_label("it reports").fill("-1.95")
    page.get_by_role("button", name="Compare and keep").click()
    expect(page.get_by_text("Kept: −1.950")).to_be_visible()
    expect(page.get_by_text("probe offset −1.950")).to_be_visible()


@pytest.mark.parametrize("width", [1280, pytest.param(820, marks=pytest.mark.slow), 390])
def test_patches_are_turned_over_and_the_card_of_grades_is_printed(desk_page: Page, address: str, width: int) -> None:
    page = desk_page
    page.set_viewport_size({"width": width, "height": 1180 if width == 820 else 800})
    run = start_run(page, "Heron")
    name = run.rsplit("/", 1)[1]
    plan = page.request.get(f"{address}/api/runs/{name}/first_layer").json()["plan"]
    body = {"id": "one", "seen_seq": 0, "what": {"kind": "proof_started", "proof": plan}}
    assert page.request.post(f"{address}/api/runs/{name}/first_layer", data=body).ok
    visit(page, f"{run}/first_layer")
    at_station(page, "first_layer")
    page.get_by_role("button", name="judge each step by itself").click()
    turn = page.get_by_role("button", name="turn it over")
    expect(turn).to_be_visible()
    press(page, "u")
    expect(page.get_by_role("button", name="turn it back")).to_be_visible()
    # All seven answers can be reached without scrolling, and nothing reaches past the edge.
    for word in ("loose", "barely held", "parted", "sound", "ridged", "squeezed", "starved"):
        expect(page.get_by_role("button", name=re.compile(f"^{'[1-7]'} ?{word}"))).to_be_in_viewport(ratio=0.9)
    assert page.evaluate("document.documentElement.scrollWidth <= innerWidth")
    page.get_by_role("link", name="the seven grades as a card").click()
    expect(page.get_by_role("heading", name="First layer, seven grades")).to_be_visible()
    expect(page.get_by_role("img")).to_have_count(15)
    assert serious(page) == []


def test_a_second_tip_by_mouse(desk_page: Page) -> None:
    page = desk_page
    visit(page, start_run(page, "Heron") + "/offset")
    at_station(page, "offset")
    page.get_by_role("button", name="a second tip beside the first").click()
    page.get_by_label("It should hang above the first by").fill("far")
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_text("0 where both print at one height")).to_be_visible()
    page.get_by_label("It should hang above the first by").fill("0")
    with keeping(page):
        page.get_by_role("button", name="Begin").click()
    page.get_by_label("The second drags so much lower").fill("0.2")
    with keeping(page):
        page.get_by_role("button", name="Keep", exact=True).click()
    expect(
        page.get_by_role("heading", name=re.compile(r"Turn its screw 0\.\d\d turns counter-clockwise"))
    ).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="Turned", exact=True).click()
    with page.expect_download() as got:
        page.get_by_role("link", name="Download the pads").click()
    assert "pad 9" in got.value.path().read_text()
    with keeping(page):
        page.get_by_role("button", name="They are laid").click()
    expect(page.get_by_role("img", name=re.compile("The second tip hangs"))).to_be_visible()
    tops = page.get_by_role("button", name=re.compile(r"^0\.\d\d$"))
    expect(tops).to_have_count(9)
    assert serious(page) == []
    tops.nth(0).click()
    page.get_by_role("button", name="It touched 1").click()
    expect(page.get_by_text("A lower pad was touched and a higher one was not")).to_be_visible()
    tops.nth(0).click()
    for k in range(5, 9):
        tops.nth(k).click()
    with keeping(page):
        page.get_by_role("button", name=re.compile("It is so|It touched 4")).click()
    expect(page.get_by_text(re.compile(r"right with \d+ %"))).to_be_visible()


@pytest.mark.parametrize("width", [1280, 390])
def test_a_probe_that_leans_is_found_and_counted_in(desk_page: Page, width: int) -> None:
    page = desk_page
    page.set_viewport_size({"width": width, "height": 800})
    visit(page, start_run(page, "Kestrel") + "/offset")
    at_station(page, "offset")
    page.get_by_role("button", name="the probe: does it repeat").click()
    keep = page.get_by_role("button", name="Keep place")
    page.get_by_label("Probe triggers at z").fill("1.0")
    page.get_by_label("Gauge drags at z").fill("much")
    keep.click()
    expect(page.get_by_text("Give the place and both heights in mm.")).to_be_visible()
    for k, (x, y) in enumerate([(20, 20), (300, 20), (160, 150), (20, 280), (300, 280)]):
        page.get_by_label("At X").fill(str(x))
        page.get_by_label("Y", exact=True).fill(str(y))
        page.get_by_label("Probe triggers at z").fill(f"{1 + 0.0005 * x:.3f}")
        page.get_by_label("Gauge drags at z").fill("0.1")
        with keeping(page):
            keep.click()
        expect(keep).to_have_text(f"Keep place {k + 2}")
    expect(page.get_by_test_id("tilt")).to_contain_text("for 100 mm to the right")
    assert serious(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    with keeping(page):
        page.get_by_role("button", name="Count it in from here on").click()
    expect(page.get_by_text("Counted in now: +0.050 mm for 100 mm to the right")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="take it as it reads").click()
    expect(page.get_by_text("Counted in now")).to_have_count(0)


def test_marks_tell_where_the_probe_sits(desk_page: Page) -> None:
    page, width = desk_page, 390
    page.set_viewport_size({"width": width, "height": 800})
    visit(page, start_run(page, "Kestrel") + "/offset")
    at_station(page, "offset")
    page.get_by_role("button", name="the probe: does it repeat").click()
    keep, found = page.get_by_role("button", name="Keep mark"), page.get_by_test_id("place")
    fields = ("X, tip over it", "Y, tip over it", "X, probe over it", "Y, probe over it")

    def sight(*where: str) -> None:
        for label, value in zip(fields, where, strict=True):
            page.get_by_label(label).fill(value)
        keep.click()

    sight("80", "70", "here", "79")
    expect(page.get_by_text("Give X and Y twice")).to_be_visible()
    sight("80", "70", "800", "79")
    expect(page.get_by_text("hardly that far apart")).to_be_visible()
    # Off the plate: said by the server, and what was typed stays.
    sight("-80", "70", "-40", "79")
    expect(page.get_by_role("alert").filter(has_text="plate")).to_be_visible()
    expect(page.get_by_label("X, probe over it")).to_have_value("-40")
    sight("80", "70", "124.2", "79.3")
    expect(keep).to_have_text("Keep mark 2")
    sight("230", "210", "273.9", "218.8")
    expect(found).to_contain_text("44.0 mm left and 9.1 mm in front of the tip")
    assert serious(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    with keeping(page):
        page.get_by_role("button", name="Take it so from the next run on").click()
    expect(page.get_by_text("From the next run on: 44.0 mm left")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="take it as it was entered").click()
    expect(page.get_by_text("From the next run on:")).to_have_count(0)


@pytest.mark.parametrize("width", [1280, 390])
def test_a_tip_that_grows_is_felt_at_two_heats_and_counted_in(desk_page: Page, width: int) -> None:
    page = desk_page
    page.set_viewport_size({"width": width, "height": 800})
    visit(page, start_run(page, "Wren") + "/offset")
    at_station(page, "offset")
    page.get_by_role("button", name="the tip: is it longer when it is hot?").click()
    found, keep = page.get_by_test_id("tip-heat"), page.get_by_role("button", name="Keep", exact=True)
    expect(found).to_contain_text("Feel the drag at two heats of the tip")
    page.get_by_label("Tip", exact=True).fill("900")
    page.get_by_label("It drags at z").fill("99")
    expect(page.get_by_text("0 to 400 °C")).to_be_visible()
    expect(page.get_by_text("Give the height in mm")).to_be_visible()
    for celsius, drag in (("150", "0.05"), ("206", "0.09")) * 3:
        page.get_by_label("Tip", exact=True).fill(celsius)
        page.get_by_label("It drags at z").fill(drag)
        with keeping(page):
            keep.click()
        expect(page.get_by_label("It drags at z")).to_have_value("")
    expect(found).to_contain_text("0.040 mm from 150 °C to the 206 °C")
    assert serious(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= width
    with keeping(page):
        page.get_by_role("button", name="Count it in from here on").click()
    expect(page.get_by_text("note at Prepare how hot the tip is held")).to_be_visible()
    with keeping(page):
        page.get_by_role("button", name="take the tip as it is felt").click()
    expect(page.get_by_text("Counted in now")).to_have_count(0)


def test_the_practice_machine_does_the_second_tip(desk_page: Page) -> None:
    page = desk_page
    visit(page, start_run(page, "Heron") + "/offset")
    at_station(page, "offset")
    page.get_by_role("button", name="a second tip beside the first").click()
    with keeping(page):
        page.get_by_role("button", name="Begin").click()
    practise = page.get_by_role("button", name="Practice: do it for me")
    done = page.get_by_role("heading", name=re.compile("above the first, as wanted"))
    for _ in range(20):
        expect(practise.or_(done).first).to_be_visible()
        if done.is_visible():
            break
        with keeping(page):
            practise.click()
    expect(done).to_be_visible()


def test_the_focus_is_at_the_next_instruction_after_an_answer(desk_page: Page) -> None:
    """The button that was pressed is gone: whoever goes by Tab or by a reader must not begin again at the top."""
    page = desk_page
    run = start_run(page, "Heron")
    for station, name in (("prepare", "Checked"), ("tram", "tighter"), ("offset", "free")):
        visit(page, f"{run}/{station}")
        at_station(page, station)
        with keeping(page):
            page.get_by_role("button", name=re.compile(name)).first.focus()
            page.keyboard.press("Enter")
        expect(page.get_by_role("region", name="What to do now").get_by_role("heading").first).to_be_focused()


def test_z_steps_are_told_by_two_heights_and_not_by_one(desk_page: Page) -> None:
    page = desk_page
    visit(page, start_run(page, "Kestrel") + "/offset")
    page.get_by_text("Z steps by a printed height").click()
    page.get_by_label("Drawn, height 1").fill("10")
    page.get_by_label("Measured, height 1").fill("ten")
    page.get_by_role("button", name="What do they tell?").click()
    expect(page.get_by_text("Give both of each pair")).to_be_visible()
    page.get_by_label("Measured, height 1").fill("10.3")
    page.get_by_role("button", name="What do they tell?").click()
    expect(page.get_by_text("Measure two heights or more")).to_be_visible()
    page.get_by_label("Drawn, height 2").fill("60")
    page.get_by_label("Measured, height 2").fill("62.2")
    page.get_by_label("Steps per mm now").fill("400")
    page.get_by_role("button", name="What do they tell?").click()
    expect(page.get_by_text("steps per mm instead of 400")).to_be_visible()
    assert serious(page) == []


@pytest.mark.parametrize("width", [1280, 390])
def test_what_goes_under_the_tip_is_told_by_one_tap_or_typed(desk_page: Page, address: str, width: int) -> None:
    page = desk_page
    page.set_viewport_size({"width": width, "height": 844})
    run = start_run(page, "Heron")
    at = f"{address}/api/runs/{run.rsplit('/', 1)[1]}/offset"
    body = {"id": "doubt", "seen_seq": 0, "what": {"kind": "zero_doubted", "why": "nozzle"}}
    assert page.request.post(at, data=body).ok
    visit(page, f"{run}/offset")
    at_station(page, "offset")
    before = page.get_by_test_id("next-z").inner_text()
    # By eye: one tap at the gap that looks like it, drawn to scale; taken back again.
    with keeping(page):
        page.get_by_role("button", name="the gap looks about 3 mm").click()
    expect(page.get_by_text("looks like 3 mm")).to_be_visible()
    expect(page.get_by_test_id("next-z")).not_to_have_text(before)
    with keeping(page):
        page.keyboard.press("Backspace")
    expect(page.get_by_test_id("next-z")).to_have_text(before)
    thick = page.get_by_label("a coin, a card")
    thick.fill("a coin")
    expect(page.get_by_text("Give its thickness in mm")).to_be_visible()
    thick.fill("16")
    page.get_by_role("button", name="goes under").click()
    expect(page.get_by_role("alert")).to_contain_text("decimal point")
    expect(thick).to_have_value("16")
    assert serious(page) == []
    thick.fill("1.6")
    with keeping(page):
        page.get_by_role("button", name="goes under").click()
    expect(page.get_by_text("1.6 mm goes under")).to_be_visible()
    expect(page.get_by_test_id("next-z")).not_to_have_text(before)
    with keeping(page):
        page.get_by_role("button", name=re.compile("^8 ")).click()
    expect(page.get_by_text("0.8 mm goes under, 1.2 mm does not")).to_be_visible()
