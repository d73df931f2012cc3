"""Addresses taken out of texts, for tenants that keep digests only: notes, evidence, history, replies, events."""

from datetime import datetime, timedelta

from sqlalchemy import Connection, Text, cast, func, select, update

from rust_gauge.core.names import HIDDEN
from rust_gauge.store import tables as t

# What looks like an address in a text, for MariaDB: wider than any address, so that none is left. It takes no
# backslash, so that JSON stays JSON.
_ADDRESS = "[^[:space:]<>(),;:\"'\\[\\]\\\\]+@[^[:space:]<>(),;:\"'\\[\\]\\\\]+"


def hide_in_texts(connection: Connection, tenant_id: int) -> None:
    """Hide addresses in the notes of entries and of their changes, in evidence, in examples of reply patterns, and in
    rejected rows with their problems. Evidence of entries for addresses goes as a whole.
    """
    entry, change, pattern, rejected = t.suppression_entry, t.suppression_change, t.reply_pattern, t.rejected_row
    of_address = (entry.c.tenant_id == tenant_id, entry.c.address == "")
    connection.execute(update(entry).where(*of_address).values(evidence="[]"))
    for column in (
        entry.c.note, entry.c.evidence, change.c.note, pattern.c.example, rejected.c.item, rejected.c.problems,
    ):  # fmt: skip
        connection.execute(
            update(column.table)
            .where(column.table.c.tenant_id == tenant_id, cast(column, Text).like("%@%"))
            .values({column.name: func.regexp_replace(cast(column, Text), _ADDRESS, HIDDEN)})
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
