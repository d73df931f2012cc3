"""One person's data: events, reply patterns, entries, rejected rows, and the record of erasures.

An erased event keeps its identity and its place in its message, so counters stay right.
"""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Unpack

from sqlalchemy import Connection, delete, func, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import ErasureColumns, ReplyPatternColumns
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class ReplyPattern:
    """A reply by its fixed part, with an example."""

    id: int
    reply_pattern: str
    example: str


@dataclass(frozen=True, slots=True)
class ErasureRow:
    """That somebody was erased."""

    id: int
    tenant_id: int
    erased_at: datetime
    erased_by: str
    reason: str
    events: int
    others: int


@dataclass(frozen=True, slots=True)
class RejectedItem:
    """A row that could not be used."""

    id: int
    item: str


def rejected_rows_with(connection: Connection, tenant_id: int, address: str) -> list[RejectedItem]:
    """Refused rows that speak of an address."""
    c = t.rejected_row.c
    like = address.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return values_of(
        RejectedItem,
        connection.execute(select(t.rejected_row).where(c.tenant_id == tenant_id, c.item.like(f"%{like}%"))),
    )


def erase_events(connection: Connection, tenant_id: int, key: bytes, new_key: bytes) -> int:
    """Remove a recipient from its events. They stay together, and count as before. Return how many."""
    e = t.event.c
    done = connection.execute(
        update(t.event)
        .where(e.tenant_id == tenant_id, e.recipient_key == key)
        .values(
            recipient=func.concat("erased@", func.substring_index(e.recipient, "@", -1)),
            recipient_key=new_key,
            message_id=func.if_(e.message_id == "", "", "erased"),
            diagnostic="",
        )
    )
    connection.execute(delete(t.trouble).where(t.trouble.c.tenant_id == tenant_id, t.trouble.c.recipient_key == key))
    return int(done.rowcount)


def reply_patterns_of(connection: Connection, tenant_id: int, key: bytes) -> list[ReplyPattern]:
    """Reply patterns of replies about a recipient: id, reply pattern, example."""
    e, w = t.event.c, t.reply_pattern.c
    ids = select(e.pattern_id).where(e.tenant_id == tenant_id, e.recipient_key == key, e.pattern_id != 0).distinct()
    return values_of(ReplyPattern, connection.execute(select(w.id, w.reply_pattern, w.example).where(w.id.in_(ids))))


def change_reply_pattern(connection: Connection, id: int, /, **values: Unpack[ReplyPatternColumns]) -> None:
    """Change columns of a reply pattern."""
    connection.execute(update(t.reply_pattern).where(t.reply_pattern.c.id == id).values(**values))


def erase_entries(connection: Connection, tenant_id: int, key: bytes, *, drop: bool) -> int:
    """Remove the address from its entries, which keep holding it by its key; or delete them."""
    c, log = t.suppression_entry.c, t.suppression_change.c
    where = (c.tenant_id == tenant_id) & (c.address_key == key)
    logged = (log.tenant_id == tenant_id) & (log.address_key == key)
    if drop:
        connection.execute(delete(t.suppression_change).where(logged))
        return int(connection.execute(delete(t.suppression_entry).where(where)).rowcount)
    connection.execute(update(t.suppression_change).where(logged).values(address="", note=""))
    blank = {"address": "", "mail_domain": "", "evidence": "[]", "note": ""}
    return int(connection.execute(update(t.suppression_entry).where(where).values(**blank)).rowcount)


def delete_rejected_rows(connection: Connection, ids: Sequence[int]) -> None:
    """Delete rejected rows."""
    connection.execute(delete(t.rejected_row).where(t.rejected_row.c.id.in_(ids)))


def add_erasure(connection: Connection, **values: Unpack[ErasureColumns]) -> None:
    """Record an erasure."""
    connection.execute(t.erasure.insert().values(**values))


def list_erasures(connection: Connection, tenant_id: int) -> list[ErasureRow]:
    """Return a tenant's newest erasures, 1,000 at most."""
    c = t.erasure.c
    query = select(t.erasure).where(c.tenant_id == tenant_id).order_by(c.id.desc()).limit(1000)
    return values_of(ErasureRow, connection.execute(query))
