"""Accepting connections: addresses take turns, so that two thousand clients that come at once hold up nobody else.

Taking a connection from the kernel costs some microseconds, making a protocol of it fifty times as much. So all that
wait are taken at once, and each address then gets one connection at a time.
"""

import asyncio
import errno
import socket
import ssl
from collections import Counter, OrderedDict, deque
from collections.abc import Callable
from typing import Any

TAKEN_AT_ONCE = 512  # connections taken from the kernel before anything else has its turn
MADE_AT_ONCE = 16  # protocols made before anything else has its turn
_QUEUE = 2048  # connections that wait in the kernel
_HANDSHAKE_WITHIN = 15.0  # seconds for TLS
_PAUSE = 1.0  # seconds until the next attempt when the process has no file descriptors left
_FULL = (errno.EMFILE, errno.ENFILE, errno.ENOBUFS, errno.ENOMEM)


class Acceptor:
    """Accepts for one listening socket, on the event loop that runs. Closes like a server of asyncio."""

    def __init__(
        self, listening: socket.socket, protocol: Callable[[], asyncio.Protocol], tls: ssl.SSLContext | None = None,
        limited: Callable[[str, int], bool] = lambda _address, _pending: False,
    ) -> None:  # fmt: skip
        """`limited` says whether an address with so many connections that are not open yet has too many."""
        self._listening, self._protocol, self._tls, self._limited = listening, protocol, tls, limited
        self._pending: Counter[str] = Counter()  # waiting here or in the middle of a handshake, by address
        self._waiting: OrderedDict[str, deque[socket.socket]] = OrderedDict()
        self._loop = asyncio.get_running_loop()
        self._making: set[asyncio.Task[Any]] = set()
        self._scheduled = False
        listening.listen(_QUEUE)
        listening.setblocking(False)
        self._listen()

    @property
    def sockets(self) -> tuple[socket.socket, ...]:
        return (self._listening,) if self._listening.fileno() >= 0 else ()

    def close(self) -> None:
        """Accept no more; connections that nobody has served yet are closed."""
        if self._listening.fileno() < 0:
            return
        self._loop.remove_reader(self._listening.fileno())
        self._listening.close()
        for connections in self._waiting.values():
            for each in connections:
                each.close()
        self._waiting.clear()

    async def wait_closed(self) -> None:
        if self._making:
            await asyncio.wait(self._making)

    def _listen(self) -> None:
        if self._listening.fileno() >= 0:
            self._loop.add_reader(self._listening.fileno(), self._take)

    def _take(self) -> None:
        for _ in range(TAKEN_AT_ONCE):
            try:
                connection, address = self._listening.accept()
            except BlockingIOError:
                break
            except OSError as error:
                if error.errno in _FULL:
                    self._loop.remove_reader(self._listening.fileno())
                    self._loop.call_later(_PAUSE, self._listen)
                    break
                continue  # the client is gone again
            if self._limited(address[0], self._pending[address[0]] + 1):
                connection.close()
                continue
            connection.setblocking(False)
            self._pending[address[0]] += 1
            self._waiting.setdefault(address[0], deque()).append(connection)
        self._schedule()

    def _schedule(self) -> None:
        if self._waiting and not self._scheduled:
            self._scheduled = True
            self._loop.call_soon(self._make)

    def _make(self) -> None:
        self._scheduled = False
        for _ in range(MADE_AT_ONCE):
            if not self._waiting:
                break
            address, connections = self._waiting.popitem(last=False)
            connection = connections.popleft()
            if connections:
                self._waiting[address] = connections  # behind all others
            task = self._loop.create_task(self._connect(connection, address))
            self._making.add(task)
            task.add_done_callback(self._making.discard)
        self._schedule()

    async def _connect(self, connection: socket.socket, address: str) -> None:
        within = _HANDSHAKE_WITHIN if self._tls else None
        try:
            await self._loop.connect_accepted_socket(
                self._protocol, connection, ssl=self._tls, ssl_handshake_timeout=within
            )
        except OSError:  # the client is gone, or speaks no TLS
            connection.close()
        finally:
            self._pending[address] -= 1
            if not self._pending[address]:
                del self._pending[address]
