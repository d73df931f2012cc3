"""Trays: where test messages are caught, and what a tray remembers of attempts that it asked to repeat."""

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, func, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import TrayColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class TrayRow:
    """A tray."""

    id: int
    tenant_id: int
    name: str
    title: str
    address_key: str
    smtp_user: str
    password_digest: bytes
    rotated_at: datetime
    keep_days: int
    keep_messages: int
    max_bytes: int
    sending_ip: str
    series_header: str
    receiver: list[Any]
    created_at: datetime


@dataclass(frozen=True, slots=True)
class TrayContent:
    """What is in a tray: number of messages, their octets, and when the newest arrived."""

    tray_id: int
    messages: int
    octets: int
    newest: int


def add_tray(connection: Connection, **values: Unpack[TrayColumns]) -> int:
    """Add a tray; return its id."""
    key: Any = connection.execute(insert(t.tray).values(**values)).inserted_primary_key
    return int(key[0])


def list_trays(connection: Connection, tenant_id: int | None = None) -> list[TrayRow]:
    """Return trays by name: a tenant's, or all."""
    c = t.tray.c
    query = select(t.tray).order_by(c.name)
    if tenant_id is not None:
        query = query.where(c.tenant_id == tenant_id)
    return values_of(TrayRow, connection.execute(query))


def tray_by_id(connection: Connection, tray_id: int) -> TrayRow | None:
    """Return a tray; None when it was deleted."""
    return value_of(TrayRow, connection.execute(select(t.tray).where(t.tray.c.id == tray_id)).first())


def tray_by_user(connection: Connection, user: str) -> TrayRow | None:
    """Return the tray whose SMTP user this is."""
    return value_of(TrayRow, connection.execute(select(t.tray).where(t.tray.c.smtp_user == user)).first())


def tray_by_key(connection: Connection, key: str) -> TrayRow | None:
    """Return the tray whose address has this local part."""
    return value_of(TrayRow, connection.execute(select(t.tray).where(t.tray.c.address_key == key)).first())


def contents_of(connection: Connection, tray_ids: Sequence[int]) -> dict[int, TrayContent]:
    """Return what is in trays; those without messages are missing."""
    c = t.caught_message.c
    query = select(
        c.tray_id, func.count().label("messages"), func.sum(c.size).label("octets"), func.max(c.id).label("newest")
    ).where(c.tray_id.in_(tray_ids))
    rows = values_of(TrayContent, connection.execute(query.group_by(c.tray_id)))
    return {row.tray_id: row for row in rows}


def update_tray(connection: Connection, tray_id: int, /, **values: Unpack[TrayColumns]) -> None:
    """Change columns of a tray."""
    connection.execute(update(t.tray).where(t.tray.c.id == tray_id).values(**values))


def delete_tray(connection: Connection, tray_id: int) -> None:
    """Delete a tray with its messages."""
    connection.execute(delete(t.tray).where(t.tray.c.id == tray_id))


def first_attempt(connection: Connection, tray_id: int, digest: bytes, now: datetime) -> datetime:
    """Return when an attempt was first made: now, when it never was."""
    c = t.tray_greylist.c
    values = {"tray_id": tray_id, "digest": digest, "first_at": now}
    connection.execute(insert(t.tray_greylist).prefix_with("IGNORE").values(values))
    query = select(c.first_at).where(c.tray_id == tray_id, c.digest == digest)
    first: datetime = connection.execute(query).scalar_one()
    return first


def forget_attempts(connection: Connection, before: datetime) -> None:
    """Forget attempts of long ago."""
    connection.execute(delete(t.tray_greylist).where(t.tray_greylist.c.first_at < before))
