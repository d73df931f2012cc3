"""Tenants, accounts, and who may see what. Sessions and tokens are next door, in `sign_in` and `tokens`."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from sqlalchemy import ColumnElement, Connection, delete, exists, func, insert, select, update
from sqlalchemy.dialects.mysql import insert as upsert

from rust_gauge.core.roles import Role
from rust_gauge.store import tables as t
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class PersonRow:
    """A person with access to a tenant."""

    email: str
    name: str
    role: str
    second_factor: bool


@dataclass(frozen=True, slots=True)
class AccountRow:
    """An account with what signing in needs. `code_secret` is encrypted."""

    id: int
    email: str
    name: str
    password_hash: str
    is_owner: bool
    created_at: datetime
    code_secret: str
    code_confirmed: bool
    code_step: int


@dataclass(frozen=True, slots=True)
class TenantRow:
    """A tenant, as the owner sees it."""

    id: int
    slug: str
    name: str
    created_at: datetime
    second_factor: bool


@dataclass(frozen=True, slots=True)
class TenantAccess:
    """A tenant that an account can see. `second_factor`: whether it requires one."""

    id: int
    slug: str
    name: str
    role: Role
    second_factor: bool = False


@dataclass(frozen=True, slots=True)
class Principal:
    """Who is asking, and for which tenants they may. `token_id` is set for a program.

    `second_factor`: whether the session was opened with one; a token stands for the person who made it.
    `scopes` and `networks` limit a token; empty means that they do not.
    """

    account_id: int
    email: str
    name: str
    tenants: tuple[TenantAccess, ...]
    token_id: int | None = None
    token_name: str = ""
    is_owner: bool = False
    session_id: int | None = None
    second_factor: bool = False
    scopes: tuple[str, ...] = ()
    networks: tuple[str, ...] = ()


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
    statement = upsert(t.account).values(
        email=email, name=name, password_hash=password_hash, created_at=now, password_changed_at=now
    )
    values = {
        "name": statement.inserted.name, "password_hash": statement.inserted.password_hash, "password_changed_at": now
    }  # fmt: skip
    connection.execute(statement.on_duplicate_key_update(**values))
    return int(connection.scalar(select(t.account.c.id).where(t.account.c.email == email)) or 0)


def grant(connection: Connection, account_id: int, tenant_id: int, role: Role) -> None:
    """Give an account a role in a tenant, replacing the one it had."""
    statement = upsert(t.membership).values(account_id=account_id, tenant_id=tenant_id, role=role)
    connection.execute(statement.on_duplicate_key_update(role=statement.inserted.role))


def people_of(connection: Connection, tenant_id: int) -> list[PersonRow]:
    """Return those who may see a tenant, by name."""
    a, m = t.account.c, t.membership.c
    query = (
        select(a.email, a.name, m.role, has_second_factor().label("second_factor"))
        .join(t.membership, m.account_id == a.id)
        .where(m.tenant_id == tenant_id)
    )
    return values_of(PersonRow, connection.execute(query.order_by(a.name, a.email)))


def has_second_factor() -> ColumnElement[bool]:
    """Return whether an account has one-time codes or a passkey, as a column."""
    return t.account.c.code_confirmed | exists().where(t.passkey.c.account_id == t.account.c.id)


def lock_people(connection: Connection, tenant_id: int) -> None:
    """Lock a tenant's memberships until the transaction ends, so that two changes cannot both take the last admin."""
    connection.execute(select(t.tenant.c.id).where(t.tenant.c.id == tenant_id).with_for_update())


def revoke(connection: Connection, account_id: int, tenant_id: int) -> bool:
    """Take an account's access to a tenant away; return whether it had any."""
    c = t.membership.c
    where = (c.account_id == account_id) & (c.tenant_id == tenant_id)
    return connection.execute(delete(t.membership).where(where)).rowcount > 0


def find_account(connection: Connection, email: str) -> AccountRow | None:
    """Return the account of an address."""
    query = select(*(t.account.c[name] for name in AccountRow.__dataclass_fields__))
    return value_of(AccountRow, connection.execute(query.where(t.account.c.email == email)).first())


