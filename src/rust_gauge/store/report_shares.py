"""Links that open one report without an account."""

from dataclasses import dataclass, fields
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import ReportShareColumns
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class ReportShareRow:
    """A link, without its page."""

    id: int
    title: str
    note: str
    created_by: str
    created_at: datetime
    expires_at: datetime
    opened: int
    opened_at: datetime | None


def add_share(connection: Connection, **values: Unpack[ReportShareColumns]) -> int:
    """Add a link; return its id."""
    key: Any = connection.execute(insert(t.report_share).values(**values)).inserted_primary_key
    return int(key[0])


def list_shares(connection: Connection, tenant_id: int) -> list[ReportShareRow]:
    """Return the links of a tenant, newest first."""
    c = t.report_share.c
    columns = [c[field.name] for field in fields(ReportShareRow)]
    query = select(*columns).where(c.tenant_id == tenant_id).order_by(c.id.desc())
    return values_of(ReportShareRow, connection.execute(query))


def open_share(connection: Connection, digest: bytes, now: datetime) -> bytes | None:
    """Return the page of the link with this digest unless it has ended, and count that it was opened."""
    c = t.report_share.c
    found = connection.execute(
        select(c.id, c.page).where(c.token_digest == digest, c.expires_at > now)
    ).first()  # fmt: skip
    if found is None:
        return None
    connection.execute(update(t.report_share).where(c.id == found.id).values(opened=c.opened + 1, opened_at=now))
    return bytes(found.page)


def delete_share(connection: Connection, tenant_id: int, id: int) -> bool:
    """Delete a link. False where the tenant has no such link."""
    c = t.report_share.c
    return bool(connection.execute(delete(t.report_share).where(c.id == id, c.tenant_id == tenant_id)).rowcount)


def drop_expired(connection: Connection, tenant_id: int, now: datetime) -> None:
    """Delete the links of a tenant that have ended, with their pages."""
    c = t.report_share.c
    connection.execute(delete(t.report_share).where(c.tenant_id == tenant_id, c.expires_at <= now))
