"""Readings by day."""

from collections.abc import Iterable
from datetime import date, datetime
from typing import Any

import orjson
from sqlalchemy import Connection, delete, func, select

from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.engine import AnyRow

_CHUNK = 1000


_COLUMNS = ("provider_id", "day", "value", "margin", "mail", "pulls")
_INSERT = f"INSERT INTO reading_day (tenant_id, domain_id, computed_at, {', '.join(_COLUMNS)}) VALUES"


def replace_readings(
    connection: Connection, tenant_id: int, domain_id: int, now: datetime, rows: Iterable[dict[str, Any]]
) -> int:
    """Put these in place of all that a domain had; gives how many. A row has `_COLUMNS`, its pulls as a list."""
    where = (t.reading_day.c.tenant_id == tenant_id) & (t.reading_day.c.domain_id == domain_id)
    connection.execute(delete(t.reading_day).where(where))
    head = (tenant_id, domain_id, now.replace(tzinfo=None))
    batch = [
        (
            *head,
            row["provider_id"],
            row["day"],
            row["value"],
            row["margin"],
            row["mail"],
            orjson.dumps(row["pulls"]).decode(),
        )
        for row in rows
    ]
    for start in range(0, len(batch), _CHUNK):
        insert_rows(connection, _INSERT, batch[start : start + _CHUNK])
    return len(batch)


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
