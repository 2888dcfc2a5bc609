"""Debian's Chromium, headless, and a page that tells on every foreign request and every complaint."""

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest
from playwright.sync_api import Error, Page, expect

from tests.conftest import serving

# A shared machine may take its time: what is waited for is a condition, and this is only its limit.
PATIENCE_MS = 60_000
expect.set_options(timeout=PATIENCE_MS)
AXE = Path(__file__).parents[2] / "web/node_modules/axe-core/axe.min.js"


@pytest.fixture
def address(tmp_path: Path) -> Iterator[str]:
    """A workshop of its own for each test: what a machine has learnt in one is not known in the next."""
    with serving(tmp_path) as at:
        yield at


#: Of the whole Chromium: its own interface is drawn by renderers that take most of a core beside the page under test.
#: The last such list counts, so what Playwright leaves out for good reasons is named again.
NOT_WANTED = (
    "WebUIOmniboxPopup,WebUIOmniboxAimPopup,PaintHolding,HttpsUpgrades,HttpsFirstBalancedModeAutoEnable,MediaRouter,"
    "OptimizationHints,LensOverlay,DestroyProfileOnBrowserClose,AvoidUnnecessaryBeforeUnloadCheckSync,"
    "ThirdPartyStoragePartitioning,NetworkTimeServiceQuerying,PreconnectToSearch"
)


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict:
    return {
        "executable_path": shutil.which("chromium-headless-shell") or shutil.which("chromium"),
        "args": [
            "--no-sandbox",
            "--disable-gpu",
            "--disable-background-networking",
            "--disable-component-update",
            f"--disable-features={NOT_WANTED}",
        ],
    }


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict) -> dict:
    return browser_context_args | {"viewport": {"width": 1280, "height": 800}, "reduced_motion": "reduce"}


@pytest.fixture
def desk_page(page: Page, address: str) -> Iterator[Page]:
    """A page on the bench. Afterwards: nothing left the machine, nothing was complained of."""
    foreign: list[str] = []
    complaints: list[str] = []
    page.on("request", lambda r: None if r.url.startswith((address, "data:", "blob:")) else foreign.append(r.url))
    page.on("pageerror", lambda e: complaints.append(str(e)))
    page.on(
        "console", lambda m: complaints.append(m.text) if m.type == "error" and "status of 4" not in m.text else None
    )
    page.set_default_timeout(PATIENCE_MS)
    visit(page, address)
    yield page
    assert foreign == []
    assert complaints == []


def serious(page: Page) -> list[str]:
    """Serious findings of axe-core on the page as it stands."""
    # Given to the page as the browser's own tool, past its policy, as a person's reader would be.
    page.evaluate(AXE.read_text() + "; undefined")
    found = page.evaluate("axe.run(document, {resultTypes: ['violations']})")
    return [
        f"{v['id']}: {n['html'][:120]}"
        for v in found["violations"]
        if v["impact"] in ("serious", "critical")
        for n in v["nodes"]
    ]


def until(page: Page, holds: str, given: object = None) -> object:
    """Wait until `holds`, a function of `given` in the page's own words, is true; what it says then.

    The page itself tells of every change: whoever asks again and again comes late, and takes the time of what is tested.
    """
    script = f"""given => new Promise((done, fail) => {{
        const holds = {holds}
        const look = () => {{ const said = holds(given); if (said) {{ seen.disconnect(); done(said) }} }}
        const seen = new MutationObserver(look)
        seen.observe(document, {{ subtree: true, childList: true, attributes: true, characterData: true }})
        setTimeout(() => fail(new Error(`it did not come true: ${{holds}}, ${{JSON.stringify(given)}}`)), {PATIENCE_MS})
        look()
    }})"""
    while True:
        try:
            return page.evaluate(script, given)
        except Error as gone:
            # The page went elsewhere while it was looked at; what is waited for may be there.
            if "Execution context was destroyed" not in gone.message:
                raise


_SLIP = "document.querySelector('section[aria-label=\"What to do now\"]')"
_READY = f"({_SLIP}?.ariaBusy === 'false' && !{_SLIP}.querySelector('[aria-busy=true]'))"


@contextmanager
def keeping(page: Page) -> Iterator[None]:
    """What is done within is waited for: until its row is kept and the next step can be answered."""
    seq = "document.querySelector('[data-seq]')?.dataset.seq"
    before = until(page, f"() => {_READY} && {seq}")
    yield
    until(page, f"before => {_READY} && ({seq} ?? before) !== before", before)


def ready(page: Page) -> None:
    """Wait until the step at hand can be answered: it may be drawn an instant before."""
    until(page, f"() => {_READY}")


def visit(page: Page, url: str) -> None:
    """Go to an address, and wait until what belongs there is shown."""
    page.goto(url)
    shown(page)


def shown(page: Page) -> None:
    """Wait until a page is there, and no longer the sentence that it is coming."""
    until(page, "() => document.querySelector('main') && !document.querySelector('main[aria-busy=true]')")


def press(page: Page, key: str) -> None:
    """A key once the step at hand can be answered: while an answer is being kept, another is passed over."""
    ready(page)
    page.keyboard.press(key)


def at_station(page: Page, station: str) -> None:
    """Wait until a station's own page stands there, and its step can be answered."""
    until(page, f"station => {_SLIP}?.dataset.station === station && {_READY}", station)


def start_run(page: Page, machine: str, initials: str = "mk") -> str:
    """Start a run from the bench by mouse; its address."""
    page.get_by_role("button", name=machine).click()
    # The slip of the machine that was shown before goes, with whatever is typed into it.
    page.get_by_label("Start a run").get_by_role("heading", name=machine).wait_for()
    page.get_by_label("Your initials").fill(initials)
    page.get_by_role("button", name="Start a new run").click()
    page.get_by_role("heading", name="Tip clean").wait_for()
    return page.url.rsplit("/", 1)[0]
