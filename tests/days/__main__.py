"""Walk through the twelve pieces on a fresh demo and write steps, seconds and pictures: `python -m tests.days`."""

import os
import platform
import sys
import tempfile
from collections.abc import Sequence
from datetime import UTC, datetime
from pathlib import Path

from playwright.sync_api import sync_playwright

from tests.console.conftest import FLAGS
from tests.days.demo import Demo, running_demo
from tests.days.pieces import PIECES, Piece
from tests.days.walking import Step, Terminal, Walk

DOCS = Path(__file__).resolve().parents[2] / "docs" / "days"
_BEGIN, _END = "<!-- steps -->", "<!-- /steps -->"


def main() -> int:
    with tempfile.TemporaryDirectory(prefix="days-") as folder, running_demo(Path(folder)) as demo:
        for piece in PIECES:
            # The console first: a walk by commands may change what the page shows.
            write(piece, in_console(demo, piece), in_terminal(demo, piece))
            print(f"{piece.file} done", flush=True)
    return 0


def in_console(demo: Demo, piece: Piece) -> list[Step]:
    """Walk in a browser of its own; return the steps."""
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=FLAGS)
        context = browser.new_context(viewport={"width": 1280, "height": 800})
        context.request.post(f"{demo.url}/api/v1/session", data={"email": demo.email, "password": demo.password})
        walk = Walk(context.new_page(), demo.url, demo.folder, pictures=DOCS)
        piece.console(walk)
        browser.close()
    return walk.steps


def in_terminal(demo: Demo, piece: Piece) -> list[Step]:
    """Walk by commands; return the steps."""
    terminal = Terminal(demo.environment, demo.folder)
    piece.terminal(terminal)
    return terminal.steps


def write(piece: Piece, console: Sequence[Step], terminal: Sequence[Step]) -> None:
    """Put the steps into the page of a piece, in place of those before."""
    page = DOCS / f"{piece.file}.md"
    before, _, rest = page.read_text().partition(_BEGIN)
    _, _, after = rest.partition(_END)
    measured = f"Measured {datetime.now(UTC):%Y-%m-%d} on {_machine()}, each step until its answer was there."
    parts = [
        _BEGIN, "", *_table("In the console", console), "", *_table("By commands", terminal), "", measured, "", _END
    ]  # fmt: skip
    page.write_text(before + "\n".join(parts) + after)


def _table(title: str, steps: Sequence[Step]) -> list[str]:
    whole = sum(step.seconds for step in steps)
    rows = [f"| {step.what.replace('|', chr(92) + '|')} | {step.seconds:.1f} |" for step in steps]
    return [f"| {title}: {len(steps)} steps, {whole:.1f} s | s |", "|---|---|", *rows]


def _machine() -> str:
    return f"{os.cpu_count()} processors, Python {platform.python_version()}"


if __name__ == "__main__":
    sys.exit(main())
