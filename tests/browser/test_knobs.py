"""Knobs by mouse and keys: other marks, many screws, no drag."""

import re

from playwright.sync_api import Page, expect

from ivory_table.core.plate import Screw
from ivory_table.runs.entry import RunFile
from ivory_table.runs.row import Row
from ivory_table.stations.tram.entries import Counted
from ivory_table.stations.turned import Turned
from tests.conftest import entry, setup_for

from .conftest import keeping, press, serious, start_run, visit


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
