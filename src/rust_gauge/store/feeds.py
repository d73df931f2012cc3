"""Feeds, what they refused, and how they go."""

from collections.abc import Iterable
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, func, insert, select, text, update

from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.engine import AnyRow

MAX_KEPT = 10_000  # refused rows of a feed


def add_feed(connection: Connection, **values: Any) -> int:
    return int(connection.execute(insert(t.feed).values(**values)).inserted_primary_key[0])  # type: ignore[index]


def list_feeds(connection: Connection, tenant_id: int | None = None, name: str | None = None) -> list[AnyRow]:
    """A tenant's feeds by name; all of all tenants (with the tenants' slugs) without one."""
    query = select(t.feed, t.tenant.c.slug, t.tenant.c.name.label("tenant_name")).join(t.tenant)
    query = query.order_by(t.feed.c.name)
    if tenant_id is not None:
        query = query.where(t.feed.c.tenant_id == tenant_id)
    return list(connection.execute(query if name is None else query.where(t.feed.c.name == name)))


def feed_of_key(connection: Connection, key: str) -> AnyRow | None:
    query = select(t.feed, t.tenant.c.slug, t.tenant.c.name.label("tenant_name")).join(t.tenant)
    return connection.execute(query.where(t.feed.c.feed_key == key)).first()


def change_feed(connection: Connection, feed_id: int, **values: Any) -> None:
    connection.execute(update(t.feed).where(t.feed.c.id == feed_id).values(**values))


def drop_feed(connection: Connection, feed_id: int) -> None:
    """Forget a feed; its events stay."""
    connection.execute(delete(t.feed_told).where(t.feed_told.c.feed_id == feed_id))
    connection.execute(delete(t.feed).where(t.feed.c.id == feed_id))


def keep_refused(connection: Connection, tenant_id: int, feed_id: int, rows: Iterable[dict[str, Any]]) -> None:
    """Keep refused rows, the newest MAX_KEPT of them."""
    made = [{"tenant_id": tenant_id, "feed_id": feed_id, **row} for row in rows]
    if not made:
        return
    connection.execute(insert(t.refused_row), made)
    c = t.refused_row.c
    last = connection.scalar(select(c.id).where(c.feed_id == feed_id).order_by(c.id.desc()).offset(MAX_KEPT).limit(1))
    if last is not None:
        connection.execute(delete(t.refused_row).where(c.feed_id == feed_id, c.id <= last))


def list_refused(connection: Connection, feed_id: int, before: int | None, limit: int) -> list[AnyRow]:
    """Newest first."""
    c = t.refused_row.c
    query = select(t.refused_row).where(c.feed_id == feed_id).order_by(c.id.desc()).limit(limit)
    return list(connection.execute(query if before is None else query.where(c.id < before)))


def take_refused(connection: Connection, feed_id: int, ids: list[int] | None, limit: int) -> list[AnyRow]:
    """Take refused rows out, oldest first: all, or these."""
    c = t.refused_row.c
    query = select(t.refused_row).where(c.feed_id == feed_id).order_by(c.id).limit(limit).with_for_update()
    rows = list(connection.execute(query if ids is None else query.where(c.id.in_(ids))))
    connection.execute(delete(t.refused_row).where(c.id.in_([row.id for row in rows])))
    return rows


def drop_refused(connection: Connection, feed_id: int) -> int:
    return int(connection.execute(delete(t.refused_row).where(t.refused_row.c.feed_id == feed_id)).rowcount)


def count_refused(connection: Connection, feed_ids: list[int]) -> dict[int, int]:
    c = t.refused_row.c
    query = select(c.feed_id, func.count().label("n")).where(c.feed_id.in_(feed_ids)).group_by(c.feed_id)
    return {row.feed_id: row.n for row in connection.execute(query)}


def recent_loads(connection: Connection, tenant_id: int, feed_id: int, limit: int = 50) -> list[AnyRow]:
    """The newest loads of a feed that brought something new."""
    c = t.load.c
    query = select(t.load).where(c.tenant_id == tenant_id, c.feed_id == feed_id, c.stored > 0)
    return list(connection.execute(query.order_by(c.id.desc()).limit(limit)))


def stored_since(connection: Connection, tenant_id: int, since: datetime) -> dict[int, int]:
    """Events stored since a time, by feed."""
    c = t.load.c
    query = select(c.feed_id, func.sum(c.stored).label("n")).where(c.tenant_id == tenant_id, c.arrived_at >= since)
    return {row.feed_id: int(row.n) for row in connection.execute(query.group_by(c.feed_id))}


def times_told(connection: Connection, feed_id: int, digests: list[bytes], now: datetime) -> dict[bytes, datetime]:
    """When a feed first told of these; now for those that are new."""
    out: dict[bytes, datetime] = {}
    for start in range(0, len(digests), 1000):
        part = sorted(set(digests[start : start + 1000]))
        rows = [(feed_id, digest, now.replace(tzinfo=None)) for digest in part]
        insert_rows(connection, "INSERT IGNORE INTO feed_told (feed_id, digest, occurred_at) VALUES", rows)
        c = t.feed_told.c
        query = select(c.digest, c.occurred_at).where(c.feed_id == feed_id, c.digest.in_(part))
        out.update({bytes(row.digest): row.occurred_at for row in connection.execute(query)})
    return out


def drop_old(connection: Connection, before: datetime) -> None:
    """What nobody asks for any more: rows of loads, and what was told long ago."""
    for table in ("event_load WHERE arrived_at", "feed_told WHERE occurred_at"):
        connection.execute(text(f"DELETE FROM {table} < :before LIMIT 100000"), {"before": before})
