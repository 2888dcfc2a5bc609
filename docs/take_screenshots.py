"""Refresh docs/screenshots from the demo workshop: `make shots`. One picture per main view."""

import re
import shutil
import socket
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path

import httpx
from playwright.sync_api import Browser, sync_playwright

SHOTS = Path(__file__).parent / "screenshots"
HERON = {"machine_id": "heron", "plate_id": "heron-steel", "filament_id": "pla-white", "gauge_id": "copy-paper"}
KESTREL = {"machine_id": "kestrel", "plate_id": "kestrel-smooth", "filament_id": "pla-white", "gauge_id": "copy-paper"}


class Walk:
    """A run walked through the API, so that each picture shows real work."""

    def __init__(self, http: httpx.Client, run: str, start: dict[str, str]) -> None:
        self.http, self.run, self.machine = http, run, start["machine_id"]
        http.post("/api/runs", json=start | {"id": run, "initials": "mk"})

    def _post(self, path: str, body: dict) -> bool:
        seq = self.http.get(f"/api/runs/{self.run}/head").json()["seq"]
        body = {"id": f"{self.run}-{seq + 1}", "seen_seq": seq} | body
        return self.http.post(f"/api/runs/{self.run}/{path}", json=body).status_code == 200

    def keep(self, station: str, **what: object) -> None:
        assert self._post(station, {"what": what}), what

    def practise(self, station: str, times: int = 40) -> None:
        for _ in range(times):
            if not self._post(f"{station}/practice", {}):
                break

    def step(self, station: str) -> str:
        return str(self.http.get(f"/api/runs/{self.run}/{station}").json()["step"])

    # Over the line

    def line(self, tell: str, body: dict | None = None) -> None:
        self.http.post(f"/api/machines/{self.machine}/line/{tell}", json=body)

    def until(self, true: Callable[[dict], bool]) -> None:
        while not true(self.http.get(f"/api/machines/{self.machine}/line").json()):
            time.sleep(0.05)

    def start(self, station: str, job: str) -> None:
        self.http.post(f"/api/runs/{self.run}/line/start", json={"id": job, "station": station, "job": job})


def shoot(
    browser: Browser,
    url: str,
    name: str,
    *,
    width: int = 1280,
    height: int = 800,
    dark: bool = False,
    scroll: bool = False,
) -> None:
    context = browser.new_context(
        viewport={"width": width, "height": height}, color_scheme="dark" if dark else "light", reduced_motion="reduce"
    )
    page = context.new_page()
    page.add_init_script("localStorage.setItem('initials', 'mk')")
    page.goto(url)
    page.get_by_role("heading").first.wait_for()
    page.wait_for_timeout(700)
    if scroll:
        page.get_by_role("img", name="Height by temperature").scroll_into_view_if_needed()
    page.screenshot(path=SHOTS / f"{name}.png")
    context.close()


