"""Readings by day."""

from collections.abc import Iterable
from datetime import date
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select

from rust_gauge.store import tables as t
from rust_gauge.store.engine import AnyRow

_CHUNK = 2000


def replace_readings(connection: Connection, domain_id: int, rows: Iterable[dict[str, Any]]) -> None:
    """Put these in place of all that a domain had."""
    connection.execute(delete(t.reading_day).where(t.reading_day.c.domain_id == domain_id))
    batch = list(rows)
    for start in range(0, len(batch), _CHUNK):
        connection.execute(insert(t.reading_day), batch[start : start + _CHUNK])


def series(
    connection: Connection, tenant_id: int, domain_id: int, provider_id: int, first: date, last: date
) -> list[AnyRow]:
    """One domain's readings at one provider, oldest first."""
    c = t.reading_day.c
    query = (
        select(t.reading_day)
        .where(
            c.tenant_id == tenant_id,
            c.domain_id == domain_id,
            c.provider_id == provider_id,
            c.day.between(first, last),
        )
        .order_by(c.day)
    )
    return list(connection.execute(query))


def newest_day(connection: Connection, tenant_id: int, domain_id: int) -> date | None:
    c = t.reading_day.c
    newest: date | None = connection.scalar(
        select(func.max(c.day)).where(c.tenant_id == tenant_id, c.domain_id == domain_id)
    )
    return newest


def window(connection: Connection, tenant_ids: list[int], first: date, last: date) -> list[AnyRow]:
    """Values of all domains of these tenants, for the wall; without pulls."""
    c = t.reading_day.c
    query = select(c.tenant_id, c.domain_id, c.provider_id, c.day, c.value, c.margin).where(
        c.tenant_id.in_(tenant_ids), c.day.between(first, last)
    )
    return list(connection.execute(query))


def pulls_on(connection: Connection, tenant_ids: list[int], provider_id: int, day: date) -> dict[int, list[Any]]:
    """The pulls on one day, by domain id."""
    c = t.reading_day.c
    query = select(c.domain_id, c.pulls).where(c.tenant_id.in_(tenant_ids), c.provider_id == provider_id, c.day == day)
    return {row.domain_id: row.pulls for row in connection.execute(query)}


def stale_domains(connection: Connection, today: date) -> list[tuple[int, int]]:
    """(tenant id, domain id) of domains whose readings end before `today`."""
    c = t.reading_day.c
    query = select(c.tenant_id, c.domain_id).group_by(c.tenant_id, c.domain_id).having(func.max(c.day) < today)
    return [(row.tenant_id, row.domain_id) for row in connection.execute(query)]
