"""Notes on the time axis, made by people or by a change of policy."""

from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any, Unpack

from sqlalchemy import Connection, select

from rust_gauge.store import tables as t
from rust_gauge.store.columns import MarkColumns
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class MarkRow:
    """A note on the time axis."""

    id: int
    tenant_id: int
    domain: str
    day: date
    text: str
    made_at: datetime
    made_by: str
    kind: str


def add_mark(connection: Connection, **values: Unpack[MarkColumns]) -> int:
    """Add a note; return its id."""
    key: Any = connection.execute(t.mark.insert().values(**values)).inserted_primary_key
    return int(key[0])


def marks(connection: Connection, tenant_id: int, first: date, last: date, domain: str | None) -> list[MarkRow]:
    """Return notes of some days, both included; of a domain those that name it or none."""
    c = t.mark.c
    query = select(t.mark).where(c.tenant_id == tenant_id, c.day.between(first, last))
    if domain is not None:
        query = query.where(c.domain.in_(("", domain)))
    return values_of(MarkRow, connection.execute(query.order_by(c.day, c.id)))


def drop_mark(connection: Connection, tenant_id: int, id: int) -> bool:
    """Delete a note that a person wrote; return whether there was one."""
    c = t.mark.c
    where = (c.tenant_id == tenant_id, c.id == id, c.kind == "note")
    return bool(connection.execute(t.mark.delete().where(*where)).rowcount)


def mark_policy(connection: Connection, tenant_id: int, now: datetime, by: str, text: str) -> None:
    """Put a changed policy on the time axis."""
    at = now.astimezone(UTC).replace(tzinfo=None)
    add_mark(
        connection, tenant_id=tenant_id, domain="", day=at.date(), text=text, made_at=at, made_by=by, kind="policy"
    )
