"""Pages follow what happens: who sees which changes, and what makes none."""

import asyncio
from collections.abc import AsyncIterator, Callable
from contextlib import aclosing

import httpx
import pytest

from rust_gauge.client import Client
from rust_gauge.contract.readings import FactorSettings, ReadingSettings
from rust_gauge.contract.warmup import NewWarmupPlan
from rust_gauge.contract.worklist import WorkAct
from rust_gauge.core.roles import Role
from rust_gauge.service.app import create_app
from rust_gauge.service.changes import watching
from rust_gauge.service.changes.watching import TooManyPages, Watching
from rust_gauge.store import changes
from tests.changes import noted
from tests.conftest import Office, World, make_office
from tests.rows import bounce, ndjson, row


def numbers(office: Office) -> dict[str, int]:
    """How often what changed in a tenant."""
    store = office.world.context.store
    found = store.transaction(lambda c: changes.numbers(c, [office.tenant.id]))
    return {what: number for (_, what), number in found.items()}


def test_what_changes_is_noted_with_it(office: Office, client: Client) -> None:
    assert numbers(office) == {}
    client.events.load(office.slug, ndjson(*(row(n) for n in range(40)), *(bounce(90 + n) for n in range(30))))
    assert numbers(office) == {"events": 1, "suppression": 1}  # the bounces hold addresses
    client.events.load(office.slug, ndjson(row(1)))
    assert numbers(office)["events"] == 1, "an event that is known changes nothing"
    office.world.work()
    assert numbers(office)["readings"] >= 1
    client.worklist.detect(office.slug)
    before = numbers(office)["worklist"]
    (item, *_) = client.worklist.list(tenant=office.slug)
    client.worklist.act(office.slug, item.id, WorkAct(act="comment", text="seen"))
    assert numbers(office)["worklist"] == before + 1
    client.domains.add(office.slug, "d.example")
    client.audits.run(office.slug, "d.example")
    assert numbers(office)["domains"] == 1


def test_what_readings_are_computed_from_is_noted(office: Office, client: Client) -> None:
    """Whatever a domain's readings depend on, so that one that was computed before is not shown again."""
    client.events.load(office.slug, ndjson(*(row(n) for n in range(40)), *(bounce(90 + n) for n in range(30))))
    office.world.work()
    new = ReadingSettings(factors={"refusals": FactorSettings(watch=0.2, stop=0.4)})
    spring = NewWarmupPlan(name="spring", domain="d.example", shape="custom", ceilings=[100, 200])
    steps: list[tuple[changes.What, Callable[[], object]]] = [
        ("settings", lambda: client.flow.rename_provider(office.slug, "tidepost.example", "Tidepost")),
        ("settings", lambda: client.readings.set_settings(office.slug, new)),
        ("settings", lambda: client.readings.reset_settings(office.slug)),
        ("warmup", lambda: client.warmup.add(office.slug, spring)),
        ("warmup", lambda: client.warmup.delete(office.slug, "spring")),
        ("events", lambda: client.events.load(office.slug, ndjson(row(5000)))),
        (
            "domains",
            lambda: (client.domains.add(office.slug, "d.example"), client.audits.run(office.slug, "d.example")),
        ),
    ]
    for what, change in steps:
        before = noted(office, what)
        change()
        assert noted(office, what) > before, what


async def first_of(found: AsyncIterator[set[watching.Change]], most: int = 20) -> set[watching.Change]:
    """The first changes that are reported."""
    for _ in range(most):
        if changed := await anext(found):
            return changed
    return set()


def watched(world: World, work: Callable[[Watching], AsyncIterator[object]]) -> list[object]:
    """What a test sees of the changes of a process of its own."""

    async def run() -> list[object]:
        return [seen async for seen in work(Watching(world.context))]

    return asyncio.run(run())


@pytest.fixture(autouse=True)
def often(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(watching, "_EVERY", 0.05)


def test_each_hears_of_its_own_tenants_only(world: World, office: Office) -> None:
    other = make_office(world, Role.VIEWER)
    store = world.context.store

    async def work(mine: Watching) -> AsyncIterator[object]:
        async with (
            aclosing(mine.listen(1, [office.tenant.id])) as own,
            aclosing(mine.listen(2, [other.tenant.id])) as theirs,
        ):
            await anext(own)
            await anext(theirs)
            await asyncio.to_thread(store.transaction, lambda c: changes.note(c, office.tenant.id, "events"))
            yield await first_of(own)
            yield await first_of(theirs, most=6)

    assert watched(world, work) == [{(office.tenant.id, "events")}, set()]


def test_one_account_cannot_take_all_pages(world: World, office: Office, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(watching, "_MOST_OF_ONE", 2)

    async def work(mine: Watching) -> AsyncIterator[object]:
        async with aclosing(mine.listen(1, [])) as one, aclosing(mine.listen(1, [])) as two:
            await anext(one)
            await anext(two)
            with pytest.raises(TooManyPages):
                await anext(mine.listen(1, []))
            yield await anext(mine.listen(2, []))
        async with aclosing(mine.listen(1, [])) as again:
            yield await anext(again)

    assert watched(world, work) == [set(), set()]


def test_the_stream_says_what_changed_and_ends_when_the_service_stops(office: Office) -> None:
    """Driven by hand: a client would wait for the end of the answer."""
    app = create_app(office.world.context)
    stopping = asyncio.Event()
    app.state.is_stopping = stopping.is_set
    sent: list[dict[str, object]] = []

    async def run() -> None:
        async def receive() -> dict[str, object]:
            await asyncio.sleep(3600)
            raise AssertionError

        async def send(message: dict[str, object]) -> None:
            sent.append(message)
            if b"retry" in message.get("body", b""):  # type: ignore[operator]
                store = office.world.context.store
                await asyncio.to_thread(store.transaction, lambda c: changes.note(c, office.tenant.id, "worklist"))
            if b"worklist" in message.get("body", b""):  # type: ignore[operator]
                stopping.set()

        scope = {
            "type": "http", "http_version": "1.1", "method": "GET", "path": "/api/v1/changes", "raw_path": b"",
            "query_string": b"", "root_path": "", "scheme": "http", "server": ("gauge.example", 80),
            "client": ("192.0.2.1", 1), "headers": [(b"authorization", f"Bearer {office.token}".encode())],
        }  # fmt: skip
        first_done = asyncio.Event()
        messages = iter([{"type": "http.request", "body": b"", "more_body": False}])

        async def receive_once() -> dict[str, object]:
            if not first_done.is_set():
                first_done.set()
                return next(messages)
            return await receive()

        await asyncio.wait_for(app(scope, receive_once, send), 30)

    asyncio.run(run())
    assert sent[0]["status"] == 200
    assert (b"content-type", b"text/event-stream; charset=utf-8") in sent[0]["headers"]  # type: ignore[operator]
    body = b"".join(message.get("body", b"") for message in sent[1:])  # type: ignore[misc]
    assert f'event: changed\ndata: {{"tenant":"{office.slug}","what":"worklist"}}\n\n'.encode() in body


def test_strangers_follow_nothing(world: World) -> None:
    assert httpx.get(f"{world.url}/api/v1/changes").status_code == 401
