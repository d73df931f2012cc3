"""Tenants, accounts, who may see what, sessions and tokens. Secrets come in as digests only."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, delete, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.roles import Role
from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class PersonRow:
    """A person with access to a tenant."""

    email: str
    name: str
    role: str


@dataclass(frozen=True, slots=True)
class TokenRow:
    """A token, with the slug of its tenant; None where it is for all."""

    id: int
    name: str
    account_id: int
    tenant_id: int | None
    created_at: datetime
    last_used_at: datetime | None
    expires_at: datetime | None
    tenant: str | None


@dataclass(frozen=True, slots=True)
class TenantAccess:
    """A tenant that an account can see."""

    id: int
    slug: str
    name: str
    role: Role


@dataclass(frozen=True, slots=True)
class Principal:
    """Who is asking, and for which tenants they may. `token_id` is set for a program."""

    account_id: int
    email: str
    name: str
    tenants: tuple[TenantAccess, ...]
    token_id: int | None = None


def add_tenant(connection: Connection, slug: str, name: str, now: datetime) -> int:
    """Return the tenant of this slug, made or already there."""
    statement = upsert(t.tenant).values(slug=slug, name=name, created_at=now)
    connection.execute(statement.on_duplicate_key_update(name=statement.inserted.name))
    id = int(connection.scalar(select(t.tenant.c.id).where(t.tenant.c.slug == slug)) or 0)
    for table in (t.intake_lock, t.suppression_state):
        connection.execute(insert(table).prefix_with("IGNORE").values(tenant_id=id))
    return id


def add_account(connection: Connection, email: str, name: str, password_hash: str, now: datetime) -> int:
    """Add the account of this address, or give it this name and password."""
    statement = upsert(t.account).values(email=email, name=name, password_hash=password_hash, created_at=now)
    values = {"name": statement.inserted.name, "password_hash": statement.inserted.password_hash}
    connection.execute(statement.on_duplicate_key_update(**values))
    return int(connection.scalar(select(t.account.c.id).where(t.account.c.email == email)) or 0)


def grant(connection: Connection, account_id: int, tenant_id: int, role: Role) -> None:
    """Give an account a role in a tenant, replacing the one it had."""
    statement = upsert(t.membership).values(account_id=account_id, tenant_id=tenant_id, role=role)
    connection.execute(statement.on_duplicate_key_update(role=statement.inserted.role))


def people_of(connection: Connection, tenant_id: int) -> list[PersonRow]:
    """email, name, role of those who may see a tenant, by name."""
    a, m = t.account.c, t.membership.c
    query = select(a.email, a.name, m.role).join(t.membership, m.account_id == a.id).where(m.tenant_id == tenant_id)
    return values_of(PersonRow, connection.execute(query.order_by(a.name, a.email)))


def find_account(connection: Connection, email: str) -> tuple[int, str] | None:
    """(id, password hash) of an account."""
    row = connection.execute(
        select(t.account.c.id, t.account.c.password_hash).where(t.account.c.email == email)
    ).first()
    return (row.id, row.password_hash) if row else None


def count_failures(connection: Connection, email: str, since: datetime) -> int:
    """Count failed sign-ins of an address since a time."""
    where = (t.sign_in_failure.c.email == email) & (t.sign_in_failure.c.failed_at > since)
    return int(connection.scalar(select(func.count()).select_from(t.sign_in_failure).where(where)) or 0)


def add_failure(connection: Connection, email: str, now: datetime, forget_before: datetime) -> None:
    """Record a failed sign-in; those before `forget_before` are deleted."""
    connection.execute(delete(t.sign_in_failure).where(t.sign_in_failure.c.failed_at < forget_before))
    connection.execute(insert(t.sign_in_failure).values(email=email, failed_at=now))


def add_session(connection: Connection, digest: bytes, account_id: int, now: datetime, expires: datetime) -> None:
    """Store a session by the digest of its secret; expired ones are deleted."""
    connection.execute(delete(t.session).where(t.session.c.expires_at < now))
    connection.execute(
        insert(t.session).values(digest=digest, account_id=account_id, created_at=now, expires_at=expires)
    )


def drop_session(connection: Connection, digest: bytes) -> None:
    """Delete a session."""
    connection.execute(delete(t.session).where(t.session.c.digest == digest))


def principal_of_session(connection: Connection, digest: bytes, now: datetime) -> Principal | None:
    """Return who a session belongs to; None if it is unknown or expired."""
    account_id = connection.scalar(
        select(t.session.c.account_id).where(t.session.c.digest == digest, t.session.c.expires_at > now)
    )
    return _principal(connection, account_id) if account_id else None


def principal_of_token(connection: Connection, digest: bytes, now: datetime) -> Principal | None:
    """Return who a token belongs to; None if it is unknown or expired."""
    row = connection.execute(select(t.token).where(t.token.c.digest == digest)).first()
    if row is None or (row.expires_at is not None and row.expires_at <= now.replace(tzinfo=None)):
        return None
    if row.last_used_at is None or (now.replace(tzinfo=None) - row.last_used_at).total_seconds() > 60:
        connection.execute(update(t.token).where(t.token.c.id == row.id).values(last_used_at=now))
    return _principal(connection, row.account_id, row.tenant_id, row.id)


def principal_of_email(connection: Connection, email: str) -> Principal | None:
    """For administrators with access to the database."""
    found = find_account(connection, email)
    return _principal(connection, found[0]) if found else None


def _principal(
    connection: Connection, account_id: int, tenant_id: int | None = None, token_id: int | None = None
) -> Principal | None:
    account = connection.execute(select(t.account).where(t.account.c.id == account_id)).first()
    if account is None:
        return None
    query = (
        select(t.tenant.c.id, t.tenant.c.slug, t.tenant.c.name, t.membership.c.role)
        .join(t.membership, t.membership.c.tenant_id == t.tenant.c.id)
        .where(t.membership.c.account_id == account_id)
        .order_by(t.tenant.c.id)
    )
    if tenant_id is not None:
        query = query.where(t.tenant.c.id == tenant_id)
    tenants = tuple(TenantAccess(row.id, row.slug, row.name, Role(row.role)) for row in connection.execute(query))
    return Principal(account.id, account.email, account.name, tenants, token_id)


def add_token(
    connection: Connection,
    digest: bytes,
    name: str,
    account_id: int,
    tenant_id: int | None,
    now: datetime,
    expires: datetime | None,
) -> int:
    """Store a token by the digest of its secret; return its id."""
    result = connection.execute(
        insert(t.token).values(
            digest=digest, name=name, account_id=account_id, tenant_id=tenant_id, created_at=now, expires_at=expires
        )
    )
    return int(result.inserted_primary_key[0])  # type: ignore[index]


def list_tokens(connection: Connection, account_id: int) -> list[TokenRow]:
    """Return an account's tokens with the slugs of their tenants."""
    query = (
        select(t.token, t.tenant.c.slug.label("tenant"))
        .outerjoin(t.tenant, t.tenant.c.id == t.token.c.tenant_id)
        .where(t.token.c.account_id == account_id)
        .order_by(t.token.c.id)
    )
    return values_of(TokenRow, connection.execute(query))


def delete_token(connection: Connection, account_id: int, token_id: int) -> bool:
    """Delete a token of this account; return whether there was one."""
    where = (t.token.c.id == token_id) & (t.token.c.account_id == account_id)
    return connection.execute(delete(t.token).where(where)).rowcount > 0


def tenant_ids(connection: Connection) -> list[int]:
    """All tenants."""
    return list(connection.scalars(select(t.tenant.c.id).order_by(t.tenant.c.id)))


def tenant_of(connection: Connection, id: int) -> TenantAccess | None:
    """Return a tenant as the service itself looks at it."""
    row = connection.execute(select(t.tenant).where(t.tenant.c.id == id)).first()
    return None if row is None else TenantAccess(row.id, row.slug, row.name, Role.ADMIN)
