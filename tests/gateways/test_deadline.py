"""A server that answers one octet at a time ends with the call, not with its patience."""

import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager

import httpx
import pytest

from rust_gauge.gateways.deadline import Deadline, Smtp, http_client


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
