"""What is usual at a mailbox provider: rates of all senders there, day by day."""

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date

from sqlalchemy import Connection, select

from rust_gauge.core.mailflow.counting import Count
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows, literal
from rust_gauge.store.columns import Document
from rust_gauge.store.counter_rows import SenderRows
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class ProviderDay:
    """What a provider did to everybody on a day."""

    provider_id: int
    day: date
    senders: int
    common: float
    outage: float


_SENT = ", ".join(str(count.number) for count in (Count.DELIVERED, Count.DELAYED, Count.BOUNCED, Count.RETURNED))


_LARGEST = 2000  # senders that say what providers did to everybody: smaller ones would hardly change a middle


def _of_largest(connection: Connection, since: date) -> str:
    """Return the largest senders of all tenants as a condition on counters, by the key that these are ordered by."""
    rows = raw_rows(
        connection,
        f"SELECT tenant_id, part_id FROM flow_sum_day WHERE what = {t.SUM_DOMAIN} AND kind IN ({_SENT}) "
        f"AND day >= {literal(since)} GROUP BY tenant_id, part_id ORDER BY SUM(n) DESC, part_id LIMIT {_LARGEST}",
    )
    by_tenant: dict[int, list[str]] = defaultdict(list)
    for tenant_id, domain_id in rows:
        by_tenant[tenant_id].append(str(domain_id))
    parts = [f"(tenant_id = {id} AND domain_id IN ({', '.join(domains)}))" for id, domains in by_tenant.items()]
    return f"({' OR '.join(parts)})" if parts else "FALSE"


def sender_days(connection: Connection, since: date) -> SenderRows:
    """Return the largest senders' deliveries, delays and bounces by provider, domain and day, with causes of delays.

    Of all tenants together.
    """
    sql = (
        f"SELECT provider_id, domain_id, DATEDIFF(day, {literal(since)}), kind, "
        f"IF(kind = {Count.DELAYED.number}, cause, 0) AS c, 0, "
        f"CAST(SUM(n) AS UNSIGNED) FROM flow_day WHERE {_of_largest(connection, since)} "
        f"AND day >= {literal(since)} AND kind IN ({_SENT}) "
        "GROUP BY provider_id, domain_id, day, kind, c"
    )
    return SenderRows.of(raw_rows(connection, sql))


def sender_sums(connection: Connection, first: date, last: date) -> SenderRows:
    """Return the largest senders' sums of a period by provider and domain, of all tenants together."""
    sql = (
        "SELECT provider_id, domain_id, 0, kind, cause, permanence, CAST(SUM(n) AS UNSIGNED) FROM flow_day "
        f"WHERE {_of_largest(connection, first)} AND day BETWEEN {literal(first)} AND {literal(last)} "
        "GROUP BY provider_id, domain_id, kind, cause, permanence"
    )
    return SenderRows.of(raw_rows(connection, sql))


def put_provider_days(connection: Connection, rows: Sequence[tuple[int, date, int, float, float]]) -> None:
    """Store (provider id, day, senders, common, outage) in place of what is there."""
    for start in range(0, len(rows), 1000):
        insert_rows(
            connection,
            "INSERT INTO provider_day (provider_id, day, senders, common, outage) VALUES",
            rows[start : start + 1000],
            "ON DUPLICATE KEY UPDATE senders = VALUES(senders), common = VALUES(common), outage = VALUES(outage)",
        )


def provider_days(connection: Connection, since: date, provider_ids: Iterable[int] = ()) -> list[ProviderDay]:
    """Return what senders had in common at providers, day by day; at all of them unless some are named."""
    c = t.provider_day.c
    query = select(t.provider_day).where(c.day >= since)
    ids = list(provider_ids)
    return values_of(ProviderDay, connection.execute(query.where(c.provider_id.in_(ids)) if ids else query))


def put_usual(connection: Connection, provider_id: int, since: date, document: Document) -> None:
    """Store what is usual at a provider since a day."""
    statement = t.provider_usual.delete().where(t.provider_usual.c.provider_id == provider_id)
    connection.execute(statement)
    connection.execute(t.provider_usual.insert().values(provider_id=provider_id, since=since, document=document))


def usual(connection: Connection) -> dict[int, tuple[date, dict[str, float | None]]]:
    """Return by provider: since when, and its openness and the median sender's opens, None where not known."""
    return {row.provider_id: (row.since, row.document) for row in connection.execute(select(t.provider_usual))}