def get_account(connection: Connection, id: int) -> AccountRow | None:
    """Return an account by its id."""
    query = select(*(t.account.c[name] for name in AccountRow.__dataclass_fields__))
    return value_of(AccountRow, connection.execute(query.where(t.account.c.id == id)).first())


def change_account(connection: Connection, id: int, /, **values: Any) -> None:
    """Change columns of an account."""
    connection.execute(update(t.account).where(t.account.c.id == id).values(**values))


def list_accounts(connection: Connection) -> list[AccountRow]:
    """Return all accounts by address."""
    query = select(*(t.account.c[name] for name in AccountRow.__dataclass_fields__)).order_by(t.account.c.email)
    return values_of(AccountRow, connection.execute(query))


def delete_account(connection: Connection, id: int) -> None:
    """Delete an account with its memberships, sessions and tokens."""
    connection.execute(delete(t.account).where(t.account.c.id == id))


def count_accounts(connection: Connection) -> int:
    """Count all accounts."""
    return int(connection.scalar(select(func.count()).select_from(t.account)) or 0)


def owners(connection: Connection) -> list[AccountRow]:
    """Return the owners of the installation, locked until the transaction ends."""
    query = select(*(t.account.c[name] for name in AccountRow.__dataclass_fields__))
    rows = connection.execute(query.where(t.account.c.is_owner).order_by(t.account.c.id).with_for_update())
    return values_of(AccountRow, rows)


def is_of_an_owner(connection: Connection, tenant_id: int) -> bool:
    """Return whether an owner of the installation is a member of a tenant; True where none is of any."""
    a, m = t.account.c, t.membership.c
    query = select(m.tenant_id).join(t.account, a.id == m.account_id).where(a.is_owner)
    of_owners = set(connection.scalars(query))
    return not of_owners or tenant_id in of_owners


def list_tenants(connection: Connection) -> list[TenantRow]:
    """Return all tenants by name."""
    query = select(*(t.tenant.c[name] for name in TenantRow.__dataclass_fields__)).order_by(t.tenant.c.name)
    return values_of(TenantRow, connection.execute(query.where(t.tenant.c.slug.not_like("-%"))))


def change_tenant(connection: Connection, id: int, /, **values: Any) -> None:
    """Change columns of a tenant."""
    connection.execute(update(t.tenant).where(t.tenant.c.id == id).values(**values))


def principal_of_email(connection: Connection, email: str) -> Principal | None:
    """For administrators with access to the database."""
    found = find_account(connection, email)
    return principal_of_account(connection, found.id) if found else None


def principal_of_account(
    connection: Connection, account_id: int, tenant_ids: list[int] | None = None
) -> Principal | None:
    """Return an account with its tenants, or with those of them that are named."""
    account = get_account(connection, account_id)
    if account is None:
        return None
    c = t.tenant.c
    query = (
        select(c.id, c.slug, c.name, t.membership.c.role, c.second_factor)
        .join(t.membership, t.membership.c.tenant_id == c.id)
        .where(t.membership.c.account_id == account_id)
        .order_by(c.id)
    )
    if tenant_ids:
        query = query.where(c.id.in_(tenant_ids))
    tenants = tuple(
        TenantAccess(row.id, row.slug, row.name, Role(row.role), bool(row.second_factor))
        for row in connection.execute(query)
    )
    return Principal(account.id, account.email, account.name, tenants, is_owner=bool(account.is_owner))


def tenant_ids(connection: Connection) -> list[int]:
    """All tenants but those that are being removed."""
    return list(connection.scalars(select(t.tenant.c.id).where(t.tenant.c.slug.not_like("-%")).order_by(t.tenant.c.id)))


def tenant_of(connection: Connection, id: int) -> TenantAccess | None:
    """Return a tenant as the service itself looks at it."""
    row = connection.execute(select(t.tenant).where(t.tenant.c.id == id)).first()
    return None if row is None else TenantAccess(row.id, row.slug, row.name, Role.ADMIN)
