"""The mesh by mouse and keys: pasted, felt, doubted."""

import re

import pytest
from playwright.sync_api import Page, expect

from .conftest import press, start_run, visit


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
