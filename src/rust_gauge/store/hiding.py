"""Addresses taken out of texts, for tenants that keep digests only: notes, evidence, history, replies, events."""

from datetime import datetime, timedelta

from sqlalchemy import Connection, func, select, update

from rust_gauge.core.names import HIDDEN
from rust_gauge.store import tables as t

# What looks like an address in a text, for MariaDB: wider than any address, so that none is left.
_ADDRESS = "[^[:space:]<>(),;:\"'\\[\\]]+@[^[:space:]<>(),;:\"'\\[\\]]+"


def hide_in_list(connection: Connection, tenant_id: int) -> None:
    """Blank notes and evidence of entries for addresses, and the notes of their changes."""
    e, c = t.suppression_entry.c, t.suppression_change.c
    connection.execute(
        update(t.suppression_entry)
        .where(e.tenant_id == tenant_id, e.address == "")
        .values(note=func.regexp_replace(e.note, _ADDRESS, HIDDEN), evidence="[]")
    )
    connection.execute(
        update(t.suppression_change)
        .where(c.tenant_id == tenant_id, c.note.like("%@%"))
        .values(note=func.regexp_replace(c.note, _ADDRESS, HIDDEN))
    )


def hide_in_replies(connection: Connection, tenant_id: int) -> None:
    """Hide addresses in the examples of reply patterns and in rejected rows."""
    for table, column in ((t.reply_pattern, t.reply_pattern.c.example), (t.rejected_row, t.rejected_row.c.item)):
        connection.execute(
            update(table)
            .where(table.c.tenant_id == tenant_id, column.like("%@%"))
            .values({column: func.regexp_replace(column, _ADDRESS, HIDDEN)})
        )


def event_days(connection: Connection, tenant_id: int) -> tuple[datetime, datetime] | None:
    """Return the times of a tenant's first and last event; None without any."""
    e = t.event.c
    query = select(func.min(e.occurred_at), func.max(e.occurred_at)).where(e.tenant_id == tenant_id)
    first, last = connection.execute(query).one()
    return None if first is None else (first, last)


def hide_in_events(connection: Connection, tenant_id: int, day: datetime) -> int:
    """Hide addresses in what was said about the events of 24 hours. Return how many events had any."""
    e = t.event.c
    done = connection.execute(
        update(t.event)
        .where(e.tenant_id == tenant_id, e.occurred_at >= day, e.occurred_at < day + timedelta(days=1))
        .where(e.diagnostic.like("%@%"))
        .values(diagnostic=func.regexp_replace(e.diagnostic, _ADDRESS, HIDDEN))
    )
    return int(done.rowcount)