def talk(browser: Browser, http: httpx.Client, address: str) -> None:
    """Wren's manner, begun from nothing: a few words taught, its answers caught, then proved with the one it has."""
    http.post("/api/manners", json={"id": "wren-own", "name": "Wren's own", "convention": "home_offset", "by": "mk"})
    version, at = 1, f"{address}/machines/wren/talk"

    def teach(word: str, **shown: object) -> None:
        nonlocal version
        body = {"shown": shown, "seen_version": version, "by": "mk"}
        version = http.put(f"/api/manners/wren-own/words/{word}", json=body).json()["view"]["version"]

    for word, line in (
        ("line.stop", "DARK"),
        ("line.recover", "LIGHT"),
        ("does.temperatures", "WARM"),
        ("does.where", "AT"),
    ):
        teach(word, told=[{"values": {}, "line": line}])
    teach("does.heat_bed", told=[{"values": {"celsius": 62}, "line": "M140 S62"}])
    teach("does.move", told=[{"values": {"x": 30.25, "y": 40.5, "feed": 3000}, "line": "G0 X30.25 Y40.5 F3000"}])
    text = http.post("/api/machines/wren/line/catch", json={"word": "says.temperatures", "manner": "wren-own"}).json()[
        "text"
    ]
    found = list(re.finditer(r"\d+(?:\.\d+)?", text))
    fields = ("bed", "bed_target", "tip", "tip_target")
    pointed = {f: {"start": m.start(), "end": m.end()} for f, m in zip(fields, found, strict=False)}
    teach("says.temperatures", said=[{"text": text, "pointed": pointed}])
    shoot(browser, f"{at}?manner=wren-own&word=says.temperatures", "talk-teach")
    # A whole one, begun from the manner it has, is proved.
    http.post(
        "/api/manners",
        json={
            "id": "wren-lantern",
            "name": "Wren's Lantern",
            "start_from": "lantern",
            "convention": "home_offset",
            "by": "mk",
        },
    )
    http.put("/api/machines/wren/manner", json={"manner": "wren-lantern"})
    http.post("/api/machines/wren/line/connect", json={})
    until_idle = lambda: http.get("/api/machines/wren/line").json()["state"] in ("idle", "waiting")  # noqa: E731
    for step in ("hello", "error", "where", "stop", "heat_bed", "heat_tip", "fan"):
        while not until_idle():
            time.sleep(0.05)
        http.post(f"/api/machines/wren/proving/{step}", json={"id": step, "by": "mk"})
        while (
            next(s for s in http.get("/api/machines/wren/proving").json()["steps"] if s["step"]["id"] == step)["proved"]
            is None
        ):
            http.post("/api/machines/wren/line/practice")
            time.sleep(0.05)
    while not until_idle():
        time.sleep(0.05)
    shoot(browser, f"{at}?page=prove", "talk-prove")
    http.post("/api/machines/wren/line/disconnect")


def main() -> None:
    with served("--fresh") as address:
        with_browser(lambda browser: stations(browser, address))
    # The bench and a logbook, with the past that the demo begins with.
    with served() as address:
        with_browser(lambda browser: past(browser, address))


def past(browser: Browser, address: str) -> None:
    shoot(browser, address, "bench")
    shoot(browser, f"{address}/machines/heron/logbook", "logbook")
    shoot(browser, f"{address}/machines/heron/gone-bad?look=one_side", "gone-bad", dark=True)
    with httpx.Client(base_url=address, timeout=60) as http:
        sent = http.post("/api/machines/heron/jobs", params={"name": "gasket-frame.gcode"}, content=gasket_frame())
    shoot(browser, f"{address}/machines/heron/job?job={sent.json()['id']}", "job")


def gasket_frame() -> str:
    """A job as Tidewater's people make it, with two things forgotten: waiting for the plate, and switching it off."""
    out = ["G21", "G90", "M83", "M104 S150", "M140 S57", "G28", "G1 Z5 F600", "M109 S206", "M106 S0"]
    for layer in range(1, 4):
        for inset in [0.42 * k for k in range(24)]:
            x0, y0, x1, y1 = 12 + inset, 14 + inset, 232 - inset, 222 - inset
            out += [f"G0 Z{0.2 * layer + 0.6:.2f} F600", f"G0 X{x0:.2f} Y{y0:.2f} F7200", f"G0 Z{0.2 * layer:.2f} F600"]
            for x, y, side in ((x1, y0, x1 - x0), (x1, y1, y1 - y0), (x0, y1, x1 - x0), (x0, y0, y1 - y0)):
                out.append(f"G1 X{x:.2f} Y{y:.2f} E{side * 0.0338:.4f} F1200")
    return "\n".join([*out, "G1 E-2 F1800", "G0 Z30 F600", "M104 S0", "M84"]) + "\n"


def with_browser(shots: Callable[[Browser], None]) -> None:
    with sync_playwright() as p:
        browser = p.chromium.launch(
            executable_path=shutil.which("chromium-headless-shell") or shutil.which("chromium"),
            args=[
                "--no-sandbox",
                "--disable-gpu",
                "--disable-background-networking",
                "--disable-features=WebUIOmniboxPopup,WebUIOmniboxAimPopup",
            ],
        )
        shots(browser)
        browser.close()


