"""What happens beside the page: other tabs, lost answers, no network, files, wrong addresses."""

import re

from playwright.sync_api import Browser, Page, Route, expect

from tests.browser.answering import counted

from .conftest import press, start_run, visit


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
    # A machine's address alone leads to its logbook.
    visit(desk_page, f"{address}/machines/heron")
    expect(desk_page).to_have_url(f"{address}/machines/heron/logbook")
    visit(desk_page, f"{address}/machines/nobody")
    expect(desk_page.get_by_text("nobody").first).to_be_visible()


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
    expect(page.get_by_text("bed 57°")).to_be_visible()
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
    expect(page.get_by_text("bed 57°")).to_be_visible()
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
