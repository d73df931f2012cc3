"""What belongs to one tenant of the installation: addresses and domains for bounces, folders, hosts."""

from dataclasses import dataclass
from datetime import datetime

from sqlalchemy import Connection, delete, insert, select

from rust_gauge.store import tables as t
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class AssignmentRow:
    """One thing and the tenant that it belongs to."""

    kind: str
    value: str
    tenant_id: int
    tenant: str
    assigned_at: datetime
    assigned_by: str


def list_assignments(connection: Connection, kind: str = "", *, lock: bool = False) -> list[AssignmentRow]:
    """Return all assignments, or those of a kind; with `lock` nobody else can add any until the transaction ends."""
    c = t.assignment.c
    query = (
        select(c.kind, c.value, c.tenant_id, t.tenant.c.slug.label("tenant"), c.assigned_at, c.assigned_by)
        .join(t.tenant, t.tenant.c.id == c.tenant_id)
        .order_by(c.kind, c.value)
    )
    if kind:
        query = query.where(c.kind == kind)
    return values_of(AssignmentRow, connection.execute(query.with_for_update() if lock else query))


def add_assignment(connection: Connection, kind: str, value: str, tenant_id: int, now: datetime, by: str) -> None:
    """Assign something that belongs to nobody yet."""
    connection.execute(
        insert(t.assignment).values(kind=kind, value=value, tenant_id=tenant_id, assigned_at=now, assigned_by=by)
    )


def delete_assignment(connection: Connection, kind: str, value: str) -> bool:
    """Delete an assignment; return whether there was one."""
    c = t.assignment.c
    return connection.execute(delete(t.assignment).where(c.kind == kind, c.value == value)).rowcount > 0
