"""Loads take turns at reading.

Reading rows is work for the processor, of which a process of Python has one at a time: two loads that read at once only
hand it to and fro, and are slower than one after the other (by three times, measured). So they take turns, piece by
piece; while one waits for the database, or for DNS, another reads. No transaction is open meanwhile.

The next turn is for the load with the least left to read: of several big loads, one is finished first and is stored
while the next is read (with equal turns all would finish reading together, then all would wait for the database), and a
small load need not wait for big ones. Each turn that a load waits counts as one piece less, so that none starves.
"""

import contextlib
import threading
from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(eq=False, slots=True)
class _Load:
    left: int  # pieces
    passed_over: int = 0  # turns that others had while it waited


class _Turns:
    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._waiting: list[_Load] = []
        self._is_taken = False

    def begin(self, load: _Load) -> None:
        with self._changed:
            self._waiting.append(load)
            self._changed.wait_for(lambda: not self._is_taken and self._next() is load)
            self._waiting.remove(load)
            self._is_taken = True
            for other in self._waiting:
                other.passed_over += 1

    def end(self) -> None:
        with self._changed:
            self._is_taken = False
            self._changed.notify_all()

    def waiting(self) -> int:
        with self._changed:
            return len(self._waiting)

    def _next(self) -> _Load:
        return min(self._waiting, key=lambda load: load.left - load.passed_over)


_turns = _Turns()
_mine = threading.local()  # the load whose turn it is, in the thread that reads it


def take(pieces: Iterator[None], count: int) -> None:
    """Read all pieces, `count` of them, each only while no other load reads in this process."""
    load = _Load(count)
    while True:
        _turns.begin(load)
        _mine.load = load
        try:
            next(pieces)
        except StopIteration:
            return
        finally:
            _mine.load = None
            _turns.end()
        load.left -= 1
        load.passed_over = 0


@contextlib.contextmanager
def given_up() -> Iterator[None]:
    """Let other loads read while this one waits for DNS."""
    load: _Load | None = getattr(_mine, "load", None)
    if load is not None:
        _turns.end()
    try:
        yield
    finally:
        if load is not None:
            _turns.begin(load)


def waiting() -> int:
    """Return how many loads wait for their turn."""
    return _turns.waiting()
