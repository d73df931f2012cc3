"""The asynchronous client against the running service: the whole path once."""

import asyncio

import pytest

from rust_gauge.client import AsyncClient, InvalidInputError, NotFoundError
from tests.conftest import TODAY, Office
from tests.rows import bounce, ndjson, row


def test_the_whole_path_works_asynchronously(office: Office) -> None:
    name = f"{office.slug}.example"
    office.world.zone(name, '@ IN TXT "v=spf1 mx ~all"\n@ IN TXT "v=spf1 a ~all"\n@ IN MX 10 mx\nmx IN A 192.0.2.5\n')

    async def path() -> None:
        async with AsyncClient(office.world.url, token=office.token) as client:
            assert [tenant.slug for tenant in (await client.who()).tenants] == [office.slug]
            added = await client.domains.add(office.slug, name, selectors=["s1"])
            assert (await client.domains.get(office.slug, name)).name == added.name
            audit = await client.audits.run(office.slug, name)
            assert audit.faults == 2
            assert (await client.audits.newest(office.slug, name)).id == audit.id
            assert (await client.audits.get(office.slug, name, audit.id)).findings == audit.findings
            assert [audit.id async for audit in client.audits.list(office.slug, name)] == [audit.id]
            rows = [row(n, domain=name) for n in range(120)] + [bounce(n, domain=name) for n in range(120, 130)]
            loaded, again = await asyncio.gather(
                client.events.load(office.slug, ndjson(*rows)), client.events.load(office.slug, ndjson(*rows))
            )
            assert loaded.stored + again.stored == 130
            assert len([event async for event in client.events.list(office.slug, kinds=["bounced"])]) == 10
            flow = await client.flow.show(office.slug, domain=name)
            assert flow.total.counts.delivered == 120
            named = await client.flow.rename_provider(office.slug, "tidepost.example", "Tidepost")
            assert (named.label, named.named) == ("Tidepost", True)
            assert [provider.label for provider in await client.flow.providers(office.slug)] == ["Tidepost"]
            clearance = await client.suppression.clearance(office.slug, ["person125@tidepost.example", "x@y.example"])
            assert (clearance.held, clearance.clear) == (1, 1)
            assert len([entry async for entry in client.suppression.list(office.slug)]) == 10
            await asyncio.to_thread(office.world.work)
            series = await client.readings.series(office.slug, name)
            assert series.readings[-1].day == TODAY.date()
            assert [each.name for each in (await client.readings.wall()).rows] == [name]
            await client.domains.delete(office.slug, name)
            assert [domain.origin async for domain in client.domains.list(office.slug)] == ["seen"]
            assert [token.name for token in await client.tokens.list()] == ["test"]
            with pytest.raises(NotFoundError):
                await client.tokens.delete(0)
            with pytest.raises(InvalidInputError):
                await client.events.load(office.slug, b"oops\n")

    asyncio.run(path())


def test_asking_again_for_events_between_two_times(office: Office) -> None:
    from datetime import timedelta

    from tests.rows import START

    async def path() -> list[str]:
        async with AsyncClient(office.world.url, token=office.token) as client:
            await client.events.load(office.slug, ndjson(*(row(n * 60) for n in range(10))))
            since, until = START + timedelta(minutes=3), START + timedelta(minutes=6)
            return [event.message_id async for event in client.events.list(office.slug, since=since, until=until)]

    assert asyncio.run(path()) == ["m300", "m240", "m180"]
