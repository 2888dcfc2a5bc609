"""The line in a real browser: connect, be asked, stop, lose it, print, on a desk and on a phone."""

import re
import sys
import time
from collections.abc import Iterator
from contextlib import suppress
from pathlib import Path

import httpx
import pytest
from playwright.sync_api import Locator, Page, TimeoutError, expect

from tests.api.test_command import served

from .conftest import keeping, serious, start_run, visit


@pytest.fixture(scope="module")
def address(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The demo as it is started, its practice machines beside it."""
    with served([sys.executable, "-m", "ivory_table.cli"], tmp_path_factory.mktemp("demo"), pace=240) as (_, at):
        ends = time.monotonic() + 20
        while httpx.get(f"{at}/api/machines/bittern/line").json()["url"] is None:
            assert time.monotonic() < ends
            time.sleep(0.1)
        yield at


@pytest.fixture(autouse=True)
def _off_the_line(address: str) -> Iterator[None]:
    yield
    for machine in ("heron", "kestrel", "wren", "bittern"):
        httpx.post(f"{address}/api/machines/{machine}/line/disconnect")


def take(page: Page, machine: str) -> str:
    """Start a run and take its machine on the line; the run's address."""
    run = start_run(page, machine)
    page.get_by_role("button", name=f"Take {machine} on the line").click()
    expect(page.get_by_text("on the line: idle")).to_be_visible(timeout=60_000)
    return run


def leave(page: Page) -> None:
    page.get_by_role("button", name="leave the line").click()
    expect(page.get_by_text("off the line")).to_be_visible()


def answer_until(page: Page, done: Locator) -> None:
    """The practice person answers every question of the machine until its work has ended.

    By the button, which is gone with the question: a key pressed a moment too late would mean something else.
    """
    ask = page.get_by_role("button", name="Practice: answer for me")
    ends = time.monotonic() + 60
    while not done.is_visible() and time.monotonic() < ends:
        if ask.is_visible():
            with suppress(TimeoutError):
                ask.click(timeout=500)
        page.wait_for_timeout(100)
    expect(done).to_be_visible()


def test_a_machine_is_proved_by_keys_and_its_checks_are_kept(desk_page: Page) -> None:
    page = desk_page
    take(page, "Kestrel")
    page.get_by_role("button", name="Prove the machine").click()
    expect(page.get_by_role("heading", name="Does the part fan blow?")).to_be_visible()
    page.keyboard.press("1")
    # The practice person presses the probe where a hand is needed.
    answer_until(page, page.get_by_text("on the line: idle"))
    said = page.get_by_role("region", name="The machine on the line").inner_text()
    page.get_by_role("button", name="keys and kept rows").click()
    for row in ("fans proved", "stops proved", "axes proved", "trigger proved"):
        expect(page.get_by_text(f"check {row}: done"), said).to_be_visible()
    page.get_by_role("button", name="Close").click()
    assert serious(page) == []
    leave(page)


def test_one_stop_over_the_line_asks_for_the_feel_and_ends_at_the_screw(desk_page: Page) -> None:
    page = desk_page
    run = take(page, "Heron")
    visit(page, f"{run}/tram")
    page.get_by_role("heading", name="Which way does this knob work?").wait_for()
    page.get_by_role("button", name="Practice: read for me").click()
    page.get_by_role("heading", name="Turn until it drags.").wait_for()
    go = page.get_by_role("button", name="Go to the screw")
    expect(page.get_by_text("the tip goes over front left")).to_be_visible()  # said before it moves
    go.click()
    expect(page.get_by_text("slide the copy paper under the tip")).to_be_visible(timeout=60_000)
    assert serious(page) == []
    answer_until(page, page.get_by_text("on the line: idle"))
    # On some plates a feel that asks for a count comes first, or a knob that is at its end.
    counted = page.get_by_text("spread then").or_(page.get_by_text(re.compile(r"^Leave .* there\.$")))
    for _ in range(3):
        with keeping(page):
            page.get_by_role("button", name="Practice: read for me").click()
        if counted.is_visible():
            break
    expect(counted).to_be_visible()
    leave(page)


def test_escape_stops_at_once_and_recovering_asks_to_home(desk_page: Page) -> None:
    page = desk_page
    run = take(page, "Wren")
    visit(page, f"{run}/offset")
    page.get_by_role("button", name="Step down to the gauge at the centre").click()
    expect(page.get_by_text("waits for you").or_(page.get_by_text("on the line: busy"))).to_be_visible()
    # Neither a dialog with the caret in its field nor a browser without a network holds it up.
    page.evaluate("window.dispatchEvent(new Event('offline'))")
    page.keyboard.press("Control+k")
    expect(page.get_by_role("dialog").get_by_role("textbox")).to_be_focused()
    page.keyboard.press("Escape")
    expect(page.get_by_role("alert")).to_contain_text("The position is unknown", timeout=60_000)
    page.get_by_role("button", name="I have looked: recover it").click()
    # The machine is its own again before it is left: the next one to take it finds it so.
    expect(page.get_by_text("on the line: idle")).to_be_visible(timeout=60_000)
    expect(page.get_by_text("every axis runs to its stop (home)")).to_be_visible(timeout=60_000)
    leave(page)


def test_a_machine_that_goes_silent_is_said_with_what_to_do(desk_page: Page, address: str) -> None:
    page = desk_page
    run = take(page, "Wren")
    run_id = run.rsplit("/", 1)[1]
    httpx.post(f"{address}/api/runs/{run_id}/practice/fault", json={"name": "drop"})
    expect(page.get_by_role("alert")).to_contain_text("gone from the line", timeout=60_000)
    expect(page.get_by_role("heading", name="Tip clean")).to_be_visible()  # work by hand goes on
    page.get_by_role("button", name="Connect again").click()
    expect(page.get_by_text("position unknown")).to_be_visible(timeout=60_000)
    leave(page)


def test_a_wrong_line_is_said_beside_the_form_and_keeps_what_was_typed(desk_page: Page) -> None:
    page = desk_page
    start_run(page, "Bittern")
    page.get_by_role("button", name="where and how").click()
    page.get_by_label("Line: a device").fill("over there")
    page.get_by_role("button", name="Take Bittern on the line").click()
    expect(page.get_by_role("alert")).to_contain_text("Give a serial device")
    expect(page.get_by_label("Line: a device")).to_have_value("over there")


def test_a_proof_is_streamed_nudged_and_cancelled_on_a_phone(desk_page: Page, address: str) -> None:
    page = desk_page
    page.set_viewport_size({"width": 390, "height": 844})
    run = take(page, "Heron")
    run_id = run.rsplit("/", 1)[1]
    with httpx.Client(base_url=address, timeout=120) as http:
        for station in ("tram", "offset"):
            for _ in range(60):
                seq = http.get(f"/api/runs/{run_id}/head").json()["seq"]
                body = {"id": f"{station}{seq}", "seen_seq": seq}
                if http.post(f"/api/runs/{run_id}/{station}/practice", json=body).status_code != 200:
                    break
    visit(page, f"{run}/first_layer")
    page.get_by_role("button", name="Print the proof").click()
    expect(page.get_by_role("heading", name="patch 1")).to_be_visible(timeout=60000)
    page.get_by_role("button", name="further").click()
    expect(page.get_by_text("Nudged so far: 0.02 mm")).to_be_visible(timeout=60_000)
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    page.get_by_role("button", name="cancel after this move").click()
    expect(page.get_by_text("lifted and warm for the next try")).to_be_visible(timeout=60_000)
    stop = page.get_by_role("button", name="Stop", exact=True).bounding_box()
    assert stop["height"] >= 44
    assert stop["y"] < 200


def test_the_record_of_a_line_can_be_downloaded(desk_page: Page, tmp_path: Path) -> None:
    page = desk_page
    take(page, "Kestrel")
    with page.expect_download() as download:
        page.get_by_role("link", name="everything said").click()
    text = Path(download.value.path()).read_text()
    assert "sent" in text
    assert "heard" in text
    leave(page)