@contextmanager
def served(*options: str) -> Iterator[str]:
    """The demo on a free port, in a folder of its own."""
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        port = free.getsockname()[1]
    server = subprocess.Popen(
        [sys.executable, "-m", "ivory_table.cli", "demo", *options, "--data", tempfile.mkdtemp(), "--port", str(port)],
        stdout=subprocess.DEVNULL,
    )
    address = f"http://127.0.0.1:{port}"
    for _ in range(200):
        try:
            httpx.get(f"{address}/api/bench", timeout=20)
            break
        except httpx.TransportError:
            time.sleep(0.1)
    yield address
    server.kill()


def stations(browser: Browser, address: str) -> None:
    http = httpx.Client(base_url=address, timeout=20)
    at = f"{address}/runs/shots"
    heron = next(k["machine"] for k in http.get("/api/setup").json()["machines"] if k["machine"]["id"] == "heron")
    screws = heron["screws"]
    walk = Walk(http, "shots", HERON)
    for check in ("tip_clean", "plate_clean"):
        walk.keep("prepare", kind="check_done", check=check, outcome="done")
    for caution in ("hot", "solvent", "lift", "descent", "below_zero", "first_loop", "mains"):
        walk.keep("prepare", kind="caution_seen", caution=caution)
    walk.keep(
        "prepare",
        kind="heated",
        bed_c=57,
        nozzle_c=150,
        held_since=(datetime.now(UTC) - timedelta(minutes=7)).isoformat(),
    )
    shoot(browser, f"{at}/prepare", "prepare")
    walk.practise("tram", 3)
    shoot(browser, f"{at}/tram", "tram-count")
    shoot(browser, f"{at}/tram", "tram-phone", width=390, height=844)
    walk.practise("tram")
    walk.keep("mesh", kind="mesh_planned", columns=5, rows=5, owns_zero=True)
    walk.practise("mesh", 4)
    walk.practise("mesh")
    shoot(browser, f"{at}/mesh", "mesh-kept")
    walk.practise("offset", 1)
    shoot(browser, f"{at}/offset", "offset")
    walk.practise("offset")
    walk.keep("first_layer", kind="tool_told", tool="caliper", here=False)
    walk.practise("first_layer", 6)
    shoot(browser, f"{at}/first_layer", "first-layer-judge")
    walk.practise("first_layer")
    shoot(browser, f"{at}/first_layer", "first-layer-decide")
    shoot(browser, f"{at}/recipe", "first-layer-settings")
    shoot(browser, f"{at}/sign_off", "sign-off")
    study = Walk(http, "study", HERON)
    for caution in ("hot", "solvent"):
        study.keep("prepare", kind="caution_seen", caution=caution)
    places = [("centre", 122, 118, 0.09), *((s["name"], s["x_mm"], s["y_mm"], 0.01) for s in screws)]
    for place, x, y, rise in places:
        for c in (22, 35, 50, 65, 80):
            height = round(rise * (c - 22) / 58 * (1 + 0.2 * (c > 50)), 3)
            one = {"place": place, "x_mm": x, "y_mm": y, "bed_c": c, "height_mm": height, "held_min": 10}
            study.keep("prepare", kind="thermal_read", reading=one)
    study.keep("prepare", kind="school_chosen", school="cold")
    shoot(browser, f"{address}/runs/study/prepare", "thermal", scroll=True)
    shoot(browser, f"{address}/setup?shelf=machines&id=heron", "set-up")
    line = Walk(http, "line", KESTREL)
    line.line("connect", {})
    line.until(lambda now: now["state"] == "idle")
    for caution in ("hot", "lift", "first_loop"):
        line.keep("prepare", kind="caution_seen", caution=caution)
    line.practise("tram", 1)
    line.start("tram", "visit")
    line.until(lambda now: now["state"] == "waiting")
    shoot(browser, f"{address}/runs/line/tram", "line-tram")
    line.line("cancel")
    line.until(lambda now: now["state"] == "idle")
    line.practise("tram")
    line.practise("offset")
    line.start("first_layer", "print")
    line.until(lambda now: "patch 2" in now["words"])
    shoot(browser, f"{address}/runs/line/first_layer", "line-print")
    line.line("stop")
    talk(browser, http, address)


if __name__ == "__main__":
    main()
