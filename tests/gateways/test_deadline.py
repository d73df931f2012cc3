"""A server that answers one octet at a time ends with the call, not with its patience."""

import contextlib
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import pytest

from rust_gauge.gateways import mail_folders
from rust_gauge.gateways.deadline import Deadline, Smtp, http_client
from rust_gauge.gateways.mail_folders import FolderError, read_imap


@contextmanager
def dripping(first: bytes, drop: bytes) -> Iterator[int]:
    """Yield the port of a server that sends `first`, and then `drop` again and again, a little later each time."""
    listener = socket.create_server(("127.0.0.1", 0))
    over = threading.Event()

    def serve() -> None:
        while not over.is_set():
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            with connection:
                try:
                    connection.sendall(first)
                    while not over.wait(0.02):
                        connection.sendall(drop)
                except OSError:
                    continue

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    try:
        yield listener.getsockname()[1]
    finally:
        over.set()
        listener.close()
        thread.join(10)


@pytest.mark.parametrize(
    "first", [b"HTTP/1.1 200 OK\r\nX-A: ", b"HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\n\r\n5\r\n"]
)
def test_an_answer_over_http_that_never_ends_is_given_up(first: bytes) -> None:
    with (
        dripping(first, b"a") as port,
        http_client(ssl.create_default_context(), timeout=10, total=0.5) as client,
        pytest.raises(httpx.HTTPError),
    ):
        client.post(f"http://127.0.0.1:{port}/", content=b"x")


@pytest.mark.parametrize("first", [b"220 ", b"220-a\r\n", b"220 ok\r\n250-"])
def test_a_greeting_that_never_ends_is_given_up(first: bytes) -> None:
    drop = b"a" if first == b"220 " else b"220-a\r\n" if first.startswith(b"220-") else b"x"
    with (
        dripping(first, drop) as port,
        pytest.raises(OSError),  # TimeoutError, or what smtplib makes of it
        Smtp("127.0.0.1", port, "here.example", timeout=10, total=0.5) as session,
    ):
        session.ehlo()


def test_a_deadline_bounds_each_step_and_then_ends() -> None:
    deadline = Deadline(60)
    assert deadline.left(5) == 5
    assert 0 < deadline.left() <= 60
    with pytest.raises(TimeoutError):
        Deadline(0).left()


@pytest.mark.parametrize(("first", "drop"), [(b"* ", b"a"), (b"* OK ready\r\n", b"* OK wait\r\n")])
def test_a_mailbox_that_never_ends_is_given_up(first: bytes, drop: bytes) -> None:
    with dripping(first, drop) as port, pytest.raises(FolderError, match=r"took too long|timed out|abort|line"):
        read_imap("127.0.0.1", port, False, "u", "p", "INBOX", {}, timeout=10, total=0.5)


def test_what_was_read_of_a_mailbox_until_the_deadline_is_a_batch(monkeypatch: pytest.MonkeyPatch) -> None:
    """The second message never ends: the first is returned, and the next call goes on behind it."""
    listener = socket.create_server(("127.0.0.1", 0))
    passed = threading.Event()  # the deadline: when the second message stops in its middle, whatever the machine does

    class Passing(Deadline):
        def left(self, most: float | None = None) -> float:
            if passed.is_set():
                raise TimeoutError("the call took too long")
            return 60.0

    monkeypatch.setattr(mail_folders, "Deadline", Passing)

    def serve() -> None:
        connection, _ = listener.accept()
        with contextlib.suppress(OSError), connection, connection.makefile("rb") as lines:
            connection.sendall(b"* OK ready\r\n")
            for line in lines:
                tag, _, command = line.decode().partition(" ")
                if command.startswith("EXAMINE"):
                    connection.sendall(b"* 2 EXISTS\r\n* OK [UIDVALIDITY 7] x\r\n")
                elif command.startswith("UID SEARCH"):
                    connection.sendall(b"* SEARCH 4 5\r\n")
                elif command.startswith("UID FETCH 4"):
                    connection.sendall(b"* 1 FETCH (UID 4 BODY[] {3}\r\nabc)\r\n")
                elif command.startswith("UID FETCH 5"):
                    connection.sendall(b"* 2 FETCH (UID 5 BODY[] {30}\r\nabc")
                    passed.set()
                    connection.sendall(b"d")  # wakes a read that began before
                    continue
                elif command.startswith("CAPABILITY"):
                    connection.sendall(b"* CAPABILITY IMAP4rev1\r\n")
                connection.sendall(f"{tag} OK done\r\n".encode())

    thread = threading.Thread(target=serve, daemon=True)
    thread.start()
    batch = read_imap("127.0.0.1", listener.getsockname()[1], False, "u", "p", "INBOX", {})
    listener.close()
    thread.join(10)
    assert ([raw for raw, _ in batch.messages], batch.position, batch.more) == (
        [b"abc"],
        {"uid": 4, "validity": 7},
        True,
    )
