"""The real page in Debian's Chromium."""

from collections.abc import Iterator
from typing import Any

import pytest
from ops.screenshots import launch
from ops.visiting import Visitor
from playwright.sync_api import Browser, Page, Playwright, StorageState, ViewportSize, expect

from tests.conftest import Server, point_at
from tests.signing import link_for

expect.set_options(timeout=60_000)


@pytest.fixture(scope="session")
def browser(playwright: Playwright) -> Iterator[Browser]:
    started = launch(playwright)
    yield started
    started.close()


@pytest.fixture
def page(browser: Browser, server: Server) -> Iterator[Page]:
    """The start page, on a demo of the test's own."""
    yield from opened(browser, server, signed_in(browser, server))


@pytest.fixture
def view(browser: Browser, shared_server: Server, shared_visit: StorageState) -> Iterator[Page]:
    """The start page, for tests that only look: the demo is shared, and nothing may be changed."""
    yield from opened(browser, shared_server, shared_visit)


@pytest.fixture(scope="session")
def shared_visit(browser: Browser, shared_server: Server) -> StorageState:
    """One session for all tests that only look."""
    point_at(shared_server.database)
    return signed_in(browser, shared_server)


def signed_in(browser: Browser, server: Server, name: str = "Nora F.") -> StorageState:
    """The cookies of a person who has come in by a link."""
    context = browser.new_context()
    Visitor(context, server.address).sign_in(link_for(name))
    state = context.storage_state()
    context.close()
    return state


def opened(browser: Browser, server: Server, state: StorageState) -> Iterator[Page]:
    """Seen by who is signed in; no error of a script passes unseen, and nothing is asked of any other machine."""
    size: ViewportSize = {"width": 1280, "height": 800}
    context = browser.new_context(viewport=size, base_url=server.address, storage_state=state)
    shown = context.new_page()
    errors: list[str] = []
    shown.on("pageerror", lambda error: errors.append(str(error)))
    shown.on("request", lambda request: _stay(request.url, server.address, errors))
    shown.goto("/")
    yield shown
    context.close()
    assert errors == []


def _stay(url: str, address: str, errors: list[str]) -> None:
    if not url.startswith((address, "data:", "blob:")):
        errors.append(f"asked for {url}")


def axe(page: Page, *, colours_alone: bool = False) -> list[Any]:
    """What axe-core finds against WCAG 2.2 A and AA; of what hangs on colours alone, for the second of two themes."""
    from ops.stack import PROJECT

    # Evaluated, not added as a tag: the page's own policy rightly refuses a script that is not its own.
    page.evaluate((PROJECT / "frontend/node_modules/axe-core/axe.min.js").read_text())
    by_colour = "['color-contrast', 'link-in-text-block']"
    rules = by_colour if colours_alone else "['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa']"
    found = page.evaluate(f"axe.run(document, {{runOnly: {rules}}}).then(r => r.violations)")
    return [(v["id"], [node["html"][:160] for node in v["nodes"]]) for v in found]


def choose_option(page: Page, name: str, option: str) -> None:
    """Choose one of what a closed list offers, and leave it: while it has the focus, keys are for it."""
    closed = page.get_by_role("combobox", name=name)
    closed.click()
    page.get_by_role("option", name=option, exact=True).click()
    expect(closed).to_be_focused()  # it takes the focus back a moment after the choice
    closed.blur()
