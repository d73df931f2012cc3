"""Dropping old events: partitions that nobody needs any more, then the rest of a tenant's old events.

Counters stay, and stay right: what is dropped cannot come again, as intake refuses what is older than what is kept.
"""

from datetime import date, datetime

from sqlalchemy import ColumnElement, Connection, delete, exists, or_, select, text

from rust_gauge.store import leases
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal, run
from rust_gauge.store.engine import Store
from rust_gauge.store.partitions import LEASE, LEASE_FOR, partition_ends

PIECE = 5000  # rows in one transaction, so that new mail does not wait long


def drop_partitions(store: Store, before: date, now: datetime) -> int:
    """Drop partitions all of whose events are older; returns how many. LeaseHeld while somebody else changes them."""

    def old_ones(connection: Connection) -> list[str]:
        return [name for name, end in partition_ends(connection) if end <= before]

    if not store.transaction(old_ones):
        return 0

    def read(connection: Connection) -> int:
        old = old_ones(connection)
        if old:
            connection.execute(text(f"ALTER TABLE event DROP PARTITION {', '.join(old)}"))
        return len(old)

    with leases.held(store, LEASE, now, LEASE_FOR):
        return store.transaction(read)


def drop_events(connection: Connection, tenant_id: int, before: datetime) -> int:
    """Drop a piece of a tenant's older events; 0 when there is none left."""
    sql = f"DELETE FROM event WHERE tenant_id = {tenant_id} AND occurred_at < {literal(before)} LIMIT {PIECE}"
    return int(run(connection, sql).rowcount)


def forget_trouble(connection: Connection, before: date) -> int:
    """Recipients with whom there was trouble long ago: their messages are settled."""
    found = connection.execute(
        delete(t.trouble).where(t.trouble.c.seen_on < before).with_dialect_options(mysql_limit=PIECE)
    )
    return int(found.rowcount)


def with_older(connection: Connection, before: datetime, tenants: list[int], others: list[int] | None) -> list[int]:
    """Return those of these tenants that have older events; with `others` also every tenant that is not among those."""
    c, e = t.tenant.c, t.event.c
    which: ColumnElement[bool] = c.id.in_(tenants)
    if others is not None:
        which = or_(which, c.id.not_in(others))
    older = exists().where(e.tenant_id == c.id, e.occurred_at < before)
    return list(connection.scalars(select(c.id).where(which, older)))
