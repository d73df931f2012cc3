"""The client library without a service: what it sends, what it makes of answers, when it tries again."""

import asyncio
import inspect
from collections.abc import Callable
from functools import cached_property
from types import SimpleNamespace

import httpx
import pytest

from rust_gauge.client import (
    AlreadyThereError,
    AsyncClient,
    Client,
    ClientError,
    InvalidInputError,
    NotAllowedError,
    NotFoundError,
    ServiceUnreachable,
    UnavailableError,
    retries,
)
from rust_gauge.client.asynchronous.client import AsyncClient as AsyncImplementation

WHO = {"name": "I", "email": "i@o.example", "tenants": []}
Answer = Callable[[httpx.Request], httpx.Response]


@pytest.fixture(autouse=True)
def at_once(monkeypatch: pytest.MonkeyPatch) -> list[float]:
    """Do not wait between attempts; return the waits instead."""
    waits: list[float] = []

    async def pause(seconds: float) -> None:
        waits.append(seconds)

    # Of the clients alone: other threads of the tests may sleep meanwhile.
    monkeypatch.setattr("rust_gauge.client.synchronous.connection.time", SimpleNamespace(sleep=waits.append))
    monkeypatch.setattr("rust_gauge.client.asynchronous.connection.asyncio", SimpleNamespace(sleep=pause))
    return waits


def client(answer: Answer) -> Client:
    return Client("http://service", token="rgt_x", transport=httpx.MockTransport(answer))


def in_turn(*answers: httpx.Response | Exception) -> tuple[Answer, list[httpx.Request]]:
    """Answers one after the other, and the requests that came."""
    seen: list[httpx.Request] = []

    def answer(request: httpx.Request) -> httpx.Response:
        seen.append(request)
        now = answers[min(len(seen), len(answers)) - 1]
        if isinstance(now, Exception):
            raise now
        return now

    return answer, seen


def test_a_token_goes_with_every_request() -> None:
    answer, seen = in_turn(httpx.Response(200, json=WHO))
    assert client(answer).who().name == "I"
    assert seen[0].headers["authorization"] == "Bearer rgt_x"


@pytest.mark.parametrize(
    ("status", "kind"),
    [
        (400, InvalidInputError),
        (401, NotAllowedError),
        (403, NotAllowedError),
        (404, NotFoundError),
        (409, AlreadyThereError),
        (413, InvalidInputError),
        (422, InvalidInputError),
        (429, UnavailableError),
        (500, UnavailableError),
        (503, UnavailableError),
    ],
)
def test_each_refusal_is_an_exception_of_its_kind(status: int, kind: type[ClientError]) -> None:
    problem = {"type": "/problems/x", "title": "No", "status": status, "detail": "because"}
    answer, _ = in_turn(httpx.Response(status, json=problem))
    with pytest.raises(kind, match="because"):
        client(answer).who()


def test_an_answer_that_is_no_problem_document_is_told_as_it_is() -> None:
    answer, _ = in_turn(httpx.Response(418, text="<html>"))
    with pytest.raises(InvalidInputError, match="answered 418 without saying why"):
        client(answer).who()


def test_reading_is_tried_again_while_the_service_is_away(at_once: list[float]) -> None:
    away = httpx.Response(503, headers={"Retry-After": "3"})
    answer, seen = in_turn(away, httpx.ReadTimeout("slow"), httpx.Response(200, json=WHO))
    assert client(answer).who().name == "I"
    assert len(seen) == 3
    assert at_once[0] == 3


class CutOff(httpx.SyncByteStream):
    """An answer whose connection breaks behind the pieces that it has."""

    def __init__(self, *pieces: bytes) -> None:
        self._pieces = pieces

    def __iter__(self):  # type: ignore[no-untyped-def]
        yield from self._pieces
        raise httpx.ReadError("connection reset")


