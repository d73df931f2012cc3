"""Addresses taken out of what is stored, for tenants that keep digests only: notes, evidence, history, replies, events,
rejected rows.
"""

from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

from sqlalchemy import Connection, Text, cast, func, select, update

from rust_gauge.core.names import HIDDEN, hide_addresses, hide_in_document
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal, run

# What looks like an address in a text, for MariaDB: wider than any address, so that none is left. It takes no
# backslash, so that JSON stays JSON.
_CHUNK = 1000  # recipients in one statement
_ADDRESS = "[^[:space:]<>(),;:\"'\\[\\]\\\\]+@[^[:space:]<>(),;:\"'\\[\\]\\\\]+"


def hide_in_texts(connection: Connection, tenant_id: int) -> None:
    """Hide addresses in the notes of entries and of their changes, in evidence, and in examples of reply patterns.
    Evidence of entries for addresses goes as a whole.
    """
    entry, change, pattern = t.suppression_entry, t.suppression_change, t.reply_pattern
    of_address = (entry.c.tenant_id == tenant_id, entry.c.address == "")
    connection.execute(update(entry).where(*of_address).values(evidence="[]"))
    for column in (
        entry.c.note, entry.c.evidence, change.c.note, pattern.c.example,
    ):  # fmt: skip
        connection.execute(
            update(column.table)
            .where(column.table.c.tenant_id == tenant_id, cast(column, Text).like("%@%"))
            .values({column.name: func.regexp_replace(cast(column, Text), _ADDRESS, HIDDEN)})
        )


def hide_in_rejected_rows(connection: Connection, tenant_id: int, after: int, limit: int) -> int | None:
    """Hide addresses in some rejected rows behind an id. Return the last id; None when there are no more."""
    c = t.rejected_row.c
    query = select(c.id, c.item, c.problems).where(c.tenant_id == tenant_id, c.id > after).order_by(c.id).limit(limit)
    rows = connection.execute(query).all()
    for row in rows:
        values = {"item": hide_in_document(row.item), "problems": hide_in_problems(row.problems)}
        connection.execute(update(t.rejected_row).where(c.id == row.id).values(**values))
    return rows[-1].id if rows else None


def hide_in_problems(problems: list[Any]) -> list[Any]:
    """Hide addresses in the texts of what is wrong with a rejected row."""
    return [
        {name: hide_addresses(value) if isinstance(value, str) else value for name, value in problem.items()}
        for problem in problems
    ]


def event_days(connection: Connection, tenant_id: int) -> tuple[datetime, datetime] | None:
    """Return the times of a tenant's first and last event; None without any."""
    e = t.event.c
    query = select(func.min(e.occurred_at), func.max(e.occurred_at)).where(e.tenant_id == tenant_id)
    first, last = connection.execute(query).one()
    return None if first is None else (first, last)


def hide_in_events(connection: Connection, tenant_id: int, day: datetime, pseudonym: Callable[[str, int], str]) -> int:
    """Hide addresses in what was said about the events of 24 hours, and replace their recipients by what `pseudonym`
    makes of an address and the id of its provider. Return how many events said one.
    """
    e = t.event.c
    found = _recipients(connection, tenant_id, day)
    for start in range(0, len(found), _CHUNK):
        made = " UNION ALL ".join(
            f"SELECT {literal(key)} AS k, {literal(old)} AS old, {literal(pseudonym(old, provider_id))} AS new"
            for key, old, provider_id in found[start : start + _CHUNK]
        )
        run(
            connection,
            f"UPDATE ({made}) AS made STRAIGHT_JOIN event FORCE INDEX (event_recipient) ON tenant_id = {tenant_id} "
            f"AND recipient_key = made.k AND occurred_at >= {literal(day)} "
            f"AND occurred_at < {literal(day + timedelta(days=1))} SET recipient = made.new WHERE recipient = made.old",
        )
    done = connection.execute(
        update(t.event)
        .where(e.tenant_id == tenant_id, e.occurred_at >= day, e.occurred_at < day + timedelta(days=1))
        .where(e.diagnostic.like("%@%"))
        .values(diagnostic=func.regexp_replace(e.diagnostic, _ADDRESS, HIDDEN))
    )
    return int(done.rowcount)


def _recipients(connection: Connection, tenant_id: int, day: datetime) -> list[tuple[bytes, str, int]]:
    """Return the recipients of 24 hours that are addresses still: key, address, provider id."""
    e = t.event.c
    query = (
        select(e.recipient_key, e.recipient, e.provider_id)
        .where(e.tenant_id == tenant_id, e.occurred_at >= day, e.occurred_at < day + timedelta(days=1))
        .where(~e.recipient.regexp_match("^#[0-9a-f]{32}@"))
        .distinct()
    )
    return [(bytes(row.recipient_key), row.recipient, row.provider_id) for row in connection.execute(query)]
