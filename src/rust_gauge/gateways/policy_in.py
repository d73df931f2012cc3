"""The listener for Postfix's policy delegation: many connections, one look-up for all that ask at the same moment.

What comes in while others still come is looked up together, and the loop waits for it: there is nothing else to do
before the answer is known, and handing it to a thread and back costs more than the look-up.
"""

import asyncio
from collections.abc import Callable, Sequence

import structlog

from rust_gauge.core.suppression.delegation import MOST, NOTHING, Question, defer, read_question

log = structlog.get_logger()
_IDLE = 600.0  # seconds without a question after which a connection is closed
_TOGETHER = 1000  # questions in one look-up
_MOST_TURNS = 50  # of the event loop that a question waits for others
_COUNT_EVERY = 1.0  # seconds; a transaction for each refusal would take longer than its answer
_MOST_CONNECTIONS = 2000  # Postfix keeps one for each smtpd process, 100 by default

Answer = Callable[[Sequence[Question]], list[bytes]]


class PolicyIn:
    """A listener. `answer` looks up and may block for as long as the database takes; `count` runs in a thread."""

    def __init__(self, host: str, port: int, answer: Answer, count: Callable[[], object]) -> None:
        self._host, self._port, self._ask, self._count = host, port, answer, count
        self._waiting: list[tuple[Question, asyncio.Transport]] = []
        self._seen = self._turns = 0
        self.connections: set[_Connection] = set()

    async def serve(self, ready: Callable[[int], object], stop: asyncio.Event) -> None:
        """Listen until `stop` is set. `ready` is called with the port. OSError when the port is taken."""
        loop = asyncio.get_running_loop()
        server = await loop.create_server(lambda: _Connection(self), self._host, self._port)
        helper = asyncio.create_task(self._look_after())
        async with server:
            ready(server.sockets[0].getsockname()[1])
            await stop.wait()
        helper.cancel()
        await asyncio.gather(helper, return_exceptions=True)
        await asyncio.to_thread(self._count)

    def take(self, question: Question, transport: asyncio.Transport) -> None:
        """Answer it with all others that come at the same moment."""
        if not self._waiting:
            self._seen = self._turns = 0
            asyncio.get_running_loop().call_soon(self._look_up)
        self._waiting.append((question, transport))

    def _look_up(self) -> None:
        # A look-up costs nearly the same for one question as for fifty: while each turn brings more, wait a turn.
        self._turns += 1
        if self._seen < len(self._waiting) < _TOGETHER and self._turns < _MOST_TURNS:
            self._seen = len(self._waiting)
            asyncio.get_running_loop().call_soon(self._look_up)
            return
        batch, self._waiting = self._waiting[:_TOGETHER], self._waiting[_TOGETHER:]
        if self._waiting:
            self._seen = self._turns = 0
            asyncio.get_running_loop().call_soon(self._look_up)
        try:
            answers = self._ask([question for question, _ in batch])
        except Exception as error:  # whatever it was, the MTA must hear something
            log.exception("policy_trouble", error=repr(error))
            answers = [defer("Trouble here; try again")] * len(batch)
        for (_, transport), action in zip(batch, answers, strict=True):
            transport.write(action)

    async def _look_after(self) -> None:
        """Count what was refused; close connections that nobody uses."""
        loop = asyncio.get_running_loop()
        while True:
            await asyncio.sleep(_COUNT_EVERY)
            try:
                await asyncio.to_thread(self._count)
            except Exception as error:
                log.exception("policy_trouble", error=repr(error))
            for connection in [connection for connection in self.connections if loop.time() - connection.heard > _IDLE]:
                connection.close()


class _Connection(asyncio.Protocol):
    """One MTA's connection: requests one after the other, each ended by an empty line."""

    def __init__(self, listener: PolicyIn) -> None:
        self._listener = listener
        self._rest = b""
        self._transport: asyncio.Transport | None = None
        self.heard = 0.0

    def connection_made(self, transport: asyncio.BaseTransport) -> None:
        assert isinstance(transport, asyncio.Transport)
        self._transport = transport
        self.heard = asyncio.get_running_loop().time()
        if len(self._listener.connections) >= _MOST_CONNECTIONS:
            transport.close()
        else:
            self._listener.connections.add(self)

    def connection_lost(self, exc: Exception | None) -> None:
        self._listener.connections.discard(self)

    def close(self) -> None:
        if self._transport is not None:
            self._transport.close()

    def data_received(self, data: bytes) -> None:
        assert self._transport is not None
        self.heard = asyncio.get_running_loop().time()
        self._rest += data
        while (end := self._rest.find(b"\n\n")) >= 0:
            question = read_question(self._rest[:end])
            self._rest = self._rest[end + 2 :]
            if question is None or not question.is_about_a_recipient:
                self._transport.write(NOTHING)
            else:
                self._listener.take(question, self._transport)
        if len(self._rest) > MOST:
            log.warning("policy_request_too_long")
            self._transport.abort()
