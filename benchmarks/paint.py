"""How fast the page is on a phone: first paint, an answer shown, and whether anything jumps while answering.

Chromium's own performance entries on a throttled profile. `python -m benchmarks.paint` prints one line for each figure.
"""

import shutil
import statistics
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright
from tests.conftest import serving

#: A modest phone on the workshop's own network: a quarter of this machine's speed, 20 Mbit/s, 20 ms.
SLOWER = 4
NETWORK = {"offline": False, "latency": 20, "downloadThroughput": 2.5e6, "uploadThroughput": 1.25e6}
ANSWERS = 8

#: Notes layout shifts, and for each answer the time from the end of its reply to the next frame that shows it.
WATCH = """
window.shifts = [];
new PerformanceObserver((list) => {
  for (const e of list.getEntries()) window.shifts.push({ value: e.value, at: e.startTime, soon: e.hadRecentInput });
}).observe({ type: "layout-shift", buffered: true });
window.shown = [];
let seq = null;
const look = () => {
  const kept = document.querySelector('[data-testid="kept"]');
  const now = kept && kept.getAttribute("data-seq");
  if (now !== null && now !== seq) {
    const posts = performance.getEntriesByType("resource").filter((e) => e.name.includes("/practice"));
    const last = posts.length ? posts[posts.length - 1].responseEnd : 0;
    if (seq !== null && last) window.shown.push(performance.now() - last);
    seq = now;
  }
  requestAnimationFrame(look);
};
requestAnimationFrame(look);
"""


def measure(page: Page, address: str) -> dict[str, float]:
    """Figures of one walk through a few tram answers."""
    cdp = page.context.new_cdp_session(page)
    cdp.send("Network.enable")
    cdp.send("Network.emulateNetworkConditions", NETWORK)
    cdp.send("Emulation.setCPUThrottlingRate", {"rate": SLOWER})
    page.add_init_script(WATCH)
    page.goto(address)
    expect(page.get_by_role("heading").first).to_be_visible()
    paint = page.evaluate("performance.getEntriesByName('first-contentful-paint')[0].startTime")
    body = {"id": "paint", "machine_id": "heron", "plate_id": "heron-steel", "gauge_id": "copy-paper", "initials": "pt"}
    page.request.post(f"{address}/api/runs", data=body | {"filament_id": "pla-white"})
    page.goto(f"{address}/runs/paint/tram")
    expect(page.locator('[data-station="tram"]')).to_be_visible()
    station = page.evaluate("performance.getEntriesByName('first-contentful-paint')[0].startTime")
    page.get_by_role("button", name="understood").first.click()
    began = page.evaluate("performance.now()")
    for _ in range(ANSWERS):
        seq = page.get_by_test_id("kept").get_attribute("data-seq") or ""
        page.keyboard.press("p")
        expect(page.get_by_test_id("kept")).not_to_have_attribute("data-seq", seq)
    shifts = page.evaluate("(began) => window.shifts.filter((s) => s.at > began)", began)
    shown = page.evaluate("window.shown")
    return {
        "first paint of the bench, ms": paint,
        "first paint of a station, ms": station,
        "reply to shown, median ms": statistics.median(shown),
        "reply to shown, worst ms": max(shown),
        # What moves within half a second of a key is what the key asked for: said apart from what moves by itself.
        "layout shift by itself": sum(s["value"] for s in shifts if not s["soon"]),
        "layout shift after a key": sum(s["value"] for s in shifts if s["soon"]),
    }


def main() -> None:
    with tempfile.TemporaryDirectory() as folder, serving(Path(folder)) as address, sync_playwright() as p:
        found = shutil.which("chromium-headless-shell") or shutil.which("chromium")
        browser = p.chromium.launch(executable_path=found, args=["--no-sandbox", "--disable-gpu"])
        page = browser.new_context(viewport={"width": 390, "height": 844}, has_touch=True, is_mobile=True).new_page()
        for name, value in measure(page, address).items():
            print(f"{name:32} {value:8.3f}")
        browser.close()


if __name__ == "__main__":
    main()
