"""Coming in, as each role sees the page, and the doors as a real browser meets them."""

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, Route, expect

from kind_echo.bench.accounts import add_person
from kind_echo.database.sessions import transaction
from tests.browser.conftest import axe, opened, signed_in
from tests.conftest import Server, serving
from tests.signing import link_for, person

_PASSWORD = "a lantern over the wet slipway"


@pytest.fixture
def stranger(browser: Browser, shared_server: Server, seen: str) -> Iterator[Page]:
    """A browser in which nobody has signed in."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=shared_server.address)
    yield context.new_page()
    context.close()


def test_a_link_lets_in_once_a_password_is_chosen_and_used(stranger: Page) -> None:
    with transaction() as session:
        secret = add_person(session, "Juno B.", "look", who="test", now=datetime.now(UTC)).secret
    stranger.goto(f"/sign-in#{secret}")
    expect(stranger.get_by_role("heading", name="Welcome, Juno B.")).to_be_visible()
    assert axe(stranger) == []
    stranger.get_by_label("Your new password").fill(_PASSWORD)
    stranger.get_by_role("button", name="Choose and sign in").click()
    expect(stranger.get_by_role("button", name="Signed in as Juno B.")).to_be_visible()
    assert secret not in stranger.url
    stranger.get_by_role("button", name="Signed in as Juno B.").click()
    before = stranger.context.cookies()
    stranger.get_by_role("menuitem", name="Sign out").click()
    stranger.get_by_label("Name").fill("juno b.")
    stranger.context.add_cookies(before)  # type: ignore[arg-type]  # as an answer that was on its way may bring them
    stranger.get_by_label("Password").fill("wrong")
    stranger.get_by_role("button", name="Sign in").click()
    expect(stranger.get_by_role("alert")).to_have_text("The name or the password is not right.")
    stranger.get_by_label("Password").fill(_PASSWORD)
    stranger.get_by_role("button", name="Sign in").click()
    expect(stranger.get_by_role("table", name="All runs, newest first")).to_be_visible()
    stranger.goto(f"/sign-in#{secret}")
    expect(stranger.get_by_role("alert")).to_contain_text("This link is not valid")


def test_who_is_not_signed_in_sees_the_way_in_and_then_what_they_wanted(stranger: Page) -> None:
    stranger.goto("/references")
    expect(stranger.get_by_role("heading", name="Sign in")).to_be_visible()
    assert axe(stranger) == []
    expect(stranger.get_by_role("navigation")).to_have_count(0)
    cookies = stranger.context.cookies()
    assert [(one["httpOnly"], one["sameSite"], one["secure"]) for one in cookies] == [(True, "Strict", False)]
    assert stranger.evaluate("document.cookie") == ""
    stranger.goto(f"/sign-in#{link_for('Tove L.')}")
    expect(stranger.get_by_role("button", name="Signed in as Tove L.")).to_be_visible()


def test_who_may_look_is_offered_nothing_else(browser: Browser, shared_server: Server, seen: str) -> None:
    person("Rook P.", "look")
    visits = opened(browser, shared_server, signed_in(browser, shared_server, "Rook P."))
    page = next(visits)
    expect(page.get_by_role("table", name="All runs, newest first")).to_be_visible()
    expect(page.get_by_role("button", name="Start")).to_have_count(0)
    page.get_by_role("table", name="All runs").get_by_role("link", name="2.1.0-rc2").first.click()
    expect(page.get_by_text("of 72 cells need review")).to_be_visible()
    page.keyboard.press(".")
    expect(page.get_by_role("region", name="Chosen cell")).to_contain_text("Fail")
    for key in ("a", "d"):
        page.keyboard.press(key)
    expect(page.get_by_role("dialog")).to_have_count(0)
    for name in ("Decide", "Approve", "Render again", "Render all again"):
        expect(page.get_by_role("button", name=name, exact=True)).to_have_count(0)
    page.goto("/people")
    expect(page.get_by_text("You cannot manage accounts.")).to_be_visible()
    visits.close()  # type: ignore[attr-defined]


def test_people_and_tokens_are_kept_on_one_page(page: Page) -> None:
    page.get_by_role("button", name="Signed in as Nora F.").click()
    page.get_by_role("menuitem", name="People and tokens").click()
    page.get_by_role("textbox", name="Name", exact=True).fill("Juno B.")
    page.get_by_role("button", name="Add", exact=True).click()
    shown = page.get_by_role("region", name="Shown once")
    expect(shown).to_contain_text("With this link Juno B. can sign in once")
    expect(shown.locator("code")).to_have_text(re.compile(r"^http://127\.0\.0\.1:\d+/sign-in#\S{43}$"))
    row = page.get_by_role("row", name=re.compile("Juno B."))
    row.get_by_role("button", name="Disable").click()
    expect(row).to_contain_text("disabled")
    keeper = page.get_by_role("row", name=re.compile("^Nora F."))
    keeper.get_by_role("button", name="Disable").click()
    expect(keeper.get_by_role("alert")).to_contain_text("is the last administrator")
    page.get_by_role("textbox", name="Program").fill("nightly builds")
    page.get_by_role("button", name="Make", exact=True).click()
    expect(shown.locator("code")).to_have_text(re.compile("^kindecho_"))
    shown.get_by_role("button", name="Done").click()
    assert axe(page) == []
    program = page.get_by_role("row", name=re.compile("nightly builds"))
    program.get_by_role("button", name="Revoke").click()
    expect(program).to_contain_text("revoked by Nora F.")


def test_another_page_can_change_nothing_and_frame_nothing(page: Page, browser: Browser, server: Server) -> None:
    """A page of another origin in the same browser: its requests carry no session, and its frame stays empty."""
    before = page.evaluate("fetch('/api/acts/latest').then(r => r.text())")
    other = page.context.new_page()
    other.route("http://elsewhere.test/", lambda route: route.fulfill(body="<p>", content_type="text/html"))
    other.goto("http://elsewhere.test/")
    sent = other.evaluate(
        "url => fetch(url, {method: 'POST', mode: 'no-cors', credentials: 'include', body: '{}'})"
        ".then(r => r.type, () => 'refused')",
        f"{server.address}/api/acts/1/undo",
    )
    assert sent in ("opaque", "refused")
    readable = other.evaluate(
        "url => fetch(url, {credentials: 'include'}).then(() => true, () => false)", f"{server.address}/api/runs"
    )
    assert readable is False
    framed = other.evaluate(
        "url => new Promise(done => { const f = document.createElement('iframe'); f.src = url;"
        "f.onload = () => done(f.contentDocument === null); document.body.append(f); })",
        server.address,
    )
    assert framed is True
    assert "Runs" not in other.frames[-1].content()
    assert page.evaluate("fetch('/api/acts/latest').then(r => r.text())") == before


def test_it_works_under_a_path_behind_a_proxy(browser: Browser, shared_copy: str, seen: str, tmp_path: Path) -> None:
    """The browser asks a proxy that takes the path off; what the proxy adds, any proxy of the trade can be told to."""
    with serving(shared_copy, tmp_path, worker=False, KIND_ECHO_PROXIES="1") as running:
        context = browser.new_context()
        outside: list[str] = []

        def forward(route: Route) -> None:
            path = route.request.url.removeprefix("https://bench.test/echo")
            if path.endswith("/events"):
                route.abort()  # a stream; the page polls without it
                return
            said = {"X-Forwarded-Prefix": "/echo", "X-Forwarded-Proto": "https", "X-Forwarded-Host": "bench.test",
                    "X-Forwarded-For": "127.0.0.1"}  # fmt: skip
            route.fulfill(response=route.fetch(url=running.address + path, headers=route.request.headers | said))

        context.route("https://bench.test/echo/**", forward)
        page = context.new_page()
        page.on("request", lambda asked: None if "/echo/" in asked.url else outside.append(asked.url))
        page.goto(f"https://bench.test/echo/sign-in#{link_for('Nora F.')}")
        expect(page.get_by_role("table", name="All runs, newest first")).to_be_visible()
        page.get_by_role("table", name="All runs").get_by_role("link", name="2.1.0-rc2").first.click()
        expect(page.get_by_text("of 72 cells need review")).to_be_visible()
        assert page.url.startswith("https://bench.test/echo/runs/")
        page.reload()
        expect(page.get_by_text("of 72 cells need review")).to_be_visible()
        cookie = next(one for one in context.cookies() if one["name"] == "kind_echo")
        assert (cookie["path"], cookie["secure"]) == ("/echo/", True)
        assert [url for url in outside if not url.startswith(("data:", "blob:"))] == []
        context.unroute_all(behavior="ignoreErrors")  # the page goes on polling: one may be on its way
        context.close()


def test_the_policy_stops_a_script_that_is_not_the_pages_own(view: Page) -> None:
    ran = view.evaluate(
        "() => { const s = document.createElement('script'); s.textContent = 'window.ran = true';"
        "document.body.append(s); return window.ran === true }"
    )
    assert ran is False
    refused = view.evaluate("fetch('http://192.0.2.1/').then(() => false, () => true)")
    assert refused is True


def test_a_name_that_would_be_a_script_is_shown_as_it_is(page: Page) -> None:
    name = "<img src=x onerror=document.title='taken'>"
    made = page.evaluate(
        "name => fetch('/api/me').then(r => r.json()).then(me => fetch('/api/signals', {method: 'POST',"
        "headers: {'Content-Type': 'application/json', 'X-CSRFToken': me.forgery_token},"
        "body: JSON.stringify({name, request: {kind: 'bells'}})})).then(r => r.status)",
        name,
    )
    assert made == 201
    page.get_by_role("link", name="Signals").click()
    expect(page.get_by_text(name, exact=True).first).to_be_visible()
    assert page.locator("img[src=x]").count() == 0
    assert page.title() == "Kind Echo"


def test_a_session_that_ends_shows_the_way_in(page: Page, server: Server) -> None:
    page.get_by_role("link", name="References").click()
    expect(page.get_by_role("table")).to_be_visible()
    page.wait_for_load_state("networkidle")
    page.context.clear_cookies()
    page.get_by_role("link", name="Signals").click()
    expect(page.get_by_role("heading", name="Sign in")).to_be_visible()
