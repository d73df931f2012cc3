"""A progress line on standard error: only on a terminal, redrawn in place, gone when it is done."""

import sys
import time
from typing import TextIO

_EVERY = 0.1  # seconds between redraws


class Progress:
    """How far a piece of work is. `total` in the unit of `advance`; 0 when it is not known."""

    def __init__(self, what: str, total: int, stream: TextIO | None = None) -> None:
        self.what = what
        self.total = total
        self.done = 0
        self.note = ""
        self._stream = stream or sys.stderr
        self._shown = self._stream.isatty()
        self._last = 0.0
        self._began = time.monotonic()

    def advance(self, by: int, note: str = "") -> None:
        self.done += by
        self.note = note
        if self._shown and time.monotonic() - self._last > _EVERY:
            self._draw()

    def _draw(self) -> None:
        self._last = time.monotonic()
        if self.total:
            share = min(1.0, self.done / self.total)
            took = self._last - self._began
            left = f", {took / share - took:.0f} s left" if 0.02 < share < 1 and took > 1 else ""
            bar = "█" * round(share * 24) + "░" * (24 - round(share * 24))
            text = f"{self.what} {bar} {share:4.0%} {self.note}{left}"
        else:
            text = f"{self.what} {self.note}"
        print(f"\r\x1b[2K{text}", end="", file=self._stream, flush=True)

    def close(self) -> None:
        """Take the line away."""
        if self._shown and self._last:
            print("\r\x1b[2K", end="", file=self._stream, flush=True)
