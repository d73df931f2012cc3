"""Feeds, what they rejected, and how they go."""

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, insert, select, text, update

from rust_gauge.store import tables as t
from rust_gauge.store.bulk import insert_rows
from rust_gauge.store.columns import Document, FeedColumns
from rust_gauge.store.values import value_of, values_of

MAX_KEPT = 10_000  # rejected rows of a feed


@dataclass(frozen=True, slots=True)
class FeedRow:
    """A feed with the slug and the name of its tenant."""

    id: int
    tenant_id: int
    name: str
    kind: str
    feed_key: str
    token_digest: bytes
    secret: str
    password: str
    source: Document
    mapping: Document
    defaults: Document
    position: Document
    paused: bool
    error: str
    created_at: datetime
    slug: str
    tenant_name: str


@dataclass(frozen=True, slots=True)
class RejectedRow:
    """A row that could not be used."""

    id: int
    tenant_id: int
    feed_id: int
    arrived_at: datetime
    form: str
    item: str
    problems: list[Any]


@dataclass(frozen=True, slots=True)
class LoadRow:
    """A load of events."""

    id: int
    tenant_id: int
    feed_id: int
    arrived_at: datetime
    processed_at: datetime
    received: int
    stored: int
    rejected: int
    newest: datetime | None


def add_feed(connection: Connection, **values: Unpack[FeedColumns]) -> int:
    """Add a feed; return its id."""
    return int(connection.execute(insert(t.feed).values(**values)).inserted_primary_key[0])  # type: ignore[index]


def list_feeds(connection: Connection, tenant_id: int | None = None, name: str | None = None) -> list[FeedRow]:
    """Return a tenant's feeds by name; all of all tenants (with the tenants' slugs) without one."""
    query = select(t.feed, t.tenant.c.slug, t.tenant.c.name.label("tenant_name")).join(t.tenant)
    query = query.order_by(t.feed.c.name)
    if tenant_id is not None:
        query = query.where(t.feed.c.tenant_id == tenant_id)
    return values_of(FeedRow, connection.execute(query if name is None else query.where(t.feed.c.name == name)))


def feed_of_key(connection: Connection, key: str) -> FeedRow | None:
    """Return the feed that a key belongs to, with its tenant; None for an unknown key."""
    query = select(t.feed, t.tenant.c.slug, t.tenant.c.name.label("tenant_name")).join(t.tenant)
    return value_of(FeedRow, connection.execute(query.where(t.feed.c.feed_key == key)).first())


def update_feed(connection: Connection, feed_id: int, /, **values: Unpack[FeedColumns]) -> None:
    """Change columns of a feed."""
    connection.execute(update(t.feed).where(t.feed.c.id == feed_id).values(**values))


def delete_feed(connection: Connection, feed_id: int) -> None:
    """Delete a feed; its events stay."""
    connection.execute(delete(t.feed_told).where(t.feed_told.c.feed_id == feed_id))
    connection.execute(delete(t.feed).where(t.feed.c.id == feed_id))


def keep_rejected_rows(connection: Connection, tenant_id: int, feed_id: int, rows: Iterable[Document]) -> None:
    """Store rejected rows, the newest MAX_KEPT of them."""
    made = [{"tenant_id": tenant_id, "feed_id": feed_id, **row} for row in rows]
    if not made:
        return
    connection.execute(insert(t.rejected_row), made)
    c = t.rejected_row.c
    last = connection.scalar(select(c.id).where(c.feed_id == feed_id).order_by(c.id.desc()).offset(MAX_KEPT).limit(1))
    if last is not None:
        connection.execute(delete(t.rejected_row).where(c.feed_id == feed_id, c.id <= last))


def list_rejected_rows(connection: Connection, feed_id: int, before: int | None, limit: int) -> list[RejectedRow]:
    """Newest first."""
    c = t.rejected_row.c
    query = select(t.rejected_row).where(c.feed_id == feed_id).order_by(c.id.desc()).limit(limit)
    return values_of(RejectedRow, connection.execute(query if before is None else query.where(c.id < before)))


def take_rejected_rows(connection: Connection, feed_id: int, ids: list[int] | None, limit: int) -> list[RejectedRow]:
    """Remove and return rejected rows, oldest first: all, or these."""
    c = t.rejected_row.c
    query = select(t.rejected_row).where(c.feed_id == feed_id).order_by(c.id).limit(limit).with_for_update()
    rows = values_of(RejectedRow, connection.execute(query if ids is None else query.where(c.id.in_(ids))))
    connection.execute(delete(t.rejected_row).where(c.id.in_([row.id for row in rows])))
    return rows


def delete_rejected_rows(connection: Connection, feed_id: int) -> int:
    """Delete a feed's rejected rows; return how many there were."""
    return int(connection.execute(delete(t.rejected_row).where(t.rejected_row.c.feed_id == feed_id)).rowcount)


def count_rejected_rows(connection: Connection, feed_ids: list[int]) -> dict[int, int]:
    """Count rejected rows by feed id; a feed without any is left out."""
    c = t.rejected_row.c
    query = select(c.feed_id, func.count().label("n")).where(c.feed_id.in_(feed_ids)).group_by(c.feed_id)
    return {row.feed_id: row.n for row in connection.execute(query)}


def recent_loads(connection: Connection, tenant_id: int, feed_id: int, limit: int = 50) -> list[LoadRow]:
    """Return the newest loads of a feed that brought something new."""
    c = t.load.c
    query = select(t.load).where(c.tenant_id == tenant_id, c.feed_id == feed_id, c.stored > 0)
    return values_of(LoadRow, connection.execute(query.order_by(c.id.desc()).limit(limit)))


def stored_since(connection: Connection, tenant_id: int, since: datetime) -> dict[int, int]:
    """Events stored since a time, by feed."""
    c = t.load.c
    query = select(c.feed_id, func.sum(c.stored).label("n")).where(c.tenant_id == tenant_id, c.arrived_at >= since)
    return {row.feed_id: int(row.n) for row in connection.execute(query.group_by(c.feed_id))}


def times_told(connection: Connection, feed_id: int, digests: list[bytes], now: datetime) -> dict[bytes, datetime]:
    """Return when a feed first brought these; now for new ones."""
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
    """Delete expired data: rows of loads, and old deliveries."""
    for table in ("event_load WHERE arrived_at", "feed_told WHERE occurred_at"):
        connection.execute(text(f"DELETE FROM {table} < :before LIMIT 100000"), {"before": before})
