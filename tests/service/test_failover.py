"""A transaction whose server goes away is tried again, and done once, whenever that happens."""

import socket
import threading
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field

import pytest
from sqlalchemy import Connection, text
from sqlalchemy.engine import make_url

from rust_gauge.store.engine import Store, StoreUnavailable
from tests.conftest import World

COMMIT = b"\x03COMMIT"  # the whole statement: READ COMMITTED has the word, too


@dataclass
class Link:
    """One connection through the cutter."""

    client: socket.socket
    server: socket.socket
    is_cut: bool = False
    is_done: threading.Event = field(default_factory=threading.Event)

    def end(self) -> None:
        """End both sides at once: closing alone would wait for the thread that reads."""
        for each in (self.client, self.server):
            with suppress(OSError):
                each.shutdown(socket.SHUT_RDWR)
            each.close()


class Cutter:
    """Stands between a client and MariaDB, and cuts connections at a statement: before the server has it, or after."""

    def __init__(self, port: int) -> None:
        self._server_port = port
        self._listener = socket.create_server(("127.0.0.1", 0))
        self.port = self._listener.getsockname()[1]
        self.cuts: list[tuple[bytes, bool]] = []  # (in which message of the client, whether the server gets it)
        self.refuses = False
        threading.Thread(target=self._accept, daemon=True).start()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                client, _ = self._listener.accept()
                if self.refuses:
                    client.close()
                    continue
                server = socket.create_connection(("127.0.0.1", self._server_port))
                link = Link(client, server)
                threading.Thread(target=self._answers, args=(link,), daemon=True).start()
                threading.Thread(target=self._asks, args=(link,), daemon=True).start()

    def _asks(self, link: "Link") -> None:
        with suppress(OSError):
            while octets := link.client.recv(65536):
                if self.cuts and self.cuts[0][0] in octets:
                    _, arrives = self.cuts.pop(0)
                    if arrives:
                        link.is_cut = True  # before the server can answer
                        link.server.sendall(octets)
                        link.is_done.wait(60)
                    link.end()
                    return
                link.server.sendall(octets)
            link.end()

    def _answers(self, link: "Link") -> None:
        with suppress(OSError):
            while octets := link.server.recv(65536):
                if link.is_cut:  # the server has done what it was asked, and nobody hears of it
                    link.is_done.set()
                    return
                link.client.sendall(octets)

    def close(self) -> None:
        self._listener.close()


@pytest.fixture
def cutter(world: World) -> Iterator[Cutter]:
    made = Cutter(world.database.port)
    yield made
    made.close()


@pytest.fixture
def store(world: World, cutter: Cutter) -> Iterator[Store]:
    made = Store(str(make_url(world.database.url).set(port=cutter.port).render_as_string(False)), patience=20)
    with world.context.store.engine.begin() as connection:
        connection.execute(text("CREATE TABLE IF NOT EXISTS tally (n INT NOT NULL PRIMARY KEY)"))
        connection.execute(text("DELETE FROM tally"))
    yield made
    made.close()
    with world.context.store.engine.begin() as connection:
        connection.execute(text("DROP TABLE tally"))


def tallied(world: World) -> int:
    with world.context.store.engine.connect() as connection:
        return int(connection.scalar(text("SELECT COUNT(*) FROM tally")) or 0)


def count_up(connection: Connection) -> int:
    """Add one: done twice it shows."""
    connection.execute(text("INSERT INTO tally SELECT COALESCE(MAX(n), 0) + 1 FROM tally"))
    return int(connection.scalar(text("SELECT MAX(n) FROM tally")) or 0)


@pytest.mark.parametrize("arrives", [False, True])
@pytest.mark.parametrize("at", [b"INSERT INTO tally", b"SELECT MAX", b"INSERT INTO unit_of_work", COMMIT])
def test_a_transaction_is_done_once_wherever_its_connection_ends(
    world: World, store: Store, cutter: Cutter, at: bytes, arrives: bool
) -> None:
    assert store.transaction(count_up) == 1
    cutter.cuts = [(at, arrives)]
    assert store.transaction(count_up) == 2
    assert cutter.cuts == []
    assert tallied(world) == 2


def test_it_is_done_once_though_the_question_what_became_of_it_is_cut_off_too(
    world: World, store: Store, cutter: Cutter
) -> None:
    store.ping()  # a new connection commits its isolation level
    cutter.cuts = [(COMMIT, True), (b"SELECT id FROM unit_of_work", True), (b"SELECT id FROM unit_of_work", False)]
    assert store.transaction(count_up) == 1
    assert (cutter.cuts, tallied(world)) == ([], 1)


def test_what_only_reads_leaves_no_trace(world: World, store: Store, cutter: Cutter) -> None:
    def units() -> int:
        with world.context.store.engine.connect() as connection:
            return int(connection.scalar(text("SELECT COUNT(*) FROM unit_of_work")) or 0)

    before = units()
    cutter.cuts = [(b"SELECT COUNT", True)]
    assert store.transaction(lambda c: c.scalar(text("SELECT COUNT(*) FROM tally"))) == 0
    assert units() == before
    store.transaction(count_up)
    assert units() == before + 1


def test_a_database_that_stays_away_is_unavailable_in_the_end(world: World, cutter: Cutter, store: Store) -> None:
    hasty = Store(store.url, patience=0.5)
    cutter.refuses = True
    with pytest.raises(StoreUnavailable) as caught:
        hasty.transaction(count_up)
    assert caught.value.remedy.startswith("Nothing was stored")
    hasty.close()


def test_without_patience_a_lost_commit_is_not_called_undone(world: World, cutter: Cutter, store: Store) -> None:
    single = Store(store.url)
    single.ping()
    cutter.cuts = [(COMMIT, True)]
    with pytest.raises(StoreUnavailable) as caught:
        single.transaction(count_up)
    assert caught.value.remedy.startswith("Whether it was stored is not known")
    single.close()
