"""Invitations: one-time links to a tenant, or to own the installation. Links come in as digests only."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, insert, select

from rust_gauge.store import tables as t
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class InvitationRow:
    """An invitation that was not accepted yet; without a tenant it makes an owner."""

    id: int
    tenant_id: int | None
    email: str
    role: str
    invited_by: str
    created_at: datetime
    expires_at: datetime


_COLUMNS = tuple(t.invitation.c[name] for name in InvitationRow.__dataclass_fields__)


def put_invitation(connection: Connection, digest: bytes, **values: Any) -> int:
    """Add an invitation, replacing one of the same tenant for the same address. Return its id."""
    c = t.invitation.c
    tenant_id = values["tenant_id"]
    of_tenant = c.tenant_id.is_(None) if tenant_id is None else c.tenant_id == tenant_id
    connection.execute(delete(t.invitation).where(of_tenant, c.email == values["email"]))
    result = connection.execute(insert(t.invitation).values(digest=digest, **values))
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def find_invitation(
    connection: Connection, digest: bytes, now: datetime, *, lock: bool = False
) -> InvitationRow | None:
    """Return the invitation of a link that has not expired."""
    c = t.invitation.c
    query = select(*_COLUMNS).where(c.digest == digest, c.expires_at > now)
    return value_of(InvitationRow, connection.execute(query.with_for_update() if lock else query).first())


def list_invitations(connection: Connection, tenant_id: int | None, now: datetime) -> list[InvitationRow]:
    """Return a tenant's invitations that can still be accepted, or those of owners."""
    c = t.invitation.c
    of_tenant = c.tenant_id.is_(None) if tenant_id is None else c.tenant_id == tenant_id
    query = select(*_COLUMNS).where(of_tenant, c.expires_at > now).order_by(c.id)
    return values_of(InvitationRow, connection.execute(query))


def delete_invitation(connection: Connection, tenant_id: int | None, id: int) -> bool:
    """Delete an invitation; return whether there was one."""
    c = t.invitation.c
    of_tenant = c.tenant_id.is_(None) if tenant_id is None else c.tenant_id == tenant_id
    return connection.execute(delete(t.invitation).where(of_tenant, c.id == id)).rowcount > 0
