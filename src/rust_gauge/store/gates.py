"""Gates for MTAs, by the digest of their key."""

from dataclasses import dataclass
from datetime import datetime
from typing import Unpack

from sqlalchemy import Connection, insert, select, update

from rust_gauge.store import tables as t
from rust_gauge.store.columns import GateColumns
from rust_gauge.store.values import value_of, values_of


@dataclass(frozen=True, slots=True)
class GateRow:
    """A gate."""

    id: int
    tenant_id: int
    name: str
    digest: bytes
    stream: str
    relay: str
    created_at: datetime
    last_used_at: datetime | None


def add_gate(connection: Connection, **values: Unpack[GateColumns]) -> GateRow:
    """Add a gate; return it as stored."""
    made = connection.execute(insert(t.gate).values(**values)).inserted_primary_key
    return values_of(GateRow, connection.execute(select(t.gate).where(t.gate.c.id == made[0])))[0]  # type: ignore[index]


def list_gates(connection: Connection, tenant_id: int) -> list[GateRow]:
    """Return a tenant's gates in the order they were added."""
    return values_of(
        GateRow, connection.execute(select(t.gate).where(t.gate.c.tenant_id == tenant_id).order_by(t.gate.c.id))
    )


def find_gate(connection: Connection, digest: bytes) -> GateRow | None:
    """Return the gate with this digest of its key; None for an unknown one."""
    return value_of(GateRow, connection.execute(select(t.gate).where(t.gate.c.digest == digest)).first())


def delete_gate(connection: Connection, tenant_id: int, id: int) -> bool:
    """Delete a gate; return whether there was one."""
    c = t.gate.c
    return bool(connection.execute(t.gate.delete().where(c.tenant_id == tenant_id, c.id == id)).rowcount)


def note_use(connection: Connection, id: int, now: datetime) -> None:
    """Record when a gate was last asked."""
    connection.execute(update(t.gate).where(t.gate.c.id == id).values(last_used_at=now))
