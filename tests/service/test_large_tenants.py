"""What stays usable with very many domains: pages and summaries of the wall, search, readings some at a time."""

from datetime import timedelta
from typing import Any

import pytest
from sqlalchemy import Connection

from rust_gauge.client import Client, InvalidInputError
from rust_gauge.contract.readings import Wall
from rust_gauge.service.readings import computation
from rust_gauge.service.worker import work_once
from rust_gauge.service.worklist import detection
from rust_gauge.service.worklist.items import detect
from rust_gauge.store import jobs
from rust_gauge.store import readings as store
from tests.conftest import TODAY, Office
from tests.rows import bounce, ndjson, row

DOMAINS = [f"d{number}.skerry.example" for number in range(7)]


def load(office: Office, client: Client, wrong: int = 3) -> None:
    """Mail of a day: the first `wrong` domains bounce, each more than the one before; the last has next to no mail."""
    rows: list[dict[str, Any]] = []
    for number, name in enumerate(DOMAINS):
        here = {"domain": name, "time": (TODAY - timedelta(hours=2)).isoformat()}
        bad = 10 * (number + 1) if number < wrong else 0
        mail = 2 if number == len(DOMAINS) - 1 else 200 + number
        rows += [row(n, **here, message_id=f"{name}{n}") for n in range(mail - bad)]
        rows += [bounce(n, **here, message_id=f"b{name}{n}") for n in range(bad)]
    assert client.events.load(office.slug, ndjson(*rows)).rejected == 0
    office.world.work()


def pages(client: Client, limit: int, **query: Any) -> list[Wall]:
    """All pages of a wall."""
    found = [client.readings.wall(limit=limit, **query)]
    while found[-1].next:
        found.append(client.readings.wall(limit=limit, cursor=found[-1].next, **query))
    return found


def test_pages_of_the_wall_are_the_whole_wall_and_each_says_what_all_are(office: Office, client: Client) -> None:
    load(office, client)
    whole = client.readings.wall(tenant=office.slug)
    assert whole.next is None
    found = pages(client, 3, tenant=office.slug)
    assert [len(page.rows) for page in found] == [3, 3, 1]
    assert [row for page in found for row in page.rows] == whole.rows
    assert all(page.summary == whole.summary and page.columns == whole.columns for page in found)
    summary = whole.summary
    assert summary.subjects == len(DOMAINS)
    assert summary.delivered == sum(row.delivered for row in whole.rows)
    shown = [row.cells[0].condition for row in whole.rows]
    assert summary.unknown == shown.count(None) == 1
    assert summary.conditions == {name: shown.count(name) for name in summary.conditions}


def test_rows_are_ordered_filtered_and_found(office: Office, client: Client) -> None:
    load(office, client)

    def names(**query: Any) -> list[str]:
        return [row.name for page in pages(client, 2, tenant=office.slug, **query) for row in page.rows]

    values = {row.name: row.cells[0].value for row in client.readings.wall(tenant=office.slug).rows}
    worst = names(order="worst")
    assert worst[:3] == ["d2.skerry.example", "d1.skerry.example", "d0.skerry.example"]
    assert worst[-1] == "d6.skerry.example", "who has no reading comes last"
    assert names(order="delivered")[0] == "d5.skerry.example"
    assert names(search="D3.") == ["d3.skerry.example"]
    assert names(search="%") == []
    condition = client.readings.wall(tenant=office.slug, search="d2.").rows[0].cells[0].condition
    assert "d2.skerry.example" in names(condition=condition)
    assert all(values[name] is not None for name in names(condition=condition))
    with pytest.raises(InvalidInputError):
        client.readings.wall(cursor="bm90IG91cnM")


def test_domains_are_found_by_a_part_of_their_name(office: Office, client: Client) -> None:
    load(office, client)
    found = client.domains.list(office.slug, search="2.SKERRY")
    assert [domain.name for domain in found] == ["d2.skerry.example"]


def test_readings_of_a_new_day_are_computed_some_at_a_time_and_one_bad_domain_holds_up_none(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    load(office, client)
    context, tenant_id = office.world.context, office.tenant.id
    ids = {name: id for id, name in context.store.transaction(lambda c: store.names_of(c, tenant_id, 1)).items()}
    bad = ids["d1.skerry.example"]
    plain, parts = computation.series_of, []

    def series_of(connection: Connection, place: Any, kind: int, subject_ids: Any) -> Any:
        if kind == 1:
            parts.append(list(subject_ids))
        if kind == 1 and bad in subject_ids:
            raise ValueError("counters that cannot be")
        return plain(connection, place, kind, subject_ids)

    monkeypatch.setattr(computation, "series_of", series_of)
    monkeypatch.setattr(computation, "_STALE_AT_ONCE", 3)
    with office.world.clock.later(timedelta(days=1)):
        today = (TODAY + timedelta(days=1)).date()
        context.store.transaction(lambda c: jobs.enqueue(c, computation.STALE, tenant_id, 0, context.clock()))
        assert context.store.transaction(lambda c: len(store.stale_domains(c, tenant_id, today))) == len(DOMAINS)
        while work_once(context):
            pass
        assert context.store.transaction(lambda c: store.stale_domains(c, tenant_id, today)) == [bad]
    assert max(map(len, parts)) == 3


def test_detection_finds_the_same_however_many_domains_it_reads_at_once(
    office: Office, client: Client, monkeypatch: pytest.MonkeyPatch
) -> None:
    load(office, client)
    detect(office.world.context, office.tenant)
    found = {item.title for item in client.worklist.list(tenant=office.slug)}
    assert any("d2.skerry.example" in title for title in found)
    monkeypatch.setattr(detection, "_READ_AT_ONCE", 2)
    monkeypatch.setattr(detection, "_UNPACKED_AT_ONCE", 1)
    detect(office.world.context, office.tenant)
    assert {item.title for item in client.worklist.list(tenant=office.slug)} == found
