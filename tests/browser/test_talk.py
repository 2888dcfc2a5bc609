"""A machine nobody has heard of, taught from nothing in the browser, proved, and put to work."""

import re
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

import pytest
from playwright.sync_api import Locator, Page, TimeoutError, expect

from ivory_table.api.app import create_app
from ivory_table.core.teach.catalogue import Word, words
from ivory_table.core.teach.numbers import is_value, numbers
from ivory_table.core.units import UNITS, place_of
from tests.conftest import listening
from tests.dialects import DialectPlug
from tests.stations.test_any_machine import Floor, a_floor
from tests.teacher import shown_by

from .conftest import serious, visit

#: Micron, own words, a prompt that confirms, points of a mesh by their place.
SEED = 14


@dataclass
class Hall:
    """The application with Kestrel speaking a dialect, and where it listens."""

    at: str
    floor: Floor
    plug: DialectPlug


@pytest.fixture
def hall(tmp_path: Path) -> Iterator[Hall]:
    with a_floor(SEED, tmp_path) as (floor, _, plug), listening(create_app(floor.desk, lines=floor.lines)) as at:
        yield Hall(at, floor, plug)


@pytest.fixture
def address(hall: Hall) -> str:
    return hall.at


@dataclass
class Person:
    """Works the page, and counts how long a person would take.

    A second and a half to point and press, half a second for a key, four letters a second, three seconds to read.
    """

    page: Page
    seconds: float = field(default=0.0)

    @property
    def slip(self) -> Locator:
        return self.page.get_by_role("region", name="What to do now")

    def types(self, at: Locator, text: str) -> None:
        self.seconds += 1.5 + 0.25 * len(text)
        at.fill(text)

    def key(self, key: str) -> None:
        self.seconds += 0.5
        self.page.keyboard.press(key)

    def writes(self, at: Locator, text: str) -> None:
        """Into the field where the page has put the cursor already."""
        expect(at).to_be_focused()
        self.seconds += 0.25 * len(text)
        at.fill(text)

    def pastes(self, at: Locator, text: str) -> None:
        self.seconds += 4
        at.fill(text)

    def presses(self, at: Locator) -> None:
        self.seconds += 1.5
        at.click()

    def reads(self) -> None:
        self.seconds += 3

    def understood(self) -> Locator:
        return self.slip.get_by_role("button", name="Next word")

    def asked(self) -> Locator:
        return self.slip.get_by_role("group", name="Which is meant")

    def settle(self, prefer: str) -> None:
        """Until it is understood; where it is asked, by the answer that says so."""
        expect(self.understood().or_(self.asked())).to_be_visible()
        if self.asked().is_visible():
            self.presses(self.asked().get_by_role("button").filter(has_text=re.compile(prefer)).first)
            expect(self.understood()).to_be_visible()

    def point(self, word: Word, text: str, values: dict[str, float | str]) -> None:
        """At each number that is meant, one after the other."""
        found = numbers(text)
        for name in word.fields:
            value = float(values[name])
            places = [place_of(name, unit) for unit in UNITS.get(name, {"": None})]
            k = next(k for k, n in enumerate(found) if any(is_value(n, p, value) for p in places))
            self.presses(self.slip.locator(f'button[aria-label$="number {k + 1} in the reply"]'))


def teach(person: Person, word: Word, plug: DialectPlug) -> None:
    shown = shown_by(plug.dialect, word)
    page, slip = person.page, person.slip
    expect(slip.get_by_role("heading", name=word.name, exact=True)).to_be_visible()
    person.reads()
    unit = {"mm": "mm", "inch": "inches", "micron": "microns"}[plug.dialect.unit]
    if shown is None:
        person.presses(slip.get_by_role("button", name="it has none"))
        expect(page.get_by_role("button", name=word.name).first).to_contain_text("it has none")
        person.presses(slip.get_by_role("button", name="later"))
        return
    if word.kind == "line":
        person.writes(slip.get_by_label("The line as you send it"), shown.told[0].line)
        person.key("Enter")
        person.settle("after the point|" + unit)
    elif word.kind == "state":
        for at, said in zip(slip.get_by_role("textbox").all()[:2], shown.said[:2], strict=True):
            person.pastes(at, said.text)
        person.presses(slip.get_by_role("button", name="That is what it says"))
        person.settle("")
    else:
        area = slip.get_by_label("What it says, all of it")
        asks = slip.get_by_role("button", name="Ask it on the line")
        if word.id in ("says.ack", "says.position"):
            person.presses(asks)
            expect(area).not_to_have_value("")
        else:
            # The last sample of numbers has no two alike.
            person.pastes(area, shown.said[-1 if word.kind == "numbers" else 0].text)
        text = area.input_value()
        if word.kind == "numbers":
            values = dict(shown.said[-1].values)
            if word.id == "says.position":
                # It stands where it was left: the three numbers in their order.
                for k in range(3):
                    person.presses(slip.locator(f'button[aria-label$="number {k + 1} in the reply"]'))
            else:
                person.point(word, text, values)
        elif word.kind == "rest":
            first = str(shown.said[0].values["text"]).split()[0]
            person.presses(slip.get_by_role("button", name=re.compile(f"^{first}, number")))
        else:
            if word.kind == "grid":
                for name, value in shown.said[0].values.items():
                    person.types(slip.get_by_label(name.replace("_", " ")), str(value))
            person.presses(slip.get_by_role("button", name="That is what it says"))
        person.settle(unit)
    expect(person.understood()).to_be_focused()
    person.key("Enter")


