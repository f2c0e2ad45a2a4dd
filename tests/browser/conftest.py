"""The real page in Debian's Chromium."""

from collections.abc import Iterator
from typing import Any

import pytest
from ops.screenshots import launch
from playwright.sync_api import Browser, Page, Playwright, expect

from tests.conftest import Server

expect.set_options(timeout=60_000)


@pytest.fixture(scope="session")
def browser(playwright: Playwright) -> Iterator[Browser]:
    started = launch(playwright)
    yield started
    started.close()


@pytest.fixture
def page(browser: Browser, server: Server) -> Iterator[Page]:
    """The start page, on a demo of the test's own."""
    yield from _opened(browser, server)


@pytest.fixture
def view(browser: Browser, shared_server: Server) -> Iterator[Page]:
    """The start page, for tests that only look: the demo is shared, and nothing may be changed."""
    yield from _opened(browser, shared_server)


def _opened(browser: Browser, server: Server) -> Iterator[Page]:
    """Seen by a person with a name; no error of a script passes unseen, and nothing is asked of any other machine."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=server.address)
    opened = context.new_page()
    errors: list[str] = []
    opened.on("pageerror", lambda error: errors.append(str(error)))
    opened.on("request", lambda request: _stay(request.url, server.address, errors))
    opened.add_init_script("localStorage.setItem('kind-echo.person', 'Nora F.')")
    opened.goto("/")
    yield opened
    context.close()
    assert errors == []


def _stay(url: str, address: str, errors: list[str]) -> None:
    if not url.startswith((address, "data:", "blob:")):
        errors.append(f"asked for {url}")


def axe(page: Page) -> list[Any]:
    """What axe-core finds against WCAG 2.2 A and AA."""
    from ops.stack import PROJECT

    # Evaluated, not added as a tag: the page's own policy rightly refuses a script that is not its own.
    page.evaluate((PROJECT / "frontend/node_modules/axe-core/axe.min.js").read_text())
    tags = "{runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']}"
    found = page.evaluate(f"axe.run(document, {tags}).then(r => r.violations)")
    return [(v["id"], [node["html"][:160] for node in v["nodes"]]) for v in found]
