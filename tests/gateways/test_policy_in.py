"""The listener for policy delegation, without a service behind it."""

import asyncio
import contextlib
from collections.abc import Awaitable, Callable, Sequence

from rust_gauge.core.suppression.delegation import MOST, NOTHING, Question, refusal
from rust_gauge.gateways.policy_in import PolicyIn

Stream = tuple[asyncio.StreamReader, asyncio.StreamWriter]


def request(recipient: str, state: str = "RCPT") -> bytes:
    lines = ("request=smtpd_access_policy", f"protocol_state={state}", f"recipient={recipient}", "instance=7b.1")
    return "\n".join(lines).encode() + b"\n\n"


def answer(questions: Sequence[Question]) -> list[bytes]:
    if any(question.recipient.startswith("trouble") for question in questions):
        raise ConnectionError("the store is away")
    return [refusal("no") if question.recipient.startswith("held") else NOTHING for question in questions]


def with_listener(talk: Callable[[int], Awaitable[None]]) -> int:
    """How often it was asked to count by the end."""
    counted: list[int] = []

    async def run() -> None:
        ready: asyncio.Future[int] = asyncio.get_running_loop().create_future()
        stop = asyncio.Event()
        listener = PolicyIn("127.0.0.1", 0, answer, lambda: counted.append(1))
        serving = asyncio.create_task(listener.serve(ready.set_result, stop))
        try:
            await talk(await asyncio.wait_for(ready, 30))
        finally:
            stop.set()
            await serving

    asyncio.run(run())
    return len(counted)


async def ask(stream: Stream, *requests: bytes) -> list[bytes]:
    """Answers to questions one after the other, as MTAs ask over a connection."""
    reader, writer = stream
    answers = []
    for row in requests:
        writer.write(row)
        answers.append(await asyncio.wait_for(reader.readuntil(b"\n\n"), 30))
    return answers


def test_each_question_has_its_answer_and_all_is_counted_at_the_end() -> None:
    async def talk(port: int) -> None:
        stream = await asyncio.open_connection("127.0.0.1", port)
        names = ["held1@a.example", "clear@a.example", "held2@a.example"]
        answers = await ask(stream, *map(request, names), request("held@a.example", "DATA"))
        assert [row.startswith(b"action=5") for row in answers] == [True, False, True, False]
        assert answers[3] == NOTHING, "only recipients are judged"
        stream[1].close()

    assert with_listener(talk) >= 1


def test_trouble_defers_mail_and_the_connection_goes_on() -> None:
    async def talk(port: int) -> None:
        stream = await asyncio.open_connection("127.0.0.1", port)
        (deferred,) = await ask(stream, request("trouble@a.example"))
        assert deferred.startswith(b"action=450")
        assert await ask(stream, request("clear@a.example")) == [NOTHING]
        stream[1].close()

    with_listener(talk)


def test_a_request_that_never_ends_is_cut_off_and_others_are_served() -> None:
    async def talk(port: int) -> None:
        reader, writer = await asyncio.open_connection("127.0.0.1", port)
        writer.write(b"x" * (MOST + 1))
        with contextlib.suppress(ConnectionResetError):
            assert await asyncio.wait_for(reader.read(1), 30) == b""
        other = await asyncio.open_connection("127.0.0.1", port)
        assert await ask(other, request("clear@a.example")) == [NOTHING]
        for row in (writer, other[1]):
            row.close()

    with_listener(talk)