@pytest.mark.slow
def test_a_dialect_is_taught_from_nothing_and_proved_within_ten_minutes(desk_page: Page, hall: Hall) -> None:
    page = desk_page
    person = Person(page)
    visit(page, f"{hall.at}/setup?shelf=machines&id=kestrel")
    person.presses(page.get_by_role("link", name="how it talks"))
    person.types(page.get_by_label("Your initials"), "mk")
    person.presses(page.get_by_role("button", name="Begin", exact=True))
    assert serious(page) == []
    for word in words():
        teach(person, word, hall.plug)
    # After the last word comes the proof.
    expect(page.get_by_role("heading", name="Put it in use, then prove it")).to_be_visible()
    hall.plug.dialect.said = hall.plug.dialect.numbered = 0
    person.presses(page.get_by_role("button", name="from now on"))
    person.presses(page.get_by_role("button", name="Take Kestrel on the line"))
    slip = person.slip
    ask = slip.get_by_role("button", name="Practice: answer for me")
    do, again = slip.get_by_role("button", name="Do it now"), slip.get_by_role("button", name="Do it again")
    steps = page.get_by_role("main").get_by_role("listitem")
    expect(do).to_be_enabled()
    for k in range(19):
        name = steps.nth(k).locator("span").nth(1).inner_text()
        if name.startswith("The mesh") or name.startswith("Mesh"):
            continue  # there is no mesh yet to list or to follow
        if not slip.get_by_role("heading", name=name).is_visible():
            person.presses(steps.nth(k).get_by_role("button"))
        expect(slip.get_by_role("heading", name=name)).to_be_visible()
        expect(do).to_be_enabled()
        person.reads()
        person.key("d")
        while not again.is_visible():
            expect(ask.or_(again)).to_be_visible()
            if ask.is_visible():
                person.reads()
                # A key answers; here it is the button, which is gone with the question.
                person.seconds += 0.5
                # A question may be gone before the press: then it was the last one.
                with suppress(TimeoutError):
                    ask.click(timeout=1_000)
        expect(steps.nth(k)).to_contain_text("proved")
        person.key("n")
    assert "17 of 20" in page.get_by_role("main").inner_text()
    assert hall.floor.served.person.crashes() == []
    assert person.seconds < 600
    # Where a station is about to use what was not proved, it says so.
    visit(page, hall.at)
    page.get_by_role("button", name="Kestrel").click()
    page.get_by_role("button", name="Start a new run").click()
    page.get_by_role("heading", name="Tip clean").wait_for()
    visit(page, page.url.replace("prepare", "mesh"))
    expect(page.get_by_text("Not proved on Kestrel yet:")).to_contain_text("mesh")


def test_what_is_wrong_is_said_beside_the_field_and_nothing_is_lost(desk_page: Page, hall: Hall) -> None:
    page = desk_page
    visit(page, f"{hall.at}/machines/kestrel/talk")
    expect(page.get_by_text("Give your initials at the top")).to_be_visible()
    page.get_by_label("Your initials").fill("mk")
    page.get_by_label("Name of the new manner").fill("!!!")
    page.get_by_role("button", name="Begin", exact=True).click()
    expect(page.get_by_text("letters or figures")).to_be_visible()
    page.get_by_label("Name of the new manner").fill("Ours")
    page.get_by_role("button", name="Begin", exact=True).click()
    expect(page.get_by_role("heading", name="Stop", exact=True)).to_be_visible()
    visit(page, f"{hall.at}/machines/kestrel/talk?manner=ours&word=does.move")
    line = page.get_by_label("The line as you send it")
    line.fill("go x=30.25")
    line.press("Enter")
    expect(page.get_by_text("no number in it for Y (40.5)")).to_be_visible()
    expect(line).to_have_value("go x=30.25")
    line.fill("go x=30 y=40")
    line.press("Enter")
    expect(page.get_by_role("group", name="Which is meant")).to_be_visible()
    line.blur()
    page.keyboard.press("1")
    expect(page.get_by_role("button", name="Next word")).to_be_visible()
    # A reload shows what was shown.
    page.reload()
    expect(line).to_have_value("go x=30 y=40")
    # Somebody else teaches meanwhile.
    other = page.context.new_page()
    visit(other, f"{hall.at}/machines/kestrel/talk?manner=ours&word=does.home")
    other.get_by_label("The line as you send it").fill("home now")
    other.keyboard.press("Enter")
    expect(other.get_by_role("button", name="Next word")).to_be_visible()
    line.fill("go x=30.25 y=40.5")
    line.press("Enter")
    expect(page.get_by_text("Somebody else has taught this manner meanwhile")).to_be_visible()
    expect(line).to_have_value("go x=30.25 y=40.5")
    line.press("Enter")
    expect(page.get_by_role("button", name="Next word")).to_be_visible()
    # A wrong file, and one that is no manner.
    visit(page, f"{hall.at}/machines/kestrel/talk?manner=ours&page=carry")
    page.set_input_files("input[type=file]", {"name": "x.toml", "mimeType": "text/plain", "buffer": b"G28"})
    expect(page.get_by_text("no valid TOML")).to_be_visible()
    visit(page, f"{hall.at}/machines/kestrel/talk?manner=ours&page=job")
    page.set_input_files("input[type=file]", {"name": "x.gcode", "mimeType": "text/plain", "buffer": b"\0\1"})
    expect(page.get_by_text("This is no text")).to_be_visible()


def test_it_is_taught_on_a_phone(desk_page: Page, hall: Hall) -> None:
    page = desk_page
    page.set_viewport_size({"width": 390, "height": 844})
    visit(page, f"{hall.at}/machines/kestrel/talk")
    page.get_by_label("Your initials").fill("mk")
    page.get_by_role("button", name="Begin", exact=True).click()
    line = page.get_by_label("The line as you send it")
    line.fill("enough")
    page.get_by_role("button", name="That is the line").click()
    expect(page.get_by_role("button", name="Next word")).to_be_visible()
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    assert serious(page) == []
