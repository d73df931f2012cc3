"""What exists once per suppression list: its lock, the newest number, pauses, how addresses are compared."""

from dataclasses import dataclass
from typing import Any, Unpack

from sqlalchemy import Connection, select, update

from rust_gauge.store import changes
from rust_gauge.store import tables as t
from rust_gauge.store.bulk import literal
from rust_gauge.store.columns import Document, SuppressionStateColumns
from rust_gauge.store.driver import raw_rows
from rust_gauge.store.values import values_of


@dataclass(frozen=True, slots=True)
class ListState:
    """How a tenant compares addresses, and which of its streams are paused."""

    tenant_id: int
    last_number: int
    matching: Document
    matching_before: Document
    secret: str
    pauses: list[Any]


def lock(connection: Connection, tenant_id: int) -> int:
    """Lock a tenant's list until the transaction ends. Return the newest number."""
    c = t.suppression_state.c
    return int(connection.scalar(select(c.last_number).where(c.tenant_id == tenant_id).with_for_update()) or 0)


def last_number(connection: Connection, tenant_id: int) -> int:
    """Return the number of the newest change of a tenant's list."""
    c = t.suppression_state.c
    return int(connection.scalar(select(c.last_number).where(c.tenant_id == tenant_id)) or 0)


def set_last_number(connection: Connection, tenant_id: int, number: int) -> None:
    """Store the number of the newest change. The list has to be locked."""
    c = t.suppression_state.c
    connection.execute(update(t.suppression_state).where(c.tenant_id == tenant_id).values(last_number=number))
    changes.note(connection, tenant_id, "suppression")


def get_state(connection: Connection, tenant_id: int) -> ListState:
    """Return what is kept once for a tenant's list: policy, matching, pauses, the newest number."""
    c = t.suppression_state.c
    return values_of(ListState, connection.execute(select(t.suppression_state).where(c.tenant_id == tenant_id)))[0]


def matching_of(connection: Connection, tenant_id: int) -> tuple[str, str | None, str, str]:
    """How addresses are compared, before that if the list is being rewritten (both as JSON), the secret, the pauses.

    Asked with every question, so it goes around all that costs time.
    """
    columns = "matching, matching_before, secret, pauses"
    sql = f"SELECT {columns} FROM suppression_state WHERE tenant_id = {literal(tenant_id)}"
    (row,) = raw_rows(connection, sql)
    found: tuple[str, str | None, str, str] = row
    return found


def hides_addresses(connection: Connection, tenant_id: int) -> bool:
    """Return whether a tenant stores digests of addresses only."""
    c = t.suppression_state.c
    return bool(connection.scalar(select(c.secret).where(c.tenant_id == tenant_id)))


def change_state(connection: Connection, tenant_id: int, /, **values: Unpack[SuppressionStateColumns]) -> None:
    """Change columns of a tenant's list."""
    c = t.suppression_state.c
    connection.execute(update(t.suppression_state).where(c.tenant_id == tenant_id).values(**values))
