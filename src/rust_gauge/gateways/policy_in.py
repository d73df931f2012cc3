"""The listener for Postfix's policy delegation: many connections, one look-up for all that ask at the same moment."""

import asyncio
from collections.abc import Callable, Sequence

import structlog

from rust_gauge.core.suppression.delegation import MOST, NOTHING, Question, put_off, read_question

log = structlog.get_logger()
_IDLE = 600.0  # seconds without a question after which a connection is closed
_TOGETHER = 500  # questions in one look-up
_COUNT_EVERY = 0.5
_MOST_CONNECTIONS = 2000

Answer = Callable[[Sequence[Question]], list[bytes]]


class PolicyIn:
    """A listener. `answer` and `count` may block; they run in threads, one look-up at a time."""

    def __init__(self, host: str, port: int, answer: Answer, count: Callable[[], object]) -> None:
        self._host, self._port, self._ask, self._count = host, port, answer, count
        self._waiting: list[tuple[Question, asyncio.Future[bytes]]] = []
        self._wake = asyncio.Event()
        self._connections = 0

    async def serve(self, ready: Callable[[int], object], stop: asyncio.Event) -> None:
        """Listen until `stop` is set. `ready` is told the port. OSError when the port is taken."""
        server = await asyncio.start_server(self._talk, self._host, self._port, limit=MOST)
        helpers = [asyncio.create_task(self._look_up()), asyncio.create_task(self._count_sometimes())]
        async with server:
            ready(server.sockets[0].getsockname()[1])
            await stop.wait()
        for task in helpers:
            task.cancel()
        await asyncio.gather(*helpers, return_exceptions=True)
        await asyncio.to_thread(self._count)

    async def _talk(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self._connections += 1
        try:
            while self._connections <= _MOST_CONNECTIONS:
                block = await asyncio.wait_for(reader.readuntil(b"\n\n"), _IDLE)
                question = read_question(block)
                writer.write(NOTHING if question is None else await self._answer(question))
                await writer.drain()
        except (asyncio.IncompleteReadError, TimeoutError, ConnectionError):
            pass  # the other side has had enough
        except asyncio.LimitOverrunError:
            log.warning("policy_request_too_long")
        finally:
            self._connections -= 1
            writer.close()

    async def _answer(self, question: Question) -> bytes:
        if not question.is_about_a_recipient:
            return NOTHING
        future: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()
        self._waiting.append((question, future))
        self._wake.set()
        return await future

    async def _look_up(self) -> None:
        while True:
            await self._wake.wait()
            batch, self._waiting = self._waiting[:_TOGETHER], self._waiting[_TOGETHER:]
            if not self._waiting:
                self._wake.clear()
            try:
                answers = await asyncio.to_thread(self._ask, [question for question, _ in batch])
            except Exception as error:  # whatever it was, the MTA must hear something
                log.exception("policy_trouble", error=repr(error))
                answers = [put_off("Trouble here; try again")] * len(batch)
            for (_, future), action in zip(batch, answers, strict=True):
                if not future.done():
                    future.set_result(action)

    async def _count_sometimes(self) -> None:
        while True:
            await asyncio.sleep(_COUNT_EVERY)
            try:
                await asyncio.to_thread(self._count)
            except Exception as error:
                log.exception("policy_trouble", error=repr(error))
