"""What a walk is made of: steps that are timed, in a browser page or by commands."""

import os
import re
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

from playwright.sync_api import Page, expect

_WAIT = 60.0  # seconds that a command may take


@dataclass(frozen=True, slots=True)
class Step:
    """One step: what a person does, and how long it took until the answer was there, in seconds."""

    what: str
    seconds: float


@dataclass
class Walk:
    """A walk through the console. `folder`: where the demo keeps its files."""

    page: Page
    url: str
    folder: Path
    steps: list[Step] = field(default_factory=list)
    pictures: Path | None = None

    @contextmanager
    def step(self, what: str) -> Iterator[Page]:
        """Time one step."""
        began = time.perf_counter()
        yield self.page
        self.steps.append(Step(what, time.perf_counter() - began))

    def open(self, path: str) -> None:
        """Open an address of the console."""
        self.page.goto(self.url + path)

    def sees(self, *texts: str) -> None:
        """Wait until the page shows each of these texts."""
        for text in texts:
            expect(self.page.get_by_text(text).first).to_be_visible()

    def picture(self, name: str) -> None:
        """Take a picture of the page as it is, if pictures are taken."""
        if self.pictures is not None:
            self.page.wait_for_load_state("networkidle")
            self.page.screenshot(path=self.pictures / f"{name}.png")


@dataclass
class Terminal:
    """A walk by commands, in the folder of the demo."""

    environment: dict[str, str]
    folder: Path
    steps: list[Step] = field(default_factory=list)

    def run(self, *words: str, says: str = "", status: int | tuple[int, ...] = 0) -> str:
        """Run `rustgauge` with these words; return what it wrote. Fails unless it says what matches, with this status."""
        began = time.perf_counter()
        done = subprocess.run(
            [Path(sys.executable).with_name("rustgauge"), *words], cwd=self.folder, timeout=_WAIT, text=True,
            env={**os.environ, **self.environment}, capture_output=True, check=False,
        )  # fmt: skip
        self.steps.append(Step(f"`rustgauge {' '.join(map(_quoted, words))}`", time.perf_counter() - began))
        said = done.stdout + done.stderr
        assert done.returncode in (status if isinstance(status, tuple) else (status,)), (
            f"rustgauge {' '.join(words)} gave {done.returncode}:\n{said}"
        )
        assert re.search(says, said), f"rustgauge {' '.join(words)} did not say {says!r}:\n{said}"
        return said


def _quoted(word: str) -> str:
    return f"'{word}'" if " " in word else word
