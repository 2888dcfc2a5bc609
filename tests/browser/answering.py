"""What tests of the pages do again and again."""

import re

from playwright.sync_api import Locator, Page

from .conftest import keeping


def counted(page: Page) -> Locator:
    """What follows a count: so much further, or that this knob is left and the next screw asked for."""
    return page.get_by_role("heading", name="further").or_(page.get_by_text(re.compile(r"^Leave .* there\.$")))


def answer_until(page: Page, done: str, most: int = 40) -> None:
    """Press P until a heading says that this station is through. Every press waits for its row to be kept."""
    heading = page.get_by_role("heading", name=re.compile(done))
    for _ in range(most):
        if heading.count():
            return
        with keeping(page):
            page.keyboard.press("p")
    raise AssertionError(f"'{done}' did not come after {most} answers")
