"""Slow and many clients: they lose their connection, and nobody else notices."""

import asyncio
import errno
import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import pytest
import uvicorn

from rust_gauge.service.http import accepting
from rust_gauge.service.http.accepting import Acceptor
from rust_gauge.service.http.connections import Connections, connections_for
from tests.conftest import running
from tests.waiting import until


@contextmanager
def serving(connections: Connections) -> Iterator[tuple[str, int]]:
    """Yield the address of a small service with these limits."""

    async def app(scope: Any, receive: Any, send: Any) -> None:
        if scope["type"] != "http":
            return
        size = 0
        while True:
            message = await receive()
            size += len(message.get("body", b""))
            if message["type"] == "http.disconnect" or not message.get("more_body"):
                break
        await send({"type": "http.response.start", "status": 200, "headers": []})
        await send({"type": "http.response.body", "body": str(size).encode()})

    config = uvicorn.Config(
        app, host="127.0.0.1", port=0, http=connections.protocol(), lifespan="off", log_level="error"
    )
    server = uvicorn.Server(config)
    thread = running(server)
    try:
        yield "127.0.0.1", server.servers[0].sockets[0].getsockname()[1]
    finally:
        server.should_exit = True
        thread.join(20)


def is_closed(connection: socket.socket) -> bool:
    connection.setblocking(False)
    try:
        return connection.recv(1000) == b""
    except BlockingIOError:
        return False
    except OSError:
        return True


@pytest.mark.parametrize(
    "begun",
    [
        b"",
        b"GET / HT",
        b"GET / HTTP/1.1\r\nHost: a\r\nX-Long: ",
        b"POST / HTTP/1.1\r\nHost: a\r\nContent-Length: 9\r\n\r\nab",
    ],
)
def test_who_stops_in_the_middle_is_cut_off(begun: bytes) -> None:
    with serving(Connections(header=0.2, body=0.2)) as (host, port):
        slow = [socket.create_connection((host, port)) for _ in range(50)]
        for each in slow:
            each.sendall(begun)
        assert httpx.post(f"http://{host}:{port}/", content=b"abc").text == "3"
        until(lambda: all(is_closed(each) for each in slow))
        for each in slow:
            each.close()


def test_octet_after_octet_of_a_header_buys_no_time() -> None:
    with serving(Connections(header=0.3)) as (host, port):
        slow = socket.create_connection((host, port))
        slow.sendall(b"GET / HTTP/1.1\r\nX: ")
        over = threading.Event()

        def drip() -> None:
            while not over.wait(0.02):
                try:
                    slow.sendall(b"a")
                except OSError:
                    return

        thread = threading.Thread(target=drip, daemon=True)
        thread.start()
        until(lambda: not thread.is_alive())
        over.set()
        slow.close()


def test_requests_one_after_the_other_are_served_on_one_connection() -> None:
    with serving(Connections(header=5, body=5)) as (host, port), httpx.Client() as client:
        for size in (0, 10, 300_000, 1):
            assert client.post(f"http://{host}:{port}/", content=b"x" * size).text == str(size)


def test_one_address_has_a_limit_and_a_proxy_has_none() -> None:
    limits = Connections(most=10)
    with serving(limits) as (host, port):
        held = [socket.create_connection((host, port)) for _ in range(30)]
        until(lambda: sum(is_closed(each) for each in held) == 20)
        for each in held:
            each.close()
        until(lambda: not limits.open)
        assert httpx.get(f"http://{host}:{port}/").text == "0"
    limits = connections_for(["192.0.2.0/24"])
    limits.open["192.0.2.7"] = limits.open["198.51.100.7"] = 1000
    assert not limits.limited("192.0.2.7")
    assert limits.limited("198.51.100.7")


def test_addresses_take_turns_when_many_connections_wait() -> None:
    """One connection of a quiet address is not behind the five hundred of a busy one."""
    made: list[str] = []

    class Notes(asyncio.Protocol):
        def connection_made(self, transport: Any) -> None:
            made.append(transport.get_extra_info("peername")[0])
            transport.abort()

    async def flood() -> None:
        listening = socket.create_server(("127.0.0.1", 0), backlog=1024)
        port = listening.getsockname()[1]
        acceptor = Acceptor(listening, Notes)
        # The loop does not run meanwhile: all of them wait in the kernel, the quiet one last.
        clients = [
            socket.create_connection(("127.0.0.1", port), source_address=(source, 0))
            for source in ["127.0.0.2"] * 250 + ["127.0.0.3"] * 250 + ["127.0.0.4"]
        ]
        while len(made) < len(clients):
            await asyncio.sleep(0)
        acceptor.close()
        await acceptor.wait_closed()
        for each in clients:
            each.close()
        with pytest.raises(OSError):
            socket.create_connection(("127.0.0.1", port))

    asyncio.run(asyncio.wait_for(flood(), 60))
    assert made.index("127.0.0.4") <= 2
    assert made.count("127.0.0.2") == made.count("127.0.0.3") == 250


def test_handshakes_that_never_end_count_for_the_limit() -> None:
    """With TLS a connection is served after its handshake only; those that wait for it are limited before."""
    limits = Connections(most=5)

    async def held() -> int:
        listening = socket.create_server(("127.0.0.1", 0), backlog=100)
        tls = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        acceptor = Acceptor(listening, asyncio.Protocol, tls, limits.limited)
        clients = [socket.create_connection(listening.getsockname()) for _ in range(50)]
        while sum(is_closed(each) for each in clients) < 45:
            await asyncio.sleep(0)
        held = sum(not is_closed(each) for each in clients)
        for each in clients:
            each.close()
        acceptor.close()
        await acceptor.wait_closed()
        return held

    assert asyncio.run(asyncio.wait_for(held(), 60)) == 5


def test_a_service_without_file_descriptors_accepts_again_once_it_has_some(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(accepting, "_PAUSE", 0.01)

    class Poor(socket.socket):
        refusals = 3

        def accept(self) -> Any:
            if self.refusals:
                self.refusals -= 1
                raise OSError(errno.EMFILE, "Too many open files")
            return super().accept()

    async def served() -> bytes:
        listening = Poor()
        listening.bind(("127.0.0.1", 0))

        class Hello(asyncio.Protocol):
            def connection_made(self, transport: Any) -> None:
                transport.write(b"hello")
                transport.close()

        acceptor = Acceptor(listening, Hello)
        reader, writer = await asyncio.open_connection(*listening.getsockname())
        said = await reader.read()
        writer.close()
        acceptor.close()
        return said

    assert asyncio.run(asyncio.wait_for(served(), 60)) == b"hello"
