"""A job checked in a browser: chosen, refused, found fault with, drawn, copied and compared."""

from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from playwright.sync_api import Page, expect

from ivory_table.api.app import create_app
from ivory_table.demo.past import remember
from ivory_table.demo.tidewater import furnish
from ivory_table.desk.desk import Desk
from ivory_table.store.workshop import Workshop
from tests.conftest import listening
from tests.jobs import DIALECTS, made

from .conftest import serious


@pytest.fixture
def address(tmp_path: Path) -> Iterator[str]:
    workshop = Workshop(tmp_path / "workshop.db")
    furnish(workshop)
    remember(workshop, tmp_path / "practice", datetime.now(UTC))
    with listening(create_app(Desk(workshop))) as at:
        yield at
    workshop.close()


@pytest.fixture
def files(tmp_path: Path) -> dict[str, Path]:
    clean, bad = made(DIALECTS[0]), made(DIALECTS[1], tip_c=215.0)
    bad.without("bed off")
    bad.without("home")
    written = {"clean.gcode": clean.text().encode(), "bad.gcode": bad.text().encode(), "other.bin": b"MZ\x00\x00"}
    for name, body in written.items():
        (tmp_path / name).write_bytes(body)
    return {name: tmp_path / name for name in written}


def test_a_job_is_checked_drawn_copied_and_compared(desk_page: Page, address: str, files: dict[str, Path]) -> None:
    page = desk_page
    page.get_by_role("button", name="Heron").click()
    page.get_by_role("link", name="check a job").click()
    choose = page.get_by_label("Choose the program, or drop it here")
    choose.set_input_files(files["other.bin"])
    expect(page.get_by_text("This is no text.")).to_be_visible()
    choose.set_input_files(files["clean.gcode"])
    expect(page.get_by_role("heading", name="Nothing in it is against this machine.")).to_be_visible()
    expect(page.get_by_role("img", name="The first layer of clean.gcode")).to_be_visible()
    assert serious(page) == []
    page.get_by_text("save a mended copy").click()
    page.get_by_role("button", name="Save the copy").click()
    expect(page.get_by_text("Say what is to be done otherwise.")).to_be_visible()
    page.get_by_label("first layer speed, %").fill("fast")
    page.get_by_role("button", name="Save the copy").click()
    expect(page.get_by_text("Give a number for")).to_be_visible()
    page.get_by_label("first layer speed, %").fill("70")
    page.get_by_label("move right by, mm").fill("400")
    page.get_by_role("button", name="Save the copy").click()
    expect(page.get_by_text("it would leave the plate")).to_be_visible()
    page.get_by_label("move right by, mm").fill("10")
    with page.expect_download() as download:
        page.get_by_role("button", name="Save the copy").click()
    assert download.value.suggested_filename == "clean-copy.gcode"
    text = Path(download.value.path()).read_text()
    assert text.startswith(
        "; clean.gcode: a copy made by Ivory Table, moved by X+10 Y+0, first layer speed 70 percent\n"
    )
    assert "\nPACE S70\n" in text
    page.get_by_label("turn to the left by, °").fill("90")
    page.get_by_label("begin it as our own programs begin").check()
    with page.expect_download() as download:
        page.get_by_role("button", name="Save the copy").click()
    text = Path(download.value.path()).read_text()
    assert "this machine's own start, turned by 90 degrees" in text.splitlines()[0]
    assert "; left out: G28" in text
    choose.set_input_files(files["bad.gcode"])
    expect(page.get_by_role("heading", name="Do not print it as it is.")).to_be_visible()
    found = page.get_by_role("list", name="What was found")
    expect(found).to_contain_text("It lays before it has homed")
    expect(found).to_contain_text("The plate stays hot")
    page.get_by_label("Hold it against another one").select_option(index=1)
    expect(page.get_by_text("What differs: ")).to_be_visible()
    assert serious(page) == []
    page.set_viewport_size({"width": 390, "height": 844})
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
