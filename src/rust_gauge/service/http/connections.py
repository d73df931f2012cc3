"""Connections: how long a client may take to ask, and how many connections one address may have.

A client that sends a header octet by octet, or stops in the middle of a body, costs a connection and nothing else, and
not for long. Whoever reads an answer slowly holds no thread: answers are made before they are sent.
"""

import asyncio
import ipaddress
from collections import Counter
from typing import Any

import h11
from uvicorn.protocols.http.h11_impl import H11Protocol

from rust_gauge.service.runtime.principals import is_within

HEADER_WITHIN = 15.0  # seconds from the first octet of a request, or from connecting, to the end of its header
BODY_PAUSE = 30.0  # seconds without a single octet of a body that is not complete
MOST = 200  # connections of one address; a browser has six


class Connections:
    """What is shared by the connections of a service: how many there are from each address, and the limits."""

    def __init__(
        self, proxies: tuple[str, ...] = (), *, header: float = HEADER_WITHIN, body: float = BODY_PAUSE,
        most: int = MOST,
    ) -> None:  # fmt: skip
        self.proxies, self.header, self.body, self.most = proxies, header, body, most
        self.open: Counter[str] = Counter()

    def limited(self, address: str, pending: int = 0) -> bool:
        """Return whether an address has more connections than it may, counting these that are not open yet.

        Proxies bring those of everybody.
        """
        if self.proxies and is_within(address, self.proxies):
            return False
        return self.open[address] + pending > self.most

    def protocol(self) -> type[H11Protocol]:
        """Return the protocol of a connection, for uvicorn."""
        shared = self

        class Protocol(PatientProtocol):
            connections_of = shared

        return Protocol


class PatientProtocol(H11Protocol):
    """HTTP/1.1 with time-outs while a request comes in."""

    connections_of: Connections
    _timer: asyncio.TimerHandle | None = None
    _waits_for = ""

    def connection_made(self, transport: Any) -> None:
        super().connection_made(transport)
        address = self._address()
        self.connections_of.open[address] += 1
        if self.connections_of.limited(address):
            transport.abort()
            return
        self._wait_for("header")

    def connection_lost(self, exc: Exception | None) -> None:
        self._wait_for("")
        address, counts = self._address(), self.connections_of.open
        counts[address] -= 1
        if counts[address] <= 0:
            del counts[address]
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        super().data_received(data)
        state = self.conn.their_state
        if state is h11.SEND_BODY:
            self._wait_for("body")
        elif state is h11.IDLE:
            if self._waits_for != "header":  # the time runs from the first octet, whatever comes after it
                self._wait_for("header")
        else:
            self._wait_for("")

    def on_response_complete(self) -> None:
        """Leave an idle connection to the keep-alive of the server."""
        super().on_response_complete()
        if self._waits_for == "header" and self.conn.their_state is h11.IDLE and not self.conn.trailing_data[0]:
            self._wait_for("")

    def _address(self) -> str:
        return str(self.client[0]) if self.client else ""

    def _wait_for(self, what: str) -> None:
        if self._timer is not None:
            self._timer.cancel()
            self._timer = None
        self._waits_for = what
        seconds = {"header": self.connections_of.header, "body": self.connections_of.body}.get(what)
        if seconds is not None:
            self._timer = self.loop.call_later(seconds, self._give_up)

    def _give_up(self) -> None:
        if self._waits_for == "body" and self.flow is not None and self.flow.read_paused:
            self._wait_for("body")  # it is us who do not read
            return
        self.transport.abort()


def connections_for(proxies: list[str]) -> Connections:
    """Return the limits of a service behind these proxies."""
    return Connections(tuple(str(ipaddress.ip_network(proxy, strict=False)) for proxy in proxies))
