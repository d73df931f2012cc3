"""The heartbeat: a server that is slow is not taken for one that is gone, and one that says nothing is found out."""

import socket
import threading

import pytest

from rust_gauge.store import heartbeat as module
from rust_gauge.store.engine import Store, StoreUnavailable
from rust_gauge.store.heartbeat import CUT_AFTER, NOT_READY_AFTER, REFUSE_AFTER, Heartbeat
from rust_gauge.store.migrate import newest_revision
from tests.conftest import World
from tests.waiting import until


class Now:
    """A clock that a test can turn."""

    def __init__(self) -> None:
        self.seconds = 100.0

    def __call__(self) -> float:
        return self.seconds


def test_it_knows_the_schema_of_a_database_that_answers(world: World) -> None:
    beat = Heartbeat(world.context.store, Now())
    assert beat.revision == ""
    beat.beat()
    assert beat.revision == newest_revision()
    assert not beat.is_silent()
    beat._close()


def test_the_age_of_the_open_question_says_how_it_is(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    now = Now()
    beat = Heartbeat(world.context.store, now)
    beat.beat()
    asked, answer = threading.Event(), threading.Event()

    def late() -> str:
        asked.set()
        assert answer.wait(30)
        return newest_revision()

    monkeypatch.setattr(beat, "_ask", late)
    thread = threading.Thread(target=beat.beat)
    thread.start()
    assert asked.wait(30)
    shown = []
    for seconds in (0.0, NOT_READY_AFTER + 0.1, REFUSE_AFTER + 0.1):
        now.seconds = 100.0 + seconds
        shown.append((beat.revision != "", beat.is_silent()))
    assert shown == [(True, False), (False, False), (False, True)]
    answer.set()
    thread.join(30)
    assert (beat.revision, beat.is_silent()) == (newest_revision(), False)
    beat._close()


def test_a_database_that_never_answered_may_be_starting_and_is_not_refused() -> None:
    now = Now()
    store = Store("mysql+pymysql://u:p@127.0.0.1:1/x")
    beat = Heartbeat(store, now)
    beat.beat()
    now.seconds += 60
    beat.beat()
    assert not beat.is_silent()
    assert beat.revision == ""


def test_those_who_wait_for_a_silent_server_are_cut_off(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    """A transaction that waits for an answer gets an error, and later ones are refused without asking."""
    now, store = Now(), Store(world.database.url)
    beat = Heartbeat(store, now)
    beat.beat()
    store.is_silent = beat.is_silent
    ended: list[BaseException] = []

    def wait() -> None:
        try:
            store.transaction(lambda c: c.exec_driver_sql("SELECT SLEEP(60)"))
        except StoreUnavailable as error:
            ended.append(error)

    thread = threading.Thread(target=wait)
    thread.start()
    until(lambda: len(store.connections) == 1)

    def silent() -> str:
        now.seconds += CUT_AFTER
        raise TimeoutError

    monkeypatch.setattr(beat, "_ask", silent)
    until(lambda: beat.beat() or bool(ended))
    thread.join(30)
    assert ended
    with pytest.raises(StoreUnavailable, match="does not answer"):
        store.transaction(lambda c: None)
    store.is_silent = None
    store.close()


def test_signing_in_at_a_server_that_says_nothing_ends(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(module, "CUT_AFTER", 0.2)
    with socket.create_server(("127.0.0.1", 0)) as server:  # takes connections, and nothing else
        store = Store(f"mysql+pymysql://u:p@127.0.0.1:{server.getsockname()[1]}/x")
        beat = Heartbeat(store)
        beat.beat()
        assert beat.revision == ""
