"""Whose turn it is when several loads are read at once."""

import threading
from collections.abc import Iterator

from rust_gauge.service.intake import turns
from tests.waiting import until


class Loads:
    """Loads that are read side by side; `read` is the order of their pieces."""

    def __init__(self) -> None:
        self.read: list[str] = []
        self.threads: list[threading.Thread] = []

    def begin(self, name: str, pieces: int, first: threading.Event | None = None) -> None:
        """`first`: its first piece takes until this is set."""

        def all_pieces() -> Iterator[None]:
            for number in range(pieces):
                self.read.append(name)
                if number == 0 and first is not None:
                    assert first.wait(60)
                yield

        self.threads.append(threading.Thread(target=turns.take, args=(all_pieces(), pieces)))
        self.threads[-1].start()

    def end(self) -> str:
        for thread in self.threads:
            thread.join(60)
            assert not thread.is_alive()
        return "".join(self.read)


def order_of(*others: tuple[str, int], first: int) -> str:
    """The order in which pieces are read when these loads come while the first piece of `a` is read."""
    loads, go_on = Loads(), threading.Event()
    loads.begin("a", first, go_on)
    until(lambda: loads.read == ["a"])
    for name, pieces in others:
        waiting = turns.waiting()
        loads.begin(name, pieces)
        until(lambda seen=waiting: turns.waiting() > seen)
    go_on.set()
    return loads.end()


def test_a_load_that_is_being_read_is_read_to_its_end_before_others_as_big() -> None:
    assert order_of(("b", 5), first=5) == "aaaaabbbbb"


def test_a_small_load_does_not_wait_for_a_big_one() -> None:
    assert order_of(("b", 1), first=8) == "abaaaaaaa"


def test_a_big_load_has_its_turn_although_small_ones_keep_coming() -> None:
    loads, go_on = Loads(), threading.Event()

    def small(left: int) -> Iterator[None]:
        loads.read.append("s")
        if left:  # the next one comes while this one is read
            waiting = turns.waiting()
            loads.threads.append(threading.Thread(target=turns.take, args=(small(left - 1), 1)))
            loads.threads[-1].start()
            until(lambda: turns.waiting() > waiting)
        yield

    loads.begin("a", 5, go_on)
    until(lambda: loads.read == ["a"])
    loads.threads.append(threading.Thread(target=turns.take, args=(small(20), 1)))
    loads.threads[-1].start()
    until(lambda: turns.waiting() == 1)
    go_on.set()
    order = loads.end()
    assert (order.count("a"), order.count("s")) == (5, 21)
    assert "s" in order[order.rindex("a") :], "it does not wait until no more come"


def test_one_that_waits_for_dns_lets_others_read_and_goes_on_afterwards() -> None:
    loads, go_on = Loads(), threading.Event()
    waits = threading.Event()

    def pieces() -> Iterator[None]:
        with turns.given_up():
            waits.set()
            assert go_on.wait(60)
        loads.read.append("a")
        yield

    thread = threading.Thread(target=turns.take, args=(pieces(), 1))
    thread.start()
    assert waits.wait(60)
    loads.begin("b", 2)
    until(lambda: loads.read == ["b", "b"])
    go_on.set()
    thread.join(60)
    assert loads.end() == "bba"
