"""API tokens: what they may, where they may be used from, and when they were. Secrets come in as digests only."""

from collections.abc import Sequence
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

from sqlalchemy import Connection, delete, insert, or_, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.accounts import Principal, principal_of_account
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class TokenRow:
    """A token. `tenants` are ids; empty lists mean no limit."""

    id: int
    name: str
    account_id: int
    created_at: datetime
    last_used_at: datetime | None
    expires_at: datetime | None
    scopes: list[str]
    networks: list[str]
    tenants: list[int]
    last_used_address: str
    refused_at: datetime | None
    refused_address: str
    previous_until: datetime | None


_COLUMNS = tuple(t.token.c[name] for name in TokenRow.__dataclass_fields__)


def principal_of_token(connection: Connection, digest: bytes, now: datetime) -> Principal | None:
    """Return who a token belongs to; None if it is unknown or expired."""
    c, at = t.token.c, now.replace(tzinfo=None)
    rotated = (c.previous_digest == digest) & (c.previous_until > now)
    row = connection.execute(select(t.token).where(or_(c.digest == digest, rotated))).first()
    if row is None or (row.expires_at is not None and row.expires_at <= at):
        return None
    found = principal_of_account(connection, row.account_id, row.tenants)
    return found and replace(
        found, token_id=row.id, token_name=row.name, scopes=tuple(row.scopes), networks=tuple(row.networks)
    )


def note_use(connection: Connection, id: int, address: str, now: datetime) -> None:
    """Record that a token was used, once a minute at most unless the address is another one."""
    c, at = t.token.c, now.replace(tzinfo=None)
    row = connection.execute(select(c.last_used_at, c.last_used_address).where(c.id == id)).first()
    if row is None:
        return
    if row.last_used_at is None or row.last_used_address != address or (at - row.last_used_at).total_seconds() > 60:
        connection.execute(update(t.token).where(c.id == id).values(last_used_at=now, last_used_address=address[:45]))


def note_refusal(connection: Connection, id: int, address: str, now: datetime) -> bool:
    """Record that a token was used from outside its networks. Return whether it is the first time from there today."""
    c = t.token.c
    row = connection.execute(select(c.refused_at, c.refused_address).where(c.id == id)).first()
    connection.execute(update(t.token).where(c.id == id).values(refused_at=now, refused_address=address[:45]))
    return row is None or row.refused_address != address or row.refused_at.date() != now.date()


@dataclass(frozen=True, slots=True)
class RefusedToken:
    """A token that was used from outside its networks, and whose it is."""

    id: int
    name: str
    email: str
    networks: list[str]
    refused_at: datetime
    refused_address: str


def refused_since(connection: Connection, tenant_id: int, since: datetime) -> list[RefusedToken]:
    """Return the tokens of a tenant's members, for this tenant, that were refused since a time."""
    c, m = t.token.c, t.membership.c
    query = select(c.id, c.name, t.account.c.email, c.networks, c.refused_at, c.refused_address, c.tenants)
    query = query.join(t.account, t.account.c.id == c.account_id).join(t.membership, m.account_id == c.account_id)
    rows = connection.execute(query.where(m.tenant_id == tenant_id, c.refused_at >= since).order_by(c.id)).all()
    return values_of(RefusedToken, [row for row in rows if not row.tenants or tenant_id in row.tenants])


def add_token(connection: Connection, digest: bytes, **values: Any) -> int:
    """Store a token by the digest of its secret; return its id."""
    result = connection.execute(insert(t.token).values(digest=digest, **values))
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def list_tokens(connection: Connection, account_id: int, id: int | None = None) -> list[TokenRow]:
    """Return an account's tokens, or one of them."""
    query = select(*_COLUMNS).where(t.token.c.account_id == account_id).order_by(t.token.c.id)
    return values_of(TokenRow, connection.execute(query if id is None else query.where(t.token.c.id == id)))


def rotate_token(connection: Connection, id: int, digest: bytes, until: datetime, expires: datetime | None) -> None:
    """Give a token a new secret; the one before stays valid for a while."""
    c = t.token.c
    values = {"previous_digest": c.digest, "previous_until": until, "digest": digest, "expires_at": expires}
    # The old digest is read before the new one is written: MariaDB assigns from left to right.
    statement = update(t.token).where(c.id == id).ordered_values(*((c[name], value) for name, value in values.items()))
    connection.execute(statement)


def delete_token(connection: Connection, account_id: int, token_id: int) -> bool:
    """Delete a token of this account; return whether there was one."""
    where = (t.token.c.id == token_id) & (t.token.c.account_id == account_id)
    return connection.execute(delete(t.token).where(where)).rowcount > 0


def delete_tokens(connection: Connection, account_id: int, but: Sequence[int] = ()) -> int:
    """Delete an account's tokens. Return how many."""
    c = t.token.c
    where = c.account_id == account_id if not but else (c.account_id == account_id) & c.id.not_in(but)
    return int(connection.execute(delete(t.token).where(where)).rowcount)
