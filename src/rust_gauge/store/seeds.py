"""Seeds and outlets: mailboxes of the tenant's own at providers, and ways by which copies go out."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any, Unpack

from sqlalchemy import Connection, delete, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import OutletColumns, SeedColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class SeedRow:
    """A seed. `password` is encrypted; `problem` is empty when the last check went well, or there was none yet."""

    id: int
    tenant_id: int
    address: str
    provider: str
    folders: list[Any]
    seen_folders: list[Any]
    lists: list[Any]
    note: str
    enabled: bool
    host: str
    port: int
    security: str
    login_user: str
    password: str
    checked_at: datetime | None
    problem: str
    problem_text: str
    problem_remedy: str
    created_at: datetime


@dataclass(frozen=True, slots=True)
class OutletRow:
    """An outlet. `password` is encrypted; `problem` is empty when the last test went well, or there was none yet."""

    id: int
    tenant_id: int
    name: str
    from_name: str
    from_address: str
    mail_from: str
    relay: str
    stream: str
    extra: list[Any]
    host: str
    port: int
    security: str
    login_user: str
    password: str
    checked_at: datetime | None
    problem: str
    problem_text: str
    problem_remedy: str
    created_at: datetime


def add_seed(connection: Connection, **values: Unpack[SeedColumns]) -> int:
    """Add a seed; return its id."""
    key: Any = connection.execute(insert(t.seed).values(**values)).inserted_primary_key
    return int(key[0])


def list_seeds(connection: Connection, tenant_id: int) -> list[SeedRow]:
    """Return a tenant's seeds, by provider and address."""
    c = t.seed.c
    query = select(t.seed).where(c.tenant_id == tenant_id).order_by(c.provider, c.address)
    return values_of(SeedRow, connection.execute(query))


def get_seed(connection: Connection, tenant_id: int, id: int) -> SeedRow | None:
    """Return a tenant's seed; None where there is none."""
    c = t.seed.c
    return value_of(SeedRow, connection.execute(select(t.seed).where(c.tenant_id == tenant_id, c.id == id)).first())


def update_seed(connection: Connection, id: int, /, **values: Unpack[SeedColumns]) -> None:
    """Change columns of a seed."""
    connection.execute(update(t.seed).where(t.seed.c.id == id).values(**values))


def delete_seed(connection: Connection, id: int) -> None:
    """Delete a seed; copies that went there stay."""
    connection.execute(delete(t.seed).where(t.seed.c.id == id))


def add_outlet(connection: Connection, **values: Unpack[OutletColumns]) -> int:
    """Add an outlet; return its id."""
    key: Any = connection.execute(insert(t.outlet).values(**values)).inserted_primary_key
    return int(key[0])


def list_outlets(connection: Connection, tenant_id: int) -> list[OutletRow]:
    """Return a tenant's outlets by name."""
    query = select(t.outlet).where(t.outlet.c.tenant_id == tenant_id).order_by(t.outlet.c.name)
    return values_of(OutletRow, connection.execute(query))


def update_outlet(connection: Connection, id: int, /, **values: Unpack[OutletColumns]) -> None:
    """Change columns of an outlet."""
    connection.execute(update(t.outlet).where(t.outlet.c.id == id).values(**values))


def delete_outlet(connection: Connection, id: int) -> None:
    """Delete an outlet; runs that went through it stay."""
    connection.execute(delete(t.outlet).where(t.outlet.c.id == id))
