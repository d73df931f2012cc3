"""Waiting for another process: the one place where tests look again after a moment."""

import threading
import time
from collections.abc import Callable

_PAUSE = threading.Event()  # never set: waiting for it is a pause between two looks


def until(what: Callable[[], object], why: Callable[[], str] = lambda: "", within: float = 90) -> None:
    """Look again and again until something is so. AssertionError with `why` after `within` seconds.

    `within` is generous as it is no expectation: it ends a test that would hang otherwise.
    """
    end = time.monotonic() + within
    while not what():
        assert time.monotonic() < end, f"not so within {within:g} s. {why()}"
        _PAUSE.wait(0.02)