def test_a_download_is_asked_for_again_while_nothing_of_it_has_come() -> None:
    busy = httpx.Response(503, json={"type": "x", "title": "busy", "status": 503}, headers={"Retry-After": "2"})
    answers = (
        httpx.ConnectError("refused"),
        busy,
        httpx.Response(200, stream=CutOff()),
        httpx.Response(200, content=b"all"),
    )
    answer, seen = in_turn(*answers)
    assert b"".join(client(answer).suppression.export("t")) == b"all"
    assert len(seen) == 4


def test_a_download_that_breaks_in_the_middle_says_so() -> None:
    answer, seen = in_turn(httpx.Response(200, stream=CutOff(b"half")))
    pieces = client(answer).suppression.export("t")
    assert next(pieces) == b"half"
    with pytest.raises(ServiceUnreachable, match="connection reset"):
        next(pieces)
    assert len(seen) == 1, "what was handed on cannot be taken back"


def test_a_download_that_is_refused_says_why() -> None:
    refused = httpx.Response(404, json={"type": "/problems/not-found", "title": "Not found", "status": 404})
    answer, seen = in_turn(refused)
    with pytest.raises(NotFoundError):
        list(client(answer).suppression.export("t"))
    assert len(seen) == 1


def test_trying_ends(at_once: list[float]) -> None:
    answer, seen = in_turn(httpx.ConnectError("refused"))
    with pytest.raises(ServiceUnreachable, match="refused"):
        client(answer).who()
    assert len(seen) == retries.ATTEMPTS
    assert len(at_once) == retries.ATTEMPTS - 1
    assert all(0.2 * 2**n * 0.5 <= wait <= 0.2 * 2**n for n, wait in enumerate(at_once, 1))


def test_what_is_not_safe_to_repeat_is_not_repeated() -> None:
    answer, seen = in_turn(httpx.ReadTimeout("slow"))
    with pytest.raises(ServiceUnreachable):
        client(answer).audits.run("t", "d.example")
    assert len(seen) == 1


def test_loading_events_and_asking_clearance_are_safe_to_repeat() -> None:
    stored = {"received": 1, "stored": 0, "duplicates": 1, "rejected": 0, "rejections": []}
    answer, seen = in_turn(httpx.ReadTimeout("slow"), httpx.Response(200, json=stored))
    assert client(answer).events.load("t", b"{}").duplicates == 1
    assert len(seen) == 2


def test_names_in_a_path_cannot_lead_elsewhere() -> None:
    answer, seen = in_turn(httpx.Response(404, json={"type": "x", "title": "x", "status": 404}))
    with pytest.raises(NotFoundError):
        client(answer).domains.get("a/../b", "x?y=/z")
    assert seen[0].url.raw_path == b"/api/v1/tenants/a%2F..%2Fb/domains/x%3Fy%3D%2Fz"


def test_the_asynchronous_client_does_the_same() -> None:
    pages = [
        httpx.Response(200, json={"items": [DOMAIN | {"name": "a.example"}], "next": "c"}),
        httpx.Response(200, json={"items": [DOMAIN | {"name": "b.example"}]}),
    ]
    answer, seen = in_turn(*pages)

    async def names() -> list[str]:
        async with AsyncClient("http://service", transport=httpx.MockTransport(answer)) as made:
            return [domain.name async for domain in made.domains.list("t")]

    assert asyncio.run(names()) == ["a.example", "b.example"]
    assert seen[1].url.params["cursor"] == "c"


DOMAIN = {"tenant": "t", "origin": "added", "selectors": [], "added_at": "2026-11-20T00:00:00Z"}


def test_both_clients_have_the_same_methods() -> None:
    parts = [name for name, value in vars(Client).items() if isinstance(value, cached_property)]
    assert len(parts) > 15
    for name in parts:
        part, other = type(getattr(Client("http://x"), name)), type(getattr(AsyncImplementation("http://x"), name))
        for method, function in inspect.getmembers(part, inspect.isfunction):
            theirs = inspect.signature(getattr(other, method)).parameters
            assert list(inspect.signature(function).parameters) == list(theirs), (name, method)
