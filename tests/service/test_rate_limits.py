"""Rate limits: bursts are fine, a loop that runs away gets the time to go on, and nobody pays for somebody else."""

import asyncio
from dataclasses import replace
from typing import Any

import httpx
import pytest
from hypothesis import given
from hypothesis import strategies as st

from rust_gauge.service.app import create_app
from rust_gauge.service.http import rate_limits
from rust_gauge.service.http.rate_limits import RateLimit, SharedLimits, tighter
from rust_gauge.store import request_levels
from rust_gauge.store.engine import Store
from tests.conftest import Office


class Now:
    """A clock that a test can turn."""

    def __init__(self) -> None:
        self.seconds = 0.0

    def __call__(self) -> float:
        return self.seconds


def test_a_bucket_is_used_up_and_fills_again_evenly() -> None:
    now = Now()
    limit = RateLimit("caller", 60, now)
    taken = [limit.take("a") for _ in range(61)]
    assert [standing.remaining for standing in taken if standing][:3] == [59, 58, 57]
    last = taken[-1]
    assert last is not None
    assert last.headers() == {
        "RateLimit-Policy": '"caller";q=60;w=60',
        "RateLimit": '"caller";r=0;t=60',
        "Retry-After": "1",
    }
    other = limit.take("b")
    assert other is not None
    assert not other.retry_after
    now.seconds += 1
    again = limit.take("a")
    assert again is not None
    assert not again.retry_after
    assert RateLimit("caller", 0).take("a") is None


@given(st.lists(st.floats(0, 5), max_size=200), st.integers(1, 50))
def test_nobody_gets_more_than_the_limit_in_any_minute_after_the_first_burst(gaps: list[float], limit: int) -> None:
    now = Now()
    bucket = RateLimit("caller", limit, now)
    let: list[float] = []
    for gap in gaps:
        now.seconds += gap
        standing = bucket.take("a")
        assert standing is not None
        assert 0 <= standing.remaining <= limit
        if standing.retry_after:
            assert standing.retry_after <= 60 / limit + 1e-6
        else:
            let.append(now.seconds)
    for start in let:  # a full bucket, and what fills it meanwhile
        assert sum(start <= at < start + 60 for at in let) <= 2 * limit + 1


def test_as_many_keys_as_somebody_can_invent_take_bounded_memory(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rate_limits, "_MOST_KEYS", 10)
    bucket = RateLimit("caller", 5)
    for number in range(100):
        bucket.take(str(number))
    assert len(bucket._levels) == 10


def test_the_tighter_of_two_is_shown() -> None:
    few, many = RateLimit("caller", 2).take("a"), RateLimit("source", 9).take("a")
    assert tighter(few, many) is few
    assert tighter(None, many) is many
    assert tighter(None, None) is None


def test_processes_share_what_a_caller_has_left(office: Office) -> None:
    store = office.world.context.store
    now = Now()
    limits = [RateLimit("caller", 100, now) for _ in range(3)]
    shared = [SharedLimits(store, [limit]) for limit in limits]
    limits[2].take("busy")  # this one has heard of the caller, and not of what the others let through
    for _ in range(60):
        limits[0].take("busy")
        limits[1].take("busy")
    for limit, with_others in zip(limits, shared, strict=True):
        with_others.share(limit)
    limits[0].take("busy")
    shared[0].share(limits[0])
    for limit in limits[0], limits[2]:
        standing = limit.take("busy")
        assert standing is not None
        assert standing.retry_after, "120 of 100 were let through"
        assert standing.remaining == 0
    other = limits[2].take("quiet")
    assert other is not None
    assert other.remaining == 99


def test_callers_that_ask_little_are_never_written(office: Office) -> None:
    store = office.world.context.store
    limit = RateLimit("quiet", 1000)
    for _ in range(19):
        limit.take("quiet")
    SharedLimits(store, [limit]).share(limit)
    count = "SELECT COUNT(*) FROM request_level WHERE whose = 'quiet'"
    assert store.transaction(lambda c: c.exec_driver_sql(count).scalar()) == 0
    limit.take("quiet")  # a fiftieth
    SharedLimits(store, [limit]).share(limit)
    assert store.transaction(lambda c: c.exec_driver_sql(count).scalar()) == 1
    store.transaction(
        lambda c: c.exec_driver_sql("UPDATE request_level SET at = at - INTERVAL 6 MINUTE WHERE whose = 'quiet'")
    )
    store.transaction(request_levels.forget_old)
    assert store.transaction(lambda c: c.exec_driver_sql(count).scalar()) == 0


def test_without_a_database_each_process_counts_by_itself() -> None:
    limit = RateLimit("caller", 10)
    away = Store("mysql+pymysql://nobody@127.0.0.1:9/none")
    for _ in range(10):
        limit.take("a")
    SharedLimits(away, [limit]).share(limit)
    standing = limit.take("a")
    assert standing is not None
    assert standing.retry_after
    assert limit.unshared() == {"a": 10}, "told to the others once the database is back"


def ask(office: Office, limits: dict[str, int], *requests: dict[str, Any]) -> list[httpx.Response]:
    """Send requests, each with its headers and the address that it comes from, to a service with these limits."""
    context = office.world.context
    app = create_app(replace(context, settings=context.settings.model_copy(update=limits)))

    async def send() -> list[httpx.Response]:
        out = []
        for request in requests:
            transport = httpx.ASGITransport(app, client=(request.pop("source", "192.0.2.1"), 1))
            async with httpx.AsyncClient(transport=transport, base_url="http://gauge.example") as client:
                out.append(await client.get(request.pop("path", "/api/v1/session"), **request))
        return out

    return asyncio.run(send())


def test_a_token_has_its_limit_and_so_has_a_source(office: Office) -> None:
    token = {"headers": {"Authorization": f"Bearer {office.token}"}}
    limits = {"requests_per_minute": 2, "requests_per_minute_of_source": 4}
    answers = ask(
        office, limits, dict(token), dict(token), dict(token),
        {"source": "192.0.2.2"}, {"path": "/healthz"},
        {"headers": {"Authorization": "Bearer rgt_1"}}, {"headers": {"Authorization": "Bearer rgt_2"}},
    )  # fmt: skip
    assert [answer.status_code for answer in answers] == [200, 200, 429, 401, 200, 401, 429]
    refused = answers[2]
    assert refused.json()["type"] == "/problems/too-many-requests"
    assert 20 < int(refused.headers["retry-after"]) <= 30  # to the second above, with a clock that a test turns
    assert refused.headers["ratelimit"].startswith('"caller";r=0;t=')
    assert answers[0].headers["ratelimit-policy"] == '"caller";q=2;w=60'
    assert "from your address" in answers[6].json()["detail"]  # whatever tokens are invented
    assert "ratelimit" not in answers[4].headers
