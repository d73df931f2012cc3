"""Debian's headless Chromium on the console that the service serves."""

from collections.abc import Iterator
from datetime import UTC, datetime

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.conftest import PASSWORD, Office, World

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


@pytest.fixture(scope="module")  # not longer: while it is open, its event loop runs in this thread
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield browser
        browser.close()


@pytest.fixture(autouse=True)
def real_today(world: World) -> Iterator[None]:
    """The service's clock at the real now: the browser counts days back from it."""
    kept, world.clock.now = world.clock.now, datetime.now(UTC)
    yield
    world.clock.now = kept


@pytest.fixture
def visit(browser: Browser, office: Office) -> Iterator[BrowserContext]:
    """A browser of its own that nobody is signed in with. Fails the test on any script error."""
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=office.world.url)
    errors: list[str] = []
    context.on("weberror", lambda error: errors.append(str(error.error)))
    context.set_default_timeout(60_000)
    expect.set_options(timeout=60_000)
    yield context
    context.close()
    assert errors == []


@pytest.fixture
def page(visit: BrowserContext, office: Office) -> Page:
    """A page of somebody who is signed in."""
    answer = visit.request.post("/api/v1/session", data={"email": office.email, "password": PASSWORD})
    assert answer.ok
    return visit.new_page()
