"""Accounts at OpenID Connect issuers that belong to ours. Issuer and subject come in as a digest."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, delete, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class IdentityRow:
    """An account elsewhere: `issuer` is its name in the settings, `email` what the issuer said when it was linked."""

    id: int
    account_id: int
    issuer: str
    email: str
    created_at: datetime
    last_used_at: datetime | None


_COLUMNS = tuple(t.identity.c[name] for name in IdentityRow.__dataclass_fields__)


def find_identity(connection: Connection, digest: bytes) -> IdentityRow | None:
    """Return the identity of an issuer and subject."""
    return value_of(IdentityRow, connection.execute(select(*_COLUMNS).where(t.identity.c.digest == digest)).first())


def add_identity(
    connection: Connection, account_id: int, issuer: str, digest: bytes, email: str, now: datetime
) -> None:
    """Link an identity to an account. IntegrityError when it is linked already."""
    values = {"account_id": account_id, "issuer": issuer, "digest": digest, "email": email, "created_at": now}
    connection.execute(insert(t.identity).values(**values))


def list_identities(connection: Connection, account_id: int) -> list[IdentityRow]:
    """Return the identities that are linked to an account."""
    query = select(*_COLUMNS).where(t.identity.c.account_id == account_id).order_by(t.identity.c.id)
    return values_of(IdentityRow, connection.execute(query))


def note_use(connection: Connection, id: int, now: datetime) -> None:
    """Record that somebody signed in with an identity."""
    connection.execute(update(t.identity).where(t.identity.c.id == id).values(last_used_at=now))


def delete_identity(connection: Connection, account_id: int, id: int) -> bool:
    """Unlink an identity from an account; return whether there was one."""
    c = t.identity.c
    return connection.execute(delete(t.identity).where(c.account_id == account_id, c.id == id)).rowcount > 0
