"""The twelve pieces of work, walked through on a real demo: in a browser, and by commands."""

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, expect, sync_playwright

from tests.console.conftest import FLAGS
from tests.days.demo import Demo, running_demo
from tests.days.pieces import PIECES, Piece
from tests.days.walking import Terminal, Walk


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    with running_demo(tmp_path_factory.mktemp("days")) as running:
        yield running


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        yield browser
        browser.close()


@pytest.mark.parametrize("piece", PIECES, ids=lambda piece: piece.file)
def test_a_piece_of_work_is_done_in_the_console(demo: Demo, browser: Browser, piece: Piece) -> None:
    expect.set_options(timeout=60_000)
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(60_000)
    errors: list[str] = []
    context.on("weberror", lambda error: errors.append(str(error.error)))
    signed = context.request.post(
        f"{demo.url}/api/v1/session", data={"email": demo.email, "password": demo.password}
    )  # fmt: skip
    assert signed.ok
    walk = Walk(context.new_page(), demo.url, demo.folder)
    piece.console(walk)
    context.close()
    assert walk.steps
    assert errors == []


@pytest.mark.parametrize("piece", PIECES, ids=lambda piece: piece.file)
def test_a_piece_of_work_is_done_by_commands(demo: Demo, piece: Piece) -> None:
    terminal = Terminal(demo.environment, demo.folder)
    piece.terminal(terminal)
    assert terminal.steps
